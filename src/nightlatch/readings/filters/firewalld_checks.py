"""What firewalld's own check of its configuration refuses, and rich rules that it leaves out with a warning (firewalld.zone(5),
firewalld.richlanguage(5); measured: firewall-offline-cmd --check-config, 1.3.3).

After a refusal it starts with other settings than the files say; so whatever is found here leaves the filter undecided. Names of
services, sets and types of ICMP are looked up elsewhere.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from nightlatch.formats.xml_tree import Element
from nightlatch.net.literal import AddressError, parse_network
from nightlatch.net.numbers import whole

Fault = tuple[str, Element]
TRANSPORTS = ("tcp", "udp", "sctp", "dccp")
TARGETS = ("ACCEPT", "DROP", "REJECT", "%%REJECT%%", "default", "CONTINUE")
NEEDED = {
    "service": ("name",),
    "port": ("port", "protocol"),
    "source-port": ("port", "protocol"),
    "protocol": ("value",),
    "forward-port": ("port", "protocol"),
    "interface": ("name",),
    "icmp-block": ("name",),
    "icmp-type": ("name",),
}
ACTIONS = ("accept", "reject", "drop", "mark")
LOGS = ("log", "nflog", "audit")
MATCHED = tuple(
    """
    service port protocol icmp-block icmp-type masquerade forward-port source-port tcp-mss-clamp
""".split()
)
FAMILIES = {"ipv4": 4, "ipv6": 6}
_PORT = re.compile(r"([0-9]{1,9}|[A-Za-z][A-Za-z0-9_.+-]{0,60})(?:-([0-9]{1,9}))?")
_PROTOCOL = re.compile(
    r"[0-9]{1,3}|ip|icmp|igmp|ggp|tcp|udp|gre|esp|ah|sctp|dccp|udplite|ipv6-icmp|icmpv6|ospf|pim|vrrp|ipip|ipencap|l2tp|egp|rdp"
)


def faults(root: Element) -> Iterator[Fault]:
    """What is refused or left out of a zone, a policy or a service."""
    target = root.get("target")
    if root.name in ("zone", "policy") and target and target not in TARGETS:
        yield f'"{target[:40]}" is no target', root
    for each in root.children:
        if each.name == "rule":
            yield from _rule(each)
        else:
            yield from _element(each)
        if each.name == "source" and each.get("address"):
            yield from _address(each, "")


def _element(each: Element) -> Iterator[Fault]:
    missing = [name for name in NEEDED.get(each.name, ()) if not each.get(name)]
    if missing:
        yield f"{each.name} has no {missing[0]}", each
    elif each.name in ("port", "source-port", "forward-port"):
        if not _is_port(each.get("port")):
            yield f'"{each.get("port")[:40]}" is no port', each
        if each.get("protocol") not in TRANSPORTS:
            yield f'"{each.get("protocol")[:40]}" is not one of {", ".join(TRANSPORTS)}', each
        if each.name == "forward-port" and not (each.get("to-port") or each.get("to-addr")):
            yield "a forward leads to no port and no address", each
        elif each.name == "forward-port" and each.get("to-port") and not _is_port(each.get("to-port")):
            yield f'"{each.get("to-port")[:40]}" is no port', each
    elif each.name == "protocol" and not _PROTOCOL.fullmatch(each.get("value")):
        yield f'"{each.get("value")[:40]}" is no protocol that is known here', each
    elif each.name == "interface" and (len(each.get("name")) > 15 or set(each.get("name")) & set("/ !*")):
        yield f'"{each.get("name")[:40]}" is no interface', each


def _is_port(text: str) -> bool:
    found = _PORT.fullmatch(text)
    if found is None:
        return False
    return all(number is None or not number[0].isdigit() or (whole(number) or 0) < 65536 for number in found.groups())


def _rule(rule: Element) -> Iterator[Fault]:
    """A rich rule; one of these makes firewalld go on without it."""
    family, priority = rule.get("family"), rule.get("priority", "0")
    actions = [each for each in rule.children if each.name in ACTIONS]
    matched = [each for each in rule.children if each.name in MATCHED]
    ends = [each for each in rule.children if each.name in ("source", "destination")]
    if family and family not in FAMILIES:
        yield f'"{family[:40]}" is no family', rule
    if not re.fullmatch(r"-?[0-9]{1,5}", priority) or not -32768 <= int(priority) <= 32767:
        yield f'"{priority[:40]}" is no priority from -32768 to 32767', rule
    if len(actions) > 1 or len(matched) > 1:
        yield "a rule has more than one action, or more than one thing that it is about", rule
    if not actions and not any(
        each.name in LOGS or each.name in ("masquerade", "icmp-block", "forward-port") for each in rule.children
    ):
        yield "a rule has no action and no log", rule
    if not matched and not ends and priority == "0":  # with a priority a rule may be about everything
        yield "a rule is about nothing: no service, port, source or destination", rule
    for each in matched:
        yield from _element(each)
    for each in ends:
        if each.get("address"):
            yield from _address(each, family)
            if not family:
                yield "a rule with an address needs a family", rule
    if any(each.name == "reject" and each.get("type") for each in actions) and not family:
        yield "a rule that rejects with a type needs a family", rule


def _address(each: Element, family: str) -> Iterator[Fault]:
    text = each.get("address")
    try:
        found = parse_network(text.partition("/")[0], mapped=True)  # what stands behind the slash is taken in many forms
    except AddressError:
        yield f'"{text[:60]}" is no address', each
        return
    if family in FAMILIES and (found.v6 if family == "ipv4" else found.v4):
        yield f"{text} is no address of {family}", each
