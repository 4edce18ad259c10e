"""sshd_config: parse, edit, render (sshd_config(5)).

Lossless: `render(parse(b)) == b`. Knows the grammar only: which file is read when, and which value wins, is
`readings/sshd.py` and `services/ssh/settings.py`. The splitting follows OpenSSH's own two splitters (measured against
sshd -T, 9.2): the keyword and the words of a Match line end at white space or one "=", all other words are split
with both kinds of quotes, backslashes and "#".
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

from nightlatch.formats import lines as text_lines
from nightlatch.formats.lines import LineEdit

_BLANK = " \t\r\n"
_STOP = re.compile(r'[ \t\r\n"=]')
_PLAIN = re.compile(r"[^ \t]+")
_ESCAPED = re.compile(r'["\'\\#]')


@dataclass(frozen=True, slots=True)
class Word:
    """One argument after quotes and escapes are taken off; `column` counts from 1 in the line as written."""

    text: str
    column: int


@dataclass(frozen=True, slots=True)
class Line:
    """One line. `keyword` is lower case, empty for blank lines and comments; `fault` says why sshd refuses the line.

    `rest` is what follows the keyword as written, without trailing white space.
    """

    number: int
    raw: bytes
    keyword: str = ""
    column: int = 0
    words: tuple[Word, ...] = ()
    rest: str = ""
    rest_column: int = 0
    fault: str = ""


@dataclass(frozen=True, slots=True)
class Document:
    """A whole file."""

    lines: tuple[Line, ...]

    def set(self, keyword: str, value: str, *, within: int = 0) -> Document:
        """The document in which `keyword` has `value` in one scope: 0 is the top, n the nth Match block of this file.

        The first line of that scope that sets it is changed; where there is none, a line is put in: at the top before
        the first line that counts, in a block after its last line. Doing it twice is doing it once.
        Raises ValueError when there is no such block.
        """
        edit = self.edit_for(keyword, value, within=within)
        return parse(text_lines.apply(render(self), [edit])) if edit else self

    def edit_for(self, keyword: str, value: str, *, within: int = 0) -> LineEdit | None:
        """The edit that `set` makes, or None when the scope has that value already."""
        scope = [line for line, block in self._scoped() if block == within]
        if within and not scope:
            raise ValueError(f"there is no Match block {within}")
        for line in scope:
            if line.keyword == keyword.lower():
                if line.rest.strip() == value:
                    return None
                return LineEdit(line.number, (rewritten(line, value),))
        if not within:
            first = next((line.number for line in self.lines if line.keyword), len(self.lines) + 1)
            return LineEdit(first, (f"{keyword} {value}",), insert=True)
        last = max(line.number for line in scope)
        return LineEdit(last + 1, (f"    {keyword} {value}",), insert=True)

    def _scoped(self) -> Iterator[tuple[Line, int]]:
        block = 0
        for line in self.lines:
            if line.keyword == "match":
                block += 1
            if line.keyword:
                yield line, block


def rewritten(line: Line, value: str) -> str:
    """The text of `line` with another value: indent, the keyword as written and the separator stay, a comment too."""
    text = text_lines.text_of(line.raw).rstrip(_BLANK + "\f")
    if not line.rest:
        return f"{text} {value}"
    comment = _trailing_comment(line, text)
    return text[: line.rest_column - 1] + value + comment


def _trailing_comment(line: Line, text: str) -> str:
    if not line.words or not text[line.rest_column - 1 :]:
        return ""
    last = line.words[-1]
    found = re.compile(r"[ \t]+#").search(text, last.column - 1 + len(last.text))
    return text[found.start() :] if found else ""


def render(document: Document) -> bytes:
    """The bytes of the file."""
    return b"".join(line.raw for line in document.lines)


@lru_cache(maxsize=2048)
def parse(raw: bytes) -> Document:
    """The document of any byte string; lines that sshd would refuse carry a `fault`."""
    return Document(tuple(_line(number, line) for number, line in enumerate(text_lines.split(raw), 1)))


def _line(number: int, raw: bytes) -> Line:
    if raw == b"\n":
        return Line(number, raw)
    text = text_lines.text_of(raw)
    body = text.rstrip(_BLANK + "\f")
    start = len(body) - len(body.lstrip(" \t\r"))
    if start == len(body) or body[start] == "#":
        return Line(number, raw)
    token = take(body, start)
    if token is None:
        # A lone quote: sshd finds no keyword and goes on with the next line.
        return Line(number, raw)
    keyword, rest_at = token
    column = start + 1
    if not keyword or keyword.startswith("#"):
        return Line(number, raw)
    rest = body[rest_at:]
    if not rest:
        return Line(number, raw, keyword.lower(), column, fault=f'no argument after keyword "{keyword}"')
    words = words_of(rest, rest_at)
    if words is None:
        return Line(number, raw, keyword.lower(), column, (), rest, rest_at + 1, "invalid quotes")
    return Line(number, raw, keyword.lower(), column, words, rest, rest_at + 1)


def take(text: str, at: int) -> tuple[str, int] | None:
    """The word that begins at `at`, and where the next one begins; None when a quote is not closed.

    Ends at white space or "=", of which one is skipped; a quoted part ends at its closing quote (misc.c, strdelim).
    """
    found = _STOP.search(text, at)
    if not found:
        return text[at:], len(text)
    stop = found.start()
    if text[stop] == '"':
        close = text.find('"', stop + 1)
        if close < 0:
            return None
        return text[at:stop] + text[stop + 1 : close], _skip(text, close + 1)
    equals = text[stop] == "="
    after = _skip(text, stop + 1)
    if not equals and after < len(text) and text[after] == "=":
        after = _skip(text, after + 1)
    return text[at:stop], after


def _skip(text: str, at: int) -> int:
    while at < len(text) and text[at] in _BLANK:
        at += 1
    return at


def match_words(line: Line) -> list[Word] | None:
    """The words of a Match line, which sshd splits like keywords; an unclosed quote gives None."""
    out: list[Word] = []
    at = 0
    while at < len(line.rest):
        token = take(line.rest, at)
        if token is None:
            return None
        out.append(Word(token[0], line.rest_column + at))
        at = token[1]
    return out


def words_of(rest: str, offset: int = 0) -> tuple[Word, ...] | None:
    """The words of `rest` up to a comment, or None for an unclosed quote (misc.c, argv_split)."""
    if not _ESCAPED.search(rest):
        return tuple(Word(m[0], offset + m.start() + 1) for m in _PLAIN.finditer(rest))
    out: list[Word] = []
    at = 0
    while at < len(rest):
        if rest[at] in " \t":
            at += 1
            continue
        if rest[at] == "#":
            break
        word = _quoted_word(rest, at)
        if word is None:
            return None
        out.append(Word(word[0], offset + at + 1))
        at = word[1]
    return tuple(out)


def _quoted_word(rest: str, at: int) -> tuple[str, int] | None:
    chars: list[str] = []
    quote = ""
    while at < len(rest):
        char = rest[at]
        following = rest[at + 1 : at + 2]
        if char == "\\" and following and (following in "'\"\\" or (not quote and following == " ")):
            chars.append(following)
            at += 1
        elif not quote and char in " \t":
            break
        elif not quote and char in "\"'":
            quote = char
        elif char == quote:
            quote = ""
        else:
            chars.append(char)
        at += 1
    return None if quote else ("".join(chars), at)
