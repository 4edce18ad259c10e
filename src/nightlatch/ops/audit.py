"""Audit: guests held against the estate, one by one or in several processes, and then against each other."""

from __future__ import annotations

import gc
import os
import signal
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from nightlatch.access.grants import address_spaces
from nightlatch.access.paths import guest_access
from nightlatch.audit import documents, run
from nightlatch.audit.checks.registry import Identities
from nightlatch.audit.findings import Finding, Group, GuestAudit, Severity
from nightlatch.audit.interning import Interner
from nightlatch.audit.names import names_of
from nightlatch.estate.model import Estate, GuestSpec
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import NightlatchError, OwnFaultError, words_of, work_on
from nightlatch.ops.survey import SurveyResult, chosen, read_one, survey, survey_target
from nightlatch.readings import guest as readings
from nightlatch.services.base import Kinds
from nightlatch.services.table import KINDS

if TYPE_CHECKING:
    from nightlatch.transports.ssh import Client


@dataclass(frozen=True)
class Audit:
    """All guests of an audit. `estate` is empty for a first look without an estate file; `left_out` are guests of the estate that
    were not asked for, so that none of these was held against them."""

    estate: str
    at: datetime
    guests: tuple[GuestAudit, ...]
    left_out: int = 0

    def findings(self, group: Group) -> list[Finding]:
        """The findings of one group that are not waived."""
        return [f for g in self.guests for f in g.findings if f.group is group and not f.waived]

    @property
    def undecided(self) -> bool:
        """Whether something could not be read or decided."""
        return any(g.unread or g.undecided or g.count(Group.UNDECIDED) for g in self.guests)

    def to_dict(self) -> dict[str, Any]:
        """The audit as plain values: `nightlatch/audit/2` (docs/json.md), a draft until screens have used it."""
        return documents.audit(self.estate, self.at, self.left_out, self.guests)

    def exit_code(self, fail_at: Severity = Severity.HIGH) -> int:
        """3 when something could not be read or decided, else 1 for findings at or above `fail_at`, else 0."""
        if self.undecided:
            return 3
        counted = (f for g in self.guests for f in g.findings if not f.waived and f.group is not Group.UNDECIDED)
        return 1 if any(f.severity.at_least(fail_at) for f in counted) else 0


AuditedGuest = tuple[GuestAudit, Identities | None]
FEW = 64  # guests that one process audits faster than several do


def audit(
    estate: Estate,
    at: datetime,
    guests: Sequence[str] | None = None,
    jobs: int = 0,
    *,
    client: Client | None = None,
    kinds: Kinds = KINDS,
) -> Audit:
    """Hold every guest against the estate. Guests are read one by one and forgotten again; findings are kept.

    `jobs` is the number of processes; 0 takes one for few guests and one a processor for many. Live guests are
    surveyed several at a time.
    """
    return audited(estate, at, guests, jobs, client=client, kinds=kinds)[0]


def audited(
    estate: Estate,
    at: datetime,
    guests: Sequence[str] | None = None,
    jobs: int = 0,
    *,
    client: Client | None = None,
    kinds: Kinds = KINDS,
) -> tuple[Audit, list[Identities]]:
    """The audit, and the identities of each guest that the checks over all guests compare."""
    run.check_waivers(estate)
    picked = chosen(estate, guests)
    jobs = jobs or (1 if len(picked) < FEW else os.cpu_count() or 1)
    return assembled(estate, at, [spec.name for spec in picked], _audited(estate, at, picked, jobs, client, kinds))


def assembled(
    estate: Estate, at: datetime, names: Sequence[str], found: Iterable[AuditedGuest]
) -> tuple[Audit, list[Identities]]:
    """Audited guests, in whatever order they come, as one audit in the order of `names`, with the checks over all of them."""
    audits: dict[str, GuestAudit] = {}
    fleet: list[Identities] = []
    shared = Interner()
    for each, identities in found:
        audits[each.guest] = shared.audit(each)
        fleet += [shared.identities(identities)] if identities else []
    more, failed = _compared(fleet, estate, at)
    ordered = [replace(audits[name], unread=failed.get(name, "") or audits[name].unread) for name in names]
    result = Audit(estate.name, at, tuple(_with_fleet(ordered, more)), len(estate.guests) - len(names))
    return result, [each for each in fleet if each.guest not in failed]


def _compared(fleet: list[Identities], estate: Estate, at: datetime) -> tuple[dict[str, list[Finding]], dict[str, str]]:
    """The findings of the checks over all guests; and the guests that can't be compared, each with the reason."""
    try:
        return run.fleet(fleet, estate, at), {}
    except Exception as error:
        failed = {each.guest: problem for each in fleet if (problem := _alone(each, estate, at))}
        if not failed:  # none fails by itself, so none of them can be told from the others
            failed = {each.guest: OwnFaultError(each.guest, error).words for each in fleet}
        more, others = _compared([each for each in fleet if each.guest not in failed], estate, at)
        return more, failed | others


def _alone(one: Identities, estate: Estate, at: datetime) -> str:
    try:
        with work_on(one.guest):
            run.fleet([one], estate, at)
    except NightlatchError as error:
        return error.words
    return ""


def _audited(
    estate: Estate, at: datetime, picked: list[GuestSpec], jobs: int, client: Client | None, kinds: Kinds
) -> Iterator[AuditedGuest]:
    running = [spec.name for spec in picked if spec.via.is_live]
    if running:
        several = jobs if len(running) >= FEW else 1
        yield from as_surveyed(estate, at, lambda: survey(estate, running, client=client, kinds=kinds), several, kinds)
    names = [spec.name for spec in picked if not spec.via.is_live]
    if not names:
        return
    if jobs == 1:
        work = Auditor(estate, at, kinds)
        yield from map(work, names)
        return
    yield from _in_processes(estate, at, names, jobs, kinds)


