"""Steps of a draft on files, their owners and modes: each one act on one path, with what it answers.

A step names the line it edits by its text, so that what somebody else has changed meanwhile is noticed, not overwritten.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class ManualTask:
    """Something that no step of this version closes, and what to do about it by hand. `mark` tells a difference from all others:
    it is made of whose it is, what it gives, and the exact callers."""

    text: str
    hand: str
    mark: str = ""


@dataclass(frozen=True, slots=True)
class Step:
    """One act on `path` (a real path), because of `why`. `opens` says that it lets somebody in: such steps come first."""

    path: str
    why: str
    opens: bool


@dataclass(frozen=True, slots=True)
class ReplaceLine(Step):
    """Line `before` (its whole text, the `nth` of that text from 0) becomes `after`; an empty `after` takes it away."""

    before: str
    after: str
    nth: int = 0

    def __str__(self) -> str:
        return f"in {self.path}: {'take away a line' if not self.after else 'change a line'}"


@dataclass(frozen=True, slots=True)
class InsertAbove(Step):
    """Put the line `text` above line `before` (its whole text, the `nth` of that text from 0)."""

    before: str
    nth: int
    text: str

    def __str__(self) -> str:
        return f"in {self.path}: put {self.text} above {self.before.strip()}"


@dataclass(frozen=True, slots=True)
class InsertSetting(Step):
    """Put a setting at the top of an sshd file, before its first line that counts: the first value wins."""

    text: str

    def __str__(self) -> str:
        return f"in {self.path}: put {self.text} first"


@dataclass(frozen=True, slots=True)
class AppendBlock(Step):
    """Put a Match block at the end of an sshd file."""

    lines: tuple[str, ...]

    def __str__(self) -> str:
        return f"in {self.path}: add a block, {self.lines[0]}"


@dataclass(frozen=True, slots=True)
class AddLine(Step):
    """Put a line at the end of a file, which is made with this owner and mode where it is missing."""

    line: str
    uid: int
    gid: int

    def __str__(self) -> str:
        return f"in {self.path}: add a line"


@dataclass(frozen=True, slots=True)
class MakeFile(Step):
    """Make a file with this content; there must be none."""

    content: str
    mode: int
    uid: int
    gid: int

    def __str__(self) -> str:
        return f"make {self.path}, mode {self.mode:04o}"


@dataclass(frozen=True, slots=True)
class MakeFolder(Step):
    """Make a folder."""

    mode: int
    uid: int
    gid: int

    def __str__(self) -> str:
        return f"make {self.path}, mode {self.mode:04o}"


@dataclass(frozen=True, slots=True)
class SetMode(Step):
    """Give a path another mode."""

    mode: int

    def __str__(self) -> str:
        return f"mode {self.mode:04o} for {self.path}"


@dataclass(frozen=True, slots=True)
class SetOwner(Step):
    """Give a path another owner (its group stays)."""

    uid: int

    def __str__(self) -> str:
        return f"owner {self.uid} for {self.path}"


FileStep = ReplaceLine | InsertAbove | InsertSetting | AppendBlock | AddLine | MakeFile | MakeFolder | SetMode | SetOwner
