"""Long lists of iptables rules that differ by one source alone: what the rest of such a rule says is read once.

Lists of addresses, as programs against guessing make them, are most of what is long. A rule with one plain `-s ADDRESS` is the
same rule without it, narrowed to that source: all parts of a match narrow it, in whichever order (measured: 10,000 such rules
take half the time).
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from nightlatch.formats.iptables_save import Line, Word
from nightlatch.origin import Origin
from nightlatch.readings.filters.iptables_options import RuleFault, begins
from nightlatch.readings.filters.iptables_rules import SetMembers, address_set, rule_of
from nightlatch.readings.filters.match_parts import of_source
from nightlatch.readings.filters.rules import Rule

SOURCE = ("-s", "--source", "--src")
MOST = 4096
UNKNOWN = "\ufffd"
ADDRESS = re.compile(r"[0-9a-fA-F.:]+(?:/[0-9]+)?")
Place = tuple[str, str]  # the keys of the rule's chain and of the chain that it leads to, empty for none


class Shapes:
    """Rules without their source, as they were read in this text."""

    def __init__(self, sets: Mapping[str, SetMembers]) -> None:
        self.sets = sets
        self.known: dict[tuple[str, ...], tuple[Rule, str] | None] = {}
        self.texts: dict[tuple[str, str, str], tuple[Rule, Place]] = {}

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

    def note(self, table: str, line: Line, rest: Sequence[Word], hooked: str, place: Place) -> None:
        """Remember the text around the source of a rule that was just appended, where it has one plain source and no quotes."""
        texts = [word.text for word in rest]
        if line.said is not None or "-s" not in texts or not _is_plain(texts, texts.index("-s")):
            return
        shape = self.shape(rest, texts, texts.index("-s"), table, hooked)
        before, _, after = _around_source(line.text)
        # Bytes that are no UTF-8 all look alike in the text.
        if shape is not None and before.startswith("-A ") and UNKNOWN not in before + after:
            if len(self.texts) >= MOST:
                self.texts.clear()
            self.texts[(table, before, after)] = (shape[0], place)

    def as_before(self, table: str, line: Line, origin: Origin) -> tuple[Rule, Place] | None:
        """The rule of a line whose text was met with another source, and what was noted of that; None for any other line."""
        if line.said is not None:
            return None
        text = line.text
        before, source, after = _around_source(text)
        met = self.texts.get((table, before, after))
        found = address_set(source, table.partition(" ")[0]) if met is not None and ADDRESS.fullmatch(source) else None
        if met is None or found is None:
            return None
        rule, place = met
        matches = tuple(kept for match in rule.matches if (kept := of_source(match, found)) is not None)
        return Rule(matches, rule.does, origin, text, onto=rule.onto), place

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


def _around_source(text: str) -> tuple[str, str, str]:
    """The text before the first ` -s `, the word behind it, and the rest; the word is empty where there is none."""
    before, _, rest = text.partition(" -s ")
    source, _, after = rest.partition(" ")
    return before, source, after


def _is_plain(texts: list[str], at: int) -> bool:
    """Whether an option has one address, is not negated, and stands there once."""
    if at + 1 >= len(texts) or (at and texts[at - 1] == "!") or "," in texts[at + 1] or begins(texts[at + 1]):
        return False
    ends = at + 2 == len(texts) or texts[at + 2] == "!" or begins(texts[at + 2])
    return ends and sum(texts.count(name) for name in SOURCE) == 1
