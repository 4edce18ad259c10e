"""The files that make a unit, and the slices above it (systemd.unit(5), UNIT FILE LOAD PATH; systemd.slice(5)).

The first main file there is counts, then the drop-ins of the unit, of the beginnings of its name and of its kind, in the order of
their own names, whatever folder they lie in; of two with the same name the one nearer to the unit counts, then the one nearer to
the administrator (measured: systemd 252). What lies under /run is gone with the next boot, and known of running guests by asking.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import sections
from nightlatch.formats.sections import Dialect
from nightlatch.systems import posix

WITH_SET = (posix.UNITS_SET, *posix.UNIT_FOLDERS)
SECOND_NAMES = {"ssh": "sshd", "sshd": "ssh"}
ROOT, SYSTEM = "-.slice", "system.slice"
SLICE = re.compile(r"[A-Za-z0-9_.:\\]{1,60}(?:-[A-Za-z0-9_.:\\]{1,60}){0,7}\.slice")


def files_of(snapshot: Snapshot, unit: str) -> tuple[str, ...]:
    """The files of a unit that were read, in the order in which they count; none where it is not there."""
    main = next((f"{top}/{unit}" for top in posix.UNIT_FOLDERS if snapshot.content(f"{top}/{unit}") is not None), "")
    found: dict[str, str] = {}
    for name in _named(snapshot, unit):
        for top in WITH_SET:
            folder = f"{top}/{name}.d"
            for child in snapshot.children(folder):
                if child.endswith(".conf"):
                    found.setdefault(child, f"{folder}/{child}")
    own = (main,) if main else ()
    return own + tuple(path for _, path in sorted(found.items()))


def section(unit: str) -> str:
    """The section in which a unit of this kind has its own settings."""
    return unit.rpartition(".")[2].capitalize()


def slices_above(named: str = "") -> tuple[str, ...]:
    """The slices that hold a unit whose files name this one, or none (systemd.resource-control(5), Slice=), the nearest first."""
    if named == ROOT:
        return (ROOT,)
    nearest = named if SLICE.fullmatch(named) else SYSTEM
    parts = nearest.removesuffix(".slice").split("-")
    return (*(f"{'-'.join(parts[:length])}.slice" for length in range(len(parts), 0, -1)), ROOT)


def slice_of(snapshot: Snapshot, unit: str) -> str:
    """The slice in the files of a unit; empty where they name none."""
    found = ""
    for path in files_of(snapshot, unit):
        for line in sections.parse(snapshot.content(path) or b"", Dialect.UNIT).entries(section(unit)):
            found = line.value.strip() if line.key == "Slice" else found
    return found


def _named(snapshot: Snapshot, unit: str) -> Iterator[str]:
    name, _, kind = unit.rpartition(".")
    yield unit
    second = f"{SECOND_NAMES.get(name, '')}.{kind}"
    for top in posix.UNIT_FOLDERS:
        entry = snapshot.resolve(f"{top}/{second}", follow_last=False).entry
        if entry is not None and entry.kind is EntryKind.LINK and entry.target.rpartition("/")[2] == unit:
            yield second
            break
    parts = name.split("-") if unit != ROOT else []
    for length in range(len(parts) - 1, 0, -1):
        yield f"{'-'.join(parts[:length])}-.{kind}"
    yield kind
