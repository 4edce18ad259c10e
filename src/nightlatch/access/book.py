"""The address book: networks with who sits where, what is free, and which address to dial from a place.

Pure: holdings and the estate in, pages out. Conflicts are found by sorting, not by pairs.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from enum import IntEnum
from ipaddress import ip_address

from nightlatch.access.holdings import Holding, sorted_by_address
from nightlatch.estate.model import Estate, NetworkSpec
from nightlatch.net.addresses import AddressSet
from nightlatch.net.kinds import AddressKind, kind_of
from nightlatch.net.literal import IPAddress, IPNetwork
from nightlatch.readings.network.profiles import Method

MOST_TRIED = 1 << 20


@dataclass(frozen=True)
class NetworkPage:
    """One network with everything on it. `free` counts what is left for static addresses, `following` is the next of them."""

    network: NetworkSpec
    subnet: IPNetwork
    holdings: tuple[Holding, ...]
    free: int
    following: IPAddress | None


@dataclass(frozen=True)
class Book:
    """All pages, what lies on no network of the estate, and guests of which no address is known."""

    pages: tuple[NetworkPage, ...]
    elsewhere: tuple[Holding, ...]
    without: tuple[str, ...]


def book(estate: Estate, found: Iterable[Holding], guests: Iterable[str]) -> Book:
    """The book of some guests: O(n log n) in the number of addresses."""
    ordered = sorted_by_address(each for each in found if each.method is not Method.LINK_LOCAL)
    by_subnet: dict[tuple[str, IPNetwork], list[Holding]] = {}
    elsewhere: list[Holding] = []
    subnets = [(network, subnet) for network in estate.networks.values() for subnet in network.subnets]
    for each in ordered:
        own = estate.guests[each.guest].network if each.guest in estate.guests else ""
        here = next((pair for pair in _near(subnets, own) if _lies_in(each.address, pair[1])), None)
        if here is not None:
            by_subnet.setdefault((here[0].name, here[1]), []).append(each)
        else:
            elsewhere.append(each)
    pages = tuple(_page(network, subnet, by_subnet.get((network.name, subnet), [])) for network, subnet in subnets)
    known = {each.guest for each in ordered}
    return Book(pages, tuple(elsewhere), tuple(name for name in guests if name not in known))


def _near(subnets: list[tuple[NetworkSpec, IPNetwork]], own: str) -> Iterator[tuple[NetworkSpec, IPNetwork]]:
    """The subnets on which a guest's address may lie, those of its own network first: on a private one sit its own guests
    only."""
    yield from (pair for pair in subnets if pair[0].name == own)
    yield from (pair for pair in subnets if pair[0].name != own and not pair[0].private)


def _lies_in(address: IPAddress, subnet: IPNetwork) -> bool:
    return subnet.version == address.version and address in subnet


def narrowed(whole: Book, guests: Collection[str]) -> Book:
    """The book with the addresses of some guests only; what is free stays what it is."""
    names = set(guests)

    def kept(found: tuple[Holding, ...]) -> tuple[Holding, ...]:
        return tuple(each for each in found if each.guest in names)

    pages = tuple(replace(page, holdings=kept(page.holdings)) for page in whole.pages)
    return Book(pages, kept(whole.elsewhere), tuple(name for name in whole.without if name in names))


def _page(network: NetworkSpec, subnet: IPNetwork, found: list[Holding]) -> NetworkPage:
    used = {int(each.address) for each in found} | _own(network, subnet)
    pools = [(int(low), int(high)) for low, high in network.leases if low in subnet]
    pooled = sum(high - low + 1 for low, high in pools)
    outside = sum(not any(low <= number <= high for low, high in pools) for number in used)
    free = max(0, subnet.num_addresses - pooled - outside)
    return NetworkPage(network, subnet, tuple(found), free, next(free_addresses(network, subnet, used), None))


def _own(network: NetworkSpec, subnet: IPNetwork) -> set[int]:
    """The addresses that are nobody's to take: network, broadcast, the host, the gateway (RFC 1122, 3.2.1.3; RFC 4291, 2.6.1)."""
    taken = {int(a) for a in (*network.hosts, *network.gateways) if a.version == subnet.version and a in subnet}
    if subnet.num_addresses > 2:
        taken.add(int(subnet.network_address))
        if subnet.version == 4:
            taken.add(int(subnet.broadcast_address))
    return taken


def free_addresses(network: NetworkSpec, subnet: IPNetwork, used: set[int]) -> Iterator[IPAddress]:
    """Free static addresses of a subnet in order; stops after many taken ones in a row, for a subnet may be endless."""
    taken = used | _own(network, subnet)
    pools = sorted((int(low), int(high)) for low, high in network.leases if low in subnet)
    number, last, tried = int(subnet.network_address), int(subnet.broadcast_address), 0
    while number <= last and tried < MOST_TRIED:
        pool = next((high for low, high in pools if low <= number <= high), None)
        if pool is not None:
            number = pool + 1
            continue
        if number not in taken:
            yield ip_address(number) if subnet.version == 4 else type(subnet.network_address)(number)
        number, tried = number + 1, tried + 1


