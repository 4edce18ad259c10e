"""PortSet: exact sets of TCP or UDP ports, in one canonical form."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from nightlatch.net.ranges import Range, Ranges, both, minus, normal

LAST = 65535


@dataclass(frozen=True, slots=True)
class PortSet:
    """A set of ports from 0 to 65535: inclusive ranges."""

    ranges: Ranges = ()

    @staticmethod
    def of(ranges: Iterable[Range]) -> PortSet:
        """The set of these inclusive ranges. Raises ValueError for a number that is no port."""
        found = normal(ranges)
        if any(not 0 <= low <= high <= LAST for low, high in found):
            raise ValueError("a port is a number from 0 to 65535")
        return PortSet(found)

    def __or__(self, other: PortSet) -> PortSet:
        return PortSet(normal(self.ranges + other.ranges))

    def __and__(self, other: PortSet) -> PortSet:
        return PortSet(both(self.ranges, other.ranges))

    def __sub__(self, other: PortSet) -> PortSet:
        return PortSet(minus(self.ranges, other.ranges))

    def __invert__(self) -> PortSet:
        return EVERY_PORT - self

    def __bool__(self) -> bool:
        return bool(self.ranges)

    def __contains__(self, port: int) -> bool:
        return any(low <= port <= high for low, high in self.ranges)

    def __str__(self) -> str:
        return ", ".join(f"{low}-{high}" if low < high else str(low) for low, high in self.ranges) or "none"


EVERY_PORT = PortSet(((0, LAST),))
