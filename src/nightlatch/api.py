"""The public functions: each stage of the loop, callable on its own.

Times are parameters: every function that depends on the moment takes `at`, aware.
"""

from __future__ import annotations

import os
import secrets
import signal
from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import BrokenExecutor, ProcessPoolExecutor, ThreadPoolExecutor, as_completed
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

from nightlatch import __version__
from nightlatch.access.grants import realms
from nightlatch.access.paths import guest_access
from nightlatch.access.stated import members
from nightlatch.audit import run
from nightlatch.audit.checks.registry import Identities
from nightlatch.audit.findings import Finding, Group, GuestAudit, Severity
from nightlatch.audit.naming import names_of
from nightlatch.draft import plan
from nightlatch.draft.plan import Draft, ProvedDraft
from nightlatch.estate.load import load as load_estate
from nightlatch.estate.model import Estate, GuestSpec
from nightlatch.estate.starter import starter
from nightlatch.evidence import archive, byhand, opinions
from nightlatch.evidence.collect import collect
from nightlatch.evidence.more import NO_MORE, More
from nightlatch.evidence.script import Wanted
from nightlatch.evidence.snapshot import Snapshot, from_files
from nightlatch.faults import NightlatchError, OwnFaultError, RefusedError, UnreadableError, words_of, work_on
from nightlatch.formats.sshd_keywords import KEYWORDS
from nightlatch.model.sockets import Listener
from nightlatch.readings import daemons, service, sshd, units
from nightlatch.readings import guest as readings
from nightlatch.services.base import Kinds
from nightlatch.services.ssh import opinion
from nightlatch.services.ssh import settings as reasoning
from nightlatch.services.table import KINDS
from nightlatch.transports import by_hand, live, targets
from nightlatch.transports.folder import Folder
from nightlatch.transports.shell import Shell
from nightlatch.transports.ssh import Client

__all__ = [
    "Audit", "Client", "Draft", "Estate", "ProvedDraft", "Surveyed", "audit", "audit_target", "draft",
    "effective_settings", "load_estate", "new_estate", "prove", "read_evidence", "survey", "survey_live", "survey_script",
    "survey_target", "survey_targets", "write_evidence",
]  # fmt: skip

AT_ONCE = 16  # live guests that are asked at the same time
TOOL = f"nightlatch {__version__}"


@dataclass(frozen=True, slots=True)
class Surveyed:
    """One guest's evidence, or why there is none; `stage` is then the step that failed, where there are steps."""

    guest: str
    snapshot: Snapshot | None
    problem: str = ""
    stage: str = ""


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


def survey_target(
    target: Path | str, name: str = "", more: More = NO_MORE, *, client: Client | None = None,
    pins: tuple[str, ...] = (),
) -> Snapshot:  # fmt: skip
    """The evidence of a folder, of an archive made before, of a text carried over by hand, or of a live guest, and `more` of it
    than always.

    A live guest is written `here`, `ACCOUNT@HOST[:PORT]` or `ssh:NAME`; `pins` are fingerprints of its host keys.
    Raises UnreadableError, UnreachableError.
    """
    if isinstance(target, str) and targets.is_live(target):
        with client_for(client) as using:
            return survey_live(targets.of_target(target, using, pins), more)
    target = Path(target)
    named, name = bool(name), name or _name_of(target)
    if target.is_dir():
        with Folder(target) as source:
            return collect(source, name, more)
    if not target.exists():
        none = "there is no such folder, evidence archive or text carried over by hand"
        # Who looks at a path without an estate has no other name for it.
        raise UnreadableError(f"{target}: {none}") if named else UnreadableError(none, guest=str(target))
    if by_hand.is_output(target):
        return by_hand.read(target, name, more)
    return replace(archive.read(target), guest=name)


