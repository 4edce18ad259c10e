"""Taking changes back: what is on the latch at once, what was kept by a change of its own."""

from __future__ import annotations

from datetime import datetime

from nightlatch.draft import reversal
from nightlatch.estate.model import Estate, GuestSpec
from nightlatch.evidence.extra_paths import ExtraPaths
from nightlatch.evidence.snapshot import ABSENT, EntryKind, Snapshot
from nightlatch.faults import RefusedError, work_on
from nightlatch.latch import folder, live, relocation, standing_change
from nightlatch.latch.folder import FolderChange, new_change_id
from nightlatch.latch.records import CHANGES, RECORD
from nightlatch.latch.standing_change import StandingChange
from nightlatch.model.outcomes import ChangeState
from nightlatch.ops.draft import prove
from nightlatch.ops.enact import (
    LATCH_SECONDS,
    NOT_THERE,
    Decide,
    LiveChange,
    keep_when_proved,
    owner,
    put_on_latch,
    returned,
    terms,
)
from nightlatch.ops.enact import told as told_apart
from nightlatch.ops.survey import chosen, client_for, more_of, survey_live
from nightlatch.transports import targets
from nightlatch.transports.shell import Shell
from nightlatch.transports.ssh import Client


def undo(
    estate: Estate,
    guest: str,
    at: datetime,
    change: str = "",
    *,
    client: Client | None = None,
    seconds: int = LATCH_SECONDS,
    decide: Decide = keep_when_proved,
) -> LiveChange:
    """Take back the newest change of a guest, or the one named; `at` is now, aware.

    What is on the latch is taken back at once. A kept change of a live guest is taken back by a change of its own, on
    the latch like any other, while nothing newer touches the same lines.
    """
    spec = chosen(estate, [guest])[0]
    if spec.via.kind in NOT_THERE:
        raise RefusedError(f"{guest} is {NOT_THERE[spec.via.kind]}: nothing was ever changed there")
    if not spec.via.is_live:
        with told_apart():
            return LiveChange(folder.undo(spec.via.path, guest, change), ChangeState.PUT_BACK)
    with client_for(client) as using, work_on(guest):
        usual = targets.of_guest(spec, using)
        shell = relocation.answering(spec, usual)
        told = live.ask(shell)
        if told.pending is not None and change in ("", told.pending.change):
            if shell is usual:
                outcome = live.decide(shell, told.pending.change, "back", owner())
            else:  # the connection goes with the address
                outcome = relocation.taken_back(usual, shell, told.pending.change, owner())
            done = returned(FolderChange(guest, told.pending.change, ()), outcome)
            return LiveChange(done, ChangeState.KEPT if outcome.kept else ChangeState.PUT_BACK)
        return _undo_kept(estate, spec, shell, at, change, seconds, decide)


def _undo_kept(
    estate: Estate, spec: GuestSpec, shell: Shell, at: datetime, change: str, seconds: int, decide: Decide
) -> LiveChange:
    found, snapshot = _kept(estate, spec, shell, change)
    made = reversal.draft(snapshot, found.record.id, found.kept, found.acts, found.accounts)
    if found.acts and not found.kept and not made.does:
        raise RefusedError(f"change {found.record.id}: {found.acts[0]}", guest=spec.name)
    proved = prove(estate, made, snapshot, at)
    number = new_change_id(at)
    on = terms(at, number, seconds, forget=found.record.id)
    done = put_on_latch(estate, shell, proved, at, on, decide=decide)
    outcome = {ChangeState.KEPT: ChangeState.PUT_BACK, ChangeState.PUT_BACK: ChangeState.KEPT}.get(done.outcome, done.outcome)
    left = (*done.changed.skipped, *reversal.stays(snapshot, found.kept))
    gone = [path for path in done.changed.paths if proved.after.entries.get(path, ABSENT).kind is EntryKind.ABSENT]
    changed = FolderChange(spec.name, found.record.id, done.changed.paths, left, done.changed.acts, removed=tuple(gone))
    return LiveChange(changed, outcome, done.confirmation, followed=done.followed, port=done.port)


def _kept(estate: Estate, spec: GuestSpec, shell: Shell, change: str) -> tuple[StandingChange, Snapshot]:
    """A kept change, and fresh evidence that holds its copies."""
    there = survey_live(shell, ExtraPaths(folders=(CHANGES,)), ask=False)
    names = sorted(n for n in there.children(CHANGES) if not change or n == change)
    more = more_of(estate, spec) | ExtraPaths(folders=tuple(f"{CHANGES}/{name}" for name in names))
    snapshot = survey_live(shell, more, ask=False)
    for name in reversed(names):
        if snapshot.content(f"{CHANGES}/{name}/{RECORD}") is not None:
            found = standing_change.read(snapshot, name, RECORD)
            missing = [each.path for each in found.kept if each.path not in snapshot.entries]
            if missing:
                snapshot = survey_live(shell, more | ExtraPaths(tuple(missing)), ask=False)
            return found, snapshot
    raise RefusedError(f"there is no change {change} to take back" if change else "no change is kept there", guest=spec.name)


__all__ = ["undo"]
