"""What runs for an account without its person: tables of cron(8), and a user manager that is started at a boot (linger)."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import crontab
from nightlatch.systems.posix import JOB_FOLDERS, JOB_TABLE, JOB_TABLES


def places_of(snapshot: Snapshot, account: str) -> Iterator[str]:
    """The files that say so, of those that were looked at; with the line where a table is everybody's."""
    for folder in JOB_FOLDERS:
        entry = snapshot.resolve(f"{folder}/{account}").entry
        if entry is not None and entry.kind is EntryKind.FILE:
            yield f"{folder}/{account}"
    for path in (JOB_TABLE, *(f"{JOB_TABLES}/{name}" for name in snapshot.children(JOB_TABLES) if crontab.NAME.fullmatch(name))):
        for job in crontab.parse(snapshot.content(path) or b""):
            if job.account == account:
                yield f"{path}:{job.line}"
