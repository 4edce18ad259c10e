"""Files of sections with keys and values: parse, edit, render, in two dialects.

`UNIT` is systemd.syntax(7): comments begin with # or ;, a backslash at the end of a line joins the next one, keys may
repeat, an empty value empties a list. `KEYFILE` is what NetworkManager's profiles are written in
(nm-settings-keyfile(5), GKeyFile): comments begin with #, no joining, the last of two keys counts.

Lossless: `render(parse(b, dialect)) == b`. What a key means is for the readings.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import Enum
from functools import cached_property, lru_cache

from nightlatch.formats import lines as text_lines
from nightlatch.formats.lines import LineEdit


class Dialect(Enum):
    """Which rules a file follows."""

    UNIT = "systemd.syntax(7)"
    KEYFILE = "nm-settings-keyfile(5)"


@dataclass(frozen=True, slots=True)
class Line:
    """One line, or several that backslashes join: `raw` holds all its bytes, `number` is that of the first.

    `section` is the section it stands in; `key` is empty for headings, comments and blank lines. `column` is where the
    value begins (from 1), 0 where there is none. `fault` says why the owner of the file refuses or skips the line.
    """

    number: int
    raw: bytes
    section: str = ""
    key: str = ""
    value: str = ""
    column: int = 0
    fault: str = ""
    heading: bool = False


@dataclass(frozen=True)
class Document:
    """A whole file."""

    lines: tuple[Line, ...]
    dialect: Dialect

    def entries(self, *sections: str) -> Iterator[Line]:
        """The assignments of these sections in order."""
        for line in self.lines:
            if line.key and line.section in sections:
                yield line

    @cached_property
    def _last(self) -> dict[tuple[str, str], Line]:
        return {(line.section, line.key): line for line in self.lines if line.key}

    def last(self, section: str, key: str) -> Line | None:
        """The last assignment of a key."""
        return self._last.get((section, key))

    @property
    def faults(self) -> tuple[Line, ...]:
        """The lines that are wrong."""
        return tuple(line for line in self.lines if line.fault)

    def set(self, section: str, key: str, value: str) -> Document:
        """The document in which the key's last assignment is `value`; added at the end of its section, or with it.

        Doing it twice is doing it once. Raises ValueError for a text that can't be written on one line.
        """
        if "\n" in value or "\n" in key or "]" in section:
            raise ValueError("a value stands on one line")
        found = self.last(section, key)
        if found is not None and found.value == value:
            return self
        raw = render(self)
        if found is not None:
            text = text_lines.text_of(found.raw.split(b"\n")[0])
            head = text[: found.column - 1] if found.column else f"{key}="
            spare = found.raw.rstrip(b"\n").count(b"\n")
            edits = [LineEdit(found.number, (head + value,))]
            edits += [LineEdit(found.number + n, ()) for n in range(1, spare + 1)]
        else:
            inside = [line for line in self.lines if line.section == section and (line.key or line.heading)]
            if inside:
                end = inside[-1].number + inside[-1].raw.rstrip(b"\n").count(b"\n") + 1
                edits = [LineEdit(end, (f"{key}={value}",), insert=True)]
            else:
                end = len(text_lines.split(raw)) + 1
                blank = ("",) if raw.strip() else ()
                edits = [LineEdit(end, (*blank, f"[{section}]", f"{key}={value}"), insert=True)]
        return parse(text_lines.apply(raw, edits), self.dialect)


def render(document: Document) -> bytes:
    """The bytes of the file."""
    return b"".join(line.raw for line in document.lines)


@lru_cache(maxsize=2048)
def parse(raw: bytes, dialect: Dialect) -> Document:
    """The document of any byte string."""
    return Document(tuple(_lines(raw, dialect)), dialect)


def _lines(raw: bytes, dialect: Dialect) -> Iterator[Line]:
    section = ""
    for number, line in _logical(text_lines.split(raw), dialect):
        if line == [b"\n"]:
            yield Line(number, line[0], section)
            continue
        text = text_lines.text_of(line[0]).rstrip("\r\n")
        whole = b"".join(line)
        body = text.strip()
        comment = "#;" if dialect is Dialect.UNIT else "#"
        if not body or body[0] in comment:
            yield Line(number, whole, section)
        elif body.startswith("["):
            if body.endswith("]") and len(body) > 2:
                section = body[1:-1]
                yield Line(number, whole, section, heading=True)
            else:
                yield Line(number, whole, section, fault=f'"{body[:40]}" is no heading; expected [Name]')
        elif "=" not in body or body.startswith("="):
            yield Line(number, whole, section, fault=f'"{body[:40]}" is no assignment; expected Key=Value')
        elif not section:
            yield Line(number, whole, section, fault=f'"{body[:40]}" stands before any [Section]')
        else:
            key, value, column = _assignment(text, line, dialect)
            yield Line(number, whole, section, key, value, column)


def _assignment(text: str, line: list[bytes], dialect: Dialect) -> tuple[str, str, int]:
    at = text.index("=")
    key = text[:at].strip()
    rest = text[at + 1 :]
    column = at + 2 + len(rest) - len(rest.lstrip(" \t"))
    value = rest.strip()
    if len(line) > 1:
        parts = [rest, *(text_lines.text_of(each).rstrip("\r\n") for each in line[1:])]
        kept = [part for n, part in enumerate(parts) if n == 0 or not part.lstrip().startswith(("#", ";"))]
        joined = [part[:-1] if part.endswith("\\") else part for part in kept]
        value = " ".join(joined).strip()
    return key, value, column


def _logical(raw_lines: list[bytes], dialect: Dialect) -> Iterator[tuple[int, list[bytes]]]:
    """Lines that backslashes join, taken together; a comment between them is left out (systemd.syntax(7))."""
    held: list[bytes] = []
    start = 1
    for number, line in enumerate(raw_lines, 1):
        text = line.rstrip(b"\r\n")
        comment = text.lstrip()[:1] in (b"#", b";")
        if not held:
            start = number
        held.append(line)
        if dialect is Dialect.UNIT and (text.endswith(b"\\") if not comment else len(held) > 1):
            continue
        yield start, held
        held = []
    if held:
        yield start, held


def unescaped(value: str) -> str:
    """A keyfile's value with \\s, \\n, \\t, \\r and \\\\ resolved (GKeyFile)."""
    if "\\" not in value:
        return value
    out, at = [], 0
    words = {"s": " ", "n": "\n", "t": "\t", "r": "\r", "\\": "\\", ";": ";"}
    while at < len(value):
        pair = value[at : at + 2]
        if pair[:1] == "\\" and pair[1:] in words and len(pair) == 2:
            out.append(words[pair[1]])
            at += 2
        else:
            out.append(value[at])
            at += 1
    return "".join(out)


def listed(value: str) -> list[str]:
    """A keyfile's list, parted by semicolons (or commas, which NetworkManager takes for addresses)."""
    return [part.strip() for part in value.split(";") if part.strip()]
