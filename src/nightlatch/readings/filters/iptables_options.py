"""The options of one rule of iptables, separated, each with its values (iptables(8))."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nightlatch.formats.iptables_save import Word
from nightlatch.readings.filters.iptables_words import LONG


class RuleFault(ValueError):
    """A rule that iptables-restore refuses, with all of its file; `column` counts from 1."""

    def __init__(self, message: str, column: int) -> None:
        super().__init__(message)
        self.column = column


@dataclass(frozen=True, slots=True)
class RuleOption:
    """An option with its values, as far as the next one."""

    name: str
    values: tuple[str, ...]
    negated: bool
    column: int

    @property
    def text(self) -> str:
        return " ".join((*(["!"] if self.negated else []), self.name, *self.values))

    @property
    def value(self) -> str:
        """The only value. Raises RuleFault where it is missing."""
        if not self.values:
            raise RuleFault(f"{self.name} has no value", self.column)
        return self.values[0]


def options(words: Sequence[Word]) -> list[RuleOption]:
    """Options of a rule in order. Raises RuleFault for a word that belongs to none."""
    out: list[RuleOption] = []
    at = 0
    while at < len(words):
        start = words[at].column
        negated = words[at].text == "!"
        at += negated
        name = words[at].text if at < len(words) else ""
        if not name.startswith("-") or len(name) < 2:
            raise RuleFault(f'"{name}" belongs to no option', start)
        end = at + 1
        while end < len(words) and words[end].text != "!" and not begins(words[end].text):
            end += 1
        out.append(RuleOption(LONG.get(name, name), tuple(word.text for word in words[at + 1 : end]), negated, start))
        at = end
    return out


def begins(text: str) -> bool:
    """Whether a word is an option's name."""
    return text.startswith("--") or (len(text) == 2 and text[0] == "-" and text[1].isalpha())
