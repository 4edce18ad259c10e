"""`perimeter` of a network: the filter outside of its guests, read from an exported table of rules or merely claimed.

A table is CSV or JSON (a list of objects); `columns` says which of its columns holds what. What no row lets in is refused. Rows
count in the order of their priority where there is such a column, else in that of the file.
"""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TypeVar

from nightlatch.estate import reader
from nightlatch.estate.model import Perimeter, PerimeterRow, Place
from nightlatch.faults import EstateError, nearest
from nightlatch.formats.yaml_tree import Node, Source
from nightlatch.net.addresses import EVERY_ADDRESS, AddressSet, union
from nightlatch.net.literal import AddressError, parse_address, parse_network
from nightlatch.net.ports import PortSet
from nightlatch.origin import Kind, Origin

LARGEST = 16 << 20
BOM = b"\xef\xbb\xbf"
MOST_ROWS = 100_000
COLUMNS = ("source", "port", "action", "protocol", "priority", "direction", "label", "target")
NEEDED = ("source", "port", "action")
LETS = ("allow", "accept", "permit", "pass")
REFUSES = ("deny", "drop", "refuse", "reject", "block")
INWARD = ("in", "inbound", "ingress", "inward", "incoming", "")
OUTWARD = ("out", "outbound", "egress", "outward", "outgoing")
ALL = ("", "any", "all", "*", "0-65535")
TRANSPORTS = {"6": "tcp", "17": "udp", "tcp": "tcp", "udp": "udp"}
T = TypeVar("T")
Record = dict[str, object]
SERVICE = re.compile(r"http://(127\.0\.0\.1|\[::1\]|localhost):[1-9][0-9]{1,4}/tables/[a-z][a-z0-9-]{0,63}")
_PARTS = re.compile(r"[^\s,;]+")


class NoTable(ValueError):
    """The text is no CSV; `line` is where that shows."""

    def __init__(self, message: str, line: int) -> None:
        super().__init__(message)
        self.line = line


def perimeters(source: Source, node: Node, network: str, places: Mapping[str, Place], folder: Path) -> tuple[Perimeter, ...]:
    """One perimeter, or several in series: the outermost first."""
    made = [_one(source, each, network, places, folder) for each in reader.items(source, _listed(node), "a perimeter")]
    return tuple(each for each in made if each is not None)


def _listed(node: Node) -> Node:
    return node if node.items is not None else Node(node.line, node.column, items=[node])


def _one(source: Source, node: Node, network: str, places: Mapping[str, Place], folder: Path) -> Perimeter | None:
    found = reader.section(source, node, f"the perimeter of {network}", ("read", "taken", "columns", "service", "claimed"))
    if node.pairs is not None and ("read" in found) == ("claimed" in found):
        source.fault(node, "a perimeter is read from a table, or claimed", "read: FILE with taken and columns, or claimed: [...]")
        return None
    if "claimed" in found:
        rows = [_claim(source, each, places) for each in reader.items(source, found["claimed"], "what is claimed")]
        return Perimeter(network, tuple(row for row in rows if row is not None), source.origin(node))
    if "read" not in found:
        return None
    for name in ("taken", "columns"):
        if name not in found:
            source.fault(node, f"the perimeter of {network} lacks {name}", f"{name}: ...")
    if "taken" not in found or "columns" not in found:
        return None
    columns = _columns(source, found["columns"])
    day = reader.day(source, found["taken"], "taken")
    name = reader.text(source, found["read"], "the table's file")
    table = _table(source, found["read"], folder / name, columns) if name and columns else None
    service = _service(source, found["service"], name) if "service" in found else ""
    if table is None:
        return None
    return Perimeter(network, table, source.origin(node), day, str(folder / name), tuple(columns.items()), service)


def _service(source: Source, node: Node, name: str) -> str:
    """The table at its filter's own service, which speaks JSON (docs/filters.md)."""
    text = reader.text(source, node, "the service")
    if text and not SERVICE.fullmatch(text):
        source.fault(node, f'"{text}" is no table of a service', "http://127.0.0.1:PORT/tables/NAME, on this machine")
    if text and not name.endswith(".json"):
        source.fault(node, f"{name} is no JSON, and a service's table is", "read: FILE.json")
    return text


def records(name: str, text: str) -> tuple[tuple[Record, int], ...]:
    """The rows of a table that was read, as they stand, each with its line in CSV; 0 in JSON."""
    if name.endswith(".json"):
        return tuple((each, 0) for each in json.loads(text))
    (_, head), *rest = _lines(text)
    return tuple((dict(zip(head, fields, strict=True)), line) for line, fields in rest)


def _lines(text: str) -> Iterator[tuple[int, list[str]]]:
    """The heading and the rows that hold something, each with the line that it begins in. Raises NoTable."""
    table = csv.reader(io.StringIO(text, newline=""), strict=True)
    try:
        yield 1, [each.strip() for each in next(table, [])]
        line = table.line_num + 1
        for fields in table:
            if any(field.strip() for field in fields):
                yield line, fields
            line = table.line_num + 1
    except csv.Error as error:
        raise NoTable(str(error), max(1, table.line_num)) from None


