"""Parts of a match that every front end has: sources, targets, protocols, ports, interfaces. Each narrows a match, or says by
None that it can't hold any more.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import replace

from nightlatch.net.addresses import LOOPBACK, AddressSet
from nightlatch.net.literal import AddressError, parse_network
from nightlatch.net.ports import PortSet
from nightlatch.readings.filters.rules import STATES, Match, Redirect

Part = Callable[[Match], Match | None]

SERVICES = {
    "ftp": 21,
    "ssh": 22,
    "telnet": 23,
    "smtp": 25,
    "domain": 53,
    "bootps": 67,
    "bootpc": 68,
    "http": 80,
    "ntp": 123,
    "snmp": 161,
    "https": 443,
    "ipp": 631,
    "mdns": 5353,
    "ms-wbt-server": 3389,
    "postgresql": 5432,
    "http-alt": 8080,
}
# By number, and by the other name that some programs use (/etc/protocols).
PROTOCOL_NAMES = {
    "6": "tcp",
    "17": "udp",
    "1": "icmp",
    "58": "icmpv6",
    "ipv6-icmp": "icmpv6",
    "33": "dccp",
    "132": "sctp",
}
EPHEMERAL = PortSet.of([(1024, 65535)])  # what a caller's system picks from, at the widest


def port_number(text: str) -> int | None:
    """A port by number or by a service's name; None for what is not known."""
    if re.fullmatch(r"[0-9]{1,5}", text) and int(text) < 65536:
        return int(text)
    return SERVICES.get(text)


def of_source(match: Match, found: AddressSet) -> Match | None:
    kept = match.sources & found
    if not kept:
        return None
    # In full, for long lists of rules are narrowed one by one, and `replace` takes three times as long.
    return Match(
        kept,
        match.targets,
        match.protocols,
        match.ports,
        match.interfaces,
        match.but,
        match.astray,
        match.rewritten,
        match.states,
        match.opening,
        match.unread,
    )


def of_protocol(match: Match, names: Iterable[str]) -> Match | None:
    kept = frozenset(names) if match.protocols is None else match.protocols & frozenset(names)
    return replace(match, protocols=kept) if kept else None


def of_target(match: Match, found: AddressSet, family: AddressSet) -> Match | None:
    """Narrowed to packets to these addresses of the guest, which come from their own family."""
    kept = found if match.targets is None else match.targets & found
    narrowed = of_source(match, family)
    return replace(narrowed, targets=kept) if narrowed is not None and kept else None


def of_states(match: Match, names: Iterable[str], negated: bool = False) -> Match | None:
    """Narrowed to packets of connections in these states; those that no caller's connection has are left out."""
    found = STATES - frozenset(names) if negated else STATES & frozenset(names)
    kept = found if match.states is None else match.states & found
    return replace(match, states=None if kept == STATES else kept) if kept else None


def of_opening(match: Match, opening: bool) -> Match | None:
    """Narrowed to the packet that opens a connection, or to those that follow."""
    return replace(match, opening=opening) if match.opening in (None, opening) else None


def of_ports(match: Match, ports: PortSet) -> Match | None:
    kept = ports if match.ports is None else match.ports & ports
    return replace(match, ports=kept) if kept else None


def of_source_ports(match: Match, ports: PortSet, text: str) -> Match | None:
    """A caller's system picks it; what it can't pick anyway can't decide."""
    return unread(match, text) if EPHEMERAL - ports else match


def unread(match: Match, text: str) -> Match:
    """The match with a part that was not understood: it holds perhaps."""
    return replace(match, unread=(*match.unread, text))


def of_interface(match: Match, names: tuple[str, ...], negated: bool) -> Match | None:
    """The loopback is where only the guest's own calls come in; which other one a caller comes by is for the evaluation."""
    if "lo" in names:
        if negated and len(names) == 1:
            return of_source(match, ~LOOPBACK)
        if not negated and len(names) == 1:
            return of_source(match, LOOPBACK)
    if match.interfaces is not None:
        return replace(match, unread=(*match.unread, "a second interface"))
    return replace(match, interfaces=names, but=negated)


def onto_of(text: str) -> Redirect | None:
    """An address, a port behind a colon, or both; None for ranges and for any other text."""
    address, port = text, ""
    if text.startswith("["):
        address, _, port = text[1:].partition("]")
        port = port[1:]
    elif text.count(":") == 1:
        address, _, port = text.partition(":")
    elif text.isdigit():
        address, port = "", text
    try:
        target = parse_network(address, mapped=True) if address and "/" not in address else None
    except AddressError:
        return None
    number = port_number(port) if port else None
    if (port and number is None) or (target is None and number is None):
        return None
    return Redirect(target, number)
