"""What runs for an account without its person: its table of cron(8), and a user manager that is started at a boot (linger)."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.systems.posix import JOB_FOLDERS


def paths_of(snapshot: Snapshot, account: str) -> Iterator[str]:
    """The files that say so, of those that were looked at."""
    for folder in JOB_FOLDERS:
        entry = snapshot.resolve(f"{folder}/{account}").entry
        if entry is not None and entry.kind is EntryKind.FILE:
            yield f"{folder}/{account}"
