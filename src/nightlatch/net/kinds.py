"""Kinds of addresses: public, private, link-local and so on, and from where each can be reached.

The special ranges are those of RFC 6890 and the registries it set up; the nearest range wins, all else is public.
"""

from __future__ import annotations

from enum import StrEnum
from ipaddress import IPv4Network, IPv6Network, ip_network

from nightlatch.net.literal import IPAddress


class AddressKind(StrEnum):
    """The scope of an address."""

    UNSPECIFIED = "unspecified"
    LOOPBACK = "loopback"
    LINK_LOCAL = "link-local"
    PRIVATE = "private"
    SHARED = "shared"
    DOCUMENTATION = "documentation"
    BENCHMARK = "benchmark"
    MULTICAST = "multicast"
    BROADCAST = "broadcast"
    RESERVED = "reserved"
    PUBLIC = "public"

    @property
    def of_a_guest(self) -> bool:
        """Whether an interface of a guest can be given such an address for others to dial."""
        return self in (self.PRIVATE, self.SHARED, self.DOCUMENTATION, self.BENCHMARK, self.PUBLIC, self.LINK_LOCAL)


_RANGES: tuple[tuple[str, AddressKind], ...] = (
    ("0.0.0.0/32", AddressKind.UNSPECIFIED),  # RFC 1122, 3.2.1.3
    ("0.0.0.0/8", AddressKind.RESERVED),  # RFC 1122, 3.2.1.3: "this network"
    ("10.0.0.0/8", AddressKind.PRIVATE),  # RFC 1918
    ("100.64.0.0/10", AddressKind.SHARED),  # RFC 6598: between a carrier's translation and its customers
    ("127.0.0.0/8", AddressKind.LOOPBACK),  # RFC 1122, 3.2.1.3
    ("169.254.0.0/16", AddressKind.LINK_LOCAL),  # RFC 3927
    ("172.16.0.0/12", AddressKind.PRIVATE),  # RFC 1918
    ("192.0.0.0/24", AddressKind.RESERVED),  # RFC 6890
    ("192.0.2.0/24", AddressKind.DOCUMENTATION),  # RFC 5737
    ("192.168.0.0/16", AddressKind.PRIVATE),  # RFC 1918
    ("198.18.0.0/15", AddressKind.BENCHMARK),  # RFC 2544
    ("198.51.100.0/24", AddressKind.DOCUMENTATION),  # RFC 5737
    ("203.0.113.0/24", AddressKind.DOCUMENTATION),  # RFC 5737
    ("224.0.0.0/4", AddressKind.MULTICAST),  # RFC 5771
    ("240.0.0.0/4", AddressKind.RESERVED),  # RFC 1112, 4
    ("255.255.255.255/32", AddressKind.BROADCAST),  # RFC 919
    ("::/128", AddressKind.UNSPECIFIED),  # RFC 4291, 2.5.2
    ("::1/128", AddressKind.LOOPBACK),  # RFC 4291, 2.5.3
    ("::ffff:0:0/96", AddressKind.RESERVED),  # RFC 4291, 2.5.5.2: an IPv4 address
    ("100::/64", AddressKind.RESERVED),  # RFC 6666
    ("2001:2::/48", AddressKind.BENCHMARK),  # RFC 5180
    ("2001:db8::/32", AddressKind.DOCUMENTATION),  # RFC 3849
    ("3fff::/20", AddressKind.DOCUMENTATION),  # RFC 9637
    ("fc00::/7", AddressKind.PRIVATE),  # RFC 4193
    ("fe80::/10", AddressKind.LINK_LOCAL),  # RFC 4291, 2.5.6
    ("fec0::/10", AddressKind.RESERVED),  # RFC 3879: site-local, given up
    ("ff00::/8", AddressKind.MULTICAST),  # RFC 4291, 2.7
)


def _narrowest() -> dict[int, list[tuple[int, int, AddressKind]]]:
    """(network, mask, kind) for each version, the narrowest range first."""
    nets: list[tuple[IPv4Network | IPv6Network, AddressKind]] = [(ip_network(text), kind) for text, kind in _RANGES]
    nets.sort(key=lambda pair: -pair[0].prefixlen)
    out: dict[int, list[tuple[int, int, AddressKind]]] = {4: [], 6: []}
    for net, kind in nets:
        out[net.version].append((int(net.network_address), int(net.netmask), kind))
    return out


_TABLE = _narrowest()


def kind_of(address: IPAddress) -> AddressKind:
    """The kind of one address."""
    number = int(address)
    found = (kind for network, mask, kind in _TABLE[address.version] if number & mask == network)
    return next(found, AddressKind.PUBLIC)
