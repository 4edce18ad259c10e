"""The promises of a proved draft about a running guest, and those that do not hold after the change."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime

from nightlatch.access.grants import sources_of
from nightlatch.draft import account_changes, identities, services
from nightlatch.draft.acts import Act
from nightlatch.draft.left import left_of
from nightlatch.draft.plan import Desk, ProvedDraft, draft_context
from nightlatch.estate.model import Estate
from nightlatch.evidence.snapshot import ABSENT, Entry, Snapshot
from nightlatch.model.account_steps import AccountStep
from nightlatch.model.sources import COMMON
from nightlatch.net.addresses import NO_ADDRESS
from nightlatch.services.ssh import after_change


@dataclass(frozen=True)
class Promise:
    """The promises of a change: the state of every path, on a guest that was as `before`; the marks of the differences
    that stay; what is done beside files; and whether it takes an earlier change back. Of a change that another release made only
    how `many` differences stay may be known."""

    before: Snapshot
    made: Mapping[str, Entry]
    left: frozenset[str]
    acts: tuple[Act, ...]
    returns: bool
    many: int = 0
    accounts: tuple[AccountStep, ...] = ()


def of(proved: ProvedDraft) -> Promise:
    """The promise of a proved draft."""
    draft = proved.draft
    made = {path: proved.after.entries.get(path, ABSENT) for path in proved.changed}
    left = frozenset(each.mark for each in draft.left)
    return Promise(proved.before, made, left, draft.acts, bool(draft.returns), accounts=proved.accounts)


def broken(estate: Estate, promise: Promise, now: Snapshot, at: datetime) -> list[str]:
    """The promises that fresh evidence breaks, in words; empty when all hold."""
    out = unlike(promise.made, now)
    out += [f"not so: {step}" for step in account_changes.not_so(now, promise.accounts)]
    work = Desk(draft_context(estate), promise.before, at)
    before, state = work.first, work.state(now)
    out += [f"{program} would not start again: {because}" for program, because in work.dead(state)]
    if work.door_shrunk(before, state, returns=promise.returns):
        out.append("management access or an emergency account is narrower than before")
    if not promise.returns:
        due = [*services.given(estate, now).acts, *identities.given(estate, state.access).acts]
        out += [f"still to be done: {act}" for act in due if act in promise.acts]
    if not promise.returns:
        more = [entry.text for entry in left_of(work, state) if entry.mark not in promise.left]
        out += more if len(more) > promise.many else []
    return out + list(after_change.on_the_wire(state.access.ssh))


def unlike(made: Mapping[str, Entry], now: Snapshot) -> list[str]:
    """The paths that are not as a change made them, in words."""
    return [f"{path} is not as it was made" for path, entry in made.items() if _differs(entry, now, path)]


def _differs(wanted: Entry, now: Snapshot, path: str) -> bool:
    found = now.entries.get(path, ABSENT)
    return (wanted.kind, wanted.mode, wanted.uid, wanted.gid, wanted.digest) != (
        found.kind,
        found.mode,
        found.uid,
        found.gid,
        found.digest,
    )


def places(estate: Estate, now: Snapshot) -> tuple[list[str], list[str]]:
    """The places of grants on this guest: those that the fresh connection came from, and those it says nothing of."""
    source = now.told.came.address
    proven: dict[str, None] = {}
    unproven: dict[str, None] = {}
    for spec in estate.of(now.guest).grants:
        for ref in spec.places:
            inside = source and source in sources_of(estate, [ref]).get(COMMON, NO_ADDRESS)
            (proven if inside else unproven)[ref.text] = None
    return list(proven), list(unproven)
