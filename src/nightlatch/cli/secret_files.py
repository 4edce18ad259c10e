"""Secrets that come from files: passphrases and passwords in a first line that only their owner may read."""

from __future__ import annotations

import os
import stat
from pathlib import Path


def first_line(path: Path, what: str, most: int, *, may_be_empty: bool = False) -> str:
    """The `what` in the first line of a file, its bytes as they are. Raises NightlatchError where others may read the file, or
    the line is empty or longer than `most`."""
    from nightlatch.faults import NightlatchError

    with path.open(encoding="utf-8", errors="surrogateescape") as file:
        if stat.S_IMODE(os.fstat(file.fileno()).st_mode) & 0o077:
            raise NightlatchError(f"{path} may be read by others: chmod 600 {path}, and change the {what} if they could")
        word = file.readline(most + 2).rstrip("\r\n")
    if len(word) > most:
        raise NightlatchError(f"{path} has more than {most} characters in its first line; that is no {what}")
    if not word and not may_be_empty:
        raise NightlatchError(f"{path} has no {what} in its first line")
    return word
