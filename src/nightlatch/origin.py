"""Where a fact comes from. Every reading, hop of a path and finding carries one."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Kind(StrEnum):
    """The kind of source of a fact."""

    FILE = "file"
    DEFAULT = "built-in default"
    ABSENT = "absent file"
    ESTATE = "estate file"
    LISTING = "listing"
    WIRE = "wire"


@dataclass(frozen=True, slots=True)
class Origin:
    """A place in a file. Line and column count from 1 (a column is one character, a tab too); 0 means the whole file.

    `path` is the guest's own path for `Kind.FILE` and `Kind.ABSENT`, the keyword for `Kind.DEFAULT`, the estate
    file's path for `Kind.ESTATE`, what was asked on the live guest for `Kind.LISTING`, and for `Kind.WIRE` where the look
    went to and came from.
    """

    path: str
    line: int = 0
    column: int = 0
    kind: Kind = Kind.FILE

    def __str__(self) -> str:
        if self.kind is Kind.DEFAULT:
            return f"built-in default of {self.path}"
        if self.kind is Kind.ABSENT:
            return f"{self.path} (there is no such file)"
        if self.kind is Kind.LISTING:
            return f"asked: {self.path}"
        if self.kind is Kind.WIRE:
            return f"seen on the wire: {self.path}"
        if not self.line:
            return self.path
        return f"{self.path}:{self.line}" + (f":{self.column}" if self.column else "")


def default(keyword: str) -> Origin:
    """The origin of a value that no file sets."""
    return Origin(keyword, kind=Kind.DEFAULT)
