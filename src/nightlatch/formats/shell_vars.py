"""Files of KEY=value lines as a shell reads them: interface files of the RPM family, os-release(5), defaults files.

Lossless: `render(parse(b)) == b`. Nothing is expanded: a value with $ or a backquote carries a fault and is not known.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property, lru_cache

from nightlatch.formats import lines as text_lines
from nightlatch.formats.lines import LineEdit

_KEY = re.compile(r"[ \t]*(?:export[ \t]+)?([A-Za-z_][A-Za-z0-9_]*)=")


@dataclass(frozen=True, slots=True)
class Line:
    """One line. `key` is empty for blank lines and comments; `column` is where the value begins."""

    number: int
    raw: bytes
    key: str = ""
    value: str = ""
    column: int = 0
    fault: str = ""


@dataclass(frozen=True)
class Document:
    """A whole file."""

    lines: tuple[Line, ...]

    @cached_property
    def _last(self) -> dict[str, Line]:
        return {line.key: line for line in self.lines if line.key}

    def last(self, key: str) -> Line | None:
        """The assignment that counts: the last one."""
        return self._last.get(key)

    def value(self, key: str) -> str:
        """The value that counts, empty where there is none or it is not known."""
        line = self.last(key)
        return line.value if line is not None and not line.fault else ""

    @property
    def faults(self) -> tuple[Line, ...]:
        """The lines that are wrong."""
        return tuple(line for line in self.lines if line.fault)

    def set(self, key: str, value: str) -> Document:
        """The document in which `key` has `value`: the assignment that counts is changed, or a line is added at the end.

        Doing it twice is doing it once. Raises ValueError for a text that would need quoting rules of its own, and for a file
        whose line ends are CRLF: a shell takes the CR for a part of each value.
        """
        if any(line.raw.endswith(b"\r\n") for line in self.lines):
            raise ValueError("the file has CRLF line ends; expected LF")
        if re.search(r"[^A-Za-z0-9._:/@,+ -]", value):
            raise ValueError(f"{value!r} can't be written plainly")
        found = self.last(key)
        if found is not None and found.value == value and not found.fault:
            return self
        written = f'{key}="{value}"' if " " in value or not value else f"{key}={value}"
        raw = render(self)
        if found is not None:
            return parse(text_lines.apply(raw, [LineEdit(found.number, (written,))]))
        end = len(text_lines.split(raw)) + 1
        return parse(text_lines.apply(raw, [LineEdit(end, (written,), insert=True)]))


def render(document: Document) -> bytes:
    """The bytes of the file."""
    return b"".join(line.raw for line in document.lines)


@lru_cache(maxsize=1024)
def parse(raw: bytes) -> Document:
    """The document of any byte string."""
    return Document(tuple(_lines(raw)))


def _lines(raw: bytes) -> Iterator[Line]:
    for number, line in enumerate(text_lines.split(raw), 1):
        if line == b"\n":
            yield Line(number, line)
            continue
        text = text_lines.text_of(line).rstrip("\n")
        body = text.strip()
        if not body or body.startswith("#"):
            yield Line(number, line)
            continue
        found = _KEY.match(text)
        if found is None:
            yield Line(number, line, fault=f'"{body[:40]}" is no assignment; expected KEY=value')
            continue
        value, fault = unquoted(text[found.end() :])
        yield Line(number, line, found[1], value, found.end() + 1, fault)


def unquoted(text: str) -> tuple[str, str]:
    """A word as a shell takes it, and what is wrong with it (sh(1), 2.2 Quoting)."""
    out: list[str] = []
    at, quote = 0, ""
    while at < len(text):
        char = text[at]
        if char == "\\" and quote != "'" and at + 1 < len(text):
            if quote and text[at + 1] not in '$`"\\':
                out.append(char)
            out.append(text[at + 1])
            at += 2
            continue
        if char in "$`" and quote != "'":
            return "", "a value that a shell would work out; it is not known from the file"
        if not quote and char in " \t\r;":
            rest = text[at:].strip()
            if char == "\r" and not rest:
                return "".join(out), "a carriage return at the end of the line; expected LF line ends"
            return "".join(out), "" if not rest or rest.startswith("#") else f'"{rest[:20]}" behind the value'
        if char in "'\"" and (not quote or char == quote):
            quote = "" if quote else char
        else:
            out.append(char)
        at += 1
    return "".join(out), "a quote that is not closed" if quote else ""