def as_surveyed(
    estate: Estate, at: datetime, surveys: Callable[[], Iterable[SurveyResult]], jobs: int, kinds: Kinds
) -> Iterator[AuditedGuest]:
    """Live guests as they are read, judged by several processes while others are still read, and then forgotten."""
    if jobs == 1:
        work = Auditor(estate, at, kinds)
        yield from (work.result(each.snapshot) if each.snapshot else _unread(each) for each in surveys())
        return
    from concurrent.futures import FIRST_COMPLETED, BrokenExecutor, Future, ProcessPoolExecutor, wait

    waiting: dict[Future[AuditedGuest], Snapshot] = {}
    left: list[Snapshot] = []  # judged once no thread of the surveys is left that a fork could disturb

    def judged(those: Iterable[Future[AuditedGuest]]) -> Iterator[AuditedGuest]:
        for work in those:
            snapshot = waiting.pop(work)
            try:
                yield work.result()
            except BrokenExecutor:
                left.append(snapshot)

    with ProcessPoolExecutor(jobs, initializer=_start_auditor, initargs=(estate, at, kinds)) as pool:
        pool.submit(int).result()  # all processes are forked by now: before any thread of the surveys holds a lock
        for each in surveys():
            if each.snapshot is None:
                yield _unread(each)
                continue
            try:
                waiting[pool.submit(_judge_here, each.snapshot)] = each.snapshot
            except BrokenExecutor:
                left.append(each.snapshot)
            while len(waiting) >= jobs * 2:
                yield from judged(wait(waiting, return_when=FIRST_COMPLETED).done)
        yield from judged(list(waiting))
    for snapshot in left:
        yield _alone_in_a_process(_judge_here, snapshot, snapshot.guest, estate, at, kinds)


def _unread(found: SurveyResult) -> AuditedGuest:
    return GuestAudit(found.guest, unread=found.problem), None


def _alone_in_a_process(
    act: Callable[[Any], AuditedGuest], what: object, name: str, estate: Estate, at: datetime, kinds: Kinds
) -> AuditedGuest:
    """One guest in a process of its own, for it may be the one that makes processes die."""
    from concurrent.futures import BrokenExecutor, ProcessPoolExecutor

    try:
        with ProcessPoolExecutor(1, initializer=_start_auditor, initargs=(estate, at, kinds)) as pool:
            return pool.submit(act, what).result()
    except BrokenExecutor:
        return GuestAudit(name, unread="the process that worked on it died"), None


def _in_processes(estate: Estate, at: datetime, names: list[str], jobs: int, kinds: Kinds) -> Iterator[AuditedGuest]:
    """Several processes at a time. Where one of them dies, what is left is done one by one, each in a process of its own."""
    from concurrent.futures import BrokenExecutor, ProcessPoolExecutor

    done = 0
    try:
        with ProcessPoolExecutor(jobs, initializer=_start_auditor, initargs=(estate, at, kinds)) as pool:
            for each in pool.map(_audit_here, names, chunksize=16):
                done += 1
                yield each
    except BrokenExecutor:
        for name in names[done:]:
            yield _alone_in_a_process(_audit_here, name, name, estate, at, kinds)


class Auditor:
    """Audits one guest after the other; what the estate gives is worked out once."""

    def __init__(self, estate: Estate, at: datetime, kinds: Kinds = KINDS) -> None:
        self.estate, self.at, self.kinds = estate, at, kinds
        self.spaces, self.names = address_spaces(estate), names_of(estate)

    def __call__(self, name: str) -> AuditedGuest:
        try:
            spec = self.estate.guests[name]
            with work_on(name):
                snapshot = read_one(self.estate, spec, self.kinds)
        except (NightlatchError, OSError) as error:
            return GuestAudit(name, unread=words_of(error)), None
        return self.result(snapshot)

    def result(self, snapshot: Snapshot) -> AuditedGuest:
        """The audit of one guest from its evidence, or why there is none."""
        try:
            with work_on(snapshot.guest):
                return self.judged(snapshot)
        except (NightlatchError, OSError) as error:
            return GuestAudit(snapshot.guest, unread=words_of(error)), None

    def judged(self, snapshot: Snapshot) -> tuple[GuestAudit, Identities]:
        """The audit of one guest from its evidence."""
        access = guest_access(readings.read(snapshot), self.at, self.spaces, self.kinds)
        return run.guest_audit(access, self.at, self.estate, self.names, self.kinds), run.identities(access, self.estate)


_AUDITOR: list[Auditor] = []


def _start_auditor(estate: Estate, at: datetime, kinds: Kinds) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is the first process's to answer
    _AUDITOR[:] = [Auditor(estate, at, kinds)]
    gc.freeze()  # the estate stays as long as the process, so nothing of it need be looked at for what may go


def _audit_here(name: str) -> AuditedGuest:
    return _AUDITOR[0](name)


def _judge_here(snapshot: Snapshot) -> AuditedGuest:
    return _AUDITOR[0].result(snapshot)


def _with_fleet(audits: Iterable[GuestAudit], more: Mapping[str, list[Finding]]) -> Iterator[GuestAudit]:
    for each in audits:
        extra = more.get(each.guest)
        yield replace(each, findings=(*each.findings, *extra)) if extra else each


def audit_target(target: Path | str | Snapshot, at: datetime) -> Audit:
    """A first look without an estate: every way in, and what is unhygienic about it."""
    snapshot = target if isinstance(target, Snapshot) else survey_target(target)
    with work_on(snapshot.guest):
        access = guest_access(readings.read(snapshot), at)
        return Audit("", at, (run.guest_audit(access, at),))
