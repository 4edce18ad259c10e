"""Routes by which a caller's packet comes to a guest: dialled directly, or sent on by a forward, which may hide the caller.

Each way has filters outside of the guest, an address space whose addresses its callers have, and what the guest sees of
them. What a guest lets in of what it sees is brought back to the callers' end here: all of them, or none, where all are
seen as one address.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from ipaddress import ip_network

from nightlatch.access.layers import Behind, inward, layers, through
from nightlatch.access.perimeter import rules_of
from nightlatch.access.verdicts import Flow, passed
from nightlatch.estate.model import Estate, Forward, GuestEstate, GuestSpec, NetworkSpec
from nightlatch.model.bounds import Addresses, Bounds, exactly, in_all, inside
from nightlatch.model.causes import ForwardHop
from nightlatch.model.sources import COMMON, AddressSpace, Sources
from nightlatch.net.addresses import EVERY_ADDRESS, NO_ADDRESS, AddressSet, prefix, single, union
from nightlatch.readings.filters.rules import Rules
from nightlatch.readings.guest import GuestReading

_Known = dict[tuple[str, frozenset[str]], tuple[Rules, ...]]


@dataclass(frozen=True)
class Arrival:
    """One way to a guest. `within` are callers of its address space that can take it at all; `around` are the filters
    outside, the outermost first, which see the guest's own port, or what is dialled at the `forward`."""

    space: AddressSpace = COMMON
    within: AddressSet = EVERY_ADDRESS
    around: tuple[Rules, ...] = ()
    forward: Forward | None = None

    @property
    def sees(self) -> AddressSet | None:
        """The one address as which the guest sees all callers; None where it sees themselves."""
        hidden = self.forward.sees if self.forward is not None else None
        return single(hidden) if hidden is not None else None

    @property
    def causes(self) -> tuple[ForwardHop, ...]:
        """The causes that lie in the route itself."""
        if self.forward is None:
            return ()
        seen_as = str(self.forward.sees) if self.forward.sees is not None else ""
        return (ForwardHop(str(self.forward), self.forward.to_port, seen_as, self.forward.origin),)


def arrivals(estate: Estate) -> Mapping[str, tuple[Arrival, ...]]:
    """The ways to each guest; those that are dialled directly, with nothing outside of them, are left out."""
    known: _Known = {}
    found = {name: _ways(estate, estate.of(name), known) for name in estate.guests}
    return {name: ways for name, ways in found.items() if ways}


def ways_to(estate: Estate, guest: str) -> tuple[Arrival, ...]:
    """The ways to one guest; none where it is just dialled, with nothing outside of it."""
    return _ways(estate, estate.of(guest), {})


def _ways(estate: Estate, said: GuestEstate, known: _Known) -> tuple[Arrival, ...]:
    network = said.network
    if not said.forwards and (network is None or not (network.perimeters or network.private)):
        return ()
    return (_direct(said.spec, network, known), *(_by(estate, each, said.spec) for each in said.forwards))


def _direct(guest: GuestSpec, network: NetworkSpec | None, known: _Known) -> Arrival:
    if network is None:
        return Arrival()
    if network.private:  # what a forward shows its callers as is no caller of its own
        shown = union(single(each.sees) for each in network.forwards if each.sees is not None)
        return Arrival(network.name, subnets(network) - shown)
    key = (network.name, frozenset(guest.labels))
    if key not in known:  # guests with the same labels share what is worked out of it
        known[key] = tuple(rules_of(network, each, key[1]) for each in network.perimeters)
    return Arrival(around=known[key])


def _by(estate: Estate, forward: Forward, guest: GuestSpec) -> Arrival:
    """Through a forward: past the filters of the network that it is dialled in, then those of its own."""
    others = [each for each in estate.networks.values() if not each.private and each.name != forward.network]
    outer = [each for each in others if forward.at is not None and each.subnet_of(forward.at)]
    found = [rules_of(network, each, frozenset()) for network in outer for each in network.perimeters]
    own = estate.networks[forward.network]
    found += [rules_of(own, each, frozenset(guest.labels), near=not own.private) for each in own.perimeters]
    return Arrival(around=tuple(found), forward=forward)


def subnets(network: NetworkSpec) -> AddressSet:
    """All addresses of a network."""
    nets = [ip_network(each) for each in network.subnets]
    return union(prefix(net.version, int(net.network_address), net.prefixlen) for net in nets)


def dialled(arrival: Arrival, flow: Flow) -> Flow:
    """The packet as the filters outside see it."""
    if arrival.forward is None:
        return Flow(flow.protocol, flow.port, flow.targets)
    at = arrival.forward.at
    return Flow(flow.protocol, arrival.forward.port, single(at) if at is not None else None)


def seen(reading: GuestReading, flow: Flow, arrival: Arrival, *, behind: Behind) -> Addresses:
    """Callers that are let in to a port, as the guest sees them; on direct routes they have passed the filters outside, too."""
    if arrival.forward is None:
        return through(reading, flow, arrival.around, behind=behind)
    return inward(reading, flow, arrival.forward.to_port, behind=behind)


def outside(arrival: Arrival, flow: Flow) -> Addresses:
    """The callers that get through the filters before a forward."""
    if arrival.forward is None:
        return exactly(arrival.within)
    return inside(in_all(passed(rules, dialled(arrival, flow)) for rules in arrival.around), arrival.within)


def callers(arrival: Arrival, outer: Addresses, let_in: Addresses) -> Addresses:
    """Callers, by their own addresses, from what the guest lets in of those it sees."""
    because = (*outer.because, *let_in.because)
    if arrival.sees is None:
        return Bounds(let_in.surely & outer.surely, let_in.perhaps & outer.perhaps, because)
    surely = outer.surely if arrival.sees <= let_in.surely else NO_ADDRESS
    return Bounds(surely, outer.perhaps if arrival.sees & let_in.perhaps else NO_ADDRESS, because)


def admitted(reading: GuestReading, flow: Flow, arrival: Arrival, *, behind: Behind) -> Addresses:
    """The callers that come through everything to a port by one way."""
    return callers(arrival, outside(arrival, flow), seen(reading, flow, arrival, behind=behind))


def met(
    reading: GuestReading, flow: Flow, arrival: Arrival, *, behind: Behind
) -> Iterator[tuple[Rules, Flow, AddressSet | None]]:
    """The filters on the way in their order, each with the packet as it is seen there and the address that all callers
    have there (None: their own)."""
    if arrival.forward is None:
        yield from ((rules, each, None) for rules, each in layers(reading, flow, arrival.around, behind=behind))
        return
    for rules in arrival.around:
        yield rules, dialled(arrival, flow), None
    yield from ((rules, each, arrival.sees) for rules, each in layers(reading, flow, behind=behind))


def images(ways: tuple[Arrival, ...], sources: Sources) -> AddressSet:
    """The addresses by which a guest sees callers, over all ways to it."""
    found = []
    for arrival in ways:
        those = sources.get(arrival.space, NO_ADDRESS) & arrival.within
        found.append((arrival.sees or NO_ADDRESS) if arrival.sees is not None and those else those)
    return union(found)
