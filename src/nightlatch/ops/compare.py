"""Compare: guests as they were, by evidence that was kept, and as they are now or were later; by meaning, not by text."""

from __future__ import annotations

import os
import re
import signal
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from nightlatch.access.grants import address_spaces
from nightlatch.access.paths import GuestAccess, guest_access
from nightlatch.audit import run
from nightlatch.audit.compared import Comparison, compared, joined_up
from nightlatch.audit.facts import FactChange, changes, facts_of
from nightlatch.audit.findings import GuestAudit
from nightlatch.audit.names import Names, names_of
from nightlatch.estate.model import Estate
from nightlatch.evidence import dated
from nightlatch.evidence.file_names import SUFFIX
from nightlatch.evidence.snapshot import ABSENT, Snapshot
from nightlatch.faults import NightlatchError, UnreadableError, words_of, work_on
from nightlatch.latch import records
from nightlatch.latch.records import Record, TouchedPath
from nightlatch.ops.audit import FEW
from nightlatch.ops.survey import SurveyResult, chosen, survey, survey_target
from nightlatch.readings import guest as readings
from nightlatch.services.base import Kinds
from nightlatch.services.table import KINDS

if TYPE_CHECKING:
    from nightlatch.transports.ssh import Client

RECORDS = re.compile(re.escape(records.CHANGES) + r"/[0-9-]{1,40}/record\.json")

__all__ = ["Compared", "compare", "compare_targets", "evidence_in"]


@dataclass(frozen=True)
class Compared:
    """What differs between two days. `old` and `new` are the moments, as archives tell them, at which evidence was taken: the
    first and the last; empty where guests were read just now, or evidence does not say."""

    estate: str
    at: datetime
    found: Comparison
    guests: tuple[str, ...]
    old: tuple[str, ...] = ()
    new: tuple[str, ...] = ()
    names: Names = field(default_factory=Names)

    @property
    def exit_code(self) -> int:
        """3 when a guest could not be read on one of the days, 1 when anything changed, else 0."""
        if self.found.unread:
            return 3
        return 0 if self.found.is_empty else 1


def evidence_in(place: Path) -> Mapping[str, Path]:
    """The evidence at a place by guest: a folder of archives, one archive, or a guest's folder. Raises UnreadableError."""
    if not place.exists():
        raise UnreadableError(f"{place}: there is no such folder or evidence archive; nightlatch survey keeps evidence")
    if place.is_file():
        return {place.name.removesuffix(SUFFIX): place}
    found = {each.name.removesuffix(SUFFIX): each for each in sorted(place.iterdir()) if each.name.endswith(SUFFIX)}
    return found or {place.resolve().name: place}


def evidence_of_day(folder: Path, text: str) -> Path | None:
    """The evidence that a folder keeps of a day (2026-11-24), or of the last one before it; None where the text is no day. Raises
    NightlatchError where nothing is kept that is as old."""
    if not dated.DAY.fullmatch(text):
        return None
    try:
        day = date.fromisoformat(text)
    except ValueError as error:
        raise NightlatchError(f"{text} is no day: {error}") from None
    found = dated.of_day(folder, day)
    if found is None:
        kept = [each.isoformat() for each, _ in dated.days_in(folder)]
        since = f"the first day kept there is {kept[0]}" if kept else "nightlatch survey keeps one each day"
        raise UnreadableError(f"{folder} has no evidence of {text} or before; {since}")
    return found


def compare(
    estate: Estate,
    at: datetime,
    old: Path,
    new: Path | None = None,
    guests: Sequence[str] | None = None,
    *,
    client: Client | None = None,
    kinds: Kinds = KINDS,
) -> Compared:
    """Hold guests of an estate against what was kept of them: evidence in `old` against that in `new`, or the guests as they are.

    Both are judged at the same moment, so that a difference is owed to the guests. Raises NightlatchError, UnreadableError.
    """
    picked = [spec.name for spec in chosen(estate, guests)]
    older = evidence_in(old)
    newer = evidence_in(new) if new is not None else None
    work = _Work(estate, at, kinds)
    if newer is None:
        found_now = survey(estate, picked, client=client, kinds=kinds)
        parts = [work.held(older.get(each.guest), each) for each in found_now]
    else:
        parts = work.all_of([(name, older.get(name), newer.get(name)) for name in picked])
    gone = Comparison(went=tuple(name for name in older if name not in estate.guests)) if guests is None else Comparison()
    found = joined_up([*parts, gone])
    return Compared(estate.name, at, found, tuple(picked), _ends(work.old), _ends(work.new), work.names)


def compare_targets(old: Path, new: Path, at: datetime, *, kinds: Kinds = KINDS) -> Compared:
    """The same without an estate: folders of archives, or two guests. Raises UnreadableError."""
    older, newer = evidence_in(old), evidence_in(new)
    if len(older) == len(newer) == 1:  # two archives of one guest need not be called alike
        older = dict(zip(newer, older.values(), strict=True))
    work = _Work(None, at, kinds)
    parts = work.all_of([(name, older.get(name), newer[name]) for name in newer])
    gone = Comparison(went=tuple(name for name in older if name not in newer))
    return Compared("", at, joined_up([*parts, gone]), tuple(newer), _ends(work.old), _ends(work.new))


