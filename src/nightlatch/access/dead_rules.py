"""Rules of a filter that never decide anything, because an earlier rule of the same chain matches everything that they match.

Only what is plain is told: the earlier rule matches surely, at any rate, whatever the state of a connection, and for every
kind of address. Rules are held against those before them that are alike, and against the few that leave out nobody of a
family, so the cost grows with their number.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

from nightlatch.model.rules import RuleAction
from nightlatch.net.addresses import ALL_V4, ALL_V6
from nightlatch.readings.filters.rules import Chain, Match, Rule, Rules

DECIDING = (RuleAction.ACCEPT, RuleAction.DROP, RuleAction.REJECT)
ENDING = (*DECIDING, RuleAction.RETURN, RuleAction.GOTO)
# What the common form takes for granted of a first packet, and may not hold for another; and what it leaves out of rules that are
# not about ports: two rules for types of ICMP look alike there.
_CONDITIONS = re.compile(
    r"limit|quota|meter|recent|statistic|ct |--ctstate|--state|--syn|flags|addrtype|fib |pkttype|time|update|add @|random|numgen"
    r"|\b(?:type|code|icmp-type|icmpv6-type|hl-eq|hl-lt|hl-gt|ttl|hoplimit|sport|source-port|sports|length|mark|owner|skuid|skgid"
    r"|mac|mac-source|ether|dscp|tos|helper|socket|cgroup|header|frag|rt|ah|esp|hour|day|string|u32|policy)\b"
)
MOST_WIDE = 32


@dataclass(frozen=True, slots=True)
class DeadRule:
    """A rule, and the one before it that decides in its place."""

    rule: Rule
    by: Rule

    @property
    def contradicts(self) -> bool:
        """Whether the two rules contradict each other: one lets in callers that the other means to keep out."""
        return (self.rule.does is RuleAction.ACCEPT) != (self.by.does is RuleAction.ACCEPT)


@lru_cache(maxsize=16)
def dead_rules(rules: Rules) -> tuple[DeadRule, ...]:
    """The dead rules of all chains, in order."""
    return tuple(each for chain in rules.chains.values() for each in _of_chain(chain))


def _of_chain(chain: Chain) -> Iterator[DeadRule]:
    alike: dict[tuple[Match, ...], Rule] = {}
    wide: list[Rule] = []
    for rule in chain.rules:
        if not rule.matches:
            continue
        if rule.does in DECIDING:
            by = alike.get(rule.matches) or next((each for each in wide if _covers(each, rule)), None)
            if by is not None:
                yield DeadRule(rule, by)
                continue
        if rule.does in ENDING and _is_plain(rule):
            alike.setdefault(rule.matches, rule)
            if len(wide) < MOST_WIDE and any(_is_wide(match) for match in rule.matches):
                wide.append(rule)


def _is_plain(rule: Rule) -> bool:
    if any(match.unread or match.astray or match.rewritten is not None for match in rule.matches):
        return False
    return not _CONDITIONS.search(rule.text)


def _is_wide(match: Match) -> bool:
    return match.sources >= ALL_V4 or match.sources >= ALL_V6


def _covers(earlier: Rule, rule: Rule) -> bool:
    return all(any(_within(match, whole) for whole in earlier.matches) for match in rule.matches)


def _within(match: Match, whole: Match) -> bool:
    if whole.protocols is not None and (match.protocols is None or not match.protocols <= whole.protocols):
        return False
    if whole.ports is not None and (match.ports is None or match.ports - whole.ports):
        return False
    if whole.targets is not None and (match.targets is None or not match.targets <= whole.targets):
        return False
    if whole.interfaces is not None and (match.interfaces, match.but) != (whole.interfaces, whole.but):
        return False
    if whole.states is not None and (match.states is None or not match.states <= whole.states):
        return False
    if whole.opening not in (None, match.opening):
        return False
    return match.sources <= whole.sources
