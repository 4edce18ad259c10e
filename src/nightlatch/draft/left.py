"""What a draft leaves, each difference with what a person can do about it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from nightlatch.audit import holes, shut_out
from nightlatch.audit.obstacles import ObstacleSearch
from nightlatch.draft import marks
from nightlatch.draft.work import Work
from nightlatch.model.grants import GrantKind
from nightlatch.model.paths import AccessPath
from nightlatch.model.steps import ManualTask
from nightlatch.services.posix import code_lines

if TYPE_CHECKING:
    from nightlatch.draft.plan import Desk, Differences

EXEMPT = "emergency accounts are never drafted; change it on the guest"


def left_of(desk: Desk, state: Differences) -> Iterator[ManualTask]:
    """The certain differences that a draft leaves, each with what a person can do about it."""
    names = desk.names(state)
    over, under = state.certain
    for hole in holes.holes(over):
        for finding in holes.findings(hole.items, state.snapshot.guest, names):
            exempt = EXEMPT if desk.kept & set(finding.subjects) else _by_hand(desk, state, hole)
            yield ManualTask(finding.text, exempt, marks.of(hole.items))
    for out in shut_out.grouped(under, ObstacleSearch(state.access, desk.estate, desk.kinds), names):
        emergency = any(item.grant.kind is GrantKind.EMERGENCY for item in out.items)
        hand = _codes(desk, state, (item.grant.account for item in out.items)) or out.hand
        yield ManualTask(out.finding.text, EXEMPT if emergency else hand, marks.of(out.items))


def _codes(desk: Desk, state: Differences, accounts: Iterable[str]) -> str:
    return code_lines.lacks(state.access.reading, desk.grants, accounts)


def _by_hand(desk: Desk, state: Differences, hole: holes.HoleGroup) -> str:
    """What a person can do about a hole that no step closes."""
    waiting = next(filter(None, map(desk.order.waits, hole.paths)), "") or _codes(desk, state, (p.account for p in hole.paths))
    if waiting:
        return waiting
    alike = next((path.alike for path in hole.paths if path.alike), "")
    if alike:
        return f"all who come by the forward are {alike} to this guest: limit them before it, in the perimeter or at its host"
    if hole.by_sudo:
        return "edit the sudo rules with visudo"
    return next(filter(None, (_advice(desk, state, path) for path in hole.paths)), "change it on the guest")


def _advice(desk: Desk, state: Differences, path: AccessPath) -> str:
    """The service's own advice about a way in that no step shuts."""
    work = Work(state.access, desk.seen, desk.estate)
    found = (desk.kinds[path.service].hand(path, work.case(server)) for server in state.access.of(path.service))
    return next(filter(None, found), "")
