"""Rule sets of nftables as text: words, groups in braces, statements and blocks, each with its place (nft(8)).

Grammar only: readings/filters/nftables.py says what a rule means. Read from files and from `nft list ruleset`; not edited yet,
so the bytes are not kept. Bounded: text beyond MOST_WORDS, or nested deeper than DEEPEST, raises NftFault.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

MOST_WORDS = 4_000_000
DEEPEST = 32
# Heads of statements whose braces hold more statements; all other braces hold a set's elements.
BLOCKS = ("table", "chain", "set", "map", "flowtable", "counter", "quota", "limit", "ct", "synproxy", "secmark")
COMMANDS = ("add", "create", "insert", "replace")
TOKEN = re.compile(
    r'(?P<string>"[^"\n]*")|(?P<comment>\#[^\n]*)|(?P<joined>\\\n)|(?P<end>[;\n])|(?P<open>\{)|(?P<close>\})|(?P<comma>,)'
    r"|(?P<sign>!=|==|<=|>=|[<>!=()|&^~])|(?P<space>[ \t\r]+)|(?P<word>[^\s{};,\"#=!<>()|&^~]+)|(?P<other>.)"
)


class NftFault(ValueError):
    """The text is no rule set; `line` and `column` count from 1."""

    def __init__(self, message: str, line: int, column: int) -> None:
        super().__init__(message)
        self.line, self.column = line, column


@dataclass(frozen=True, slots=True)
class Word:
    """One word, sign or text in quotes."""

    text: str
    line: int
    column: int
    quoted: bool = False


@dataclass(frozen=True, slots=True)
class BracedList:
    """What stands in braces, comma by comma: each element is a run of words and groups."""

    elements: tuple[tuple[Item, ...], ...]
    line: int
    column: int


Item = Word | BracedList


@dataclass(frozen=True, slots=True)
class Statement:
    """A run of items up to its end; `body` are the statements of a block, None where there is none."""

    items: tuple[Item, ...]
    body: tuple[Statement, ...] | None = None

    @property
    def line(self) -> int:
        """Where it begins."""
        return self.items[0].line if self.items else 0

    @property
    def words(self) -> tuple[str, ...]:
        """The texts of its words, groups left out."""
        return tuple(item.text for item in self.items if isinstance(item, Word))


@dataclass(frozen=True, slots=True)
class _Token:
    kind: str
    text: str
    line: int
    column: int


def parse(text: str) -> tuple[Statement, ...]:
    """The statements of a text. Raises NftFault."""
    return _Parser(text).statements(0)


def _tokens(text: str) -> Iterator[_Token]:
    line, start = 1, 0
    for count, found in enumerate(TOKEN.finditer(text)):
        kind = found.lastgroup or "other"
        column = found.start() - start + 1
        if count > MOST_WORDS:
            raise NftFault("the text is longer than is read", line, column)
        if kind == "other":
            raise NftFault(f"{found.group()!r} can't stand here", line, column)
        if kind not in ("space", "comment", "joined"):
            yield _Token(kind, found.group(), line, column)
        breaks = found.group().count("\n")
        if breaks:
            line, start = line + breaks, found.end()
    yield _Token("finish", "", line, 1)


class _Parser:
    def __init__(self, text: str) -> None:
        self.tokens = _tokens(text)
        self.now = next(self.tokens)

    def advance(self) -> _Token:
        was = self.now
        if was.kind != "finish":
            self.now = next(self.tokens)
        return was

    def statements(self, depth: int) -> tuple[Statement, ...]:
        if depth > DEEPEST:
            raise NftFault("blocks are nested too deeply", self.now.line, self.now.column)
        out: list[Statement] = []
        while True:
            while self.now.kind == "end":
                self.advance()
            if self.now.kind == "finish":
                if depth:
                    raise NftFault("a brace is not closed", self.now.line, self.now.column)
                return tuple(out)
            if self.now.kind == "close":
                if not depth:
                    raise NftFault("a brace is closed that was not opened", self.now.line, self.now.column)
                return tuple(out)
            out.append(self.statement(depth))

    def statement(self, depth: int) -> Statement:
        items: list[Item] = []
        while self.now.kind not in ("end", "finish", "close"):
            if self.now.kind == "open":
                if _is_block(items):
                    self.advance()
                    body = self.statements(depth + 1)
                    self.advance()
                    self.ended()
                    return Statement(tuple(items), body)
                items.append(self.group(depth + 1))
                continue
            token = self.advance()
            if token.kind == "comma":  # between the values of `ct state established,related`
                items.append(Word(",", token.line, token.column))
            else:
                items.append(_word(token))
        if not (items and isinstance(items[0], Word) and items[0].text == "elements"):  # the only one that needs no end
            self.ended()
        return Statement(tuple(items))

    def ended(self) -> None:
        """A statement ends with its line, or with a semicolon; nft refuses the whole text otherwise (measured: 1.0.6)."""
        if self.now.kind not in ("end", "finish"):
            raise NftFault("a line end or a semicolon is missing here", self.now.line, self.now.column)

    def group(self, depth: int) -> BracedList:
        opened = self.advance()
        if depth > DEEPEST:
            raise NftFault("braces are nested too deeply", opened.line, opened.column)
        elements: list[tuple[Item, ...]] = []
        current: list[Item] = []
        while self.now.kind != "close":
            if self.now.kind == "finish":
                raise NftFault("a brace is not closed", opened.line, opened.column)
            if self.now.kind == "open":
                current.append(self.group(depth + 1))
                continue
            token = self.advance()
            if token.kind == "comma":
                if current:
                    elements.append(tuple(current))
                current = []
            elif token.kind != "end":
                current.append(_word(token))
        self.advance()
        if current:
            elements.append(tuple(current))
        return BracedList(tuple(elements), opened.line, opened.column)


def _word(token: _Token) -> Word:
    quoted = token.kind == "string"
    return Word(token.text[1:-1] if quoted else token.text, token.line, token.column, quoted)


def _is_block(items: list[Item]) -> bool:
    """Whether braces behind these words hold statements: `table inet filter {`, `add chain x y {`, `set blocked {`."""
    words = [item.text for item in items if isinstance(item, Word)]
    if len(words) != len(items) or not words:
        return False
    head = words[1:] if words[0] in COMMANDS else words
    if not head or {"=", "rule"} & set(head) or (head[0] == "ct" and head[1:2] not in (["helper"], ["timeout"], ["expectation"])):
        return False
    return head[0] in BLOCKS


def text_of(item: Item) -> str:
    """A word's text; nothing for a group."""
    return item.text if isinstance(item, Word) else ""


def flat(items: Iterable[Item]) -> Iterator[Item]:
    """The items and those inside groups."""
    for item in items:
        yield item
        if isinstance(item, BracedList):
            for element in item.elements:
                yield from flat(element)


def shown(items: Iterable[Item]) -> str:
    """Items as a person would write them, in at most 300 letters."""
    out = []
    for item in items:
        if isinstance(item, BracedList):
            inside = ", ".join(shown(element) for element in item.elements[:8])
            out.append("{ " + inside + (", ..." if len(item.elements) > 8 else "") + " }")
        else:
            out.append(f'"{item.text}"' if item.quoted else item.text)
    return " ".join(out)[:300].replace(" ,", ",")
