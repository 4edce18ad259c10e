"""The interface of transports for the collector: single steps on real paths, never through a link."""

from __future__ import annotations

from typing import Protocol

from nightlatch.evidence.selection import Purpose
from nightlatch.evidence.snapshot import Entry


class Source(Protocol):
    """A guest's files. All paths are real: no part of them but the last may be a link."""

    kind: str

    @property
    def owners_lost(self) -> bool:
        """Whether owners were not kept, so that they have to be taken from where a file lies."""

    def look(self, path: str) -> Entry:
        """What stands at `path`, without its content; `EntryKind.ABSENT` when there is nothing."""

    def read(self, path: str, limit: int, use: Purpose) -> Entry:
        """A regular file with its content; with a `note` and no content when it has more than `limit` bytes."""

    def names(self, folder: str, limit: int) -> list[str]:
        """The names in a real folder; raises UnreadableError when there are more than `limit`."""
