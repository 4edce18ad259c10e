"""Rows that the tables of filters outside of guests should have: those that the grants lack, and those that let in more
than is granted. Pure: a table's rows in, the changed rows out; that they do it is worked out on them again.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from nightlatch.access.arrivals import subnets
from nightlatch.access.perimeter import rules_of
from nightlatch.access.verdicts import Flow, passed
from nightlatch.estate import perimeters
from nightlatch.estate.model import Estate, GuestSpec, NetworkSpec, Perimeter, PerimeterRow
from nightlatch.estate.perimeters import Record
from nightlatch.faults import RefusedError
from nightlatch.model.grants import Grant, seen_by_guest
from nightlatch.model.steps import ManualTask
from nightlatch.net.addresses import ALL_V4, ALL_V6, NO_ADDRESS, AddressSet, single, union
from nightlatch.net.ports import PortSet

MOST_PREFIXES = 64


Ports = Mapping[str, Mapping[str, Sequence[int]]]  # of each guest and service


@dataclass(frozen=True, slots=True)
class RequiredRow:
    """Callers that the grants let in to a port, as it is dialled past the perimeter of a network; `target` is what they dial."""

    guest: str
    port: int
    target: AddressSet | None
    sources: AddressSet
    labels: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True)
class RowChange:
    """One row added (`before` is None), changed, or taken away (`after` is None); `number` is its place in the table, from 1,
    `line` the one of its file where that is CSV."""

    number: int
    before: Record | None
    after: Record | None
    why: str
    line: int = 0


@dataclass(frozen=True)
class TableDraft:
    """The draft for one table. `place` is its number among the perimeters of its network, from 0; `rows` is the whole of it
    after."""

    network: str
    place: int
    perimeter: Perimeter
    changes: tuple[RowChange, ...]
    rows: tuple[Record, ...]
    left: tuple[ManualTask, ...] = ()


def wanted(estate: Estate, network: NetworkSpec, grants: Mapping[str, Sequence[Grant]], ports: Ports) -> list[RequiredRow]:
    """The rows that the grants need in a network's perimeter, for each port of each service."""
    return [
        each
        for guest in estate.guests.values()
        for service, heard in ports.get(guest.name, {}).items()
        for each in _wanted(guest, network, [g for g in grants.get(guest.name, ()) if g.service == service], heard)
    ]


def _wanted(guest: GuestSpec, network: NetworkSpec, grants: Sequence[Grant], ports: Sequence[int]) -> list[RequiredRow]:
    """The same for one guest and service."""
    out: list[RequiredRow] = []
    callers = seen_by_guest(grants)
    near = NO_ADDRESS if network.private else subnets(network)
    labels = frozenset(guest.labels)
    if guest.network == network.name and not network.private:
        known = [single(each.address.ip) for each in guest.addresses if network.subnet_of(each.address.ip)]
        target = union(known) if known else None
        out += [RequiredRow(guest.name, port, target, callers - near, labels) for port in ports]
    for forward in network.forwards:
        if forward.guest == guest.name and forward.to_port in ports:
            at = single(forward.at) if forward.at is not None else None
            able = callers & _of_family(at) if at is not None else callers  # a forward takes packets of its own family
            out.append(RequiredRow(guest.name, forward.port, at, able - near, labels))
    return out


def _of_family(ends: AddressSet) -> AddressSet:
    """All addresses of the families that packets to these ends have."""
    return AddressSet(ALL_V4.v4 if ends.v4 else (), ALL_V6.v6 if ends.v6 else ())


def draft_table(
    network: NetworkSpec, place: int, held: Sequence[tuple[Record, int]], those: Sequence[RequiredRow], unread: Sequence[str] = ()
) -> TableDraft:
    """The draft for one table that holds these rows (with their lines in CSV). Where guests behind it were not read, no row is
    narrowed: it may be for them. Raises RefusedError where the changed table would not do it."""
    records = [record for record, _ in held]
    given = network.perimeters[place]
    perimeter = replace(given, rows=perimeters.parse(given.path, json.dumps(records), given.columns))  # rows by their place
    columns = dict(perimeter.columns)
    narrowed, left = _narrowed(perimeter, records, those)
    if unread and narrowed:
        left.append(
            ManualTask(f"{_listed(unread)} could not be read, so no row is narrowed here.", "have them read, then draft again")
        )
        narrowed = {}
    kept = [narrowed[number].after if number in narrowed else each for number, each in enumerate(records, 1)]
    now = perimeters.parse(perimeter.path, json.dumps([each for each in kept if each is not None]), perimeter.columns)
    added: list[RowChange] = []
    unmet: list[RequiredRow] = []
    for each in those:
        short = _lacking(network, perimeter, now, each)
        if short:
            if len(short.prefixes(MOST_PREFIXES)) == MOST_PREFIXES:
                left.append(ManualTask(f"Port {each.port} for {each.guest} lacks too many prefixes.", "write these rows by hand"))
                unmet.append(each)
                continue
            why = f"{short} is let in to {each.guest} by grants, and kept from port {each.port} here."
            added.append(RowChange(len(added) + 1, None, _fresh(records, columns, each, short), why))
    first = _first(records, columns)
    rows = [*(each.after for each in added if each.after is not None), *(each for each in kept if each is not None)]
    if first is not None:
        for number, change in enumerate(added):
            if change.after is not None:
                change.after[columns["priority"]] = first - len(added) + number
    changed = [replace(each, line=held[each.number - 1][1]) for each in narrowed.values()]
    made = TableDraft(perimeter.network, place, perimeter, (*added, *changed), tuple(rows), tuple(left))
    _prove(network, made, those, unmet)
    return made


