"""Holes, and who is shut out: what is open and not granted, what is granted and not open.

Plain equality would be wrong: the two need opposite inclusions. A path is covered by a grant when it asks for no less
and gives no more, over a connection that is sealed at least as well; it serves a grant when it asks for no more and really gives
at least that.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from nightlatch.model.bounds import Bounds
from nightlatch.model.grants import Grant
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import Power
from nightlatch.model.secrets import may_open
from nightlatch.model.services import SSH
from nightlatch.model.sources import NOWHERE, Sources, joined, without
from nightlatch.net.addresses import LOOPBACK
from nightlatch.readings.accounts import Accounts

NO_ACCOUNTS = Accounts()


@dataclass(frozen=True, slots=True)
class Hole:
    """Sources that a path lets in and no grant does.

    `granted` are grants that cover the path for other sources, `over` those that did and have ended.
    """

    path: AccessPath
    certain: Sources
    possible: Sources
    granted: tuple[Grant, ...] = ()
    over: tuple[Grant, ...] = ()


@dataclass(frozen=True, slots=True)
class ShutOut:
    """Sources that a grant lets in and no path does, for one power; `served` are the paths that serve other sources, or
    may serve these."""

    grant: Grant
    power: Power
    certain: Sources
    possible: Sources
    served: tuple[AccessPath, ...] = ()


def covers(grant: Grant, path: AccessPath) -> bool:
    """Whether the path lets in no more than the grant allows."""
    return grant.place == path.place and _covers(grant, path)


def _covers(grant: Grant, path: AccessPath) -> bool:
    """The same of a grant and a path of one place."""
    if (
        path.seal < grant.seal
        or not grant.means(path.route.port)
        or not any(need <= path.need for need in grant.asked(path.power))
    ):
        return False
    return any(path.power.within(power) for power in grant.allows)


def serves(path: AccessPath, grant: Grant, power: Power) -> bool:
    """Whether the path asks no more than one of the grant's proofs and really offers at least `power`."""
    return grant.place == path.place and _serves(path, grant, power)


def _serves(path: AccessPath, grant: Grant, power: Power) -> bool:
    """The same of a path and a grant of one place."""
    return _offers(path, grant, power) and any(path.need <= need for need in grant.asked(power))


def _offers(path: AccessPath, grant: Grant, power: Power) -> bool:
    """Whether a path of the grant's place gives at least `power`, by the port that is meant and as well sealed."""
    return path.seal >= grant.seal and grant.means(path.route.port) and path.power.offers(power)


def _may_serve(path: AccessPath, grant: Grant, power: Power) -> bool:
    """Whether a path of the grant's place may serve it, for all that is known."""
    return _offers(path, grant, power) and any(may_open(path.need, n) for n in grant.asked(power))


def find_holes(paths: Sequence[AccessPath], grants: Iterable[Grant]) -> Iterator[Hole]:
    """For every path what no grant covers; paths that are wholly covered are left out."""
    by_place: dict[object, list[Grant]] = {}
    for grant in grants:
        by_place.setdefault(grant.place, []).append(grant)
    known: dict[tuple[int, ...], tuple[Sources, Sources]] = {}  # paths that differ in their powers share their callers
    for path in paths:
        covering = [grant for grant in by_place.get(path.place, ()) if _covers(grant, path)]
        key = (id(path.callers), *map(id, covering))
        if key not in known:
            known[key] = _beside(path.callers, [grant.callers for grant in covering])
        certain, possible = known[key]
        inside = _only_inside(certain) and _only_inside(possible)
        if (certain or possible) and not (inside and (covering or _is_screen_with_proof(path))):
            counts = [grant for grant in covering if grant.callers.perhaps]
            ended = [grant for grant in covering if not grant.callers.perhaps]
            yield Hole(path, certain, possible, tuple(counts), tuple(ended))


def _beside(callers: Bounds[Sources], others: list[Bounds[Sources]]) -> tuple[Sources, Sources]:
    """The callers that certainly are not among the others, and those that possibly are not."""
    certain = without(callers.surely, joined(each.perhaps for each in others))
    left = without(callers.perhaps, joined(each.surely for each in others))
    return certain, without(left, certain)


def _is_screen_with_proof(path: AccessPath) -> bool:
    """Whether a path asks for something at a service of screens: on the guest's own loopback that ends a tunnel of somebody who
    is in already."""
    return path.service != SSH.name and bool(path.need)


def _only_inside(sources: Sources) -> bool:
    """Whether only the guest calls itself: who does that is in already, so beside a grant it is no other way in."""
    return all(each <= LOOPBACK for each in sources.values())


def find_shut_out(paths: Iterable[AccessPath], grants: Iterable[Grant], accounts: Accounts = NO_ACCOUNTS) -> Iterator[ShutOut]:
    """For every grant and every power it gives, the sources that no path serves; of an account that the guest may have although
    it is not among its `accounts`, only possibly."""
    by_place: dict[object, list[AccessPath]] = {}
    for path in paths:
        by_place.setdefault(path.place, []).append(path)
    for grant in grants:
        here = by_place.get(grant.place, ())
        for power in sorted(grant.gives, key=lambda p: (p.gives.value, p.what)):
            serving = [path for path in here if _serves(path, grant, power)]
            maybe = [path for path in here if _may_serve(path, grant, power)]
            unsure = [Bounds(NOWHERE, path.callers.perhaps) for path in maybe]
            certain, possible = _beside(grant.callers, [*(path.callers for path in serving), *unsure])
            if certain and accounts.may_have(grant.account):
                certain, possible = NOWHERE, joined([certain, possible])
            if certain or possible:
                yield ShutOut(grant, power, certain, possible, (*serving, *maybe))
