"""The steps of drafts. Applied to a snapshot, a step gives another snapshot, or refuses where it doesn't fit."""

from __future__ import annotations

from dataclasses import dataclass, replace

from nightlatch.audit.findings import Proof
from nightlatch.draft import account_changes, loaded_rules
from nightlatch.evidence.snapshot import ABSENT, Entry, EntryKind, Snapshot
from nightlatch.formats import lines as text_lines
from nightlatch.formats import sshd_config
from nightlatch.formats.account_fields import FieldFault
from nightlatch.formats.lines import LineEdit
from nightlatch.model.account_steps import AccountStep
from nightlatch.model.steps import (
    AddLine,
    AppendBlock,
    FileStep,
    InsertAbove,
    InsertSetting,
    MakeFile,
    MakeFolder,
    ReplaceLine,
    SetMode,
    SetOwner,
    Step,
)


class StepError(ValueError):
    """The step does not fit what it is applied to; the message says why."""


@dataclass(frozen=True, slots=True)
class RestorePath(Step):
    """Give a path what a kept change took from it: `entry` is what it becomes, `seen` what it must be now."""

    seen: Entry
    entry: Entry

    def __str__(self) -> str:
        return f"take away {self.path}" if self.entry.kind is EntryKind.ABSENT else f"take the change of {self.path} back"


@dataclass(frozen=True, slots=True)
class SetAddress(Step):
    """Give an interface fixed addresses in its own system's file, which becomes `content`; `seen` is what it must be now."""

    interface: str
    addresses: tuple[str, ...]
    seen: Entry
    content: bytes

    def __str__(self) -> str:
        return f"in {self.path}: {self.interface} gets {' and '.join(self.addresses)}, fixed"


@dataclass(frozen=True, slots=True)
class Rewrite(Step):
    """Give a file that Nightlatch once made another content; `seen` is what it must be now, `about` what it is about."""

    seen: Entry
    content: bytes
    about: str

    def __str__(self) -> str:
        return f"in {self.path}: {self.about}"


@dataclass(frozen=True, slots=True)
class SetRules(Step):
    """Give a file of a packet filter's `manager` another content, or make it; `seen` is what it must be now. `ahead_of` are
    rules of the guest's own that come too late for callers that the new rules let in."""

    manager: str
    seen: Entry
    content: bytes
    about: str
    ahead_of: tuple[Proof, ...] = ()

    def __str__(self) -> str:
        return f"in {self.path}: {self.about}" if self.seen.kind is EntryKind.FILE else f"make {self.path}: {self.about}"


AnyStep = FileStep | SetAddress | SetRules | Rewrite | RestorePath | AccountStep
Steps = tuple[AnyStep, ...]


def apply(snapshot: Snapshot, step: AnyStep) -> Snapshot:
    """The snapshot after the step. Raises StepError when the step does not fit."""
    entry = snapshot.entries.get(step.path)
    if isinstance(step, AccountStep):
        try:
            return account_changes.applied(snapshot, step)
        except FieldFault as fault:
            raise StepError(str(fault)) from None
    match step:
        case ReplaceLine():
            return _content(snapshot, step, _replaced(_raw(entry, step), step))
        case InsertAbove():
            return _content(snapshot, step, _above(_raw(entry, step), step))
        case InsertSetting():
            return _content(snapshot, step, _inserted(_raw(entry, step), step.text))
        case AppendBlock():
            raw = _raw(entry, step)
            lines = text_lines.split(raw)
            blank = [""] if lines and lines[-1].strip() else []
            edit = LineEdit(len(lines) + 1, (*blank, *step.lines), insert=True)
            return _content(snapshot, step, text_lines.apply(raw, [edit]))
        case AddLine():
            return _added(snapshot, step, entry)
        case MakeFile():
            if entry is not None and entry.kind is not EntryKind.ABSENT:
                raise StepError(f"{step.path} is there already")
            raw = text_lines.bytes_of(step.content)
            return snapshot.with_files({step.path: Entry(EntryKind.FILE, step.mode, step.uid, step.gid, len(raw), raw)})
        case SetAddress() | Rewrite():
            if entry is None or entry.digest != step.seen.digest:
                raise StepError(f"{step.path} is not as it was when it was read")
            _raw(entry, step)
            return _content(snapshot, step, step.content)
        case SetRules():
            return _rules_set(snapshot, step, entry or ABSENT)
        case MakeFolder():
            if entry is not None and entry.kind is not EntryKind.ABSENT:
                raise StepError(f"{step.path} is there already")
            made = Entry(EntryKind.FOLDER, step.mode, step.uid, step.gid)
            fresh = snapshot.with_files({step.path: made})
            return replace(fresh, listed=fresh.listed | {step.path})
        case SetMode():
            if entry is None or entry.kind not in (EntryKind.FILE, EntryKind.FOLDER):
                raise StepError(f"{step.path} is not there")
            return snapshot.with_files({step.path: replace(entry, mode=step.mode)})
        case SetOwner():
            if entry is None or entry.kind not in (EntryKind.FILE, EntryKind.FOLDER):
                raise StepError(f"{step.path} is not there")
            return snapshot.with_files({step.path: replace(entry, uid=step.uid)})
        case RestorePath():
            if (entry or ABSENT) != step.seen:
                raise StepError(f"{step.path} is not as it was when it was read")
            return loaded_rules.reloaded(snapshot, snapshot.with_files({step.path: step.entry}), step.path)


