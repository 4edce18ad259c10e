"""xrdp.ini and sesman.ini: parse, edit, render (xrdp.ini(5), sesman.ini(5); xrdp's own reader, measured: 0.9.21).

Lossless: `render(parse(b)) == b`. A line ends at LF or CR. `#` and `;` end a line's text wherever they stand. What then holds
a `[` and a `]` is a heading, whatever stands around it; all else is a key, with an empty value where it has no `=`. Names of
sections and keys count in any case. Of a section that is named twice the first counts; of a key that is set twice in it the
last, but for keys that make a list (`param`). What a key means is for the services.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property, lru_cache

from nightlatch.formats.lines import bytes_of, text_of

BLANKS = " \t\v\f"
_PIECES = re.compile(rb"[^\r\n]*[\r\n]|[^\r\n]+")
_TEXT_ENDS = re.compile(r"[#;\0]")
_HEADING = re.compile(r"\[(?P<name>[^\]]*)\]")
_TRUE = ("1", "true", "yes", "on")


@dataclass(frozen=True, slots=True)
class Line:
    """One line. `number` counts line feeds, from 1. `section` and `key` are in small letters; `section` is what it stands in,
    `column` where the value begins (from 1). `heading` says that it opens a section; `counts` is False in a section whose name
    was there before, and above the first."""

    number: int
    raw: bytes
    section: str = ""
    key: str = ""
    value: str = ""
    column: int = 0
    heading: bool = False
    counts: bool = True


@dataclass(frozen=True)
class Document:
    """A whole file."""

    lines: tuple[Line, ...]

    @cached_property
    def _entries(self) -> dict[tuple[str, str], list[Line]]:
        out: dict[tuple[str, str], list[Line]] = {}
        for line in self.lines:
            if line.key and line.counts:
                out.setdefault((line.section, line.key), []).append(line)
        return out

    @property
    def sections(self) -> tuple[Line, ...]:
        """The headings that count, in order."""
        return tuple(line for line in self.lines if line.heading and line.counts)

    def heading(self, section: str) -> Line | None:
        """The heading of a section, by its name in small letters."""
        return next((line for line in self.sections if line.section == section), None)

    def last(self, section: str, key: str) -> Line | None:
        """The line that decides a key; None where it is not set. Both in small letters."""
        found = self._entries.get((section, key))
        return found[-1] if found else None

    def every(self, section: str, key: str) -> tuple[Line, ...]:
        """All lines of a key, for those that make a list."""
        return tuple(self._entries.get((section, key), ()))

    def set(self, section: str, key: str, value: str) -> Document:
        """The document in which `key` of a section counts as `value`; both names as they are to be written.

        Doing it twice is doing it once. Raises ValueError for a text that can't stand on one line.
        """
        if re.search(r"[\n\r#;\0]|\[.*\]", value) or value.strip(BLANKS) != value or re.search(r"[\n\r#;=\[\]\0]", section + key):
            raise ValueError("the value can't be written on one line")
        found = self.last(section.lower(), key.lower())
        if found is not None and found.value == value and found.column:
            return self
        if found is not None:
            return self._replaced(self.lines.index(found), bytes_of(_rewritten(found, key, value)))
        opened, end = self.heading(section.lower()), self._line_end
        own = f"{key}={value}".encode("utf-8", "surrogateescape") + end
        if opened is None:
            raw = render(self)
            broken = end if raw and not raw.endswith((b"\n", b"\r")) else b""
            blank = end if raw.strip() else b""
            return parse(raw + broken + blank + f"[{section}]".encode() + end + own)
        inside = [line for line in self.lines if line.counts and line.section == opened.section and (line.key or line.heading)]
        at = self.lines.index(inside[-1])
        before = inside[-1].raw if inside[-1].raw.endswith((b"\n", b"\r")) else inside[-1].raw + end
        if before.endswith(b"\r") and at + 1 < len(self.lines) and self.lines[at + 1].raw == b"\n":
            at, before = at + 1, b"\n"
        return self._replaced(at, before + own)

    @property
    def _line_end(self) -> bytes:
        return b"\r\n" if b"\r\n" in render(self) else b"\n"

    def _replaced(self, at: int, raw: bytes) -> Document:
        pieces = [line.raw for line in self.lines]
        pieces[at] = raw
        return parse(b"".join(pieces))


def _rewritten(line: Line, key: str, value: str) -> str:
    """The line with another value; what stands before it and a remark behind it stay."""
    text = text_of(line.raw)
    whole = text.rstrip("\r\n")
    end = text[len(whole) :]
    cut = _TEXT_ENDS.search(whole)
    remark = whole[cut.start() :] if cut is not None else ""
    if not line.column:
        head = f"{whole[: cut.start()] if cut is not None else whole}".rstrip(BLANKS) + "="
        return head + value + (f" {remark}" if remark else "") + end
    head = whole[: line.column - 1]
    rest = whole[line.column - 1 + len(line.value) :]
    return head + value + (rest if remark else "") + end


def render(document: Document) -> bytes:
    """The bytes of the file."""
    return b"".join(line.raw for line in document.lines)


@lru_cache(maxsize=256)
def parse(raw: bytes) -> Document:
    """The document of any byte string."""
    return Document(tuple(_lines(raw)))


def _lines(raw: bytes) -> Iterator[Line]:
    section, counts, number = "", False, 1
    seen: set[str] = set()
    for piece in _PIECES.findall(raw):
        text = _TEXT_ENDS.split(text_of(piece).rstrip("\r\n"), maxsplit=1)[0]
        named = _HEADING.search(text)
        if named is not None:
            section = named["name"].lstrip("[").lower()
            counts = section not in seen
            seen.add(section)
            yield Line(number, piece, section, heading=True, counts=counts)
        else:
            yield _entry(number, piece, text, section, counts=counts)
        number += piece.endswith(b"\n")


def _entry(number: int, piece: bytes, text: str, section: str, *, counts: bool) -> Line:
    before, sign, after = text.partition("=")
    key = before.strip(BLANKS).lower()
    if not key:
        return Line(number, piece, section, counts=counts)
    column = len(before) + 2 + len(after) - len(after.lstrip(BLANKS)) if sign else 0
    return Line(number, piece, section, key, after.strip(BLANKS), column, counts=counts)


def is_true(value: str) -> bool:
    """Whether a value is one of those that mean yes; everything else means no (xrdp's g_text2bool)."""
    return value.lower() in _TRUE
