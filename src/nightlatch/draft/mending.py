"""The fewest steps that mend some differences of one guest and make no new ones; the rest of its differences is left alone."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime

from nightlatch.access.differences import Hole, ShutOut
from nightlatch.draft import plan
from nightlatch.draft.left import left_of
from nightlatch.draft.plan import Desk, Differences, DraftContext
from nightlatch.draft.steps import Steps
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.model.sources import NOWHERE, Sources, joined, without
from nightlatch.model.steps import ManualTask

About = Callable[[Hole | ShutOut], bool]


@dataclass(frozen=True, slots=True)
class Mending:
    """Steps that mend what was asked about, as a draft would take them, and what no step mends, with what a person can do."""

    steps: Steps
    left: tuple[ManualTask, ...] = ()


def mending(shared: DraftContext, snapshot: Snapshot, at: datetime, about: About) -> Mending:
    """The steps for the differences of a guest that `about` picks, at a moment (aware)."""
    desk = _Desk(shared, snapshot, at, about)
    steps = plan.steps_of(desk)
    return Mending(steps, tuple(left_of(desk, desk.after(steps))))


class _Desk(Desk):
    """A desk that sees the differences that were picked, and those that steps would make."""

    def __init__(self, shared: DraftContext, snapshot: Snapshot, at: datetime, about: About) -> None:
        self.about = about
        self.before: Differences | None = None
        super().__init__(shared, snapshot, at)

    def state(self, snapshot: Snapshot) -> Differences:
        whole = super().state(snapshot)
        if self.before is None:
            self.before = whole
        holes = tuple(each for each in whole.holes if self.about(each) or self._is_new_hole(each))
        shut_out = tuple(each for each in whole.shut_out if self.about(each) or self._is_newly_shut(each))
        return replace(whole, holes=holes, shut_out=shut_out)

    def _is_new_hole(self, found: Hole) -> bool:
        path = found.path
        same = (
            joined([each.certain, each.possible])
            for each in (self.before.holes if self.before is not None else ())
            if (each.path.place, each.path.need, each.path.power) == (path.place, path.need, path.power)
        )
        return _is_more(found.certain, joined(same))

    def _is_newly_shut(self, found: ShutOut) -> bool:
        same = (
            joined([each.certain, each.possible])
            for each in (self.before.shut_out if self.before is not None else ())
            if (each.grant, each.power) == (found.grant, found.power)
        )
        return _is_more(found.certain, joined(same))


def _is_more(certain: Sources, before: Sources) -> bool:
    return any(without(certain or NOWHERE, before).values())
