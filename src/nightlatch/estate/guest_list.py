"""`guests_from`: a list of guests in a CSV file, one a row, for estates too large for YAML (RFC 4180).

A row says what a guest under `guests` says; `via` takes two columns, the way and where it leads. Several labels, host keys
or addresses in one field are parted by spaces; an address is INTERFACE=ADDRESS/LENGTH.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from nightlatch.estate import reader
from nightlatch.faults import nearest
from nightlatch.formats.yaml_tree import Node, Source
from nightlatch.origin import Kind

COLUMNS = tuple(
    """
    name system dial via at port as key from labels host_keys network addresses host_name time_zone
""".split()
)
LISTS = ("labels", "host_keys", "from")
LARGEST = 64 << 20


@dataclass(frozen=True)
class Row:
    """One guest as nodes: its name, and the same mapping that YAML would give."""

    name: Node
    guest: Node


@dataclass(frozen=True)
class Rows:
    """The whole list; faults are gathered in its own `source`."""

    source: Source
    rows: tuple[Row, ...]


def read(estate: Source, node: Node, folder: Path) -> Rows | None:
    """The guests in the file that a node names, counted from the estate file's folder; a fault and None without one."""
    name = reader.text(estate, node, "guests_from")
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
    return Rows(source, tuple(_rows(source)))


def _rows(source: Source) -> Iterator[Row]:
    table = csv.reader(io.StringIO(source.text, newline=""), strict=True)
    try:
        head = next(table, [])
        if not _head(source, head):
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
            yield _row(source, dict(zip(head, fields, strict=True)), line)
    except csv.Error as error:
        source.fault(Node(max(1, table.line_num), 1), f"this is no CSV: {error}", 'fields parted by commas, quoted with "')


def _head(source: Source, head: list[str]) -> bool:
    good = True
    for column in head:
        if column not in COLUMNS:
            at = Node(1, max(1, source.lines[0].find(column) + 1), column)
            source.fault(at, f'there is no column "{column}"', "some of " + ", ".join(COLUMNS), nearest(column, COLUMNS))
            good = False
    if good and (len(set(head)) != len(head) or not {"name", "via"} <= set(head)):
        source.fault(Node(1, 1), "the heading lacks name or via, or names a column twice", "name, via and others, each once")
        good = False
    return good


def _row(source: Source, fields: dict[str, str], line: int) -> Row:
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
    return Row(name, _guest(nodes, name))


def _guest(nodes: dict[str, Node], name: Node) -> Node:
    pairs: list[tuple[Node, Node]] = []
    way = nodes.pop("via", None)
    if way is not None:
        pairs.append((_key(way, "via"), _via(way, nodes)))
    for column in ("at", "port", "as", "key", "from"):
        nodes.pop(column, None)
    for column, node in nodes.items():
        pairs.append((_key(node, column), _addresses(node) if column == "addresses" else _value(column, node)))
    return Node(name.line, name.column, pairs=pairs)


def _key(node: Node, name: str) -> Node:
    return Node(node.line, node.column, name)


def _value(column: str, node: Node) -> Node:
    if column not in LISTS:
        return node
    return Node(node.line, node.column, items=list(_words(node)))


def _words(node: Node) -> Iterator[Node]:
    at = 0
    for word in (node.text or "").split():
        at = (node.text or "").index(word, at)
        yield Node(node.line, node.column + at, word)
        at += len(word)


def _via(way: Node, nodes: dict[str, Node]) -> Node:
    if way.text == "here":
        return way
    pairs = [(way, nodes.get("at", Node(way.line, way.column, "", plain=True)))]
    for column in ("port", "as", "key", "from"):
        if column in nodes:
            pairs.append((_key(nodes[column], column), _value(column, nodes[column])))
    return Node(way.line, way.column, pairs=pairs)


def _addresses(node: Node) -> Node:
    """INTERFACE=ADDRESS/LENGTH words as a mapping of lists."""
    by_interface: dict[str, tuple[Node, list[Node]]] = {}
    for word in _words(node):
        name, mark, address = (word.text or "").partition("=")
        key = Node(word.line, word.column, name if mark else "")
        value = Node(word.line, word.column + len(name) + 1, address if mark else name)
        by_interface.setdefault(name if mark else "", (key, []))[1].append(value)
    return Node(
        node.line,
        node.column,
        pairs=[(key, Node(key.line, key.column, items=found)) for key, found in by_interface.values()],
    )
