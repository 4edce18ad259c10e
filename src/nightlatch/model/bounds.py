"""Bounds: the callers that are certainly let in, and those that may be. Every layer keeps both, and why
they differ."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Generic, TypeVar

from nightlatch.model.gaps import Gap
from nightlatch.net.addresses import EVERY_ADDRESS, NO_ADDRESS, AddressSet, union

Set = TypeVar("Set")


@dataclass(frozen=True, slots=True)
class Bounds(Generic[Set]):
    """The certain members (`surely`), the possible ones (`perhaps`, a superset), and why the two differ: sets of
    addresses, or sources in address spaces."""

    surely: Set
    perhaps: Set
    because: tuple[Gap, ...] = ()


Addresses = Bounds[AddressSet]


def exactly(addresses: AddressSet) -> Addresses:
    """A set that nothing is undecided about."""
    return Bounds(addresses, addresses)


EVERYBODY, NOBODY = exactly(EVERY_ADDRESS), exactly(NO_ADDRESS)


def inside(bounds: Addresses, addresses: AddressSet) -> Addresses:
    """The part of it that is in a set; why its bounds differ stays."""
    return Bounds(bounds.surely & addresses, bounds.perhaps & addresses, bounds.because)


def in_all(found: Iterable[Addresses]) -> Addresses:
    """The intersection; where its bounds are the same, nothing is undecided."""
    surely, perhaps = EVERY_ADDRESS, EVERY_ADDRESS
    because: list[Gap] = []
    for each in found:
        surely, perhaps = surely & each.surely, perhaps & each.perhaps
        because += each.because
    return Bounds(surely, perhaps, tuple(because) if surely != perhaps else ())


def in_any(found: Iterable[Addresses]) -> Addresses:
    """The union; where its bounds are the same, nothing is undecided."""
    those = list(found)
    surely, perhaps = union(each.surely for each in those), union(each.perhaps for each in those)
    because = dict.fromkeys(gap for each in those for gap in each.because)
    return Bounds(surely, perhaps, tuple(because) if surely != perhaps else ())


def only_perhaps(bounds: Addresses) -> Addresses:
    """The bounds once something undecided stands before all of the set."""
    return Bounds(NO_ADDRESS, bounds.perhaps, bounds.because)
