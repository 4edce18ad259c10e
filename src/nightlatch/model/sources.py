"""Sources: sets of callers' addresses, each in the address space in which it means something."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from nightlatch.net.addresses import NO_ADDRESS, AddressSet, union

AddressSpace = str
COMMON: AddressSpace = ""  # the address space in which addresses mean the same everywhere
Sources = Mapping[AddressSpace, AddressSet]
NOWHERE: Sources = {}


def joined(all_sources: Iterable[Sources]) -> Sources:
    """The union of source sets, address space by address space."""
    found = [sources for sources in all_sources if sources]
    if len(found) == 1:
        return found[0]
    parts: dict[AddressSpace, list[AddressSet]] = {}
    for sources in found:
        for space, addresses in sources.items():
            parts.setdefault(space, []).append(addresses)
    return {space: union(sets) for space, sets in parts.items()}


def without(a: Sources, b: Sources) -> Sources:
    """The sources in `a` and not in `b`, without address spaces that came out empty."""
    if not b or not a:
        return a
    out = {space: addresses - b.get(space, NO_ADDRESS) for space, addresses in a.items()}
    return {space: addresses for space, addresses in out.items() if addresses}


def common_to(a: Sources, b: Sources) -> Sources:
    """The sources in both, without empty address spaces."""
    out = {space: addresses & b.get(space, NO_ADDRESS) for space, addresses in a.items()}
    return {space: addresses for space, addresses in out.items() if addresses}
