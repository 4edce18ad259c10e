"""Checks of addresses against the estate's networks and against each other: collisions, pools, leases, clones, names."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from ipaddress import ip_address
from itertools import groupby

from nightlatch.access.holdings import Holding, sorted_by_address
from nightlatch.audit.checks.registry import CheckResult, Context, Fleet, check, fleet_check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.audit.names import listed
from nightlatch.estate.model import Estate, GuestSpec, NetworkSpec
from nightlatch.net.literal import IPAddress, IPNetwork, address_or_none
from nightlatch.origin import Origin
from nightlatch.readings.network.profiles import Method

HIGH, MEDIUM, LOW = Severity.HIGH, Severity.MEDIUM, Severity.LOW
UNSET = ("", "uninitialized")


def network_of(estate: Estate | None, address: IPAddress, guest: str) -> tuple[NetworkSpec, IPNetwork] | None:
    """The network and subnet of the estate that an address of a guest lies in; in a private one only its own guests do."""
    if estate is None:
        return None
    own = estate.guests[guest].network if guest in estate.guests else ""
    for network in sorted(estate.networks.values(), key=lambda each: each.name != own):
        subnet = network.subnet_of(address) if not network.private or network.name == own else None
        if subnet is not None:
            return network, subnet
    return None


def _lasting(context: Context) -> Iterator[tuple[Holding, NetworkSpec, IPNetwork]]:
    """The addresses that the guest keeps or is to keep, on networks of the estate."""
    for each in context.holdings:
        found = network_of(context.estate, each.address, context.guest)
        if found is not None and (each.stated is not None or each.stored is not None):
            yield each, *found


@check("address.in-pool", MEDIUM, source="RFC 2131, 3.1: a server gives out what is free in its pool")
def in_pool(context: Context) -> Iterator[CheckResult]:
    """A fixed address lies in a pool of leases: a server may give it to somebody else."""
    for each, network, _ in _lasting(context):
        if network.gives_out(each.address):
            where = each.interface or context.guest
            text = f"{each.address} on {where} is fixed, and lies in the pool of leases of {network.name}."
            yield CheckResult(text, (Proof("fixed here", each.origin), Proof("its pool", network.origin)), (str(each.address),))


@check("address.taken", HIGH, source="RFC 1122, 3.2.1.3; RFC 4291, 2.6.1")
def taken(context: Context) -> Iterator[CheckResult]:
    """A guest has the address of its network, its broadcast address, or that of the host or the gateway."""
    for each, network, subnet in _lasting(context):
        whose = ""
        if subnet.num_addresses > 2 and each.address == subnet.network_address:
            whose = f"is the address of the network {subnet} itself"
        elif subnet.version == 4 and subnet.num_addresses > 2 and each.address == subnet.broadcast_address:
            whose = f"is the broadcast address of {subnet}"
        elif each.address in network.hosts:
            whose = f"is the host's own on {network.name}"
        elif each.address in network.gateways:
            whose = f"is the gateway's own on {network.name}"
        if whose:
            proofs = (Proof("given here", each.origin), Proof(network.name, network.origin))
            yield CheckResult(f"{each.address} on {each.interface or context.guest} {whose}.", proofs, (str(each.address),))


@check("address.wrong-length", HIGH, source="RFC 4632, 3.1: the length comes from the network")
def wrong_length(context: Context) -> Iterator[CheckResult]:
    """An address has another prefix length than its network: a part of the network, or too much, is sought on the link."""
    for each, network, subnet in _lasting(context):
        if each.length not in (None, subnet.prefixlen):
            where = each.interface or context.guest
            text = f"{each.address}/{each.length} on {where} should be /{subnet.prefixlen}: {network.name} is {subnet}."
            proofs = (Proof(f"/{each.length}", each.origin), Proof(str(subnet), network.origin))
            yield CheckResult(text, proofs, (str(each.address),))


@check("address.outside", MEDIUM, source="design: network of a guest")
def outside(context: Context) -> Iterator[CheckResult]:
    """A guest is said to sit on a network, and has no address there."""
    spec = _spec(context)
    if spec is None or not spec.network or context.estate is None:
        return
    network = context.estate.networks[spec.network]
    known = [each for each in context.holdings if each.method is not Method.LINK_LOCAL]
    leased = any(p.has(Method.LEASED) for p in context.access.reading.network.counting)
    if known and not leased and not any(network.subnet_of(each.address) for each in known):
        text = f"{context.guest} is said to sit on {network.name}; its addresses are {listed([str(e.address) for e in known])}."
        yield CheckResult(text, (Proof(network.name, network.origin), Proof("an address", known[0].origin)), (network.name,))


def _spec(context: Context) -> GuestSpec | None:
    return context.estate.guests[context.guest] if context.estate is not None else None


@check("address.leased-in-use", MEDIUM, source="RFC 2131, 1.6: a lease is for a time")
def leased_in_use(context: Context) -> Iterator[CheckResult]:
    """An address that is dialled, or that a grant names, is leased, or lies in a pool of leases: tomorrow it may be another's."""
    spec = _spec(context)
    if spec is None or context.estate is None:
        return
    mine = {each.address: each for each in context.holdings}
    told: set[IPAddress] = set()
    for what, text, origin in (("via", spec.via.host, spec.via.origin), ("dial", spec.dial, spec.origin)):
        address = address_or_none(text, scope=True)
        if address is None or address in told:
            continue
        told.add(address)
        own = mine.get(address)
        leased = own is not None and own.method is Method.LEASED
        found = network_of(context.estate, address, context.guest)
        pooled = found is not None and found[0].gives_out(address) and (own is None or own.stored is None)
        if pooled or leased:
            why = "a lease" if leased or found is None else f"in the pool of leases of {found[0].name}"
            proofs = [Proof(f"{what} {text}", origin), *([Proof("leased", own.origin)] if own is not None else [])]
            said = f"{context.guest} is dialled at {address}, which is {why}: it may be another tomorrow."
            yield CheckResult(said, tuple(proofs), (text,))
    yield from _in_grants(context, context.estate)