def survey_targets(
    names: Sequence[str], *, client: Client | None = None, pins: tuple[str, ...] = (), at_once: int = AT_ONCE
) -> Iterator[Surveyed]:  # fmt: skip
    """Read folders, archives and live guests without an estate, several live ones at a time."""

    def one(name: str, using: Client) -> Surveyed:
        try:
            with work_on(name):
                snapshot = survey_target(name, client=using, pins=pins)
            return Surveyed(snapshot.guest, snapshot)
        except (NightlatchError, OSError) as error:
            return Surveyed(name, None, words_of(error), getattr(error, "stage", ""))

    running = [name for name in names if targets.is_live(name)]
    with client_for(client) as using, _pool(min(at_once, len(running)), using) as pool:
        waiting = [pool.submit(one, name, using) for name in running] if pool else []
        yield from (one(name, using) for name in names if name not in running)
        yield from (done.result() for done in as_completed(waiting))


def survey_live(shell: Shell, more: More = NO_MORE, *, ask: bool = True) -> Snapshot:
    """Read a live guest, and `more` of it than always, then ask its own sshd about the callers that our reasoning tells apart.

    Raises UnreadableError, UnreachableError.
    """
    return live.survey(shell, more, mains=_mains, to_ask=_to_ask if ask else None)


def _mains(told: Snapshot) -> list[str]:
    """Configurations that the guest's own daemons were started with; of whatever else calls itself sshd nothing is read."""
    found = (daemons.main_file(each) for each in service.read(told).daemons)
    return [path for path in found if path and not set(path) & set("\n\\")]


def _to_ask(snapshot: Snapshot) -> live.Asked | None:
    access = guest_access(readings.read(snapshot), datetime.now(UTC))
    if not access.reading.installed:
        return None
    asked, running = opinions.Daemon(options=opinion.options(access.reading)), access.reading.service.daemon
    if running is not None:
        asked = replace(asked, program=running.program, pid=running.pid, started=running.started)
    return live.Asked(opinion.questions(access.ssh, access.accounts), asked)


@contextmanager
def client_for(client: Client | None) -> Iterator[Client]:
    """The caller's client, or one of our own for as long as it is needed."""
    if client is not None:
        yield client
        return
    with Client() as own:
        yield own


def _name_of(target: Path) -> str:
    return target.resolve().name.removesuffix(archive.SUFFIX).removesuffix(".txt") or "guest"


def survey_script(estate: Estate | None = None, guest: str = "", *, short: bool = False) -> bytes:
    """The script that surveys a guest which no connection reaches, to be run at its console as root.

    With an estate and a guest of it, the folders that its grants speak of are looked at, too. `survey_target` reads what
    the script printed.
    """
    more = more_of(estate, chosen(estate, [guest])[0]) if estate is not None else NO_MORE
    wanted = Wanted().more(more.files, more.looked, more.folders)
    mark = secrets.token_hex(12)
    return byhand.short(wanted, mark) if short else byhand.script(wanted, mark)


def survey(
    estate: Estate, guests: Sequence[str] | None = None, *, client: Client | None = None, at_once: int = AT_ONCE,
    kinds: Kinds = KINDS,
) -> Iterator[Surveyed]:  # fmt: skip
    """Read guests, live ones several at a time, each given as soon as it is there; unreachable is a result, too."""
    picked = chosen(estate, guests)
    running = [spec for spec in picked if spec.via.is_live]
    with client_for(client) as using, _pool(min(at_once, len(running)), using) as pool:
        waiting = [pool.submit(_surveyed, estate, spec, using, kinds) for spec in running] if pool else []
        for spec in picked:
            if not spec.via.is_live:
                yield _surveyed(estate, spec, using, kinds)
        for done in as_completed(waiting):
            yield done.result()


def from_evidence(estate: Estate, folder: Path) -> Estate:
    """The estate with each guest read from the archive that `survey` kept of it in a folder, in place of the guest itself.

    Raises UnreadableError when the folder is not there; a guest of which it holds nothing is one that could not be read.
    """
    if not folder.is_dir():
        raise UnreadableError(f"{folder}: there is no such folder; nightlatch survey --into {folder} makes it")
    guests = {
        name: replace(spec, via=replace(spec.via, kept=archive.file_of(folder, name)))
        for name, spec in estate.guests.items()
    }
    return replace(estate, guests=guests)


