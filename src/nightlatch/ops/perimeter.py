"""The filters outside of guests, changed as guests are: drafted from the grants, put at their service, read back, taken back.

A perimeter whose table was read from a file is drafted only, and a table in CSV can be had as it should be; one that names a
`service` is changed there, while what is there is what was read, and the file and the day in the estate file follow.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from nightlatch.access.grants import expand
from nightlatch.draft import perimeter as rows
from nightlatch.draft.perimeter import TableDraft
from nightlatch.estate import editing, perimeters
from nightlatch.estate.model import Estate, NetworkSpec, Perimeter
from nightlatch.estate.perimeters import Record
from nightlatch.estate.whole_file import rewrite
from nightlatch.faults import OwnFaultError, PutBackError, RefusedError, work_on
from nightlatch.model.grants import Grant
from nightlatch.model.sockets import ports_of
from nightlatch.ops.survey import survey
from nightlatch.readings import guest as readings
from nightlatch.services.base import Kinds
from nightlatch.services.table import KINDS
from nightlatch.transports import tables
from nightlatch.transports.ssh import Client

__all__ = [
    "PerimeterChange",
    "PerimeterDraft",
    "changed_table",
    "draft_perimeter",
    "enact_perimeter",
    "take_perimeter",
    "undo_perimeter",
]
BY = "nightlatch"


@dataclass(frozen=True)
class PerimeterDraft:
    """The changes that all perimeters of an estate need. `claimed` are networks whose perimeter is only claimed, `unread` guests
    of which nothing was read, so that their ports are not known."""

    estate: str
    at: datetime
    drafts: tuple[TableDraft, ...]
    claimed: tuple[str, ...] = ()
    unread: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class PerimeterChange:
    """A table that was put at its service, or taken from there: its network, version and rows."""

    network: str
    version: int
    rows: int
    changed: bool


def draft_perimeter(
    estate: Estate, at: datetime, networks: Sequence[str] = (), *, client: Client | None = None, kinds: Kinds = KINDS
) -> PerimeterDraft:
    """Read the guests, and say which rows outside of them the grants ask for. Raises RefusedError for a name that is no
    network."""
    for name in networks:
        if name not in estate.networks:
            raise RefusedError(f"there is no network {name}; the estate has {', '.join(sorted(estate.networks)) or 'none'}")
    those = [each for each in estate.networks.values() if each.perimeters and (not networks or each.name in networks)]
    concerned = {name for each in those for name in _behind(estate, each)}
    grants: dict[str, Sequence[Grant]] = {}
    ports: dict[str, dict[str, tuple[int, ...]]] = {}
    unread = []
    for each in survey(estate, sorted(concerned), client=client, kinds=kinds) if concerned else ():
        if each.snapshot is None:
            unread.append((each.guest, each.problem))
            continue
        try:
            with work_on(each.guest):
                reading = readings.read(each.snapshot)
                heard = {name: ports_of(kind.listening(reading)) for name, kind in kinds.items()}
                granted = expand(estate, each.guest, at, each.snapshot.told.came)
        except OwnFaultError as error:
            unread.append((each.guest, error.words))
            continue
        ports[each.guest] = heard
        grants[each.guest] = granted
    made, claimed = [], []
    for network in those:
        wishes = rows.wanted(estate, network, grants, ports)
        behind = _behind(estate, network)
        unknown = [name for name, _ in unread if name in behind]
        for place, perimeter in enumerate(network.perimeters):
            if not perimeter.path:
                claimed.append(network.name)
            else:
                made.append(rows.draft_table(network, place, _held(perimeter), wishes, unknown))
    return PerimeterDraft(estate.name, at, tuple(made), tuple(dict.fromkeys(claimed)), tuple(unread))


def _behind(estate: Estate, network: NetworkSpec) -> set[str]:
    """The guests whose callers pass the perimeters of a network."""
    sitting = {guest.name for guest in estate.guests.values() if guest.network == network.name}
    return sitting | {forward.guest for forward in network.forwards}


def _held(perimeter: Perimeter) -> tuple[tuple[Record, int], ...]:
    try:
        return perimeters.records(perimeter.path, Path(perimeter.path).read_bytes().decode("utf-8-sig"))
    except ValueError as error:
        raise RefusedError(f"{perimeter.path} was changed while it was read ({error}); run it again") from None


def _file(perimeter: Perimeter) -> tuple[Record, ...]:
    return tuple(record for record, _ in _held(perimeter))


def changed_table(draft: TableDraft) -> str:
    """The whole of a drafted table in CSV, for the people who keep that filter. Raises RefusedError for one in JSON."""
    path = Path(draft.perimeter.path)
    if path.suffix == ".json":
        raise RefusedError(f"{path.name} is a table in JSON, not in CSV; --format json prints its rows as they should be")
    return perimeters.as_csv(draft.rows, path.read_bytes().decode("utf-8-sig"))


def enact_perimeter(estate: Estate, draft: TableDraft, at: datetime) -> PerimeterChange:
    """Put the drafted table at its service, read it back, and let file and estate file follow.

    Raises RefusedError when the service has other rows than were read, PutBackError when it does not give back what was put.
    """
    perimeter = draft.perimeter
    if not draft.changes:
        return PerimeterChange(draft.network, 0, len(draft.rows), False)
    now = tables.read(_service(perimeter))
    if now.rows != _file(perimeter):
        raise RefusedError(f"{perimeter.service} has other rows than {perimeter.path}; nightlatch perimeter --take reads it anew")
    made = tables.put(perimeter.service, draft.rows, now.version, BY)
    back = tables.read(perimeter.service)
    if back.rows != draft.rows:
        tables.put(perimeter.service, now.rows, back.version, f"{BY}, back")
        raise PutBackError(f"{perimeter.service} gave back other rows than were put there; what was before is there again")
    _follow(estate, draft.network, draft.place, perimeter, back.rows, at)
    return PerimeterChange(draft.network, made.version, len(back.rows), True)


def take_perimeter(estate: Estate, network: str, at: datetime) -> list[PerimeterChange]:
    """Read the tables of a network from their services into the files that the estate names, with today's date."""
    out = []
    for place, perimeter in enumerate(estate.networks[network].perimeters):
        if perimeter.service:
            now = tables.read(perimeter.service)
            changed = now.rows != _file(perimeter)
            _follow(estate, network, place, perimeter, now.rows, at)
            out.append(PerimeterChange(network, now.version, len(now.rows), changed))
    if not out:
        raise RefusedError(f"no perimeter of {network} names a service")
    return out


