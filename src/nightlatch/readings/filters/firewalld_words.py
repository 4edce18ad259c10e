"""What zones and policies of firewalld hold, in the words of nftables (firewalld.zone(5), firewalld.richlanguage(5))."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field

from nightlatch.formats.xml_tree import Element

Service = Callable[[str], Element | None]
Line = tuple[str, Element]
# What a zone holds that decides nothing about a first packet of TCP or UDP.
ASIDE = frozenset(
    """
    short description forward masquerade icmp-block icmp-block-inversion source interface ingress-zone
    egress-zone version
""".split()
)
ACTIONS = ("accept", "drop", "reject", "mark")
LOGS = ("log", "nflog", "audit")
MOST_INCLUDED = 64
_PLAIN = re.compile(r"[\w.:/*@+-]{1,64}")
_REJECTS = {
    "icmp-port-unreachable": "icmp port-unreachable",
    "port-unreach": "icmp port-unreachable",
    "icmp-host-prohibited": "icmp host-prohibited",
    "host-prohib": "icmp host-prohibited",
    "icmp-admin-prohibited": "icmp admin-prohibited",
    "admin-prohib": "icmp admin-prohibited",
    "icmp-net-unreachable": "icmp net-unreachable",
    "icmp-host-unreachable": "icmp host-unreachable",
    "icmp-proto-unreachable": "icmp prot-unreachable",
    "icmp-net-prohibited": "icmp net-prohibited",
    "icmp6-adm-prohibited": "icmpv6 admin-prohibited",
    "icmp6-port-unreachable": "icmpv6 port-unreachable",
    "icmp6-no-route": "icmpv6 no-route",
    "icmp6-addr-unreachable": "icmpv6 addr-unreachable",
    "tcp-reset": "tcp reset",
    "tcp-rst": "tcp reset",
}


@dataclass
class ZoneRules:
    """Rules for the filter in order, those that send packets elsewhere, and what was not read."""

    filtering: list[Line] = field(default_factory=list)
    sending: list[Line] = field(default_factory=list)
    unread: list[tuple[str, Element]] = field(default_factory=list)


def plain(text: str) -> str:
    """A name or number as a rule may hold it; what could be more than one word becomes a name that matches nothing."""
    return text if _PLAIN.fullmatch(text) else "?"


def priority(root: Element, usual: int = 0) -> int:
    """A policy's or a rule's place; `usual` where it has none that is a number."""
    text = root.get("priority", "")
    return int(text) if re.fullmatch(r"-?\d{1,5}", text) else usual


def inward(policy: Element) -> frozenset[str]:
    """The zones from which packets to the guest itself are a policy's business; empty where none are."""
    if "HOST" not in {each.get("name") for each in policy.all("egress-zone")}:
        return frozenset()
    return frozenset(each.get("name") for each in policy.all("ingress-zone"))


def family_of_set(root: Element) -> str:
    """ip or ip6."""
    six = any(each.get("name") == "family" and each.get("value") == "inet6" for each in root.all("option"))
    return "ip6" if six else "ip"


def entries(root: Element) -> list[str] | None:
    """The members of a set of addresses; None for other kinds, and where they run out by time."""
    timed = any(each.get("name") == "timeout" and each.get("value") not in ("", "0") for each in root.all("option"))
    if root.get("type") not in ("hash:ip", "hash:net") or timed:
        return None
    found = [each.text for each in root.all("entry")]
    return found if all(_PLAIN.fullmatch(each) for each in found) else None


def source(element: Element, families: Mapping[str, str]) -> str | None:
    """`ip saddr 192.0.2.0/24` for a source of a zone or a rule; None for what is not read."""
    no = "!= " if element.get("invert").lower() in ("yes", "true") else ""
    address, mac, named = element.get("address"), element.get("mac"), element.get("ipset")
    if re.fullmatch(r"[0-9A-Fa-f]{2}(:[0-9A-Fa-f]{2}){5}", mac or address):
        return f"ether saddr {no}{mac or address}"
    if address.startswith("ipset:"):
        named, address = address[6:], ""
    if named:
        return f"{families[named]} saddr {no}@{named}" if named in families else None
    if not address or not _PLAIN.fullmatch(address):
        return None
    return f"{'ip6' if ':' in address else 'ip'} saddr {no}{address}"


def contents(root: Element, families: Mapping[str, str], service: Service) -> ZoneRules:
    """All rules of a zone or policy: rich rules with a priority below none, refusals, what is let in, rich rules above."""
    made = ZoneRules()
    rich = [(priority(each), number, each) for number, each in enumerate(root.all("rule"))]
    early = [each for rank, _, each in sorted(rich, key=lambda one: one[:2]) if rank < 0]
    late = [each for rank, _, each in sorted(rich, key=lambda one: one[:2]) if rank > 0]
    plain_rules = [each for rank, _, each in rich if rank == 0]
    refusing = [each for each in plain_rules if each.first("accept") is None]
    letting = [each for each in plain_rules if each.first("accept") is not None]
    for rule in (*early, *refusing):
        rich_rule(rule, families, service, made)
    for element in root.children:
        if element.name == "forward-port":
            _sent("meta nfproto ipv4", element, element, made)
        elif element.name != "rule" and element.name not in ASIDE:
            _element("", element, element, "accept", service, made)
    for rule in (*letting, *late):
        rich_rule(rule, families, service, made)
    return made


