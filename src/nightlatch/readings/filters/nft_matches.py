"""One comparison of an nftables rule as a part of a match (nft(8), PAYLOAD, META and CONNTRACK EXPRESSIONS).

Every function takes elements as the text has them and gives what narrows a match, or None for what is not read.
"""

from __future__ import annotations

from dataclasses import replace

from nightlatch.formats.nft import Item, text_of
from nightlatch.net.addresses import ALL_V4, ALL_V6, EVERY_ADDRESS, NO_ADDRESS, AddressSet, union
from nightlatch.net.literal import AddressError, parse_address, parse_network
from nightlatch.net.ports import PortSet
from nightlatch.readings.filters.match_parts import (
    PROTOCOL_NAMES,
    Part,
    of_interface,
    of_ports,
    of_protocol,
    of_source,
    of_source_ports,
    of_states,
    of_target,
    onto_of,
    port_number,
)
from nightlatch.readings.filters.rules import Match, Redirect

Elements = list[tuple[Item, ...]]


def single(head: str, elements: Elements, negated: bool) -> Part | None:
    """The part of a match that one comparison is; None where it is not read."""
    if head in ("ip saddr", "ip6 saddr", "ip daddr", "ip6 daddr"):
        family = ALL_V4 if head.startswith("ip ") else ALL_V6
        found = _addresses(elements)
        return None if found is None else _of_address(head, family, family - found if negated else family & found)
    if head.split()[-1] in ("dport", "sport") and head.split()[0] in ("tcp", "udp", "th", "sctp", "dccp", "udplite"):
        return _of_port(head, elements, negated)
    words = [" ".join(text_of(item) for item in element) for element in elements]
    if head in ("ip protocol", "ip6 nexthdr", "l4proto"):
        names = frozenset(PROTOCOL_NAMES.get(word, word) for word in words)
        family = ALL_V4 if head == "ip protocol" else ALL_V6 if head == "ip6 nexthdr" else EVERY_ADDRESS
        return lambda match: _by_name(match, names, negated, family)
    if head in ("nfproto", "protocol"):
        sets = [{"ipv4": ALL_V4, "ip": ALL_V4, "2": ALL_V4, "ipv6": ALL_V6, "ip6": ALL_V6, "10": ALL_V6}.get(w) for w in words]
        known = union(each for each in sets if each is not None)
        return None if None in sets else lambda match: of_source(match, ~known if negated else known)
    if head == "ct state":
        return lambda match: of_states(match, words, negated)
    if head == "ct status" and set(words) <= {"dnat", "snat", "assured", "seen-reply", "confirmed"}:
        if "dnat" in words:
            return lambda match: replace(match, rewritten=not negated) if match.rewritten in (None, not negated) else None
        return lambda match: match if negated else None
    if head in ("iif", "iifname"):
        return lambda match: of_interface(match, tuple(words), negated)
    if head == "pkttype":
        return lambda match: match if bool({"host", "unicast"} & set(words)) != negated else None
    if head.split()[0] in ("icmp", "icmpv6", "igmp", "esp", "ah", "comp"):
        return lambda match: of_protocol(match, {head.split()[0]})
    return None


def _addresses(elements: Elements) -> AddressSet | None:
    out = []
    for element in elements:
        text = text_of(element[0]) if element else ""
        try:
            low, mark, high = text.partition("-")
            if mark:
                first, last = parse_address(low, mapped=True), parse_address(high, mapped=True)
                ranges = ((int(first), int(last)),)
                out.append(AddressSet(v4=ranges) if first.version == 4 else AddressSet(v6=ranges))
            else:
                out.append(parse_network(text, mapped=True))  # bits behind the prefix: not known what the kernel makes of them
        except (AddressError, ValueError, TypeError):
            return None
    return union(out) if out else NO_ADDRESS


def _of_address(head: str, family: AddressSet, found: AddressSet) -> Part:
    if head.endswith("saddr"):
        return lambda match: of_source(match, found)

    return lambda match: of_target(match, found, family)


def _of_port(head: str, elements: Elements, negated: bool) -> Part | None:
    protocol, side = head.split()
    ranges = []
    for element in elements:
        low, mark, high = text_of(element[0]).partition("-") if element else ("", "", "")
        first, last = port_number(low), port_number(high) if mark else port_number(low)
        if first is None or last is None or first > last:
            return None
        ranges.append((first, last))
    ports = PortSet.of(ranges)
    ports = ~ports if negated else ports

    def part(match: Match) -> Match | None:
        narrowed = match if protocol == "th" else of_protocol(match, {protocol})
        if narrowed is None or not ports:
            return None
        return of_ports(narrowed, ports) if side == "dport" else of_source_ports(narrowed, ports, f"{head} {ports}")

    return part


def _by_name(match: Match, names: frozenset[str], negated: bool, family: AddressSet) -> Match | None:
    narrowed = of_source(match, family)
    if narrowed is None:
        return None
    others = frozenset(["tcp", "udp"]) - names
    return of_protocol(narrowed, others if negated else names)


def packets(texts: list[str], *, back: bool = False) -> tuple[bool, bool | None] | None:
    """Whether flags hold for the packet that opens a connection, and for those that follow (None: for some of them), or for
    answers, which all follow; None where they are not read (RFC 9293, 3.5)."""
    if back:
        found = {_flagged(texts, each) for each in ({"syn", "ack"}, {"ack"}, {"psh", "ack"})}
        same = found.pop() if len(found) == 1 else None
        return None if same is None else (same, same)
    first = _flagged(texts, {"syn"})
    if first is None:
        return None
    later = {_flagged(texts, {"ack"}), _flagged(texts, {"psh", "ack"})}
    return first, later.pop() if len(later) == 1 else None


def _flagged(texts: list[str], set_: set[str]) -> bool | None:
    names = {"fin", "syn", "rst", "psh", "ack", "urg", "ecn", "cwr"}
    words = [text for text in texts if text not in ("(", ")", "|", ",")]
    if "&" in words:
        at = words.index("&")
        rest = words[at + 1 :]
        sign = next((word for word in rest if word in ("==", "!=")), "")
        if not sign or at:
            return None
        mask, value = set(rest[: rest.index(sign)]), set(rest[rest.index(sign) + 1 :])
        value -= {"0", "0x0"}
    elif "/" in words:
        sign = words[0] if words[0] in ("==", "!=") else "=="
        plain = words[1:] if words[0] in ("==", "!=") else words
        value, mask = set(plain[: plain.index("/")]), set(plain[plain.index("/") + 1 :])
    elif words[:1] and words[0] in ("==", "!="):
        sign, value, mask = words[0], set(words[1:]), names
    else:
        return None if set(words) - names else bool(set_ & set(words))
    if (mask | value) - names:
        return None
    return ((set_ & mask) == value) == (sign == "==")


def sent_to(words: list[str]) -> Redirect | None:
    """Where `redirect to :2222` or `dnat to 192.0.2.7:22` sends a packet; None for ranges, maps and what is not read."""
    rest = [word for word in words[1:] if word not in ("ip", "ip6", "random", "fully-random", "persistent")]
    if not rest:
        return Redirect() if words[0] == "redirect" else None
    return onto_of(rest[1]) if rest[0] == "to" and len(rest) == 2 else None
