"""Draft: the smallest change for one guest, and its proof."""

from __future__ import annotations

from datetime import datetime

from nightlatch.draft import plan
from nightlatch.draft.plan import Draft, DraftContext, ProvedDraft, draft_context
from nightlatch.estate.model import Estate
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import work_on
from nightlatch.services.base import Kinds
from nightlatch.services.table import KINDS


def draft(estate: Estate, snapshot: Snapshot, at: datetime, kinds: Kinds = KINDS, *, shared: DraftContext | None = None) -> Draft:
    """The fewest steps that close what is certainly wrong on one guest; `Draft.left` says what no step closes.

    `shared` (from `nightlatch.draft.plan.common`) saves looking through the estate again for each of many guests.
    """
    with work_on(snapshot.guest):
        return plan.make(shared or draft_context(estate, kinds), snapshot, at)


def prove(
    estate: Estate, made: Draft, snapshot: Snapshot, at: datetime, kinds: Kinds = KINDS, *, shared: DraftContext | None = None
) -> ProvedDraft:
    """Work a draft out on evidence. Raises RefusedError when it does not close the gap, or shuts management access."""
    with work_on(snapshot.guest):
        return plan.prove(shared or draft_context(estate, kinds), made, snapshot, at)


def proved_draft(
    estate: Estate, snapshot: Snapshot, at: datetime, kinds: Kinds = KINDS, *, shared: DraftContext | None = None
) -> ProvedDraft:
    """`draft` and `prove` in one; what both need is worked out once. Raises RefusedError as `prove` does."""
    with work_on(snapshot.guest):
        return plan.made_and_proved(shared or draft_context(estate, kinds), snapshot, at)