def as_csv(rows: Sequence[Record], like: str) -> str:
    """Rows as a table in CSV, with the heading and the line ends of another."""
    made = io.StringIO(newline="")
    names = list(dict.fromkeys([*next(_lines(like))[1], *(name for row in rows for name in row)]))
    writer = csv.DictWriter(made, names, lineterminator="\r\n" if "\r\n" in like else "\n")
    writer.writeheader()
    writer.writerows(rows)
    return made.getvalue()


def parse(name: str, text: str, columns: tuple[tuple[str, str], ...]) -> tuple[PerimeterRow, ...]:
    """The rows of a table in JSON, in the order in which they count. Raises EstateError with every fault."""
    source = Source(name, text, Kind.ESTATE)
    made = list(_of_json(source, dict(columns)))
    if source.faults:
        raise EstateError(source.faults)
    return tuple(row for _, row in sorted(made, key=lambda each: each[0]))


def _columns(source: Source, node: Node) -> dict[str, str]:
    found = reader.section(source, node, "columns", COLUMNS, None, NEEDED)
    if not set(NEEDED) <= set(found):
        return {}
    return {key: reader.text(source, value, f"the column of {key}") for key, value in found.items()}


def _claim(source: Source, node: Node, places: Mapping[str, Place]) -> PerimeterRow | None:
    """`{from: bench, port: 22}`: what is said to be let in."""
    found = reader.section(source, node, "what is claimed", ("from", "port", "protocol"), None, ("from", "port"))
    if "from" not in found or "port" not in found:
        return None
    sources = []
    for each in reader.items(source, found["from"], "from"):
        word = reader.text(source, each, "a place or an address")
        if word in places:
            sources.append(places[word].seen)
        elif word == "anywhere":
            sources.append(EVERY_ADDRESS)
        elif word:
            sources += _read(source, each, word, _network, nearest(word, list(places)))
    ports = [one for each in reader.items(source, found["port"], "port") for one in _read(source, each, each.text or "", _ports)]
    protocol = reader.one_of(source, found["protocol"], "protocol", ("tcp", "udp")) if "protocol" in found else "tcp"
    ranges = [pair for each in ports for pair in each.ranges]
    text = f"claimed: from {', '.join(n.text or '' for n in reader.items(source, found['from'], 'from'))}"
    return PerimeterRow(union(sources), PortSet.of(ranges), frozenset((protocol,)), True, source.origin(node), text)


def _read(source: Source, node: Node, text: str, parse: Callable[[str], T], near: str = "") -> list[T]:
    try:
        return [parse(text)]
    except AddressError as error:
        source.fault(node, str(error), error.expected, near)
    return []


def _table(estate: Source, node: Node, path: Path, columns: Mapping[str, str]) -> tuple[PerimeterRow, ...] | None:
    try:
        with path.open("rb") as stream:
            raw = stream.read(LARGEST + 1)
        if len(raw) > LARGEST:
            estate.fault(node, f"{path.name} is larger than {LARGEST >> 20} MiB", "a smaller table")
            return None
        source = Source(str(path), raw.removeprefix(BOM).decode("utf-8"), Kind.ESTATE)
    except OSError as error:
        estate.fault(node, f"{path.name} can't be read: {error.strerror}", f"a CSV or JSON file, counted from {path.parent}")
        return None
    except UnicodeDecodeError as error:
        estate.fault(node, f"{path.name} is not UTF-8 (byte {error.start})", "a UTF-8 text file")
        return None
    rows = _of_json(source, columns) if path.suffix == ".json" else _of_csv(source, columns)
    made = [(rank, number, row) for number, (rank, row) in enumerate(rows)]
    estate.faults.extend(source.faults)
    return tuple(row for _, _, row in sorted(made, key=lambda each: each[:2]))


def _of_csv(source: Source, columns: Mapping[str, str]) -> Iterator[tuple[int, PerimeterRow]]:
    try:
        lines = _lines(source.text)
        _, head = next(lines)
        if not _has_all(source, head, columns):
            return
        for number, (at, fields) in enumerate(lines):
            if number >= MOST_ROWS:
                source.fault(Node(at, 1), "the table has more rows than are read", f"at most {MOST_ROWS}")
                return
            if len(fields) != len(head):
                source.fault(Node(at, 1), f"{len(fields)} fields where the heading has {len(head)}", "one field for each column")
                continue
            yield from _row(source, dict(zip(head, fields, strict=True)), columns, at)
    except NoTable as error:
        source.fault(Node(error.line, 1), f"this is no CSV: {error}", 'fields parted by commas, quoted with "')


