"""The state of any unit: whether it is there, started at boot, and running (systemd.unit(5), systemctl(1)).

A running guest's service manager was asked; of a folder its files tell: a unit file, and the links by which targets want it.
Only links are followed that an enabled unit leaves where administrators' links are; presets and generators are not.
"""

from __future__ import annotations

from dataclasses import dataclass

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.origin import Origin
from nightlatch.readings.units.service_reading import ServiceReading, Unit
from nightlatch.systems import posix

TARGETS = ("multi-user", "sockets", "sysinit", "timers", "network-online", "graphical", "default")
STARTED = ("enabled", "enabled-runtime", "alias")
MASKED = ("masked", "masked-runtime")


@dataclass(frozen=True, slots=True)
class UnitState:
    """One unit; each answer is None where it is not known. `by_others` says that it has no [Install] part of its own."""

    name: str
    there: bool | None
    at_boot: bool | None
    running: bool | None
    origin: Origin
    masked: bool = False
    by_others: bool = False


def paths_of(unit: str) -> tuple[str, ...]:
    """The paths that tell of a unit in files: its own, and the links that start it at boot."""
    own = tuple(f"{top}/{unit}" for top in posix.UNIT_FOLDERS)
    return own + tuple(f"{posix.UNIT_FOLDERS[0]}/{target}.target.wants/{unit}" for target in TARGETS)


def state(snapshot: Snapshot, service: ServiceReading, name: str) -> UnitState:
    """What is known of one unit."""
    unit = service.units.get(name)
    if unit is not None:
        return _listed(name, unit)
    known = {path: _there(snapshot, path) for path in paths_of(name)}
    there_at = [path for path, there in known.items() if there]
    found, links = ([path for path in there_at if (".target.wants/" in path) is wants] for wants in (False, True))
    there = True if there_at else None if None in known.values() else False
    masked = _masked(snapshot, name)
    at_boot = None if None in known.values() and not links else bool(links) and not masked
    running = False if service.is_live and there is False else None
    origin = Origin((links or found or [f"{posix.UNIT_FOLDERS[0]}/{name}"])[0])
    return UnitState(name, there, at_boot, running, origin, masked)


def _listed(name: str, unit: Unit) -> UnitState:
    state = unit.file_state
    return UnitState(
        name,
        unit.loaded or state in MASKED,
        state in STARTED or (not state and unit.active),
        unit.active,
        unit.origin,
        state in MASKED,
        state in ("static", "indirect", "generated", "transient"),
    )


def _there(snapshot: Snapshot, path: str) -> bool | None:
    entry = snapshot.resolve(path, follow_last=False).entry
    return None if entry is None else entry.kind is not EntryKind.ABSENT


def _masked(snapshot: Snapshot, name: str) -> bool:
    entry = snapshot.resolve(f"{posix.UNIT_FOLDERS[0]}/{name}", follow_last=False).entry
    return entry is not None and entry.kind is EntryKind.LINK and entry.target == "/dev/null"