@contextmanager
def _pool(size: int, client: Client) -> Iterator[ThreadPoolExecutor | None]:
    """Threads for waiting on clients; when the caller leaves early, running clients are told to stop."""
    if not size:
        yield None
        return
    pool = ThreadPoolExecutor(size)
    try:
        yield pool
    except BaseException:
        client.stop.event.set()
        raise
    finally:
        pool.shutdown(wait=True, cancel_futures=True)


def _surveyed(estate: Estate, spec: GuestSpec, client: Client, kinds: Kinds) -> Surveyed:
    try:
        with work_on(spec.name):
            return Surveyed(spec.name, _survey_one(estate, spec, client, kinds))
    except (NightlatchError, OSError) as error:
        return Surveyed(spec.name, None, words_of(error), getattr(error, "stage", ""))


def _survey_one(estate: Estate, spec: GuestSpec, client: Client, kinds: Kinds) -> Snapshot:
    """One guest, with the folders that grants speak of: a draft may confine somebody there."""
    if spec.via.is_live:
        return survey_live(targets.of_guest(spec, client), more_of(estate, spec, kinds))
    return _read(estate, spec, kinds)


def _read(estate: Estate, spec: GuestSpec, kinds: Kinds) -> Snapshot:
    """A guest that is no running one: from its folder, archive or text, or from the archive that was kept of it."""
    if spec.via.kept is not None and not spec.via.kept.exists():
        folder = spec.via.kept.parent
        raise UnreadableError(f"no evidence of it is kept in {folder}; nightlatch survey --into {folder} reads it")
    return survey_target(spec.via.source, spec.name, more_of(estate, spec, kinds))


def more_of(estate: Estate, spec: GuestSpec, kinds: Kinds = KINDS) -> More:
    """What is read of a guest beside what always is: what services have files of their own in, folders that grants speak of, and
    the files of units that sentences speak of."""
    said = estate.of(spec.name)
    stated = [name for each in said.services if each.unit != "ssh" for name in members(each)]
    more = More((*said.folders, *(path for unit in stated for path in units.paths_of(unit))))
    for kind in kinds.values():
        more |= kind.collects
    return more


def chosen(estate: Estate, guests: Sequence[str] | None) -> list[GuestSpec]:
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


def audit(
    estate: Estate, at: datetime, guests: Sequence[str] | None = None, jobs: int = 0, *, client: Client | None = None,
    kinds: Kinds = KINDS,
) -> Audit:  # fmt: skip
    """Hold every guest against the estate. Guests are read one by one and forgotten again; findings are kept.

    `jobs` is the number of processes; 0 takes one for few guests and one a processor for many. Live guests are
    surveyed several at a time.
    """
    return audited(estate, at, guests, jobs, client=client, kinds=kinds)[0]


def audited(
    estate: Estate, at: datetime, guests: Sequence[str] | None = None, jobs: int = 0, *, client: Client | None = None,
    kinds: Kinds = KINDS,
) -> tuple[Audit, list[Identities]]:  # fmt: skip
    """The same, with what is kept of each guest to hold it against the others."""
    run.check_waivers(estate)
    picked = chosen(estate, guests)
    jobs = jobs or (1 if len(picked) < FEW else os.cpu_count() or 1)
    audits: dict[str, GuestAudit] = {}
    fleet: list[Identities] = []
    for found, identities in _audited(estate, at, picked, jobs, client, kinds):
        audits[found.guest] = found
        fleet += [identities] if identities else []
    more, failed = _compared(fleet, estate, at)
    ordered = [
        replace(audits[spec.name], unread=failed.get(spec.name, "") or audits[spec.name].unread) for spec in picked
    ]
    result = Audit(estate.name, at, tuple(_with_fleet(ordered, more)), len(estate.guests) - len(picked))
    return result, [each for each in fleet if each.guest not in failed]


