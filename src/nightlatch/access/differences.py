"""Holes, and who is shut out: what is open and not granted, what is granted and not open.

Plain equality would be wrong: the two need opposite inclusions. A path is covered by a grant when it asks for no less
and gives no more, over a connection that is sealed at least as well; it serves a grant when it asks for no more and really gives
at least that.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from nightlatch.model.grants import Grant
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import Power, PowerKind
from nightlatch.model.sources import Sources, joined, without
from nightlatch.net.addresses import LOOPBACK


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
    """Sources that a grant lets in and no path does, for one power; `served` are the paths that serve other sources."""

    grant: Grant
    power: Power
    certain: Sources
    possible: Sources
    served: tuple[AccessPath, ...] = ()


def covers(grant: Grant, path: AccessPath) -> bool:
    """Whether the path lets in no more than the grant allows."""
    return (
        grant.place == path.place
        and path.seal >= grant.seal
        and any(need <= path.need for need in grant.asked(path.power))
        and any(path.power.within(power) for power in grant.allows)
    )


def serves(path: AccessPath, grant: Grant, power: Power) -> bool:
    """Whether the path asks no more than one of the grant's proofs and really offers at least `power`."""
    return (
        grant.place == path.place
        and path.seal >= grant.seal
        and any(path.need <= need for need in grant.asked(power))
        and _offers(path.power, power)
    )


def _offers(offered: Power, wanted: Power) -> bool:
    # A shell on which a command is granted gives that command too; that it gives more is a hole, and shuts nobody out.
    if wanted.gives is PowerKind.COMMAND and offered.gives is PowerKind.SHELL:
        return True
    return wanted.within(offered)


def find_holes(paths: Iterable[AccessPath], grants: Iterable[Grant]) -> Iterator[Hole]:
    """For every path what no grant covers; paths that are wholly covered are left out."""
    by_place: dict[object, list[Grant]] = {}
    for grant in grants:
        by_place.setdefault(grant.place, []).append(grant)
    for path in paths:
        covering = [grant for grant in by_place.get(path.place, ()) if covers(grant, path)]
        certain = without(path.callers.surely, joined(g.callers.perhaps for g in covering))
        left = without(path.callers.perhaps, joined(g.callers.surely for g in covering))
        possible = without(left, certain)
        if (certain or possible) and not (covering and _only_inside(certain) and _only_inside(possible)):
            counts = [grant for grant in covering if grant.callers.perhaps]
            ended = [grant for grant in covering if not grant.callers.perhaps]
            yield Hole(path, certain, possible, tuple(counts), tuple(ended))


def _only_inside(sources: Sources) -> bool:
    """Whether only the guest calls itself: who does that is in already, so beside a grant it is no other way in."""
    return all(each <= LOOPBACK for each in sources.values())


def find_shut_out(paths: Iterable[AccessPath], grants: Iterable[Grant]) -> Iterator[ShutOut]:
    """For every grant and every power it gives, the sources that no path serves."""
    by_place: dict[object, list[AccessPath]] = {}
    for path in paths:
        by_place.setdefault(path.place, []).append(path)
    for grant in grants:
        here = by_place.get(grant.place, ())
        for power in sorted(grant.gives, key=lambda p: (p.gives.value, p.what)):
            serving = [path for path in here if serves(path, grant, power)]
            certain = without(grant.callers.surely, joined(p.callers.perhaps for p in serving))
            left = without(grant.callers.perhaps, joined(p.callers.surely for p in serving))
            possible = without(left, certain)
            if certain or possible:
                yield ShutOut(grant, power, certain, possible, tuple(serving))
