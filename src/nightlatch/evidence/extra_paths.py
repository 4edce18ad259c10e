"""Paths and accounts that are read of a guest in addition to those that always are."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class ExtraPaths:
    """Paths to look at, not into; files to read; folders to read with the files in them; and names of accounts that a running
    guest is asked for, where it has some from elsewhere than its files; `every` says that these are all that it can have so."""

    looked: tuple[str, ...] = ()
    files: tuple[str, ...] = ()
    folders: tuple[str, ...] = ()
    accounts: tuple[str, ...] = ()
    every: bool = False

    def __or__(self, other: ExtraPaths) -> ExtraPaths:
        """Both together, each path once."""
        return ExtraPaths(
            tuple(dict.fromkeys((*self.looked, *other.looked))),
            tuple(dict.fromkeys((*self.files, *other.files))),
            tuple(dict.fromkeys((*self.folders, *other.folders))),
            tuple(dict.fromkeys((*self.accounts, *other.accounts))),
            self.every or other.every,
        )


NO_MORE = ExtraPaths()
