"""A change that stands on a guest, kept or on the latch: its record and its originals, from fresh evidence.

The record and the copies are the guest's by now, so every digest is compared.
"""

from __future__ import annotations

from dataclasses import dataclass

from nightlatch.draft import acts
from nightlatch.draft.acts import Act
from nightlatch.draft.marks import MARK
from nightlatch.draft.promises import Promise
from nightlatch.draft.reversal import KeptPath
from nightlatch.draft.reversal import draft as returned
from nightlatch.draft.steps import apply_all
from nightlatch.evidence.snapshot import ABSENT, Entry, EntryKind, Snapshot
from nightlatch.faults import UnreadableError
from nightlatch.latch.records import CHANGES, PathState, Record, parse
from nightlatch.model import account_steps
from nightlatch.model.account_steps import AccountStep


@dataclass(frozen=True)
class StandingChange:
    """One change: its record, and each path as it was before and as the change made it."""

    record: Record
    kept: tuple[KeptPath, ...]

    @property
    def acts(self) -> tuple[Act, ...]:
        """What was done beside files and accounts."""
        return tuple(acts.parse(words) for words in self.record.acts if not account_steps.is_account_step(words))

    @property
    def accounts(self) -> tuple[AccountStep, ...]:
        """What was done with accounts."""
        return tuple(account_steps.parse(words) for words in self.record.acts if account_steps.is_account_step(words))

    def promise(self, now: Snapshot) -> Promise:
        """The promises of the change. The state before it is worked out by taking it back in memory.

        Raises RefusedError where something newer touches the same lines.
        """
        record = self.record
        back = returned(now, record.id, self.kept, self.acts, self.accounts)
        made = {each.path: each.after for each in self.kept}
        known = frozenset(each for each in record.left if MARK.fullmatch(each))
        many = len(record.left) - len(known)  # other releases wrote words
        return Promise(apply_all(now, back.steps), made, known, self.acts, bool(record.returns), many, self.accounts)


def read(now: Snapshot, change: str, name: str) -> StandingChange:
    """The change whose record is the file `name` of its folder. Raises UnreadableError where that is missing or damaged."""
    place = f"{CHANGES}/{change}"
    raw = now.content(f"{place}/{name}")
    if raw is None:
        raise UnreadableError(f"{place}/{name} is missing; what the change promised can't be read", guest=now.guest)
    record = parse(raw, f"{now.guest}: {place}/{name}")
    kept = (
        KeptPath(each.path, _was(now, each.before, f"{place}/{each.copy_name}"), _was(now, each.after, f"{place}/{number}.after"))
        for number, each in enumerate(record.touched)
    )
    return StandingChange(record, tuple(kept))


def _was(snapshot: Snapshot, side: PathState, copy: str) -> Entry:
    if side.kind == "absent":
        return ABSENT
    if side.kind == "folder":
        return Entry(EntryKind.FOLDER, side.mode, side.uid, side.gid)
    content = snapshot.content(copy)
    entry = Entry(EntryKind.FILE, side.mode, side.uid, side.gid, len(content or b""), content)
    if entry.digest != side.sha256:
        raise UnreadableError(f"{copy} is missing or damaged; the change can't be taken back", guest=snapshot.guest)
    return entry