def _in_grants(context: Context, estate: Estate) -> Iterator[CheckResult]:
    for grant in estate.of(context.guest).grants:
        for ref in grant.places:
            sources = estate.places[ref.place].seen if ref.place else ref.addresses
            for low, high in sources.v4 if sources is not None else ():
                address = ip_address(low)
                found = network_of(estate, address, context.guest) if low == high else None
                if found is not None and found[0].gives_out(address):
                    text = (
                        f"Grant {grant.number} lets {listed(grant.who)} in from {address}, which {found[0].name} gives out "
                        "by lease: another machine may have it tomorrow."
                    )
                    proofs = (Proof(f"names {ref.text}", grant.origin), Proof("its pool", found[0].origin))
                    yield CheckResult(text, proofs, grant.who)


@fleet_check("address.twice", HIGH, source="RFC 5227")
def twice(fleet: Fleet) -> Iterator[tuple[str, CheckResult]]:
    """Two guests have the same address: connections reach now one, now the other."""
    order = {guest.guest: number for number, guest in enumerate(fleet.guests)}
    everybody = (each for guest in fleet.guests for each in guest.addresses if each.method is not Method.LINK_LOCAL)
    for address, group in groupby(sorted_by_address(everybody), key=lambda each: each.address):
        holding = sorted({each.guest: each for each in group}.values(), key=lambda each: order[each.guest])
        for found in _apart(fleet.estate, address, holding):
            names = [each.guest for each in found]
            both = "both" if len(names) == 2 else "all"
            text = f"{listed(names)} {both} have {address}: who answers there is chance."
            yield names[0], CheckResult(text, _shared((each.guest, each.origin) for each in found), tuple(names))


def _apart(estate: Estate | None, address: IPAddress, found: list[Holding]) -> Iterator[list[Holding]]:
    """Holders of one address that can meet: those on a private network meet each other alone."""
    spaces: dict[str, list[Holding]] = {}
    for each in found:
        here = network_of(estate, address, each.guest)
        spaces.setdefault(here[0].name if here is not None and here[0].private else "", []).append(each)
    yield from (those for those in spaces.values() if len(those) > 1)


def _shared(holders: Iterable[tuple[str, Origin]]) -> tuple[Proof, ...]:
    """One proof for each place, with the guests that have it there: copies have the same file."""
    by_place: dict[Origin, list[str]] = {}
    for guest, origin in holders:
        by_place.setdefault(origin, []).append(guest)
    return tuple(Proof(f"on {listed(guests)}", origin) for origin, guests in by_place.items())


@fleet_check("guest.shared-hardware-address", HIGH, source="IEEE 802: an address names one interface")
def shared_hardware(fleet: Fleet) -> Iterator[tuple[str, CheckResult]]:
    """Two guests have the same hardware address, as copies of one machine do: on one network neither works."""
    holders: dict[str, dict[str, Origin]] = {}
    for guest in fleet.guests:
        for mac, _, origin in guest.hardware:
            holders.setdefault(mac, {}).setdefault(guest.guest, origin)
    for mac, found in holders.items():
        if len(found) > 1:
            text = f"{listed(found)} have the hardware address {mac}: one is a copy, and leases and neighbours mix them up."
            yield next(iter(found)), CheckResult(text, _shared(found.items()), tuple(found))


@fleet_check("guest.shared-machine-id", MEDIUM, source="machine-id(5): unique, made at first boot")
def shared_machine_id(fleet: Fleet) -> Iterator[tuple[str, CheckResult]]:
    """Two guests have the same machine id, as clones do: they ask for leases as one and the same machine."""
    holders: dict[str, list[str]] = {}
    for guest in fleet.guests:
        if guest.machine_id not in UNSET:
            holders.setdefault(guest.machine_id, []).append(guest.guest)
    for names in holders.values():
        if len(names) > 1:
            text = f"{listed(names)} have the same machine id: they are clones, and ask for leases as one machine."
            proofs = _shared((name, Origin("/etc/machine-id", 1)) for name in names)
            yield names[0], CheckResult(text, proofs, tuple(names))


@fleet_check("name.elsewhere", HIGH, source="hosts(5)")
def elsewhere(fleet: Fleet) -> Iterator[tuple[str, CheckResult]]:
    """A hosts file of a guest gives another guest's name an address that this one does not have."""
    if fleet.estate is None:
        return
    known: dict[str, set[IPAddress]] = {g.guest: {each.address for each in g.addresses} for g in fleet.guests}
    dialled = {spec.dial.lower(): spec.name for spec in fleet.estate.guests.values() if spec.dial}
    for guest in fleet.guests:
        for name, address, line in guest.names:
            meant = dialled.get(name.lower(), name.lower())
            own = known.get(meant)
            if own and address not in own and not address.is_loopback:
                text = f"On {guest.guest} the name {name} leads to {address}; {meant} has {listed(sorted(map(str, own)))}."
                yield (
                    guest.guest,
                    CheckResult(text, (Proof(f"{address} {name}", Origin("/etc/hosts", line)),), (meant,)),
                )
