"""Rule sets as iptables-save writes them and iptables-restore reads them: tables, chains, rules, each with its place
(iptables-restore(8), iptables-save(8)).

Lossless: render(parse(b)) == b. Grammar only: readings/filters/iptables.py says what a rule means. Words are taken apart as the
program does: blanks between them, double quotes around, a backslash before a sign inside quotes.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import Enum
from typing import NamedTuple

LONGEST_LINE = 64 * 1024
MOST_LINES = 400_000
_WORD = re.compile(r'(?:[^\s"\\]|\\.|"(?:[^"\\]|\\.)*")+')
_PLAIN = re.compile(r"[^\s\"\\]+")
_CHAIN = re.compile(r":(\S+)\s+(\S+)(?:\s+\[\d+:\d+\])?\s*")
COUNTED = re.compile(r"\[\d+:\d+\]\s*")  # packets and bytes in front of a rule


A_RULE = "a rule (-A CHAIN ...), a chain (:CHAIN ...) or COMMIT"


class LineKind(Enum):
    """The kind of a line."""

    EMPTY = "empty"
    COMMENT = "comment"
    TABLE = "table"
    CHAIN = "chain"
    RULE = "rule"
    COMMIT = "commit"
    FAULT = "fault"


class Word(NamedTuple):
    """One word with its column, without the quotes around it."""

    text: str
    column: int


@dataclass(frozen=True, slots=True)
class Line:
    """One line with all its bytes. `words` are a rule's; of a chain its name and policy, of a table its name; of a fault what
    was expected. `said` are these words, or None for a rule without quotes, whose words are parted when they are asked for."""

    number: int
    kind: LineKind
    raw: bytes
    said: tuple[Word, ...] | None = ()

    @property
    def words(self) -> tuple[Word, ...]:
        """The words with their columns."""
        return _plain_words(self.raw) if self.said is None else self.said

    @property
    def text(self) -> str:
        """The line for people: blanks around it left out."""
        return self.raw.decode("utf-8", "replace").strip()


@dataclass(frozen=True, slots=True)
class Document:
    """A whole text, line by line."""

    lines: tuple[Line, ...]

    def render(self) -> bytes:
        """The bytes that it was made from."""
        return b"".join(line.raw for line in self.lines)


def parse(raw: bytes) -> Document:
    """The lines of a text; whatever can't be read becomes a line of the kind FAULT."""
    lines: list[Line] = []
    inside = False
    for number, piece in enumerate(raw.splitlines(keepends=True) if b"\r" not in raw else _by_newline(raw), 1):
        line = _line(number, piece, inside) if number <= MOST_LINES else _fault(number, piece, "fewer lines")
        inside = line.kind is LineKind.TABLE or (inside and line.kind is not LineKind.COMMIT)
        lines.append(line)
    return Document(tuple(lines))


def _by_newline(raw: bytes) -> list[bytes]:
    """splitlines would also part at a carriage return, which ends no line here."""
    return re.findall(rb"[^\n]*\n|[^\n]+\Z", raw)


def _fault(number: int, raw: bytes, expected: str, column: int = 1) -> Line:
    return Line(number, LineKind.FAULT, raw, (Word(expected, column),))


def _line(number: int, raw: bytes, inside: bool) -> Line:
    if len(raw) > LONGEST_LINE:
        return _fault(number, raw, "a shorter line")
    text = raw.decode("utf-8", "surrogateescape")
    if text.startswith("#") or text == "\n":
        return Line(number, LineKind.COMMENT if text.startswith("#") else LineKind.EMPTY, raw)
    if text in (
        "COMMIT\n",
        "COMMIT",
    ):  # what stands behind it is no part of it; a last line needs no line end (measured: 1.8.9)
        return Line(number, LineKind.COMMIT, raw) if inside else _fault(number, raw, "a table before COMMIT")
    if text.startswith("*") and not inside:
        names = text[1:].split()
        return Line(number, LineKind.TABLE, raw, (Word(names[0], 2),)) if names else _fault(number, raw, "a table's name")
    if not inside:
        return _fault(number, raw, "a table (*filter) or a comment")
    if text.startswith(":"):
        found = _CHAIN.fullmatch(text)
        if not found:
            return _fault(number, raw, "a chain with its policy, such as :INPUT DROP [0:0]")
        return Line(number, LineKind.CHAIN, raw, (Word(found[1], 2), Word(found[2], found.start(2) + 1)))
    return _rule(number, raw, text)


def _rule(number: int, raw: bytes, text: str) -> Line:
    counted = COUNTED.match(text)
    at = counted.end() if counted else 0
    if '"' not in text and "\\" not in text:
        if text[at:].lstrip().startswith("-"):  # most of a long text is such rules
            return Line(number, LineKind.RULE, raw, None)
        return _fault(number, raw, A_RULE)
    words = []
    for found in _WORD.finditer(text, at):
        if text[at : found.start()].strip():
            return _fault(number, raw, "a closing quote", _behind(text, at))
        words.append(Word(_unquoted(found.group()), found.start() + 1))
        at = found.end()
    if text[at:].strip():
        return _fault(number, raw, "a closing quote", _behind(text, at))
    if not words or not words[0].text.startswith("-"):
        return _fault(number, raw, A_RULE)
    return Line(number, LineKind.RULE, raw, tuple(words))


def _plain_words(raw: bytes) -> tuple[Word, ...]:
    text = raw.decode("utf-8", "surrogateescape")
    counted = COUNTED.match(text)
    return tuple(Word(found[0], found.start() + 1) for found in _PLAIN.finditer(text, counted.end() if counted else 0))


def _behind(text: str, at: int) -> int:
    """The column of what comes next behind blanks."""
    return len(text) - len(text[at:].lstrip()) + 1


def _unquoted(text: str) -> str:
    return re.sub(r'\\(.)|"', lambda found: found[1] or "", text)
