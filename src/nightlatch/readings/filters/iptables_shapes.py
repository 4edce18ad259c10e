"""Long lists of iptables rules that differ by one source alone: what the rest of such a rule says is read once.

Lists of addresses, as programs against guessing make them, are most of what is long. A rule with one plain `-s ADDRESS` is the
same rule without it, narrowed to that source: all parts of a match narrow it, in whichever order (measured: 10,000 such rules
take half the time).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from nightlatch.formats.iptables_save import Word
from nightlatch.origin import Origin
from nightlatch.readings.filters.iptables_options import RuleFault, begins
from nightlatch.readings.filters.iptables_rules import SetMembers, address_set, rule_of
from nightlatch.readings.filters.match_parts import of_source
from nightlatch.readings.filters.rules import Rule

SOURCE = ("-s", "--source", "--src")
MOST = 4096


class Shapes:
    """Rules without their source, as they were read in this text."""

    def __init__(self, sets: Mapping[str, SetMembers]) -> None:
        self.sets = sets
        self.known: dict[tuple[str, ...], tuple[Rule, str] | None] = {}

    def rule_of(self, words: Sequence[Word], origin: Origin, text: str, table: str, hooked: str) -> tuple[Rule, str]:
        """The same as readings/filters/iptables_rules.py has it. Raises RuleFault."""
        texts = [word.text for word in words]
        at = next((texts.index(name) for name in SOURCE if name in texts), -1)
        shape = self.shape(words, texts, at, table, hooked) if at >= 0 and _is_plain(texts, at) else None
        found = address_set(texts[at + 1], table.partition(" ")[0]) if shape is not None else None
        if shape is None or found is None:
            return rule_of(words, origin, text, table, hooked, self.sets)
        rule, to = shape
        matches = tuple(kept for match in rule.matches if (kept := of_source(match, found)) is not None)
        return Rule(matches, rule.does, origin, text, onto=rule.onto), to

    def shape(self, words: Sequence[Word], texts: list[str], at: int, table: str, hooked: str) -> tuple[Rule, str] | None:
        """The rule without its source; None where even that is refused, so that the whole one has to say why."""
        key = (table, hooked, *texts[:at], "", *texts[at + 2 :])
        if key not in self.known:
            if len(self.known) >= MOST:
                self.known.clear()
            try:
                rest = [*words[:at], *words[at + 2 :]]
                self.known[key] = rule_of(rest, Origin(""), "", table, hooked, self.sets)
            except RuleFault:
                self.known[key] = None
        return self.known[key]


def _is_plain(texts: list[str], at: int) -> bool:
    """Whether an option has one address, is not negated, and stands there once."""
    if at + 1 >= len(texts) or (at and texts[at - 1] == "!") or "," in texts[at + 1] or begins(texts[at + 1]):
        return False
    ends = at + 2 == len(texts) or texts[at + 2] == "!" or begins(texts[at + 2])
    return ends and sum(texts.count(name) for name in SOURCE) == 1
