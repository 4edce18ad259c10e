"""Taking back a kept change: its lines become what they were, unless somebody touched them since."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from nightlatch.draft import acts
from nightlatch.draft.acts import Act
from nightlatch.draft.plan import Draft
from nightlatch.draft.steps import AnyStep, RestorePath
from nightlatch.evidence.snapshot import ABSENT, Entry, EntryKind, Snapshot
from nightlatch.faults import RefusedError
from nightlatch.formats import lines as text_lines
from nightlatch.model import account_steps
from nightlatch.model.account_steps import AccountStep


@dataclass(frozen=True, slots=True)
class KeptPath:
    """One path of a kept change: how it was before and how the change left it."""

    path: str
    before: Entry
    after: Entry


def draft(
    snapshot: Snapshot,
    change: str,
    kept: Iterable[KeptPath],
    done: Sequence[Act] = (),
    accounts: Sequence[AccountStep] = (),
) -> Draft:
    """The draft that takes `change` back on this evidence; `done` are its acts beside files and `accounts` its steps on accounts,
    in their order.

    Raises RefusedError when something newer is in the way.
    """
    kept = list(kept)
    staying = stays(snapshot, kept)
    steps: list[AnyStep] = []
    for each in kept:
        if each.path in staying:
            continue
        now = snapshot.entries.get(each.path, ABSENT)
        then = _returned(snapshot.guest, change, each, now)
        if then != now:
            steps.append(RestorePath(each.path, f"Change {change} is taken back.", False, now, then))
    why = f"Change {change} is taken back."
    back = (acts.inverse(act, why) for act in reversed(done))
    people = (account_steps.inverse(step, why) for step in reversed(accounts))
    return Draft(snapshot.guest, (*reversed(steps), *people), (), change, tuple(act for act in back if act is not None))


def stays(snapshot: Snapshot, kept: Iterable[KeptPath]) -> tuple[str, ...]:
    """Folders that the change made and that hold something else by now: these can't be taken away."""
    kept = list(kept)
    made = {each.path for each in kept if each.before.kind is EntryKind.ABSENT}
    return tuple(
        each.path
        for each in kept
        if each.path in made
        and each.after.kind is EntryKind.FOLDER
        and any(f"{each.path}/{name}" not in made for name in snapshot.children(each.path))
    )


def _returned(guest: str, change: str, kept: KeptPath, now: Entry) -> Entry:
    if _same(now, kept.before):
        return now
    if _same(now, kept.after):
        return kept.before
    if (
        EntryKind.ABSENT in (now.kind, kept.before.kind)
        or now.kind is not EntryKind.FILE
        or kept.before.kind is not EntryKind.FILE
    ):
        raise RefusedError(f"{kept.path} was changed after change {change}, and can't be given back as it was", guest=guest)
    content = merged(kept.before.content or b"", kept.after.content or b"", now.content or b"")
    if content is None:
        raise RefusedError(f"something newer touches the same lines of {kept.path} as change {change}", guest=guest)
    # Mode and owner go back only where they are still those that the change gave.
    was, made = kept.before, kept.after
    mode = was.mode if now.mode == made.mode else now.mode
    uid, gid = (was.uid, was.gid) if (now.uid, now.gid) == (made.uid, made.gid) else (now.uid, now.gid)
    return replace(now, content=content, size=len(content), mode=mode, uid=uid, gid=gid)


def _same(one: Entry, other: Entry) -> bool:
    return (one.kind, one.mode, one.uid, one.gid, one.content) == (other.kind, other.mode, other.uid, other.gid, other.content)


def merged(before: bytes, after: bytes, now: bytes) -> bytes | None:
    """`now` with the lines that led from `before` to `after` taken back; None where these lines were touched since."""
    old, made, found = (text_lines.split(raw) for raw in (before, after, now))
    place = _places(made, found)
    out, at = [], 0
    for start, end, low, high in hunks(before, after):
        spots = [place.get(line) for line in range(start, end)]
        first = place.get(start - 1, -1 if start == 0 else None)
        here = spots[0] if spots else (first + 1 if first is not None else None)
        if here is None or spots != list(range(here, here + len(spots))):
            return None
        out += [*found[at:here], *old[low:high]]
        at = here + len(spots)
    return b"".join([*out, *found[at:]])


def hunks(before: bytes, after: bytes) -> tuple[tuple[int, int, int, int], ...]:
    """The edits from `before` to `after`: lines start to end of `after` replace lines low to high of `before`, counted
    from 0, ends exclusive."""
    codes = difflib.SequenceMatcher(None, text_lines.split(before), text_lines.split(after), autojunk=False).get_opcodes()
    return tuple((start, end, low, high) for tag, low, high, start, end in codes if tag != "equal")


def _places(made: list[bytes], found: list[bytes]) -> dict[int, int]:
    """Where each line of `made` is in `found`, as far as it is there unchanged."""
    out: dict[int, int] = {}
    for block in difflib.SequenceMatcher(None, made, found, autojunk=False).get_matching_blocks():
        out.update({block.a + i: block.b + i for i in range(block.size)})
    return out