def _ends(taken: set[str]) -> tuple[str, ...]:
    """The first and the last of some moments."""
    return tuple(dict.fromkeys((min(taken), max(taken)))) if taken else ()


def _read(path: Path, name: str) -> SurveyResult:
    try:
        with work_on(name):
            return SurveyResult(name, replace(survey_target(path, name), guest=name))
    except (NightlatchError, OSError) as error:
        return SurveyResult(name, None, words_of(error))


_Pair = tuple[str, Path | None, Path | None]
_Found = tuple[Comparison, set[str], set[str]]
_WORKS: list[_Work] = []


def _start(estate: Estate | None, at: datetime, kinds: Kinds) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is the first process's to answer
    _WORKS[:] = [_Work(estate, at, kinds)]


def _one_there(pair: _Pair) -> _Found:
    """One guest in a process of its own, with the days of its evidence."""
    work = _WORKS[0]
    work.old, work.new = set(), set()
    return work.kept(pair), work.old, work.new


class _Ours:
    """Changes of ours that a guest was given between two surveys, by the records that it keeps of them."""

    def __init__(self, was: Snapshot, now: Snapshot) -> None:
        self.now = now
        self.records = [record for path in sorted(now.entries) if path not in was.entries for record in _record(now, path)]

    def explained(self, found: FactChange) -> FactChange:
        """The fact with the change that made it so: one that left the file as it is now, or that acted on the unit."""
        places = {each.origin.path for each in (found.before, found.after) if each is not None}
        for record in reversed(self.records):
            acted = any(found.fact.name in words for words in record.acts)
            if acted or any(each.path in places and self._is_as_left(each) for each in record.touched):
                return replace(found, change=record.id)
        return found

    def _is_as_left(self, touched: TouchedPath) -> bool:
        entry = self.now.entries.get(touched.path, ABSENT)
        left = touched.after
        kept = (entry.kind.value, entry.digest) == (left.kind, left.sha256)
        return kept and (left.kind == "absent" or (entry.mode, entry.uid, entry.gid) == (left.mode, left.uid, left.gid))


def _record(snapshot: Snapshot, path: str) -> Iterator[Record]:
    """The record at a path; what a guest made unreadable explains nothing."""
    content = snapshot.content(path) if RECORDS.fullmatch(path) else None
    if content is not None:
        try:
            yield records.parse(content, path)
        except UnreadableError:
            return


class _Work:
    """Compares one guest after the other, and keeps the differences only."""

    def __init__(self, estate: Estate | None, at: datetime, kinds: Kinds) -> None:
        self.estate, self.at, self.kinds = estate, at, kinds
        self.spaces = address_spaces(estate) if estate is not None else None
        self.names = names_of(estate)
        self.old: set[str] = set()
        self.new: set[str] = set()

    def all_of(self, those: Sequence[_Pair]) -> list[Comparison]:
        """Guests of which both are kept; many of them in several processes."""
        jobs = os.cpu_count() or 1
        if len(those) < FEW or jobs == 1:
            return [self.kept(each) for each in those]
        from concurrent.futures import ProcessPoolExecutor

        with ProcessPoolExecutor(jobs, initializer=_start, initargs=(self.estate, self.at, self.kinds)) as pool:
            found = list(pool.map(_one_there, those, chunksize=16))
        for _, old, new in found:
            self.old |= old
            self.new |= new
        return [each for each, _, _ in found]

    def kept(self, pair: _Pair) -> Comparison:
        """One guest by its older and its newer evidence."""
        name, old, new = pair
        later = _read(new, name) if new is not None else SurveyResult(name, None, "no evidence of it is kept there")
        return self.held(old, later)

    def held(self, old: Path | None, new: SurveyResult) -> Comparison:
        """One guest: its older evidence against the newer."""
        if new.snapshot is None:
            return Comparison(unread=((new.guest, new.problem),))
        if old is None:
            return Comparison(came=(new.guest,))
        was = _read(old, new.guest)
        if was.snapshot is None:
            return Comparison(unread=((new.guest, f"its older evidence: {was.problem}"),))
        try:
            with work_on(new.guest):
                return self._both(was.snapshot, new.snapshot)
        except NightlatchError as error:
            return Comparison(unread=((new.guest, error.words),))

    def _both(self, was: Snapshot, now: Snapshot) -> Comparison:
        self.old |= {was.facts["taken"]} if was.facts.get("taken") else set()
        self.new |= {now.facts["taken"]} if now.facts.get("taken") else set()
        if (was.entries, was.listings) == (now.entries, now.listings):
            return Comparison()  # all that is read of it is as it was
        then, here = self._judged(was), self._judged(now)
        found = compared([then[0]], [here[0]], self.names)
        spec = self.estate.guests.get(now.guest) if self.estate is not None else None
        ours = _Ours(was, now)
        facts = (ours.explained(each) for each in changes(now.guest, facts_of(then[1], spec), facts_of(here[1], spec)))
        return replace(found, facts=tuple(facts), changes=tuple((now.guest, each.id) for each in ours.records))

    def _judged(self, snapshot: Snapshot) -> tuple[GuestAudit, GuestAccess]:
        access = guest_access(readings.read(snapshot), self.at, self.spaces, self.kinds)
        return run.guest_audit(access, self.at, self.estate, self.names, self.kinds), access
