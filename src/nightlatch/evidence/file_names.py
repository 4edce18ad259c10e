"""The file name of a guest's evidence archive."""

from __future__ import annotations

from pathlib import Path

SUFFIX = ".evidence.tar.gz"


def file_of(folder: Path, guest: str) -> Path:
    """The archive of a guest in a folder; letters that may mean something in a path are dashes in its name."""
    return folder / ("".join(each if each.isalnum() or each in ".-_" else "-" for each in guest) + SUFFIX)
