"""Evidence archives, written and read."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from nightlatch import __version__
from nightlatch.evidence import archive
from nightlatch.evidence.snapshot import Snapshot

TOOL = f"nightlatch {__version__}"


def write_evidence(snapshot: Snapshot, path: Path, at: datetime, transport: str = "folder") -> None:
    """Write an evidence archive, whole or not at all."""
    archive.write(snapshot, path, tool=TOOL, taken=at, transport=transport)


def read_evidence(path: Path) -> Snapshot:
    """Read an evidence archive. Raises UnreadableError."""
    return archive.read(path)