def rich_rule(rule: Element, families: Mapping[str, str], service: Service, made: ZoneRules) -> None:
    """One rule of the rich language: family, source, destination, one element, one action."""
    heads = []
    family = rule.get("family")
    if family in ("ipv4", "ipv6"):
        heads.append(f"meta nfproto {family}")
    for side in rule.all("source"):
        text = source(side, families)
        if text is None:
            made.unread.append(("this source of a rule is not read", side))
            return
        heads.append(text)
    for side in rule.all("destination"):
        text = source(side, families)
        if text is None:
            made.unread.append(("this destination of a rule is not read", side))
            return
        heads.append(text.replace(" saddr ", " daddr "))
    head = " ".join(heads)
    action = next((each for each in rule.children if each.name in ACTIONS), None)
    others = [each for each in rule.children if each.name not in ("source", "destination", *ACTIONS, *LOGS)]
    for each in others:
        if each.name == "forward-port":
            _sent(head, each, rule, made)
    if action is None or action.name == "mark":
        return
    verdict = _verdict(action)
    matching = [each for each in others if each.name != "forward-port"]
    if not others:
        made.filtering.append((f"{head} {verdict}".strip(), rule))
    for each in matching:
        _element(head, each, rule, verdict, service, made)


def _verdict(action: Element) -> str:
    limit = "limit rate 1/second " if action.first("limit") is not None else ""  # a caller's rate is not used up
    if action.name != "reject":
        return limit + action.name
    how = _REJECTS.get(action.get("type"), "")
    return f"{limit}reject{f' with {how}' if how else ''}"


def _element(head: str, element: Element, rule: Element, verdict: str, service: Service, made: ZoneRules) -> None:
    """What one element of a zone, policy, rule or service matches, with the verdict behind it."""
    if element.name == "service":
        found = list(_of_service(element.get("name"), service, set()))
        if None in found:
            made.unread.append((f'the service "{element.get("name")[:40]}" was not collected, or is not there', rule))
        for match in found:
            made.filtering += [(f"{head} {match} {verdict}".strip(), rule)] if match is not None else []
        return
    match = _match(element)
    if match is None:
        made.unread.append((f'"{element.name[:40]}" is not read', element))
    elif match:
        made.filtering.append((f"{head} {match} {verdict}".strip(), rule))


def _match(element: Element) -> str | None:
    """A port, protocol or source port as a match; empty for what is about ICMP; None for what is not read."""
    if element.name in ("icmp-type", "icmp-block", "masquerade"):
        return ""
    protocol = plain(element.get("protocol") or element.get("value"))
    if element.name == "protocol":
        return f"meta l4proto {protocol}"
    port = plain(element.get("port"))
    if element.name in ("port", "source-port") and not element.get("port"):
        return f"meta l4proto {protocol}"
    if element.name in ("port", "source-port"):
        return f"{protocol} {'dport' if element.name == 'port' else 'sport'} {port}"
    return None


def _of_service(name: str, service: Service, seen: set[str]) -> Iterator[str | None]:
    """The matches of a service, with those that it includes, each once; None stands for one that is not known."""
    if name in seen:
        return
    seen.add(name)
    root = service(name) if re.fullmatch(r"[A-Za-z0-9_-]{1,64}", name) and len(seen) <= MOST_INCLUDED else None
    if root is None:
        yield None
        return
    to = root.first("destination")
    heads = [""]
    if to is not None:
        heads = [f"{word} daddr {plain(to.get(kind))} " for word, kind in (("ip", "ipv4"), ("ip6", "ipv6")) if to.get(kind)]
    for element in root.children:
        if element.name == "include":
            yield from _of_service(element.get("service"), service, seen)
        elif element.name in ("port", "source-port", "protocol"):
            match = _match(element)
            for head in heads:
                yield f"{head}{match}"
        elif element.name not in ("short", "description", "destination", "module", "helper"):
            yield None


def _sent(head: str, element: Element, rule: Element, made: ZoneRules) -> None:
    """A forward: to another port of the guest, or to another address."""
    protocol, port = plain(element.get("protocol")), plain(element.get("port"))
    to, address = element.get("to-port"), element.get("to-addr")
    end = f"dnat to {plain(address)}{f':{plain(to)}' if to else ''}" if address else f"redirect to :{plain(to)}"
    made.sending.append((f"{head} {protocol} dport {port} {end}".strip(), rule))
