"""A guest's files in memory, as they were read: content, mode, owner, links. Immutable.

Paths are the guest's own, absolute and without "." or "..". Links are kept as links: `resolve` follows them inside the
snapshot, so no path ever leaves the guest.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum
from functools import cached_property

from nightlatch.evidence.facts import Facts, facts_of

DEEP = 60  # parts of a path that are looked up one in the other
MOST_LINKS = 40  # as the kernel's own limit (path_resolution(7))


class EntryKind(StrEnum):
    """What stands at a path."""

    FILE = "file"
    FOLDER = "folder"
    LINK = "link"
    OTHER = "other"  # a device, socket or pipe: never opened
    ABSENT = "absent"  # looked for, not there


@dataclass(frozen=True, slots=True)
class Entry:
    """One path. `content` is None for all but files, and for files that were not read (`note` says why).

    `mode` holds the permission bits (0o7777); `size` is in bytes; `reduced` says that secrets were taken out.
    `changed` is when a live guest's file was last changed (st_ctime, seconds since 1970), 0 where it was not asked.
    """

    kind: EntryKind
    mode: int = 0
    uid: int = 0
    gid: int = 0
    size: int = 0
    content: bytes | None = None
    target: str = ""
    note: str = ""
    reduced: bool = False
    changed: int = field(default=0, compare=False)

    @property
    def digest(self) -> str:
        """SHA-256 of the content in hexadecimal, empty where there is none."""
        return "" if self.content is None else hashlib.sha256(self.content).hexdigest()


ABSENT = Entry(EntryKind.ABSENT)


@dataclass(frozen=True, slots=True)
class ResolvedPath:
    """Where a path leads: the real `path`, its `entry`, and the folders walked through on the way.

    `entry` is None when the snapshot never looked there. `problem` is set where the walk broke (a loop of links, a
    file in the middle of the path).
    """

    path: str
    entry: Entry | None
    folders: tuple[str, ...] = ()
    problem: str = ""

    @property
    def is_file(self) -> bool:
        """Whether a regular file stands there."""
        return self.entry is not None and self.entry.kind is EntryKind.FILE


@dataclass(frozen=True)
class Snapshot:
    """All that was read of one guest. `listed` names the folders whose every child is in `entries`.

    `listings` are what programs on a live guest printed (sockets, addresses, units, daemons, opinions); there are none
    of a guest in a folder. `facts` are single words about the guest and how it was read, and `told` the same, typed.
    """

    guest: str
    entries: Mapping[str, Entry]
    listed: frozenset[str] = frozenset()
    notes: tuple[str, ...] = ()
    facts: Mapping[str, str] = field(default_factory=dict)
    listings: Mapping[str, bytes] = field(default_factory=dict)

    @property
    def is_live(self) -> bool:
        """Whether a running guest was asked."""
        return bool(self.listings)

    @cached_property
    def told(self) -> Facts:
        """What the survey was told in single words."""
        return facts_of(self.facts)

    @cached_property
    def _children(self) -> dict[str, list[str]]:
        out: dict[str, list[str]] = {}
        for path, entry in self.entries.items():
            if entry.kind is not EntryKind.ABSENT and path != "/":
                folder, _, name = path.rpartition("/")
                out.setdefault(folder or "/", []).append(name)
        return {folder: sorted(names) for folder, names in out.items()}

    def children(self, folder: str) -> list[str]:
        """The names known in a real folder, sorted by character code."""
        return self._children.get(folder, [])

    def is_listed(self, folder: str) -> bool:
        """Whether every child of a real folder is in `entries`."""
        return folder in self.listed

    @cached_property
    def _walked(self) -> dict[str, ResolvedPath]:
        return {}

    @cached_property
    def _walked_to(self) -> dict[str, ResolvedPath]:
        """The same without following what stands at the end."""
        return {}

    def resolve(self, path: str, *, follow_last: bool = True) -> ResolvedPath:
        """Walk `path` from the root as the kernel would, links included (path_resolution(7))."""
        walked = self._walked if follow_last else self._walked_to
        found = walked.get(path)
        if found is None:
            found = walked[path] = self._walk(path, follow_last)
        return found

    def _walk(self, path: str, follow_last: bool) -> ResolvedPath:
        above, _, last = path.rpartition("/")
        if last in ("", ".", "..") or path.count("/") > DEEP:
            return self._followed([p for p in path.split("/") if p], follow_last)
        over = self.resolve(above)  # most paths lie in a folder that others lie in
        kind = over.entry.kind if over.entry is not None else EntryKind.ABSENT
        here = f"{over.path.rstrip('/')}/{last}"
        if kind is EntryKind.FOLDER or not above:
            entry = self.entries.get(here)
            if entry is None:
                return ResolvedPath(here, self._unseen(over.path.rstrip("/")), over.folders)
            if entry.kind is EntryKind.FOLDER:
                return ResolvedPath(here, entry, (*over.folders, here))
            if entry.kind is not EntryKind.LINK or not follow_last:
                return ResolvedPath(here, entry, over.folders)
        elif kind is EntryKind.ABSENT:
            return ResolvedPath(here, over.entry, over.folders)
        return self._followed([p for p in path.split("/") if p], follow_last)

    def _unseen(self, folder: str) -> Entry | None:
        """What is known of a path in this folder that was not looked at."""
        return ABSENT if (folder or "/") in self.listed or self._absent_above(folder) else None

    def _followed(self, parts: list[str], follow_last: bool) -> ResolvedPath:
        real, folders, links = "", ["/"], 0
        while parts:
            part = parts.pop(0)
            if part == ".":
                continue
            if part == "..":
                real = real.rpartition("/")[0]
                continue
            here = f"{real}/{part}"
            entry = self.entries.get(here)
            if entry is None or entry.kind is EntryKind.ABSENT:
                return ResolvedPath("/".join([here, *parts]), entry or self._unseen(real), tuple(folders))
            if entry.kind is EntryKind.LINK and (parts or follow_last):
                links += 1
                if links > MOST_LINKS:
                    return ResolvedPath(here, entry, tuple(folders), "too many links, or a loop of them")
                if entry.target.startswith("/"):
                    real = ""
                parts = [p for p in entry.target.split("/") if p] + parts
                continue
            if parts and entry.kind is not EntryKind.FOLDER:
                return ResolvedPath(here, entry, tuple(folders), "not a folder")
            real = here
            if entry.kind is EntryKind.FOLDER:
                folders.append(here)
        return ResolvedPath(real or "/", self.entries.get(real or "/"), tuple(folders))

    def _absent_above(self, folder: str) -> bool:
        while folder:
            entry = self.entries.get(folder)
            if entry is not None:
                return entry.kind is EntryKind.ABSENT
            folder = folder.rpartition("/")[0]
        return False

    def content(self, path: str) -> bytes | None:
        """The content of the file that `path` leads to, or None."""
        entry = self.resolve(path).entry
        return entry.content if entry is not None and entry.kind is EntryKind.FILE else None

    def with_files(self, files: Mapping[str, Entry]) -> Snapshot:
        """The same guest with some entries replaced or added; folders above them are added where they are missing."""
        entries = {**self.entries, **files}
        return replace(self, entries=entries)


def from_files(guest: str, files: Mapping[str, bytes]) -> Snapshot:
    """A snapshot made by hand: guest paths and their bytes, all root's and readable, nothing else there."""
    entries: dict[str, Entry] = {"/": Entry(EntryKind.FOLDER, 0o755)}
    for path, content in files.items():
        parts = path.strip("/").split("/")
        for depth in range(1, len(parts)):
            entries.setdefault("/" + "/".join(parts[:depth]), Entry(EntryKind.FOLDER, 0o755))
        entries[path] = Entry(EntryKind.FILE, 0o644, size=len(content), content=content)
    folders = frozenset(path for path, entry in entries.items() if entry.kind is EntryKind.FOLDER)
    return Snapshot(guest, entries, folders)
