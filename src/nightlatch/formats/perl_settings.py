"""Settings written as assignments in Perl, as TigerVNC's wrappers read them: parse, edit, render (tigervnc.conf(5x), perlsyn(1)).

Perl is a language; what is no plain assignment of a word, a number or `undef` is kept as it is and told as not followed.
Lossless: `render(parse(b)) == b`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

from nightlatch.formats import lines as text_lines
from nightlatch.formats.lines import LineEdit

_ASSIGNMENT = re.compile(
    r"""[ \t]*(?:(?P<of>my|our)[ \t]+)?\$(?P<name>[A-Za-z_][A-Za-z0-9_]*)[ \t]*=[ \t]*
    (?:"(?P<double>[^"\\$@]*)"|'(?P<single>[^'\\]*)'|(?P<bare>-?[0-9]{1,9}|undef))[ \t]*;[ \t]*(?:\#.*)?""",
    re.VERBOSE,
)
_NOTHING = re.compile(r"[ \t]*(?:(?:use[ \t]+(?:strict|warnings)|[0-9]+)[ \t]*;)?[ \t]*(?:#.*)?")
PLAIN = re.compile(r"[^\"\\$@\n\r]*")  # what may stand between double quotes as it is


@dataclass(frozen=True, slots=True)
class Line:
    """One line; `name` is empty for what assigns nothing. A `value` of None is `undef`. `column` is where the value begins, from
    1. `unread` says that it is Perl that is not followed; a line of `my` assigns nothing that a wrapper sees."""

    number: int
    raw: bytes
    name: str = ""
    value: str | None = None
    column: int = 0
    unread: bool = False


@dataclass(frozen=True)
class Document:
    """A whole file."""

    lines: tuple[Line, ...]

    @property
    def assignments(self) -> Iterator[Line]:
        """The lines that assign something, in order."""
        return (line for line in self.lines if line.name)

    def last(self, name: str) -> Line | None:
        """The last assignment of a name, in its exact letters."""
        return next((line for line in reversed(self.lines) if line.name == name), None)

    @property
    def unread(self) -> Line | None:
        """The first line that is not followed."""
        return next((line for line in self.lines if line.unread), None)

    def set(self, name: str, value: str) -> Document:
        """The document in which the last assignment of the name is this text. Raises ValueError for a text that can't be quoted
        plainly."""
        if PLAIN.fullmatch(value) is None:
            raise ValueError("a value holds no quotes, backslashes, dollar or at signs")
        found = self.last(name)
        if found is not None and found.value == value:
            return self
        raw = render(self)
        if found is not None:
            edit = LineEdit(found.number, (_in_place(found, value),))
        else:
            end = next((line.number for line in reversed(self.lines) if _ends(line)), len(text_lines.split(raw)) + 1)
            edit = LineEdit(end, (f'${name} = "{value}";',), insert=True)
        return parse(text_lines.apply(raw, [edit]))


def _in_place(line: Line, value: str) -> str:
    """The text of a line with another value; a remark behind it stays."""
    text = _text(line.raw)
    found = _ASSIGNMENT.fullmatch(text)
    assert found is not None
    kind = next(each for each in ("double", "single", "bare") if found[each] is not None)
    begins, ends = found.span(kind)
    if kind == "single":
        begins, ends = begins - 1, ends + 1
    return text[:begins] + (value if kind == "double" else f'"{value}"') + text[ends:]


def _text(raw: bytes) -> str:
    return text_lines.text_of(raw).rstrip("\n").removesuffix("\r")


def _ends(line: Line) -> bool:
    """Whether a line is the value that a file of Perl ends with."""
    return text_lines.text_of(line.raw).strip() == "1;"


def render(document: Document) -> bytes:
    """The bytes of the file."""
    return b"".join(line.raw for line in document.lines)


@lru_cache(maxsize=256)
def parse(raw: bytes) -> Document:
    """The document of any byte string."""
    return Document(tuple(_lines(raw)))


def _lines(raw: bytes) -> Iterator[Line]:
    ended, mine = False, set[str]()
    for number, piece in enumerate(text_lines.split(raw), 1):
        text = _text(piece)
        ended = ended or text.strip() in ("__END__", "__DATA__")
        found = None if ended else _ASSIGNMENT.fullmatch(text)
        if found is None:
            yield Line(number, piece, unread=not ended and _NOTHING.fullmatch(text) is None)
            continue
        if found["of"] is not None:
            (mine.add if found["of"] == "my" else mine.discard)(found["name"])
        if found["name"] in mine:  # a variable of the file's own, which nobody else sees
            yield Line(number, piece)
            continue
        kind = next(each for each in ("double", "single", "bare") if found[each] is not None)
        value = None if found["bare"] == "undef" else found[kind]
        yield Line(number, piece, found["name"], value, found.start(kind) + 1)
