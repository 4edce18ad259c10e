"""Draft: the smallest change for one guest, and its proof."""

from __future__ import annotations

from datetime import datetime

from nightlatch.draft import plan
from nightlatch.draft.plan import Common, Draft, ProvedDraft, common
from nightlatch.estate.model import Estate
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import work_on
from nightlatch.services.base import Kinds
from nightlatch.services.table import KINDS


def draft(
    estate: Estate, snapshot: Snapshot, at: datetime, kinds: Kinds = KINDS, *, shared: Common | None = None
) -> Draft:  # fmt: skip
    """The fewest steps that close what is certainly wrong on one guest; `Draft.left` says what no step closes.

    `shared` (from `nightlatch.draft.plan.common`) saves looking through the estate again for each of many guests.
    """
    with work_on(snapshot.guest):
        return plan.make(shared or common(estate, kinds), snapshot, at)


def prove(
    estate: Estate, made: Draft, snapshot: Snapshot, at: datetime, kinds: Kinds = KINDS, *, shared: Common | None = None
) -> ProvedDraft:  # fmt: skip
    """Work a draft out on evidence. Raises RefusedError when it does not close the gap, or shuts the own door."""
    with work_on(snapshot.guest):
        return plan.prove(shared or common(estate, kinds), made, snapshot, at)
