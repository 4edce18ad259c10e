"""The sudoers tree of a guest: every file in the order sudo reads it (sudoers(5), Including other files)."""

from __future__ import annotations

from dataclasses import dataclass

from nightlatch.evidence.remembered import remembered
from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import sudoers
from nightlatch.model.gaps import Gap
from nightlatch.origin import Origin

MAIN = "/etc/sudoers"
MOST_FILES = 128


@dataclass(frozen=True, slots=True)
class SudoReading:
    """Items with the real path each stands in, in order. `installed` says whether sudo is there at all."""

    items: tuple[tuple[str, sudoers.Item], ...] = ()
    installed: bool = False
    gaps: tuple[Gap, ...] = ()


@remembered(64)
def read(snapshot: Snapshot) -> SudoReading:
    """The tree; without the program, sudo gives nothing to anybody."""
    program = snapshot.resolve("/usr/bin/sudo").entry
    if program is None or program.kind is not EntryKind.FILE:
        return SudoReading()
    items: list[tuple[str, sudoers.Item]] = []
    gaps: list[Gap] = []
    _file(snapshot, MAIN, items, gaps, set())
    return SudoReading(tuple(items), True, tuple(gaps))


def _file(snapshot: Snapshot, path: str, items: list[tuple[str, sudoers.Item]], gaps: list[Gap], seen: set[str]) -> None:
    found = snapshot.resolve(path)
    if found.entry is None or found.entry.content is None or found.path in seen or len(seen) > MOST_FILES:
        if found.path not in seen:
            gaps.append(Gap("privilege", "this file could not be read", Origin(path)))
        return
    if (found.entry.mode & 0o022) or found.entry.uid != 0:
        # sudo ignores a file that others may write (sudoers(5), owner and mode).
        gaps.append(Gap("privilege", "sudo refuses this file: others than root may write it", Origin(found.path)))
        return
    seen.add(found.path)
    for item in sudoers.parse(found.entry.content):
        if not isinstance(item, sudoers.Include):
            items.append((found.path, item))
            continue
        target = item.path if item.path.startswith("/") else f"{found.path.rpartition('/')[0]}/{item.path}"
        if not item.folder:
            _file(snapshot, target, items, gaps, seen)
            continue
        for name in snapshot.children(snapshot.resolve(target).path):
            # Names with a dot or a tilde at the end are skipped by sudo.
            if "." not in name and not name.endswith("~"):
                _file(snapshot, f"{target}/{name}", items, gaps, seen)
