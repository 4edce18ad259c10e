"""Address spaces: the common one, places behind a translation of their own, private networks.

Sources that a guest lets in are translated back to callers here, one address space after the other.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from nightlatch.access.arrivals import Arrival, callers
from nightlatch.model.bounds import Addresses, Bounds
from nightlatch.model.gaps import Gap
from nightlatch.model.routes import Tunnelled
from nightlatch.model.sources import COMMON, Sources
from nightlatch.net.addresses import AddressSet
from nightlatch.origin import Origin

DIRECT = (Arrival(),)


@dataclass(frozen=True, slots=True)
class AddressSpaces:
    """Where callers may be: besides the common address space, the inside of every place behind a translation of its own.

    `inside` maps an address space to its own addresses and to those it is seen as; `arrivals` has the ways to each guest,
    for those that are not just dialled; `tunnelled` are the places that are reached through a login on the way."""

    inside: tuple[tuple[str, AddressSet, AddressSet], ...] = ()
    arrivals: Mapping[str, tuple[Arrival, ...]] = field(default_factory=dict)
    tunnelled: tuple[Tunnelled, ...] = ()

    def ways(self, guest: str) -> tuple[Arrival, ...]:
        """The ways to a guest."""
        return self.arrivals.get(guest, DIRECT)

    def through(self, guest: str) -> tuple[Tunnelled, ...]:
        """The places of a guest that are reached through a login on it."""
        return tuple(each for each in self.tunnelled if each.leg.guest == guest)

    def callers(self, arrival: Arrival, outer: Addresses, seen: Addresses) -> Bounds[Sources]:
        """Callers by one way, from what the guest sees and those that come as far as a forward."""
        found = callers(arrival, outer, seen)
        because = seen.because or (outer.because if found.surely != found.perhaps else ())
        if arrival.space == COMMON:
            return self.lift(Bounds(found.surely, found.perhaps, because))
        named = {arrival.space: found.surely} if found.surely else {}
        return Bounds(named, {arrival.space: found.perhaps} if found.perhaps else {}, because)

    def lift(self, seen: Addresses) -> Bounds[Sources]:
        """Callers from what the guest sees: surely where all images are let in, perhaps where some image is."""
        surely = {COMMON: seen.surely} if seen.surely else {}
        perhaps = {COMMON: seen.perhaps} if seen.perhaps else {}
        more: list[Gap] = []
        for space, own, seen_as in self.inside:
            if seen_as <= seen.surely:
                surely[space] = own
            if seen_as & seen.perhaps:
                perhaps[space] = own
                if not seen_as <= seen.perhaps:
                    because = f"who calls from {space} may be seen as several addresses, not all of which are let in"
                    more.append(Gap("address translation", because, Origin(space)))
        return Bounds(surely, perhaps, (*seen.because, *more))
