"""The administrator's own rules that come after a gate, and no longer decide about callers that the gate lets in.

A gate stands first, for a drop by source before the line for established connections would end its callers' sessions
(draft/gates.py). Drops of invalid packets, limits of rates and lines that log stand behind it then, and the reader of the draft
is told each of them.
"""

from __future__ import annotations

import re

from nightlatch.audit.findings import Proof
from nightlatch.draft.gates import OWN, Gate, GateOpening
from nightlatch.model.rules import RuleAction
from nightlatch.readings.filters.rules import Match, Rule, Rules

# Words of nft(8) and iptables-extensions(8) for what depends on more than address and port, or only notes a packet.
_CONDITION = re.compile(
    r"limit|recent|quota|meter|ct count|(?i:invalid)|\blog\b|\bLOG\b|NFLOG|update @|add @|set @|flags|--syn|statistic|random"
    r"|queue|NFQUEUE|\bhour\b|\bday\b|-m time|osf|string|length"
)
_PORTS = re.compile(r"dports?\s+(\{[^}]{0,400}\}|[^\s{}]{1,400})")
_PART = re.compile(r"([0-9]{1,5}|[a-z][a-z0-9-]{0,20})(?:[:-]([0-9]{1,5}))?")
MOST = 40


def overtaken(rules: Rules, gate: Gate, chains: tuple[str, ...], path: str = "") -> tuple[Proof, ...]:
    """The rules behind the gate in these chains that act on packets of its callers to its ports; with `path`, of that file."""
    found: dict[Proof, None] = {}
    for key in chains:
        for rule in rules.reached(key, OWN):
            mine = rule.origin.path == path if path else True
            if mine and len(found) < MOST and _acts(rule) and _is_met(rule, gate):
                found[Proof(rule.text, rule.origin)] = None
    return tuple(found)


def _acts(rule: Rule) -> bool:
    """Whether it keeps out, limits or notes what the gate lets in before it."""
    return rule.does not in (RuleAction.RETURN, RuleAction.REWRITE) and _CONDITION.search(rule.text) is not None


def _is_met(rule: Rule, gate: Gate) -> bool:
    """Whether packets of the gate's callers to its ports meet the rule; of one that a first packet never meets only the ports in
    its words are known."""
    if rule.matches:
        return any(_meets(match, gate) for match in rule.matches)
    named = [_PART.findall(words) for words in _PORTS.findall(rule.text)]
    return all(any(_holds(part, gate) for part in parts) for parts in named)


def _holds(part: tuple[str, str], gate: Gate) -> bool:
    first, last = part[0], part[1] or part[0]
    if not first.isascii() or not first.isdigit() or not last.isdigit():
        return first == "ssh" and 22 in gate.ports
    return any(int(first) <= port <= int(last) for port in gate.ports)


def _meets(match: Match, gate: Gate) -> bool:
    if match.protocols is not None and "tcp" not in match.protocols:
        return False
    if match.interfaces == ("lo",) and not match.but:
        return False
    if match.states is not None and match.states == frozenset(("established",)):
        return False
    return any(_is_meant(match, door) for door in gate.doors)


def _is_meant(match: Match, door: GateOpening) -> bool:
    to_it = match.ports is None or any(port in match.ports for port in door.ports)
    return to_it and bool(match.sources & door.sources)
