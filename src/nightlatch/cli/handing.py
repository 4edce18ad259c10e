"""Passwords that were just made, on their one way out: shown on the terminal, or written to a new file of mode 0600."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING, TextIO

import click

if TYPE_CHECKING:
    from nightlatch.ops.giving import GivenPassword, HandOver


def taker(file: Path | None) -> HandOver | None:
    """The one who takes passwords: a file, else the terminal; None where there is neither. Raises NightlatchError for a file that
    is there already."""
    from nightlatch.faults import NightlatchError

    if file is None:
        return _shown if sys.stderr.isatty() else None
    if os.path.lexists(file):
        raise NightlatchError(f"{file} is there already; passwords are only written to a new file, so name another")
    if not file.absolute().parent.is_dir():
        raise NightlatchError(f"{file.absolute().parent} is no folder; name a file in one that is there")
    opened: list[TextIO] = []

    def write(given: GivenPassword) -> None:
        if not opened:
            opened.append(_made(file))
        _written(opened[0], given)

    return write


def _shown(given: GivenPassword) -> None:
    from nightlatch.passwords.made import ALPHABET, LENGTH

    click.echo(f"{given.guest}: the password of {given.account} is  {given.password}", err=True)
    click.echo(
        f"  shown only now: {LENGTH} characters of {ALPHABET}. It counts once the change is kept, and is to be changed at the "
        "first login.",
        err=True,
    )


def _made(file: Path) -> TextIO:
    """A file that was not there a moment ago, so that it is nobody else's."""
    from nightlatch.faults import NightlatchError

    try:
        descriptor = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
    except OSError as error:
        raise NightlatchError(f"{file} can't be written: {error.strerror}; nothing was begun there") from None
    os.fchmod(descriptor, 0o600)
    return os.fdopen(descriptor, "w", encoding="utf-8")


def _written(stream: TextIO, given: GivenPassword) -> None:
    """One line each: guest, account, password, set apart by tabs."""
    stream.write(f"{given.guest}\t{given.account}\t{given.password}\n")
    stream.flush()
    os.fsync(stream.fileno())
