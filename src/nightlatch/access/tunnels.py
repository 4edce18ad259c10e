"""Ways in through a guest's own SSH server: a login whose tunnel ends on the guest's loopback address, and what listens there.

They are composed only where a grant says `through`. What runs inside SSH counts as sealed by TLS. Not covered: rules of the
guest's filter for what it sends to itself, and targets by other names than those of the loopback address.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from nightlatch.model.bounds import Bounds
from nightlatch.model.causes import SettingLine
from nightlatch.model.gaps import Gap
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import Power, PowerKind
from nightlatch.model.routes import Leg, Seal, Tunnelled
from nightlatch.model.secrets import Need
from nightlatch.model.sources import COMMON, NOWHERE, Sources
from nightlatch.net.addresses import LOOPBACK, NO_ADDRESS, AddressSet
from nightlatch.services.ssh.entries import SshAccess

# As clients spell the loopback address, and patterns that take it (sshd_config(5), PermitOpen).
SPELLINGS = ("localhost", "127.0.0.1", "::1", "[::1]", "*")
# What lets tunnels be opened, and the words that do.
SETTINGS = (("disableforwarding", ("no",)), ("allowtcpforwarding", ("yes", "local", "all")), ("permitopen", ("any",)))
Key = tuple[str, Need, Power, int, Leg]


def composed(paths: Sequence[AccessPath], wanted: Iterable[Tunnelled]) -> Iterator[AccessPath]:
    """The ways in by each login on the way that is spoken of, once for each need and power, the surest of them."""
    found: dict[Key, AccessPath] = {}
    for each in wanted:
        outer = [
            path for path in paths if (path.service, path.account) == (each.leg.service, each.leg.account) and not path.shape
        ]
        for inner in paths:
            if (inner.service, inner.account) == (each.service, each.account) and not inner.shape:
                for path in _through(each.leg, outer, inner):
                    key = (path.account, path.need, path.power, path.route.port, each.leg)
                    if key not in found or not found[key].callers.surely:
                        found[key] = path
    yield from found.values()


def _through(leg: Leg, outer: Iterable[AccessPath], inner: AccessPath) -> Iterator[AccessPath]:
    surely, perhaps = (_inside(each) for each in (inner.callers.surely, inner.callers.perhaps))
    if not perhaps:
        return
    for login in outer:
        if not opens(login.power, inner.route.port):
            continue
        gaps: tuple[Gap, ...] = (*login.callers.because, *(inner.callers.because if not surely else ()))
        callers = Bounds(login.callers.surely if surely else NOWHERE, login.callers.perhaps, gaps)
        causes = tuple(dict.fromkeys((*login.causes, *inner.causes)))
        yield AccessPath(
            inner.guest,
            inner.account,
            login.need | inner.need,
            inner.power,
            callers,
            causes,
            inner.route,
            inner.service,
            shape=(leg,),
            seal=Seal.TLS,
        )


def _inside(sources: Sources) -> bool:
    """Whether the guest itself is among them."""
    return bool(sources.get(COMMON, NO_ADDRESS) & LOOPBACK)


def opens(power: Power, port: int) -> bool:
    """Whether a power lets through a tunnel to a port of the loopback address."""
    if power.gives is not PowerKind.TUNNEL:
        return False
    host, _, at = power.what.rpartition(":")
    return power.what == "*" or (host in SPELLINGS and at in (str(port), "*"))


def shuts_tunnels(access: SshAccess, account: str, where: AddressSet) -> SettingLine | None:
    """The setting of SSH that lets an account open no tunnel to the loopback address; None where no setting does."""
    for settings in access.settings(account, where):
        for keyword, good in SETTINGS:
            if settings[keyword].word not in good:
                return SettingLine(keyword, " ".join(settings[keyword].value), settings[keyword].origin)
    return None