@dataclass(frozen=True, slots=True)
class Proposal:
    """An address for a guest that has none on its network; `interface` is empty where it is not known, `address` where
    nothing is free."""

    guest: str
    network: str
    address: str
    interface: str
    because: str


def proposals(estate: Estate, found: Iterable[Holding], interfaces: Mapping[str, tuple[str, ...]]) -> Iterator[Proposal]:
    """For every guest that is said to sit on a network and holds no lasting address there, the next free one of its subnets."""
    by_guest: dict[str, list[Holding]] = {}
    used: dict[IPNetwork, set[int]] = {}
    for each in found:
        by_guest.setdefault(each.guest, []).append(each)
        for network in estate.networks.values():
            subnet = network.subnet_of(each.address)
            if subnet is not None:
                used.setdefault(subnet, set()).add(int(each.address))
    free: dict[IPNetwork, Iterator[IPAddress]] = {}
    for spec in estate.guests.values():
        if not spec.network:
            continue
        network = estate.networks[spec.network]
        for subnet in network.subnets:
            own = by_guest.get(spec.name, [])
            there = [each for each in own if each.address.version == subnet.version and each.address in subnet]
            if any(each.method in (None, Method.STATIC) for each in there):
                continue
            if subnet not in free:
                free[subnet] = free_addresses(network, subnet, used.get(subnet, set()))
            following = next(free[subnet], None)
            why = f"it has {there[0].address} there by a lease only" if there else "it has none there"
            where = _interface(there, interfaces.get(spec.name, ()))
            address = f"{following}/{subnet.prefixlen}" if following is not None else ""
            yield Proposal(spec.name, network.name, address, where, why if address else f"nothing is free in {subnet}")


def _interface(there: list[Holding], known: tuple[str, ...]) -> str:
    named = [each.interface for each in there if each.interface]
    return named[0] if named else known[0] if len(known) == 1 else ""


class Reachability(IntEnum):
    """How an address is reached from a place, the best first."""

    SAME_NETWORK = 0
    ROUTED = 1
    UNKNOWN = 2
    NO = 3


@dataclass(frozen=True, slots=True)
class Choice:
    """One address of a guest, judged from a place."""

    holding: Holding
    way: Reachability
    because: str


def choices(estate: Estate, found: Iterable[Holding], place: AddressSet) -> list[Choice]:
    """The addresses of one guest, the one to dial from a place first. What no route is known of stays possible, and says so."""
    judged = [_judged(estate, each, place) for each in found]
    return sorted(judged, key=lambda c: (c.way, _wear(c.holding), c.holding.address.version, int(c.holding.address)))


def _wear(holding: Holding) -> int:
    """Lasting addresses first."""
    if holding.temporary:
        return 3
    return 0 if holding.lasts or holding.method is None else 1 if holding.method is Method.ANNOUNCED else 2


def _judged(estate: Estate, holding: Holding, place: AddressSet) -> Choice:
    kind = kind_of(holding.address)
    own = estate.guests[holding.guest].network if holding.guest in estate.guests else ""
    pairs = [(network, subnet) for network in estate.networks.values() for subnet in network.subnets]
    network, subnet = next((pair for pair in _near(pairs, own) if _lies_in(holding.address, pair[1])), (None, None))
    if network is not None and network.private:
        return Choice(holding, Reachability.NO, _instead(network, holding.guest))
    family = place.v4 if holding.address.version == 4 else place.v6
    if kind in (AddressKind.LINK_LOCAL, AddressKind.LOOPBACK, AddressKind.UNSPECIFIED):
        return Choice(holding, Reachability.NO, f"a {kind.value} address means nothing from another place")
    if not family:
        return Choice(holding, Reachability.NO, f"the place has no IPv{holding.address.version} address")
    if subnet is not None and all(_inside(low, high, subnet) for low, high in family):
        return Choice(holding, Reachability.SAME_NETWORK, f"the place lies in the same network, {subnet}")
    if holding.loaded is None and holding.stored is None and holding.seen:
        return Choice(holding, Reachability.NO, "the guest does not have it")
    sample = ip_address(family[0][0]) if holding.address.version == 4 else type(holding.address)(family[0][0])
    seen = kind_of(sample)
    if kind is AddressKind.PRIVATE and seen is AddressKind.PUBLIC:
        return Choice(holding, Reachability.NO, "a private address can't be dialled from a public one")
    if kind is AddressKind.PUBLIC:
        return Choice(holding, Reachability.ROUTED, "a public address is routed everywhere, unless a filter stands in the way")
    return Choice(
        holding,
        Reachability.UNKNOWN,
        "another network: whether a route leads there is not known; nightlatch reach tries it",
    )


def _instead(network: NetworkSpec, guest: str) -> str:
    """The address to dial instead of one that means nothing outside of its network."""
    forwards = [str(each) for each in network.forwards if each.guest == guest]
    other = f"dial {' or '.join(forwards)}, which leads there" if forwards else "and no forward leads there"
    return f"{network.name} is private: its addresses mean nothing elsewhere; {other}"


def _inside(low: int, high: int, subnet: IPNetwork) -> bool:
    return int(subnet.network_address) <= low and high <= int(subnet.broadcast_address)