def _compared(fleet: list[Identities], estate: Estate, at: datetime) -> tuple[dict[str, list[Finding]], dict[str, str]]:
    """What holding the guests against each other finds; and those that can't be held against others, each with the reason."""
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
) -> Iterator[tuple[GuestAudit, Identities | None]]:  # fmt: skip
    running = [spec.name for spec in picked if spec.via.is_live]
    if running:
        work = Auditor(estate, at, kinds)
        for each in survey(estate, running, client=client, kinds=kinds):
            yield work.result(each.snapshot) if each.snapshot else (GuestAudit(each.guest, unread=each.problem), None)
    names = [spec.name for spec in picked if not spec.via.is_live]
    if not names:
        return
    if jobs == 1:
        work = Auditor(estate, at, kinds)
        yield from map(work, names)
        return
    yield from _in_processes(estate, at, names, jobs, kinds)


def _in_processes(
    estate: Estate, at: datetime, names: list[str], jobs: int, kinds: Kinds
) -> Iterator[tuple[GuestAudit, Identities | None]]:  # fmt: skip
    """Several processes at a time. Where one of them dies, what is left is done one by one, each in a process of its own."""
    done = 0
    try:
        with ProcessPoolExecutor(jobs, initializer=_start_auditor, initargs=(estate, at, kinds)) as pool:
            for each in pool.map(_audit_here, names, chunksize=16):
                done += 1
                yield each
    except BrokenExecutor:
        for name in names[done:]:
            try:
                with ProcessPoolExecutor(1, initializer=_start_auditor, initargs=(estate, at, kinds)) as pool:
                    yield pool.submit(_audit_here, name).result()
            except BrokenExecutor:
                yield GuestAudit(name, unread="the process that worked on it died"), None


class Auditor:
    """Audits one guest after the other; what the estate gives is worked out once."""

    def __init__(self, estate: Estate, at: datetime, kinds: Kinds = KINDS) -> None:
        self.estate, self.at, self.kinds = estate, at, kinds
        self.realms, self.names = realms(estate), names_of(estate)

    def __call__(self, name: str) -> tuple[GuestAudit, Identities | None]:
        try:
            spec = self.estate.guests[name]
            with work_on(name):
                snapshot = _read(self.estate, spec, self.kinds)
        except (NightlatchError, OSError) as error:
            return GuestAudit(name, unread=words_of(error)), None
        return self.result(snapshot)

    def result(self, snapshot: Snapshot) -> tuple[GuestAudit, Identities | None]:
        """The audit of one guest from its evidence, or why there is none."""
        try:
            with work_on(snapshot.guest):
                return self.judged(snapshot)
        except (NightlatchError, OSError) as error:
            return GuestAudit(snapshot.guest, unread=words_of(error)), None

    def judged(self, snapshot: Snapshot) -> tuple[GuestAudit, Identities]:
        """The audit of one guest from its evidence."""
        access = guest_access(readings.read(snapshot), self.at, self.realms, self.kinds)
        return run.guest_audit(access, self.at, self.estate, self.names, self.kinds), run.identities(
            access, self.estate
        )


_AUDITOR: list[Auditor] = []


def _start_auditor(estate: Estate, at: datetime, kinds: Kinds) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is the first process's to answer
    _AUDITOR[:] = [Auditor(estate, at, kinds)]


def _audit_here(name: str) -> tuple[GuestAudit, Identities | None]:
    return _AUDITOR[0](name)


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


def draft(estate: Estate, snapshot: Snapshot, at: datetime, kinds: Kinds = KINDS) -> Draft:
    """The fewest steps that close what is certainly wrong on one guest; `Draft.left` says what no step closes."""
    with work_on(snapshot.guest):
        return plan.make(estate, snapshot, at, kinds)


def prove(
    estate: Estate, made: Draft, snapshot: Snapshot, at: datetime, kinds: Kinds = KINDS
) -> ProvedDraft:  # fmt: skip
    """Work a draft out on evidence. Raises RefusedError when it does not close the gap, or shuts the own door."""
    with work_on(snapshot.guest):
        return plan.prove(estate, made, snapshot, at, kinds)


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
    worlds, gaps = effective.worlds(reasoning.Caller(account, tuple(groups), Listener("", port)))
    found = [effective.settings(p.truth) for world in worlds for p in world if address in p.sources]
    if gaps and any(each != found[0] for each in found):
        raise RefusedError(f"{gaps[0].origin}: {gaps[0].because}")
    return {name: found[0][name] for name in KEYWORDS}
