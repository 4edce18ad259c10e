"""Passwords that were just made, on their one way out: shown on the terminal, or written to a new file of mode 0600."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING

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
        raise NightlatchError(f"{file} is there already; passwords are only written to a new file")
    if not file.absolute().parent.is_dir():
        raise NightlatchError(f"{file.absolute().parent} is no folder")
    return lambda given: _written(file, given)


def _shown(given: GivenPassword) -> None:
    from nightlatch.passwords.made import ALPHABET, LENGTH

    click.echo(f"{given.guest}: the password of {given.account} is  {given.password}", err=True)
    click.echo(
        f"  shown only now: {LENGTH} characters of {ALPHABET}. It counts once the change is kept, and is to be changed at the "
        "first login.",
        err=True,
    )


def _written(file: Path, given: GivenPassword) -> None:
    """One line each: guest, account, password, set apart by tabs."""
    descriptor = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
    with os.fdopen(descriptor, "a", encoding="utf-8") as stream:
        os.fchmod(descriptor, 0o600)
        stream.write(f"{given.guest}\t{given.account}\t{given.password}\n")
        stream.flush()
        os.fsync(descriptor)
