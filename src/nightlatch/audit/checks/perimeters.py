"""Checks of the filters outside of guests: how old or well-founded their tables are, and rows that concern no guest."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from nightlatch.access.arrivals import subnets
from nightlatch.audit.checks.registry import CheckResult, Context, check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.estate.model import Perimeter
from nightlatch.net.addresses import single, union

OLD = timedelta(days=90)


def _around(context: Context) -> tuple[Perimeter, ...]:
    """The perimeters that the guest sits behind."""
    if context.estate is None:
        return ()
    network = context.estate.networks.get(context.estate.guests[context.guest].network)
    return network.perimeters if network is not None else ()


@check("perimeter.claimed", Severity.NOTE, source="design: a perimeter is read, or merely claimed")
def claimed(context: Context) -> Iterator[CheckResult]:
    """What a perimeter lets in is claimed by the estate file, and was not read from the filter itself."""
    for each in _around(context):
        if each.taken is None:
            text = f"What the perimeter of {each.network} lets in is claimed, and not read from the filter itself."
            yield CheckResult(text, (Proof("claimed here", each.origin),), (each.network,))


@check("perimeter.old", Severity.LOW, source="design: every answer says how old its table is")
def old(context: Context) -> Iterator[CheckResult]:
    """The table that a perimeter was read from is older than 90 days: the filter may be another by now."""
    for each in _around(context):
        if each.taken is not None and context.estate is not None:
            age = context.at.astimezone(context.estate.zone).date() - each.taken
            if age > OLD:
                text = f"The table of the perimeter of {each.network} is {age.days} days old."
                yield CheckResult(text, (Proof(f"taken {each.taken}", each.origin),), (each.network,))


@check("perimeter.other-network", Severity.LOW, source="design: a rule in another network")
def other_network(context: Context) -> Iterator[CheckResult]:
    """A row of a perimeter is for addresses outside of its network: it decides about none of its guests."""
    for each in _around(context):
        assert context.estate is not None
        network = context.estate.networks[each.network]
        ends = [single(forward.at) for forward in network.forwards if forward.at is not None]
        own = union([subnets(network), *ends])
        for row in each.rows:
            if row.targets is not None and not row.targets & own:
                text = f"A row of the perimeter of {each.network} is for {row.targets}, which is no address of that network."
                yield CheckResult(text, (Proof(row.text, row.origin),), (str(row.targets),))


@check("perimeter.unused-label", Severity.LOW, source="design: a rule bound to a label that no guest carries")
def unused_label(context: Context) -> Iterator[CheckResult]:
    """A row of a perimeter is for guests with a label that no guest of the network carries: it decides about nobody."""
    for each in _around(context):
        assert context.estate is not None
        carried = context.estate.labels.get(each.network, frozenset())
        for row in each.rows:
            if row.label and row.label not in carried:
                text = f"A row of the perimeter of {each.network} is for the label {row.label}, which no guest there carries."
                yield CheckResult(text, (Proof(row.text, row.origin),), (row.label,))
