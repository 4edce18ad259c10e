"""The public functions: each stage of the loop, callable on its own.

Times are parameters: every function that depends on the moment takes `at`, aware.
"""

from __future__ import annotations

import os
import signal
from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

from nightlatch import __version__
from nightlatch.audit import run
from nightlatch.audit.checks.registry import Identities
from nightlatch.audit.findings import Finding, Group, GuestAudit, Severity
from nightlatch.audit.naming import names_of
from nightlatch.draft import plan
from nightlatch.draft.plan import Draft, ProvedDraft
from nightlatch.estate.load import load as load_estate
from nightlatch.estate.model import Estate, GuestSpec
from nightlatch.estate.starter import starter
from nightlatch.evidence import archive
from nightlatch.evidence.collect import collect
from nightlatch.evidence.snapshot import Snapshot, from_files
from nightlatch.faults import NightlatchError, RefusedError, UnreadableError
from nightlatch.formats.sshd_keywords import KEYWORDS
from nightlatch.latch import folder as latch
from nightlatch.latch.folder import Changed, new_change_id
from nightlatch.readings import guest as readings
from nightlatch.readings import sshd
from nightlatch.reason import settings as reasoning
from nightlatch.reason.grants import realms
from nightlatch.reason.paths import guest_access
from nightlatch.transports.folder import Folder

__all__ = [
    "Audit", "Changed", "Draft", "Estate", "ProvedDraft", "Surveyed", "audit", "audit_target", "draft",
    "effective_settings", "enact", "load_estate", "new_change_id", "new_estate", "prove", "read_evidence", "survey",
    "survey_target", "undo", "write_evidence",
]  # fmt: skip

TOOL = f"nightlatch {__version__}"


@dataclass(frozen=True, slots=True)
class Surveyed:
    """One guest's evidence, or why there is none."""

    guest: str
    snapshot: Snapshot | None
    problem: str = ""


@dataclass(frozen=True)
class Audit:
    """All guests of an audit. `estate` is empty for a first look without an estate file."""

    estate: str
    at: datetime
    guests: tuple[GuestAudit, ...]

    def findings(self, group: Group) -> list[Finding]:
        """The findings of one group that are not waived."""
        return [f for g in self.guests for f in g.findings if f.group is group and not f.waived]

    @property
    def undecided(self) -> bool:
        """Whether something could not be read or decided."""
        return any(g.unread or g.undecided or g.count(Group.UNDECIDED) for g in self.guests)

    def exit_code(self, fail_at: Severity = Severity.HIGH) -> int:
        """3 when something could not be read or decided, else 1 for findings at or above `fail_at`, else 0."""
        if self.undecided:
            return 3
        counted = (f for g in self.guests for f in g.findings if not f.waived and f.group is not Group.UNDECIDED)
        return 1 if any(f.severity.at_least(fail_at) for f in counted) else 0


def new_estate(path: Path) -> None:
    """Write a commented starter file. Raises RefusedError when something is there already."""
    try:
        with path.open("x", encoding="utf-8") as stream:
            stream.write(starter(path.name))
    except FileExistsError:
        raise RefusedError(f"{path} is there already; nothing was written") from None
    except OSError as error:
        raise UnreadableError(f"{path} can't be written: {error.strerror}") from None


def survey_target(target: Path, name: str = "", also: Sequence[str] = ()) -> Snapshot:
    """The evidence of a folder, or of an archive made before; `also` are paths to look at. Raises UnreadableError."""
    name = name or _name_of(target)
    if target.is_dir():
        with Folder(target) as source:
            return collect(source, name, also)
    return replace(archive.read(target), guest=name)


def _name_of(target: Path) -> str:
    return target.resolve().name.removesuffix(archive.SUFFIX) or "guest"


def survey(estate: Estate, guests: Sequence[str] | None = None) -> Iterator[Surveyed]:
    """Read guests one after the other; one that can't be read is a result like any other."""
    for spec in _chosen(estate, guests):
        try:
            yield Surveyed(spec.name, _survey_one(estate, spec))
        except (NightlatchError, OSError) as error:
            yield Surveyed(spec.name, None, str(error))


def _survey_one(estate: Estate, spec: GuestSpec) -> Snapshot:
    """One guest, with the folders that grants speak of: a draft may confine somebody there."""
    also = [g.files for g in estate.grants if g.files and spec.name in g.guests]
    return survey_target(spec.via.path, spec.name, also)


def _chosen(estate: Estate, guests: Sequence[str] | None) -> list[GuestSpec]:
    if guests is None:
        return list(estate.guests.values())
    unknown = [name for name in guests if name not in estate.guests]
    if unknown:
        raise NightlatchError(f'there is no guest "{unknown[0]}" in {estate.path} ({", ".join(estate.guests)})')
    return [estate.guests[name] for name in guests]


def write_evidence(snapshot: Snapshot, path: Path, at: datetime, transport: str = "folder") -> None:
    """Write an evidence archive, whole or not at all."""
    archive.write(snapshot, path, tool=TOOL, taken=at, transport=transport)


def read_evidence(path: Path) -> Snapshot:
    """Read an evidence archive. Raises UnreadableError."""
    return archive.read(path)


FEW = 64  # guests that one process audits faster than several do