def _raw(entry: Entry | None, step: AnyStep) -> bytes:
    if entry is None or entry.kind is not EntryKind.FILE or entry.content is None:
        raise StepError(f"{step.path} is no file that was read")
    if entry.reduced:
        raise StepError(f"{step.path} holds secrets that were taken out on reading, so it can't be edited")
    return entry.content


def _content(snapshot: Snapshot, step: AnyStep, content: bytes) -> Snapshot:
    entry = snapshot.entries[step.path]
    return snapshot.with_files({step.path: replace(entry, content=content, size=len(content))})


def _rules_set(snapshot: Snapshot, step: SetRules, entry: Entry) -> Snapshot:
    """The file, and what a running guest holds once that is loaded."""
    if (entry.kind, entry.digest) != (step.seen.kind, step.seen.digest):
        raise StepError(f"{step.path} is not as it was when it was read")
    if entry.kind is EntryKind.FILE:
        _raw(entry, step)
        made = replace(entry, content=step.content, size=len(step.content))
    else:
        made = Entry(EntryKind.FILE, 0o640 if step.manager == "ufw" else 0o644, 0, 0, len(step.content), step.content)
    return loaded_rules.reloaded(snapshot, snapshot.with_files({step.path: made}), step.path)


def _replaced(raw: bytes, step: ReplaceLine) -> bytes:
    after = (step.after,) if step.after else ()
    return text_lines.apply(raw, [LineEdit(_number(raw, step), after)])


def _above(raw: bytes, step: InsertAbove) -> bytes:
    return text_lines.apply(raw, [LineEdit(_number(raw, step), (step.text,), insert=True)])


def _number(raw: bytes, step: ReplaceLine | InsertAbove) -> int:
    """The number of the line that a step names by its text."""
    count = 0
    for number, line in enumerate(text_lines.split(raw), 1):
        if text_lines.text_of(line).rstrip("\r\n") == step.before:
            if count == step.nth:
                return number
            count += 1
    raise StepError(f"{step.path} has no such line any more: {step.before}")


def _inserted(raw: bytes, text: str) -> bytes:
    document = sshd_config.parse(raw)
    first = next((line.number for line in document.lines if line.keyword), len(document.lines) + 1)
    return text_lines.apply(raw, [LineEdit(first, (text,), insert=True)])


def _added(snapshot: Snapshot, step: AddLine, entry: Entry | None) -> Snapshot:
    if entry is not None and entry.kind is EntryKind.FILE:
        raw = _raw(entry, step)
        edit = LineEdit(len(text_lines.split(raw)) + 1, (step.line,), insert=True)
        return _content(snapshot, step, text_lines.apply(raw, [edit]))
    if entry is not None and entry.kind is not EntryKind.ABSENT:
        raise StepError(f"{step.path} is no file")
    parent = snapshot.entries.get(step.path.rpartition("/")[0] or "/")
    if parent is None or parent.kind is not EntryKind.FOLDER:
        raise StepError(f"the folder of {step.path} is not there")
    content = text_lines.bytes_of(step.line) + b"\n"
    return snapshot.with_files({step.path: Entry(EntryKind.FILE, 0o600, step.uid, step.gid, len(content), content)})


def apply_all(snapshot: Snapshot, steps: tuple[AnyStep, ...]) -> Snapshot:
    """The snapshot after all steps, in order. Raises StepError."""
    for step in steps:
        snapshot = apply(snapshot, step)
    return snapshot
