"""Dated evidence: beside the newest archive of each guest one of each day, so that last week can be asked about.

In the folder of archives each day has a folder of its own, 2026-11-24, with the last archive of that day. The same bytes are
kept once, by a hard link, where the file system has such.
"""

from __future__ import annotations

import os
import re
import shutil
from collections.abc import Iterator
from datetime import date, timedelta
from pathlib import Path

from nightlatch.evidence.file_names import SUFFIX

DAY = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}")


def keep(archive: Path, day: date) -> Path:
    """Keep an archive as the one of a day. Raises OSError."""
    folder = archive.parent / day.isoformat()
    folder.mkdir(mode=0o700, exist_ok=True)
    target = folder / archive.name
    part = folder / f".{archive.name}.part"
    part.unlink(missing_ok=True)
    try:
        os.link(archive, part)
    except OSError:  # no hard links there
        shutil.copy2(archive, part)
    os.replace(part, target)
    part.unlink(missing_ok=True)  # two names of one file: the rename did nothing (rename(2))
    return target


def forget(folder: Path, today: date, days: int) -> list[Path]:
    """Take away the archives of days longer ago than this; other files stay, and so does a folder that holds any. Raises
    OSError."""
    gone = []
    for day, place in days_in(folder):
        if day < today - timedelta(days=days):
            for each in sorted(place.iterdir()):
                if each.name.endswith(SUFFIX) and each.is_file() and not each.is_symlink():
                    each.unlink()
                    gone.append(each)
            if not any(place.iterdir()):
                place.rmdir()
    return gone


def days_in(folder: Path) -> Iterator[tuple[date, Path]]:
    """The days of which a folder holds evidence, the first one first."""
    for each in sorted(folder.iterdir()) if folder.is_dir() else ():
        if DAY.fullmatch(each.name) and each.is_dir() and not each.is_symlink():
            try:
                yield date.fromisoformat(each.name), each
            except ValueError:  # such as 2026-02-31
                continue


def of_day(folder: Path, day: date) -> Path | None:
    """The evidence of a day, or of the last one before it; None where there is none that old."""
    found = [place for each, place in days_in(folder) if each <= day]
    return found[-1] if found else None
