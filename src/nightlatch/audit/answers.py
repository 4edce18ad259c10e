"""Ways in as data: people, account, service, route, secrets, sources, and the causes with their places.

A way in is made of all access paths that differ in their powers only. Sources stand as prefixes in each address space and as
the names of the places that they hold; secrets by what tells them apart, never by what they are.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import lru_cache

from nightlatch.audit.names import Names
from nightlatch.estate.model import Estate
from nightlatch.model.causes import Cause
from nightlatch.model.gaps import Gap
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import Power
from nightlatch.model.routes import Leg, Route, Seal
from nightlatch.model.secrets import Certificate, Code, Key, Need, Password, ScreenPassword, Secret
from nightlatch.model.sources import AddressSpace, Sources, without
from nightlatch.net.addresses import union
from nightlatch.net.literal import parse_network


@dataclass(frozen=True, slots=True)
class Callers:
    """Where callers are: prefixes by address space ("" is the common one), the names of places and private networks that lie
    wholly inside, and all of it in words."""

    prefixes: tuple[tuple[AddressSpace, tuple[str, ...]], ...] = ()
    places: tuple[str, ...] = ()
    text: str = ""

    @property
    def sources(self) -> Sources:
        """The same as sets of addresses."""
        return _sets(self.prefixes)


@dataclass(frozen=True, slots=True)
class WayIn:
    """One way in as `account`: `held_by` are people and robots who have what is `shown`; `certain` and `possible`
    callers, who do not overlap; `undecided` says why the latter are not certain."""

    account: str
    held_by: tuple[str, ...]
    service: str
    route: Route
    through: tuple[Leg, ...]
    shown: tuple[Secret, ...]
    powers: tuple[Power, ...]
    seal: Seal
    certain: Callers
    possible: Callers
    causes: tuple[Cause, ...]
    undecided: tuple[Gap, ...] = ()


def answers(paths: Iterable[AccessPath], names: Names, estate: Estate | None = None) -> Iterator[WayIn]:
    """Every way in of a guest, in the order of its paths."""
    grouped: dict[tuple[object, ...], list[AccessPath]] = {}
    for path in paths:
        key = (
            path.place,
            path.need,
            path.route,
            path.seal,
            _hashable(path.callers.surely),
            _hashable(path.callers.perhaps),
        )
        grouped.setdefault(key, []).append(path)
    told: dict[int, tuple[Callers, Callers]] = {}  # many paths share their callers
    held: dict[Need, tuple[str, ...]] = {}
    for found in grouped.values():
        first = found[0].callers
        if id(first) not in told:
            told[id(first)] = (callers(first.surely, names), callers(without(first.perhaps, first.surely), names))
        need = found[0].need
        if need not in held:
            held[need] = holders(estate, found[0].guest, need)
        yield _way(found, *told[id(first)], held[need])


def _way(paths: list[AccessPath], certain: Callers, possible: Callers, held_by: tuple[str, ...]) -> WayIn:
    first = paths[0]
    causes = dict.fromkeys(cause for path in paths for cause in path.causes)
    gaps = dict.fromkeys(gap for path in paths for gap in path.callers.because)
    return WayIn(
        first.account,
        held_by,
        first.service,
        first.route,
        first.shape,
        tuple(sorted(first.need, key=repr) if len(first.need) > 1 else first.need),
        tuple(sorted({path.power for path in paths}, key=lambda power: (power.gives.value, power.what))),
        first.seal,
        certain,
        possible,
        tuple(causes),
        tuple(gaps),
    )


def callers(sources: Sources, names: Names) -> Callers:
    """Sources as data; nothing where there are none."""
    if not any(sources.values()):
        return Callers()
    spaces = tuple((space, tuple(those.prefixes())) for space, those in sorted(sources.items()) if those)
    return Callers(spaces, names.inside(sources), names.where(sources))


def holders(estate: Estate | None, guest: str, need: Need) -> tuple[str, ...]:
    """The people and robots of the estate who hold all that a need asks for; the password of an account is held by whose own
    account it is. Empty where nobody is known to."""
    if estate is None or not need:
        return ()
    keys = [estate.key_holders.get(secret.fingerprint, ()) for secret in need if isinstance(secret, Key)]
    others = [secret for secret in need if not isinstance(secret, Key)]
    asked = [name for name in keys[0] if all(name in each for each in keys)] if keys else estate.principals
    return tuple(name for name in asked if all(_holds(estate, name, guest, secret) for secret in others))


def _holds(estate: Estate, name: str, guest: str, secret: Secret) -> bool:
    person = estate.principals[name]
    match secret:
        case Certificate(authority, principal) if person.certificate is not None:
            own = estate.authorities[person.certificate.authority].fingerprint
            return own == authority and principal in person.certificate.principals
        case Password(_, account) | Code(_, account) | ScreenPassword(_, account):
            return person.accounts.get(guest, name) == account
    return False


def _hashable(sources: Sources) -> tuple[tuple[AddressSpace, object], ...]:
    return tuple(sorted(sources.items(), key=lambda item: item[0]))


@lru_cache(maxsize=1024)  # many ways in share their callers
def _sets(prefixes: tuple[tuple[AddressSpace, tuple[str, ...]], ...]) -> Sources:
    return {space: union(map(parse_network, found)) for space, found in prefixes}
