"""Lists beside the estate file: a CSV file with a row for each guest or person, for estates too large for YAML (RFC 4180).

Each row becomes the same nodes that YAML would give, with its own places, so that one schema judges both.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from nightlatch.estate import reader
from nightlatch.faults import nearest
from nightlatch.formats.yaml_tree import Node, Source
from nightlatch.origin import Kind

LARGEST = 64 << 20
Make = Callable[[dict[str, Node], Node], Node]


@dataclass(frozen=True)
class Columns:
    """What a list may hold: the key of the estate file that names it, its `columns`, those that it `needs`, and how the fields
    of a row (by column, without the name) become a node."""

    key: str
    columns: tuple[str, ...]
    needs: tuple[str, ...]
    make: Make


@dataclass(frozen=True)
class Row:
    """One row as nodes: its name, and the same mapping that YAML would give."""

    name: Node
    value: Node


@dataclass(frozen=True)
class Rows:
    """The whole list; faults are gathered in its own `source`."""

    source: Source
    rows: tuple[Row, ...]


def read(estate: Source, node: Node, folder: Path, kind: Columns) -> Rows | None:
    """The rows of the file that a node names, counted from the estate file's folder; a fault and None without one."""
    name = reader.text(estate, node, kind.key)
    if not name:
        return None
    try:
        with (folder / name).open("rb") as stream:
            raw = stream.read(LARGEST + 1)
        if len(raw) > LARGEST:
            estate.fault(node, f"{name} is larger than {LARGEST >> 20} MiB", "a smaller list")
            return None
        text = raw.decode("utf-8-sig")
    except OSError as error:
        estate.fault(node, f"{name} can't be read: {error.strerror}", f"a CSV file, counted from {folder}")
        return None
    except UnicodeDecodeError as error:
        estate.fault(node, f"{name} is not UTF-8 (byte {error.start})", "a UTF-8 text file")
        return None
    source = Source(str(folder / name), text, Kind.ESTATE)
    return Rows(source, tuple(_rows(source, kind)))


def _rows(source: Source, kind: Columns) -> Iterator[Row]:
    table = csv.reader(io.StringIO(source.text, newline=""), strict=True)
    try:
        head = next(table, [])
        if not _head(source, head, kind):
            return
        start = table.line_num + 1
        for fields in table:
            line, start = start, table.line_num + 1
            if not any(field.strip() for field in fields):
                continue
            if len(fields) != len(head):
                what = f"{len(fields)} fields where the heading has {len(head)}"
                source.fault(Node(line, 1), what, "one field for each column")
                continue
            yield _row(source, dict(zip(head, fields, strict=True)), line, kind)
    except csv.Error as error:
        source.fault(Node(max(1, table.line_num), 1), f"this is no CSV: {error}", 'fields parted by commas, quoted with "')


def _head(source: Source, head: list[str], kind: Columns) -> bool:
    good = True
    for column in head:
        if column not in kind.columns:
            at = Node(1, max(1, source.lines[0].find(column) + 1), column)
            source.fault(
                at, f'there is no column "{column}"', "some of " + ", ".join(kind.columns), nearest(column, kind.columns)
            )
            good = False
    if good and (len(set(head)) != len(head) or not set(kind.needs) <= set(head)):
        needs = kind.needs
        what = f"the heading lacks {' or '.join(needs)}, or names a column twice"
        source.fault(Node(1, 1), what, f"{', '.join(needs)} and others, each once")
        good = False
    return good


def _row(source: Source, fields: dict[str, str], line: int, kind: Columns) -> Row:
    text = source.lines[line - 1] if line <= len(source.lines) else ""
    at = 0
    nodes: dict[str, Node] = {}
    for column, value in fields.items():
        value = value.strip()
        found = text.find(value, at) if value else -1
        at = found + len(value) if found >= 0 else at
        if value:
            nodes[column] = Node(line, max(found, 0) + 1, value)
    name = nodes.pop("name", Node(line, 1, ""))
    return Row(name, kind.make(nodes, name))


def key(node: Node, name: str) -> Node:
    """A key of the mapping, at the place of its field."""
    return Node(node.line, node.column, name)


def words(node: Node) -> Iterator[Node]:
    """The words of a field, each at its place."""
    at = 0
    for word in (node.text or "").split():
        at = (node.text or "").index(word, at)
        yield Node(node.line, node.column + at, word)
        at += len(word)


def listed(node: Node) -> Node:
    """A field of several words as a list."""
    return Node(node.line, node.column, items=list(words(node)))


def pairs(node: Node) -> Iterator[tuple[Node, Node]]:
    """A field of words KEY=VALUE, each part at its place; a word without = has an empty key."""
    for word in words(node):
        name, mark, value = (word.text or "").partition("=")
        at = word.column + len(name) + 1 if mark else word.column
        yield Node(word.line, word.column, name if mark else ""), Node(word.line, at, value if mark else name)
