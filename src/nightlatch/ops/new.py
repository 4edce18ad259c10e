"""New: a commented estate file to begin with."""

from __future__ import annotations

from pathlib import Path

from nightlatch.estate.starter import starter
from nightlatch.faults import RefusedError, UnreadableError


def new_estate(path: Path) -> None:
    """Write a commented starter file. Raises RefusedError when something is there already."""
    try:
        with path.open("x", encoding="utf-8") as stream:
            stream.write(starter(path.name))
    except FileExistsError:
        raise RefusedError(f"{path} is there already; nothing was written") from None
    except OSError as error:
        raise UnreadableError(f"{path} can't be written: {error.strerror}") from None
