"""Where callers are: sets of addresses, each in the realm in which it means something."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from nightlatch.net.addresses import NO_ADDRESS, AddressSet, union

Realm = str
COMMON: Realm = ""  # the realm in which addresses mean the same everywhere
Sources = Mapping[Realm, AddressSet]
NOWHERE: Sources = {}


def joined(all_sources: Iterable[Sources]) -> Sources:
    """The union of source sets, realm by realm."""
    found = [sources for sources in all_sources if sources]
    if len(found) == 1:
        return found[0]
    parts: dict[Realm, list[AddressSet]] = {}
    for sources in found:
        for realm, addresses in sources.items():
            parts.setdefault(realm, []).append(addresses)
    return {realm: union(sets) for realm, sets in parts.items()}


def without(a: Sources, b: Sources) -> Sources:
    """What is in `a` and not in `b`, without realms that came out empty."""
    if not b or not a:
        return a
    out = {realm: addresses - b.get(realm, NO_ADDRESS) for realm, addresses in a.items()}
    return {realm: addresses for realm, addresses in out.items() if addresses}


def common_to(a: Sources, b: Sources) -> Sources:
    """What is in both, without empty realms."""
    out = {realm: addresses & b.get(realm, NO_ADDRESS) for realm, addresses in a.items()}
    return {realm: addresses for realm, addresses in out.items() if addresses}
