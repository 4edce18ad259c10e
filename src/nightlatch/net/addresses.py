"""AddressSet: exact sets of IPv4 and IPv6 addresses.

One canonical form (sorted ranges that neither overlap nor touch, a tuple for each family), so `==` and `hash` mean
"the same addresses". All operations are exact and take O(n + m) in the number of ranges.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import pairwise

from nightlatch.net.ranges import Range, Ranges, both, minus, normal

V4_LAST = (1 << 32) - 1
V6_LAST = (1 << 128) - 1


@dataclass(frozen=True, slots=True)
class AddressSet:
    """A set of addresses: inclusive ranges of numbers, for IPv4 and IPv6 apart."""

    v4: Ranges = ()
    v6: Ranges = ()

    def __or__(self, other: AddressSet) -> AddressSet:
        if not other or self is other:
            return self
        if not self:
            return other
        return AddressSet(normal(self.v4 + other.v4), normal(self.v6 + other.v6))

    def __and__(self, other: AddressSet) -> AddressSet:
        # Most sets met in practice are everything or the very same set: those need no walk through the ranges.
        if self is other or other is EVERY_ADDRESS:
            return self
        if self is EVERY_ADDRESS:
            return other
        return AddressSet(both(self.v4, other.v4), both(self.v6, other.v6))

    def __sub__(self, other: AddressSet) -> AddressSet:
        if other is EVERY_ADDRESS or self is other:
            return NO_ADDRESS
        if not other:
            return self
        return AddressSet(minus(self.v4, other.v4), minus(self.v6, other.v6))

    def __invert__(self) -> AddressSet:
        return EVERY_ADDRESS - self

    def __bool__(self) -> bool:
        return bool(self.v4 or self.v6)

    def __le__(self, other: AddressSet) -> bool:
        return not (self - other)

    def __contains__(self, address: str) -> bool:
        parsed = ipaddress.ip_address(address)
        number = int(parsed)
        return any(low <= number <= high for low, high in (self.v4 if parsed.version == 4 else self.v6))

    def __str__(self) -> str:
        return ", ".join(self.prefixes()) or "nowhere"

    def prefixes(self, limit: int = 0) -> list[str]:
        """The set as CIDR texts (single addresses without a length), IPv4 first; at most `limit` if that is not 0."""
        out: list[str] = []
        for text in self._prefixes():
            if limit and len(out) == limit:
                break
            out.append(text)
        return out

    def _prefixes(self) -> Iterator[str]:
        for low, high in self.v4:
            first4, last4 = ipaddress.IPv4Address(low), ipaddress.IPv4Address(high)
            for net4 in ipaddress.summarize_address_range(first4, last4):
                yield str(net4) if net4.prefixlen < 32 else str(net4.network_address)
        for low, high in self.v6:
            first6, last6 = ipaddress.IPv6Address(low), ipaddress.IPv6Address(high)
            for net6 in ipaddress.summarize_address_range(first6, last6):
                yield str(net6) if net6.prefixlen < 128 else str(net6.network_address)

    def sample(self) -> str:
        """One address of the set as text; raises ValueError when it is empty."""
        if self.v4:
            return str(ipaddress.IPv4Address(self.v4[0][0]))
        if self.v6:
            return str(ipaddress.IPv6Address(self.v6[0][0]))
        raise ValueError("an empty set has no address")

    def _check(self) -> None:
        """Raise AssertionError unless every invariant of the canonical form holds (for the tests)."""
        for ranges, last in ((self.v4, V4_LAST), (self.v6, V6_LAST)):
            for low, high in ranges:
                assert 0 <= low <= high <= last
            for (_, high), (low, _) in pairwise(ranges):
                assert low > high + 1


def span(version: int, low: int, high: int) -> str:
    """One range as text: an address, a prefix where it is one, else FIRST-LAST."""
    make = ipaddress.IPv4Address if version == 4 else ipaddress.IPv6Address
    first, last = make(low), make(high)
    size, bits = high - low + 1, 32 if version == 4 else 128
    if size & (size - 1) == 0 and low % size == 0:
        return str(first) if size == 1 else f"{first}/{bits - size.bit_length() + 1}"
    return f"{first}-{last}"


NO_ADDRESS = AddressSet()
ALL_V4 = AddressSet(v4=((0, V4_LAST),))
ALL_V6 = AddressSet(v6=((0, V6_LAST),))
EVERY_ADDRESS = AddressSet(((0, V4_LAST),), ((0, V6_LAST),))
LOOPBACK = AddressSet(v4=((127 << 24, (128 << 24) - 1),), v6=((1, 1),))


def union(sets: Iterable[AddressSet]) -> AddressSet:
    """All addresses of all sets: O(n log n) in the number of ranges, for many sets cheaper than one by one."""
    found = [each for each in sets if each]
    if len(found) == 1:
        return found[0]
    if EVERY_ADDRESS in found:
        return EVERY_ADDRESS
    v4: list[Range] = []
    v6: list[Range] = []
    for each in found:
        v4.extend(each.v4)
        v6.extend(each.v6)
    return AddressSet(normal(v4), normal(v6))


def prefix(version: int, number: int, length: int) -> AddressSet:
    """The addresses of one prefix; `number` may have host bits, they are cleared."""
    bits = 32 if version == 4 else 128
    low = number >> (bits - length) << (bits - length)
    ranges = ((low, low | ((1 << (bits - length)) - 1)),)
    return AddressSet(v4=ranges) if version == 4 else AddressSet(v6=ranges)


def single(address: ipaddress.IPv4Address | ipaddress.IPv6Address) -> AddressSet:
    """The set of one address."""
    return prefix(address.version, int(address), 32 if address.version == 4 else 128)
