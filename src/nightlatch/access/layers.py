"""The filters between a caller and a socket of a guest, in their order: those outside, the guest's own, and those of one service.

A `Behind` is what only callers of one service meet, such as the filter of its unit, or libwrap.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from nightlatch.access.verdicts import Flow, dials, passed
from nightlatch.model.bounds import EVERYBODY, NOBODY, Addresses, in_all, in_any
from nightlatch.net.addresses import NO_ADDRESS, AddressSet, prefix, union
from nightlatch.net.literal import address_or_none
from nightlatch.readings.filters.rules import Rules
from nightlatch.readings.guest import GuestReading

Behind = Sequence[Rules]


def flow_to(reading: GuestReading, address: str, port: int, protocol: str = "tcp") -> Flow:
    """A first packet to a listening socket of a guest: which of its addresses and interfaces are meant, as far as is known."""
    if not reading.service.is_live:
        return Flow(protocol, port, _one(address), reading.network.named_at_boot)
    others = [each for each in reading.network.live if each.link.name != "lo"]
    own = union(_one(str(held.address.ip).partition("%")[0]) or NO_ADDRESS for each in others for held in each.addresses)
    named = tuple(each.link.name for each in others if each.addresses)
    return Flow(protocol, port, _one(address) or own or None, named)


def _one(address: str) -> AddressSet | None:
    """A single address as a set; None for all of them, and for a text that is no address."""
    found = address_or_none(address) if address not in ("", "0.0.0.0", "::") else None
    return prefix(found.version, int(found), 32 if found.version == 4 else 128) if found is not None else None


def through(reading: GuestReading, flow: Flow, around: Sequence[Rules] = (), *, behind: Behind) -> Addresses:
    """The sources that come through to a port: past filters `around` the guest, which see the port that was dialled, its own,
    and what stands `behind` that for callers of its service ."""
    rules = reading.filter.rules
    found = []
    for dialled in dials(rules, flow) if rules is not None else [flow]:
        outside = [passed(each, replace(dialled, interfaces=())) for each in around]
        found.append(in_all([*outside, *([passed(rules, flow, dialled.port)] if rules is not None else [])]))
    return in_all([in_any(found), *(passed(rules, each) for rules, each in _last(flow, behind))])


def inward(reading: GuestReading, flow: Flow, dialled: int, *, behind: Behind) -> Addresses:
    """The sources that the guest's own layers let in to a port by dialling this one, be it that a rule sends them on."""
    rules = reading.filter.rules
    if rules is not None:
        first = passed(rules, flow, dialled)
    else:
        first = EVERYBODY if dialled == flow.port else NOBODY
    return in_all([first, *(passed(rules, each) for rules, each in _last(flow, behind))])


def _last(flow: Flow, behind: Behind) -> Iterator[tuple[Rules, Flow]]:
    for rules in behind:
        yield rules, Flow(flow.protocol, flow.port)


def layers(reading: GuestReading, flow: Flow, around: Sequence[Rules] = (), *, behind: Behind) -> Iterator[tuple[Rules, Flow]]:
    """The rule sets that a caller meets one after the other, each with the packet as it sees it; those that only callers of one
    service meet come last."""
    for rules in around:
        yield rules, replace(flow, interfaces=())
    if reading.filter.rules is not None:
        yield reading.filter.rules, flow
    yield from _last(flow, behind)