def _lacking(network: NetworkSpec, perimeter: Perimeter, rows: tuple[PerimeterRow, ...], each: RequiredRow) -> AddressSet:
    """Wanted callers that the rows keep out; where rows name targets, of the families in which these are dialled."""
    short = each.sources - _admitted(network, perimeter, rows, each)
    return short & _of_family(each.target) if each.target and "target" in dict(perimeter.columns) else short


def _listed(names: Sequence[str]) -> str:
    return ", ".join(names[:6]) + (f" and {len(names) - 6} more" if len(names) > 6 else "")


def _admitted(network: NetworkSpec, perimeter: Perimeter, rows: tuple[PerimeterRow, ...], each: RequiredRow) -> AddressSet:
    held = Perimeter(perimeter.network, rows, perimeter.origin, perimeter.taken, perimeter.path)
    rules = rules_of(network, held, each.labels, near=not network.private)
    return passed(rules, Flow("tcp", each.port, each.target)).surely


def _narrowed(
    perimeter: Perimeter, records: Sequence[Record], those: Sequence[RequiredRow]
) -> tuple[dict[int, RowChange], list[ManualTask]]:
    """Rows for ports of services alone that let in more than the grants do, with the part that is granted."""
    columns, out, left = dict(perimeter.columns), dict[int, RowChange](), list[ManualTask]()
    known = PortSet.of([(each.port, each.port) for each in those])
    for row in perimeter.rows:
        if not row.lets or (row.protocols is not None and "tcp" not in row.protocols):
            continue
        mine = [
            each
            for each in those
            if each.port in row.ports
            and (not row.label or row.label in each.labels)
            and (row.targets is None or each.target is None or row.targets & each.target)
        ]
        granted = union(each.sources for each in mine) & row.sources
        if not mine or granted == row.sources:
            continue
        guests = ", ".join(dict.fromkeys(each.guest for each in mine))
        if row.ports - known or (row.protocols is None and not granted):
            if row.sources == ALL_V4 or row.sources == ALL_V6 or row.sources == ALL_V4 | ALL_V6:
                left.append(
                    ManualTask(f"{row.text} lets everybody in to {guests}.", "it is for other ports, too: part it by hand")
                )
            continue
        before = records[row.number - 1]
        after = {**before, columns["source"]: _like(before[columns["source"]], granted.prefixes())} if granted else None
        out[row.number] = RowChange(row.number, before, after, f"It lets callers in to {guests} from places that no grant names.")
    return out, left


def _like(example: object, prefixes: list[str]) -> object:
    return prefixes if isinstance(example, list) else ", ".join(prefixes)


def _fresh(records: Sequence[Record], columns: Mapping[str, str], each: RequiredRow, sources: AddressSet) -> Record:
    """A row in the words that the table uses itself."""
    example: Record = records[0] if records else {}
    made: Record = dict.fromkeys([*example, *(name for name in columns.values() if name not in example)], "")
    words = {str(record.get(columns["action"], "")).lower(): record[columns["action"]] for record in records}
    made[columns["action"]] = next((word for key, word in words.items() if key in perimeters.LETS), "allow")
    made[columns["source"]] = _like(example.get(columns["source"]), sources.prefixes())
    made[columns["port"]] = each.port if isinstance(example.get(columns["port"]), int) else str(each.port)
    if "protocol" in columns:
        made[columns["protocol"]] = "tcp"
    if "direction" in columns:
        made[columns["direction"]] = "in"
    if "target" in columns and each.target is not None:
        made[columns["target"]] = _like(example.get(columns["target"]), each.target.prefixes())
    return made


def _first(records: Sequence[Record], columns: Mapping[str, str]) -> int | None:
    """The priority that counts first; None where the order of the rows says it."""
    if "priority" not in columns:
        return None
    return min((int(str(each.get(columns["priority"], 0) or 0)) for each in records), default=100)


def _prove(network: NetworkSpec, made: TableDraft, those: Sequence[RequiredRow], unmet: Sequence[RequiredRow]) -> None:
    """The whole table once more: it lets in everybody it should, and nobody else that it kept out before."""
    rows = perimeters.parse(made.perimeter.path, json.dumps(list(made.rows)), made.perimeter.columns)
    for each in those:
        lacks = NO_ADDRESS if each in unmet else _lacking(network, made.perimeter, rows, each)
        now, before = (_admitted(network, made.perimeter, held, each) for held in (rows, made.perimeter.rows))
        granted = union(other.sources for other in those if other.port == each.port)
        if lacks or now - before - granted:
            verb = f"still keep {lacks} from" if lacks else f"also let {now - before - granted} in to"
            raise RefusedError(f"the perimeter of {made.network} would {verb} port {each.port} ({each.guest})")