def undo_perimeter(estate: Estate, network: str, at: datetime) -> list[PerimeterChange]:
    """Put back what the newest change of ours took from the tables of a network. Raises RefusedError when the newest is
    another's."""
    out = []
    for place, perimeter in enumerate(estate.networks[network].perimeters):
        if not perimeter.service:
            continue
        now = tables.read(perimeter.service)
        if now.by != BY or now.version < 2:
            raise RefusedError(
                f"{perimeter.service}: the newest version is not ours ({now.by or 'nobody says whose'}); nothing is undone"
            )
        before = tables.read(perimeter.service, now.version - 1)
        made = tables.put(perimeter.service, before.rows, now.version, f"{BY}, undone")
        _follow(estate, network, place, perimeter, before.rows, at)
        out.append(PerimeterChange(network, made.version, len(before.rows), True))
    if not out:
        raise RefusedError(f"no perimeter of {network} names a service")
    return out


def _service(perimeter: Perimeter) -> str:
    if not perimeter.service:
        raise RefusedError(
            f"the perimeter of {perimeter.network} names no service: have these rows written by the people who keep it"
        )
    return perimeter.service


def _follow(estate: Estate, network: str, place: int, perimeter: Perimeter, rows: tuple[Record, ...], at: datetime) -> None:
    """The file with the rows that are at the service now, and the day in the estate file."""
    path = Path(perimeter.path)
    before = path.read_bytes()
    lines = ",\n".join(f"  {json.dumps(row, ensure_ascii=False)}" for row in rows)
    rewrite(path, before, (f"[\n{lines}\n]\n" if rows else "[]\n").encode())
    text = estate.path.read_bytes().decode()
    day = at.astimezone(estate.zone).date().isoformat()
    made = editing.with_taken(text, network, place, day, str(estate.path))
    if made != text:
        rewrite(estate.path, text.encode(), made.encode())
