"""Checks of forwards: two that clash, those that listen everywhere, and those whose end is not, or may not stay, where they
lead."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations, groupby

from nightlatch.audit.checks.registry import CheckResult, Context, Fleet, check, fleet_check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.estate.model import Estate, Forward
from nightlatch.readings.network.profiles import Method

HIGH, MEDIUM, LOW = Severity.HIGH, Severity.MEDIUM, Severity.LOW


def forwards_of(estate: Estate | None) -> tuple[Forward, ...]:
    """All forwards of an estate."""
    return tuple(each for net in estate.networks.values() for each in net.forwards) if estate is not None else ()


def _mine(context: Context) -> tuple[Forward, ...]:
    return tuple(way.forward for way in context.access.arrivals if way.forward is not None)


def _proof(forward: Forward) -> Proof:
    return Proof(f"{forward} to {forward.guest}, port {forward.to_port}", forward.origin)


@fleet_check("forward.clash", HIGH, source="ip-sysctl, nft(8): the first of two rules for one port has it")
def clash(fleet: Fleet) -> Iterator[tuple[str, CheckResult]]:
    """Two forwards take the same port of the same address: callers reach one guest, and never the other."""
    known = {each.guest for each in fleet.guests}
    ordered = sorted(forwards_of(fleet.estate), key=lambda each: each.port)
    pairs = (pair for _, group in groupby(ordered, key=lambda each: each.port) for pair in combinations(group, 2))
    for one, other in pairs:
        same = one.at is None or other.at is None or one.at == other.at
        if same and {one.guest, other.guest} & known:
            guests = f"{one.guest} and {other.guest}" if one.guest != other.guest else f"{one.guest} twice"
            where = one.at or other.at or "every address"
            text = f"Two forwards take port {one.port} of {where}, for {guests}: only one of them works."
            yield (
                one.guest if one.guest in known else other.guest,
                CheckResult(text, (_proof(one), _proof(other)), (str(one.port),)),
            )


@check("forward.all-addresses", MEDIUM, source="design: forwards that bind all addresses")
def all_addresses(context: Context) -> Iterator[CheckResult]:
    """A forward listens on every address of its host: callers who reach any of them reach the guest."""
    for each in _mine(context):
        if each.at is None:
            yield CheckResult(
                f"The forward of port {each.port} to {context.guest} listens on every address of its host.",
                (_proof(each),),
                (str(each.port),),
            )


@check("forward.stale", HIGH, source="design: stale forwards")
def stale(context: Context) -> Iterator[CheckResult]:
    """A forward leads to an address that the guest does not have, or to a port on which nothing listens there."""
    held = {each.address for each in context.holdings}
    heard = {listener.port for listener in context.access.ssh.listeners}
    sockets = {each.port for each in context.access.reading.service.sockets if each.is_exposed}
    for each in _mine(context):
        if each.to is not None and held and each.to not in held:
            text = f"The forward from {each} leads to {each.to}, which {context.guest} does not have."
            yield CheckResult(text, (_proof(each), Proof("its addresses", context.holdings[0].origin)), (str(each.to),))
        elif context.access.reading.service.is_live and each.to_port not in sockets | heard:
            end = f"port {each.to_port} of {context.guest}"
            text = f"The forward from {each} leads to {end}, on which nothing listens for others."
            yield CheckResult(text, (_proof(each),), (str(each.to_port),))


@check("forward.leased", MEDIUM, source="RFC 2131, 1.6: a lease is for a time")
def leased(context: Context) -> Iterator[CheckResult]:
    """A forward leads to an address that is leased, or that lies in a pool of leases: tomorrow it may be another's."""
    for each in _mine(context):
        if each.to is None or context.estate is None:
            continue
        held = next((one for one in context.holdings if one.address == each.to), None)
        pool = context.estate.networks[each.network].gives_out(each.to)
        if (held is not None and held.method is Method.LEASED) or (held is None and pool):
            text = f"The forward from {each} leads to {each.to}, which {context.guest} has by a lease."
            yield CheckResult(
                text, (_proof(each), *((Proof("leased", held.origin),) if held is not None else ())), (str(each.to),)
            )


@check("forward.other-network", MEDIUM, source="design: a rule in another network")
def other_network(context: Context) -> Iterator[CheckResult]:
    """A forward stands under a network on which its guest does not sit."""
    spec = context.estate.guests[context.guest] if context.estate is not None else None
    for each in _mine(context):
        if spec is not None and spec.network and spec.network != each.network:
            text = f"The forward from {each} stands under {each.network}; {context.guest} sits on {spec.network}."
            yield CheckResult(text, (_proof(each), Proof(f"network {spec.network}", spec.origin)), (each.network,))
