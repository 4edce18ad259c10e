"""A proved draft as a difference for each file, with the findings that each part answers."""

from __future__ import annotations

import difflib
from contextlib import suppress
from dataclasses import dataclass
from hashlib import sha256

from nightlatch.draft.plan import ProvedDraft
from nightlatch.evidence.snapshot import Entry, EntryKind
from nightlatch.formats import krl
from nightlatch.formats import lines as text_lines
from nightlatch.model.account_steps import AccountStep


@dataclass(frozen=True, slots=True)
class FileDiff:
    """What happens to one path: lines taken away and added in their surroundings, or a new mode or owner."""

    path: str
    why: tuple[str, ...]
    lines: tuple[str, ...]
    note: str = ""


def of(proved: ProvedDraft) -> tuple[FileDiff, ...]:
    """The differences, path by path in the order of the steps; what happens to accounts is told by their steps."""
    steps = [step for step in proved.draft.steps if not isinstance(step, AccountStep)]
    order = dict.fromkeys(step.path for step in steps)
    out: list[FileDiff] = []
    for path in order:
        before, after = proved.before.entries.get(path), proved.after.entries[path]
        why = tuple(dict.fromkeys(step.why for step in steps if step.path == path))
        out.append(FileDiff(path, why, tuple(_lines(before, after)), _note(before, after)))
    return tuple(out)


def _lines(before: Entry | None, after: Entry) -> list[str]:
    held = before.content if before is not None else None
    if any(b"\0" in (raw or b"") for raw in (held, after.content)):
        old, new = ([_told(raw)] if raw else [] for raw in (held, after.content))
    else:
        old, new = _texts(held), _texts(after.content)
    if old == new:
        return []
    return list(difflib.unified_diff(old, new, lineterm="", n=1))[2:]


def _texts(raw: bytes | None) -> list[str]:
    return [text_lines.text_of(line).rstrip("\r\n") for line in text_lines.split(raw or b"")]


def _told(raw: bytes) -> str:
    """What is no text, such as a list of revoked keys, in one line."""
    with suppress(krl.KrlFault):
        found = krl.parse(raw)
        keys, certificates = len(found.fingerprints) + len(found.sha1), len(found.ranges) + len(found.ids)
        return f"(a list of revoked keys, number {found.number}, keys: {keys}, certificates: {certificates})"
    return f"({len(raw)} bytes that are no text, SHA-256 {sha256(raw).hexdigest()[:16]}...)"


def _note(before: Entry | None, after: Entry) -> str:
    if before is None or before.kind is EntryKind.ABSENT:
        what = "new folder" if after.kind is EntryKind.FOLDER else "new file"
        return f"{what}, mode {after.mode:04o}, owner {after.uid}, group {after.gid}"
    if after.kind is EntryKind.ABSENT:
        return "taken away"
    notes = []
    if before.mode != after.mode:
        notes.append(f"mode {before.mode:04o} becomes {after.mode:04o}")
    if before.uid != after.uid:
        notes.append(f"owner {before.uid} becomes {after.uid}")
    return ", ".join(notes)
