"""Long lists of iptables rules that differ by one source alone: the rest of such a rule is read once, and known by its text.

Lists of addresses, as programs against guessing make them, are most of what is long. A rule with one plain `-s ADDRESS` is the
same rule without it, narrowed to that source: all parts of a match narrow it, in any order (measured: 10,000 such rules take a
third of the time).
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from nightlatch.formats.iptables_save import COUNTED, Line, Word
from nightlatch.origin import Origin
from nightlatch.readings.filters.iptables_options import RuleFault, begins
from nightlatch.readings.filters.iptables_rules import SetMembers, address_set, rule_of
from nightlatch.readings.filters.match_parts import of_source
from nightlatch.readings.filters.rules import Rule

SOURCE = ("-s", "--source", "--src")
MOST = 4096
UNKNOWN = "\ufffd"
ADDRESS = re.compile(r"[0-9a-fA-F.:]+(?:/[0-9]+)?")


@dataclass(frozen=True, slots=True)
class Shape:
    """A rule without its source, with the keys of its chain and of the chain that it leads to (empty for none)."""

    rule: Rule
    chain: str
    to: str


class Shapes:
    """Rules without their source, by the text around it."""

    def __init__(self, sets: Mapping[str, SetMembers]) -> None:
        self.sets = sets
        self.known: dict[tuple[str, str, str], Shape] = {}

    def note(self, table: str, line: Line, words: Sequence[Word], hooked: str, chain: str, to: str) -> None:
        """Remember the shape of a rule that was just read from these words, where it has one plain source."""
        texts = [word.text for word in words]
        at = texts.index("-s") if "-s" in texts else -1
        before, source, after, column = _around_source(line.text)
        # The text's first ` -s ` has to be that word, and bytes that are no UTF-8 all look alike in the text.
        if at < 0 or not _is_plain(texts, at) or words[at].column != column or UNKNOWN in before + after:
            return
        if texts[at + 1] != source or not before.startswith("-A "):
            return
        try:
            rule, _ = rule_of([*words[:at], *words[at + 2 :]], Origin(""), "", table, hooked, self.sets)
        except RuleFault:
            return
        if len(self.known) >= MOST:
            self.known.clear()
        self.known[(table, before, after)] = Shape(replace(rule, to=to), chain, to)

    def like(self, table: str, line: Line, origin: Origin) -> tuple[Rule, Shape] | None:
        """The rule of a line that differs by its source from one that was noted, and its shape; None for any other line."""
        text = line.text
        before, source, after, _ = _around_source(text)
        shape = self.known.get((table, before, after))
        found = address_set(source, table.partition(" ")[0]) if shape is not None and ADDRESS.fullmatch(source) else None
        if shape is None or found is None:
            return None
        rule = shape.rule
        matches = tuple(kept for match in rule.matches if (kept := of_source(match, found)) is not None)
        return Rule(matches, rule.does, origin, text, rule.to, rule.onto), shape


def _around_source(text: str) -> tuple[str, str, str, int]:
    """The text before the first ` -s ` without counters, the word behind it, the rest, and the column of that `-s`; the word is
    empty where there is none."""
    counted = COUNTED.match(text)
    start = counted.end() if counted else 0
    before, _, rest = text[start:].partition(" -s ")
    source, _, after = rest.partition(" ")
    return before, source, after, start + len(before) + 2


def _is_plain(texts: list[str], at: int) -> bool:
    """Whether an option has one address, is not negated, and stands there once."""
    if at + 1 >= len(texts) or (at and texts[at - 1] == "!") or "," in texts[at + 1] or begins(texts[at + 1]):
        return False
    ends = at + 2 == len(texts) or texts[at + 2] == "!" or begins(texts[at + 2])
    return ends and sum(texts.count(name) for name in SOURCE) == 1