def _of_json(source: Source, columns: Mapping[str, str]) -> Iterator[tuple[int, PerimeterRow]]:
    try:
        found = json.loads(source.text)
    except (ValueError, RecursionError) as error:  # ValueError: a number of more digits than Python reads
        line, column = getattr(error, "lineno", 1), getattr(error, "colno", 1)
        source.fault(
            Node(line, column),
            f"this is no JSON: {getattr(error, 'msg', 'nested too deep, or a number too long')}",
            "a list of objects",
        )
        return
    if not isinstance(found, list) or not all(isinstance(each, dict) for each in found):
        source.fault(Node(1, 1), "this is no list of objects", "[{...}, ...]")
        return
    for number, each in enumerate(found[:MOST_ROWS], 1):
        fields = {key: _scalar(value) for key, value in each.items()}
        if not _has_all(source, list(fields), columns, number):
            return
        yield from _row(source, fields, columns, 1, number)


def _scalar(value: object) -> str:
    if isinstance(value, list):
        return " ".join(_one_scalar(each) for each in value)
    return _one_scalar(value)


def _one_scalar(value: object) -> str:
    """A single value as text; a list or an object in its place is shown as such, and no column takes it."""
    return "[...]" if isinstance(value, list) else "{...}" if isinstance(value, dict) else "" if value is None else str(value)


def _has_all(source: Source, head: list[str], columns: Mapping[str, str], number: int = 0) -> bool:
    missing = [name for name in columns.values() if name not in head]
    for name in missing:
        where = f"row {number}" if number else "the heading"
        source.fault(Node(1, 1), f'{where} has no "{name}"', "one of " + ", ".join(head[:20]), nearest(name, head))
    return not missing


def _row(
    source: Source, fields: Mapping[str, str], columns: Mapping[str, str], line: int, number: int = 0
) -> Iterator[tuple[int, PerimeterRow]]:
    """One row: nothing for what leads outwards, and for other protocols; faults with the row's place."""
    values = {key: fields[name].strip() for key, name in columns.items()}
    start = len(source.faults)

    def at(key: str) -> Node:
        column = source.lines[line - 1].find(fields[columns[key]]) + 1 if key in columns and line <= len(source.lines) else 1
        return Node(line, max(1, column), values.get(key, ""))

    action, way = values["action"].lower(), values.get("direction", "").lower()
    if action not in (*LETS, *REFUSES):
        source.fault(at("action"), f'"{values["action"]}" is no verdict', "one of " + ", ".join((*LETS, *REFUSES)))
    if way not in (*INWARD, *OUTWARD):
        source.fault(at("direction"), f'"{values["direction"]}" is no direction', "in or out")
    rank = values.get("priority", "0")
    if not re.fullmatch(r"-?\d{1,9}", rank):
        source.fault(at("priority"), f'"{rank}" is no priority', "a whole number, the smallest counts first")
    sources = _read(source, at("source"), values["source"], _networks)
    targets = _read(source, at("target"), values.get("target", ""), _networks)
    ports = _read(source, at("port"), values["port"], _ports)
    protocol = values.get("protocol", "").lower()
    if len(source.faults) > start or way in OUTWARD or protocol not in (*ALL, *TRANSPORTS):
        return
    protocols = None if protocol in ALL else frozenset((TRANSPORTS[protocol],))
    text = ", ".join(f"{name} {fields[name].strip() or 'any'}" for name in columns.values())
    origin = Origin(source.path, line, 1, Kind.ESTATE)
    if number:
        text = f"row {number}: {text}"
    made = PerimeterRow(
        sources[0], ports[0], protocols, action in LETS, origin, text, values.get("label", ""), None, number or line
    )
    yield int(rank), replace(made, targets=targets[0] if values.get("target", "").lower() not in ALL else None)


def _networks(text: str) -> AddressSet:
    if text.lower() in ALL:
        return EVERY_ADDRESS
    return union(_network(part) for part in _PARTS.findall(text))


def _network(text: str) -> AddressSet:
    low, mark, high = text.partition("-")
    if not mark:
        return parse_network(text)
    first, last = parse_address(low), parse_address(high)
    if first.version != last.version or int(first) > int(last):
        raise AddressError(f'"{text}" is no range', "FIRST-LAST of one family")
    ranges = ((int(first), int(last)),)
    return AddressSet(v4=ranges) if first.version == 4 else AddressSet(v6=ranges)


def _ports(text: str) -> PortSet:
    """`22`, `20-90`, `22,80`, any."""
    if text.lower() in ALL:
        return PortSet.of([(0, 65535)])
    ranges = []
    for part in _PARTS.findall(text):
        low, mark, high = part.partition("-")
        first, last = (int(each) if re.fullmatch(r"\d{1,5}", each) else -1 for each in (low, high if mark else low))
        if not 0 <= first <= last <= 65535:
            raise AddressError(f'"{part}" is no port and no range of ports', "a number up to 65535, or FIRST-LAST")
        ranges.append((first, last))
    return PortSet.of(ranges)
