"""ifupdown's interfaces file: parse, render (interfaces(5)).

Lossless: `render(parse(b)) == b`. Which files are sourced and what an interface comes to is for the readings.
Not covered: `mapping` and `template` with scripts; they are kept, and told as unread by the readings.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

from nightlatch.formats import lines as text_lines

STANZAS = tuple(
    """
    iface mapping auto source source-directory source-dir no-auto-down no-scripts template rename allow-
""".split()
)
REPEATABLE = ("up", "down", "pre-up", "post-up", "pre-down", "post-down", "inherits")
FAMILIES = ("inet", "inet6", "ipx", "can")


@dataclass(frozen=True, slots=True)
class Word:
    """One word; `line` and `column` count from 1."""

    text: str
    line: int
    column: int


@dataclass(frozen=True, slots=True)
class Line:
    """One line, or several that backslashes join. `words` is empty for blank lines and comments."""

    number: int
    raw: bytes
    words: tuple[Word, ...] = ()
    rest: str = ""
    fault: str = ""

    @property
    def keyword(self) -> str:
        """The first word."""
        return self.words[0].text if self.words else ""

    @property
    def opens(self) -> bool:
        """Whether it begins a stanza (or is one)."""
        return self.keyword in STANZAS or self.keyword.startswith("allow-")


@dataclass(frozen=True, slots=True)
class Stanza:
    """An `iface` with its options, each a line whose first word is the option."""

    head: Line
    options: tuple[Line, ...]

    @property
    def name(self) -> str:
        """The interface."""
        return self.head.words[1].text if len(self.head.words) > 1 else ""

    @property
    def family(self) -> str:
        """inet or inet6; empty for one that only inherits."""
        return self.head.words[2].text if len(self.head.words) > 3 and self.head.words[2].text in FAMILIES else ""

    @property
    def method(self) -> str:
        """static, dhcp, manual, auto, loopback, ..."""
        return self.head.words[3].text if self.family else ""

    @property
    def inherits(self) -> tuple[str, ...]:
        """The stanzas it takes options from."""
        words = [word.text for word in self.head.words]
        return tuple(words[n + 1] for n in range(2, len(words) - 1) if words[n] == "inherits")

    def option(self, *names: str) -> Line | None:
        """The first option of one of these names."""
        return next((line for line in self.options if line.keyword in names), None)


@dataclass(frozen=True, slots=True)
class Document:
    """A whole file."""

    lines: tuple[Line, ...]

    def stanzas(self) -> Iterator[Stanza]:
        """Every `iface` in order."""
        head: Line | None = None
        options: list[Line] = []
        for line in self.lines:
            if not line.words:
                continue
            if line.opens:
                if head is not None:
                    yield Stanza(head, tuple(options))
                head, options = (line if line.keyword == "iface" else None), []
            elif head is not None:
                options.append(line)
        if head is not None:
            yield Stanza(head, tuple(options))

    def named(self, *keywords: str) -> Iterator[Line]:
        """The lines of one keyword."""
        for line in self.lines:
            if line.keyword in keywords:
                yield line


def render(document: Document) -> bytes:
    """The bytes of the file."""
    return b"".join(line.raw for line in document.lines)


@lru_cache(maxsize=1024)
def parse(raw: bytes) -> Document:
    """The document of any byte string; lines that ifup would refuse carry a `fault`."""
    return Document(tuple(_judged(_lines(text_lines.split(raw)))))


def _lines(raw_lines: list[bytes]) -> Iterator[Line]:
    held: list[bytes] = []
    start = 1
    for number, line in enumerate(raw_lines, 1):
        if not held:
            start = number
        held.append(line)
        text = line.rstrip(b"\n")
        comment = not held[1:] and text.lstrip().startswith(b"#")
        if text.endswith(b"\\") and not comment and number < len(raw_lines):
            continue
        yield _line(start, held)
        held = []


def _line(start: int, held: list[bytes]) -> Line:
    words: list[Word] = []
    joined: list[str] = []
    for number, raw in enumerate(held, start):
        text = text_lines.text_of(raw).rstrip("\n")
        if number < start + len(held) - 1:
            text = text[:-1]
        if number == start and text.lstrip().startswith("#"):
            return Line(start, b"".join(held))
        joined.append(text)
        at = 0
        for part in text.split():
            at = text.index(part, at)
            words.append(Word(part, number, at + 1))
            at += len(part)
    fault = "a carriage return at the end of the line; expected LF line ends" if b"\r" in b"".join(held) else ""
    rest = " ".join(joined).strip().partition(words[0].text)[2].strip() if words else ""
    return Line(start, b"".join(held), tuple(words), rest, fault if words else "")


def _judged(lines: Iterator[Line]) -> Iterator[Line]:
    """Faults that need the lines before: an option outside a stanza, one that stands twice."""
    inside = ""
    seen: dict[str, int] = {}
    for line in lines:
        fault = line.fault
        if line.words and not fault:
            if line.opens:
                inside, seen = line.keyword, {}
                fault = _head(line)
            elif inside in ("iface", "mapping", "template"):
                name = line.keyword
                if len(line.words) < 2:
                    fault = f'the option "{name}" has no value'
                elif name in seen and name not in REPEATABLE and inside == "iface":
                    fault = f'the option "{name}" stands twice in one stanza (first at line {seen[name]})'
                seen.setdefault(name, line.number)
            else:
                fault = f'"{line.keyword}" stands outside of any iface stanza'
        yield Line(line.number, line.raw, line.words, line.rest, fault)


def _head(line: Line) -> str:
    words = [word.text for word in line.words]
    if words[0] == "iface":
        if len(words) < 4 or (words[2] not in FAMILIES and words[2] != "inherits"):
            return "an iface without family and method; expected iface NAME inet static, or such"
    elif words[0] != "mapping" and len(words) < 2:
        return f"{words[0]} names nothing"
    return ""