def audit(estate: Estate, at: datetime, guests: Sequence[str] | None = None, jobs: int = 0) -> Audit:
    """Hold every guest against the estate. Guests are read one by one and forgotten again; findings are kept.

    `jobs` is the number of processes; 0 takes one for few guests and one a processor for many.
    """
    run.check_waivers(estate)
    names = [spec.name for spec in _chosen(estate, guests)]
    jobs = jobs or (1 if len(names) < FEW else os.cpu_count() or 1)
    audits: list[GuestAudit] = []
    fleet: list[Identities] = []
    for found, identities in _audited(estate, at, names, jobs):
        audits.append(found)
        fleet += [identities] if identities else []
    return Audit(estate.name, at, tuple(_with_fleet(audits, run.fleet(fleet, estate, at))))


def _audited(
    estate: Estate, at: datetime, names: list[str], jobs: int
) -> Iterator[tuple[GuestAudit, Identities | None]]:  # fmt: skip
    if jobs == 1:
        work = Auditor(estate, at)
        yield from map(work, names)
        return
    with ProcessPoolExecutor(jobs, initializer=_start_auditor, initargs=(estate, at)) as pool:
        yield from pool.map(_audit_here, names, chunksize=16)


class Auditor:
    """Audits one guest after the other; what the estate gives is worked out once."""

    def __init__(self, estate: Estate, at: datetime) -> None:
        self.estate, self.at = estate, at
        self.realms, self.names = realms(estate), names_of(estate)

    def __call__(self, name: str) -> tuple[GuestAudit, Identities | None]:
        try:
            snapshot = _survey_one(self.estate, self.estate.guests[name])
        except (NightlatchError, OSError) as error:
            return GuestAudit(name, unread=str(error)), None
        return self.judged(snapshot)

    def judged(self, snapshot: Snapshot) -> tuple[GuestAudit, Identities]:
        """The audit of one guest from its evidence."""
        access = guest_access(readings.read(snapshot), self.at, self.realms)
        return run.guest_audit(access, self.at, self.estate, self.names), run.identities(access)


_AUDITOR: list[Auditor] = []


def _start_auditor(estate: Estate, at: datetime) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is the first process's to answer
    _AUDITOR[:] = [Auditor(estate, at)]


def _audit_here(name: str) -> tuple[GuestAudit, Identities | None]:
    return _AUDITOR[0](name)


def _with_fleet(audits: Iterable[GuestAudit], more: Mapping[str, list[Finding]]) -> Iterator[GuestAudit]:
    for each in audits:
        extra = more.get(each.guest)
        yield replace(each, findings=(*each.findings, *extra)) if extra else each


def audit_target(target: Path | Snapshot, at: datetime) -> Audit:
    """A first look without an estate: every way in, and what is unhygienic about it."""
    snapshot = target if isinstance(target, Snapshot) else survey_target(target)
    access = guest_access(readings.read(snapshot), at)
    return Audit("", at, (run.guest_audit(access, at),))


def draft(estate: Estate, snapshot: Snapshot, at: datetime) -> Draft:
    """The fewest steps that close what is certainly wrong on one guest; `Draft.left` says what no step closes."""
    return plan.make(estate, snapshot, at)


def prove(estate: Estate, made: Draft, snapshot: Snapshot, at: datetime) -> ProvedDraft:
    """Work a draft out on evidence. Raises RefusedError when it does not close the gap, or shuts the own door."""
    return plan.prove(estate, made, snapshot, at)


@contextmanager
def _told() -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise UnreadableError(f"{error.filename or 'the guest'}: {error.strerror}") from error


def enact(estate: Estate, guest: str, at: datetime, change: str = "") -> Changed:
    """Survey one folder guest again, draft and prove again, and apply. Raises RefusedError, PutBackError."""
    spec = _chosen(estate, [guest])[0]
    if spec.via.kind != "folder":
        raise RefusedError(f"{guest} is an evidence archive: only what it was made from can be changed")
    snapshot = _survey_one(estate, spec)
    proved = prove(estate, draft(estate, snapshot, at), snapshot, at)
    return apply(proved, spec.via.path, at, change)


def apply(proved: ProvedDraft, root: Path, at: datetime, change: str = "") -> Changed:
    """Apply a proved draft to the folder it was proved on."""
    with _told():
        return latch.enact(proved, root, at, TOOL, change or new_change_id(datetime.now(UTC)))


def undo(estate: Estate, guest: str, change: str = "") -> Changed:
    """Take back the newest change of a folder guest, or the one named."""
    spec = _chosen(estate, [guest])[0]
    if spec.via.kind != "folder":
        raise RefusedError(f"{guest} is an evidence archive: nothing was ever changed there")
    with _told():
        return latch.undo(spec.via.path, guest, change)


def effective_settings(
    files: Mapping[str, bytes], *, account: str = "", groups: Sequence[str] = (), address: str = "192.0.2.1",
    port: int = 22,
) -> dict[str, reasoning.Setting]:  # fmt: skip
    """sshd's settings for one caller, from a mapping of guest path to bytes (the main file is /etc/ssh/sshd_config).

    Raises RefusedError when sshd would not start with these files, or can't decide for this caller.
    """
    reading = sshd.read(from_files("files", files))
    effective = reasoning.Effective(reading)
    if effective.refusal is not None:
        raise RefusedError(f"{effective.refusal.origin}: {effective.refusal.because}")
    worlds, gaps = effective.worlds(reasoning.Caller(account, tuple(groups), reasoning.Listener("", port)))
    found = [effective.settings(p.truth) for world in worlds for p in world if address in p.sources]
    if gaps and any(each != found[0] for each in found):
        raise RefusedError(f"{gaps[0].origin}: {gaps[0].because}")
    return {name: found[0][name] for name in KEYWORDS}
