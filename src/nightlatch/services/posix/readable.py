"""Whether an account can read a file: the folders on the way, and the file itself (path_resolution(7), access(2))."""

from __future__ import annotations

from nightlatch.evidence.snapshot import Entry, EntryKind, ResolvedPath, Snapshot
from nightlatch.model.causes import UnusableFile
from nightlatch.origin import Origin
from nightlatch.readings.accounts import Account


def may(entry: Entry, account: Account, bit: int) -> bool:
    """Whether an account other than root's has one of the rights read (4), write (2), enter or run (1)."""
    if entry.uid == account.uid:
        return bool(entry.mode & (bit << 6))
    if entry.gid in account.gids:
        return bool(entry.mode & (bit << 3))
    return bool(entry.mode & bit)


def unreadable(snapshot: Snapshot, found: ResolvedPath, account: Account) -> UnusableFile | None:
    """Why an account can't read a file that is there."""
    if account.uid == 0:
        return None
    for folder in found.folders:
        entry = snapshot.resolve(folder, follow_last=False).entry
        if entry is not None and not may(entry, account, 0o1):
            return UnusableFile(folder, f"{account.name} may not enter this folder (mode {entry.mode:04o})", Origin(folder))
    assert found.entry is not None
    if not may(found.entry, account, 0o4):
        return UnusableFile(found.path, f"{account.name} can't read it (mode {found.entry.mode:04o})", Origin(found.path))
    return None


def opened(snapshot: Snapshot, path: str, account: Account | None) -> UnusableFile | None:
    """Why what stands at a path can't be opened by the account that needs it; None is root. What was not looked at is taken to
    open, and told by the one who asks (`looked_at`)."""
    found = snapshot.resolve(path)
    if found.problem:
        return UnusableFile(found.path, found.problem, Origin(found.path))
    if found.entry is None:
        return None
    if found.entry.kind is EntryKind.ABSENT:
        return UnusableFile(found.path, "there is no such file", Origin(found.path))
    return unreadable(snapshot, found, account) if account is not None else None


def looked_at(snapshot: Snapshot, path: str) -> bool:
    """Whether the evidence says what stands at a path."""
    return snapshot.resolve(path).entry is not None
