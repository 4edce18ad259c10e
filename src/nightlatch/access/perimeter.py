"""The filters outside a guest in the common form of rules: those between its network and callers from elsewhere.

Callers on the same network pass none of them. A row with a label is for guests that carry it. What a perimeter says is as old
as its table, or only claimed; its chain's name says which.
"""

from __future__ import annotations

from ipaddress import ip_network

from nightlatch.estate.model import NetworkSpec, Perimeter, PerimeterRow
from nightlatch.model.rules import Layer, RuleAction
from nightlatch.net.addresses import ALL_V4, ALL_V6, AddressSet, prefix, union
from nightlatch.readings.filters.rules import Chain, Match, Rule, Rules


def title(perimeter: Perimeter) -> str:
    """The title of a perimeter: its name, and the day of its table or that it is claimed."""
    if perimeter.taken is None:
        return f"the perimeter of {perimeter.network}, as claimed,"
    return f"the perimeter of {perimeter.network} ({perimeter.path.rpartition('/')[2]}, taken {perimeter.taken})"


def rules_of(network: NetworkSpec, perimeter: Perimeter, labels: frozenset[str], *, near: bool = True) -> Rules:
    """A perimeter as it counts for a guest with these labels; who is `near`, on the same network, does not meet it."""
    same = Rule((Match(_subnets(network)),), RuleAction.ACCEPT, network.origin, "on the same network")
    rules = [same] if near else []
    for row in perimeter.rows:
        if row.label and row.label not in labels:
            continue
        does = RuleAction.ACCEPT if row.lets else RuleAction.DROP
        rules.append(Rule(_matches(row), does, row.origin, row.text))
    rules.append(Rule((Match(),), RuleAction.DROP, perimeter.origin, "no row lets it in"))
    key = title(perimeter)
    return Rules({key: Chain(key, tuple(rules), perimeter.origin, "prerouting")}, layer=Layer.PERIMETER)


def _matches(row: PerimeterRow) -> tuple[Match, ...]:
    """One for each family, as a packet's two addresses are of one."""
    if row.targets is None:
        return (Match(row.sources, None, row.protocols, row.ports),)
    return tuple(
        Match(row.sources & whole, row.targets & whole, row.protocols, row.ports)
        for whole in (ALL_V4, ALL_V6)
        if row.sources & whole and row.targets & whole
    )


def _subnets(network: NetworkSpec) -> AddressSet:
    found = []
    for each in network.subnets:
        subnet = ip_network(each)
        found.append(prefix(subnet.version, int(subnet.network_address), subnet.prefixlen))
    return union(found)
