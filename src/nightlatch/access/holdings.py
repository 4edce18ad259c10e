"""The addresses of a guest: how it got each, and whether it will keep it.

What the estate gives, what the guest's files store and what it has now are put together address by address.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace

from nightlatch.estate.model import GuestSpec
from nightlatch.formats.ip_listing import LiveAddress
from nightlatch.net.literal import IPAddress
from nightlatch.origin import Kind, Origin
from nightlatch.readings.network.network_reading import NetworkReading
from nightlatch.readings.network.profiles import Method

LISTED = Origin("ip -o addr", kind=Kind.LISTING)


@dataclass(frozen=True, slots=True)
class Holding:
    """One address of one guest. `method` is None while it stands in the estate file only.

    `stated`, `stored` and `loaded` are the places that say so: the estate file, a file of the guest that counts at boot, the
    running guest. `seen` says whether a running guest was asked, so that a missing `loaded` means something.
    """

    guest: str
    address: IPAddress
    interface: str = ""
    method: Method | None = None
    length: int | None = None
    stated: Origin | None = None
    stored: Origin | None = None
    loaded: Origin | None = None
    at_boot: bool = True
    seen: bool = False
    temporary: bool = False

    @property
    def origin(self) -> Origin:
        """The best place to show for it: the guest's file, what was listed, the estate file."""
        found = self.stored or self.loaded or self.stated
        assert found is not None
        return found

    @property
    def lasts(self) -> bool | None:
        """Whether it will be the same after a reboot; None where only the estate speaks of it."""
        if self.method is None:
            return None
        if self.method is Method.STATIC:
            return self.stored is not None and self.at_boot
        return self.method is Method.LINK_LOCAL


def holdings(network: NetworkReading, guest: str, spec: GuestSpec | None = None) -> tuple[Holding, ...]:
    """Every address of a guest but the loopback's, in the order in which it was found."""
    found: dict[IPAddress, Holding] = {}
    for each in _all(network, guest, spec):
        known = found.get(each.address)
        found[each.address] = each if known is None else _both(known, each)
    return tuple(replace(each, seen=network.is_live) for each in found.values())


def _all(network: NetworkReading, guest: str, spec: GuestSpec | None) -> Iterator[Holding]:
    for profile in network.counting:
        for placed in profile.addresses:
            made = Holding(guest, placed.value.ip, profile.interface, Method.STATIC, placed.value.network.prefixlen)
            yield replace(made, stored=placed.origin, at_boot=profile.at_boot)
    for interface in network.live:
        for live in interface.addresses:
            address = live.address
            if not address.ip.is_loopback:
                made = Holding(guest, address.ip, interface.link.name, method_of(live), address.network.prefixlen)
                yield replace(made, loaded=LISTED, temporary=live.temporary)
    for lease in network.leases:
        yield Holding(guest, lease.value.address, "", Method.LEASED, loaded=lease.origin)
    for stated in spec.addresses if spec is not None else ():
        length = stated.address.network.prefixlen
        yield Holding(guest, stated.address.ip, stated.interface, None, length, stated=stated.origin)


def method_of(live: LiveAddress) -> Method:
    """How a live address was come by, as far as the kernel knows: a leased one ends, an announced one is longer than IPv4's."""
    if live.address.ip.is_link_local:
        return Method.LINK_LOCAL
    if not live.dynamic:
        return Method.STATIC
    announced = live.address.version == 6 and live.address.network.prefixlen == 64
    return Method.ANNOUNCED if announced else Method.LEASED


def _both(a: Holding, b: Holding) -> Holding:
    """Two tellings of one address; the first knows better how it is come by."""
    return replace(
        a,
        interface=a.interface or b.interface,
        method=a.method or b.method,
        length=a.length if a.length is not None else b.length,
        stated=a.stated or b.stated,
        stored=a.stored or b.stored,
        loaded=a.loaded or b.loaded,
        temporary=a.temporary or b.temporary,
    )


def hardware(network: NetworkReading) -> Iterator[tuple[str, str, Origin]]:
    """Hardware addresses with their interfaces: those that links have now, and those that files set or look for."""
    told: set[str] = set()
    for profile in network.counting:
        if profile.hardware is not None and profile.hardware.value:
            told.add(profile.hardware.value)
            yield profile.hardware.value, profile.interface, profile.hardware.origin
        for mac in profile.match.hardware:
            if mac not in told:
                told.add(mac)
                yield mac, profile.interface, profile.origin
    for each in network.live:
        if each.link.kind == "ether" and each.link.hardware and each.link.hardware not in told:
            yield each.link.hardware, each.link.name, Origin("ip -o link", kind=Kind.LISTING)


def sorted_by_address(found: Iterable[Holding]) -> list[Holding]:
    """IPv4 first, then by number: equal addresses stand side by side."""
    return sorted(found, key=lambda each: (each.address.version, int(each.address), each.guest))
