"""Survey: the evidence of guests, live ones several at a time. Unreachable is a result, too."""

from __future__ import annotations

import secrets
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, ThreadPoolExecutor, wait
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from nightlatch.access.desired_state import members
from nightlatch.access.grants import account_of
from nightlatch.access.paths import guest_access
from nightlatch.estate.model import READ_AS_FILES, Estate, GuestSpec
from nightlatch.evidence.collect import collect
from nightlatch.evidence.extra_paths import NO_MORE, ExtraPaths
from nightlatch.evidence.file_names import SUFFIX, file_of
from nightlatch.evidence.script import NAME
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import NightlatchError, UnreadableError, nearest, words_of, work_on
from nightlatch.model.account_steps import NEW_NAME
from nightlatch.readings import guest as readings
from nightlatch.readings.units import daemons, service_reading, unit_state
from nightlatch.services.base import Kinds
from nightlatch.services.posix import new_account
from nightlatch.services.table import KINDS
from nightlatch.transports import targets
from nightlatch.transports.folder import Folder

if TYPE_CHECKING:
    from nightlatch.transports.live import OpinionRequest
    from nightlatch.transports.shell import Shell
    from nightlatch.transports.ssh import Client

Item = TypeVar("Item")


def collected(kinds: Kinds) -> ExtraPaths:
    """The files of all services of a table."""
    found = NO_MORE
    for kind in kinds.values():
        found |= kind.collects
    return found


COLLECTED = collected(KINDS)
MOST_ASKED = 500  # accounts that a guest's own programs are asked for, one by one
AT_ONCE = 16  # live guests that are asked at the same time


@dataclass(frozen=True, slots=True)
class SurveyResult:
    """One guest's evidence, or why there is none; `stage` is then the step that failed, where there are steps."""

    guest: str
    snapshot: Snapshot | None
    problem: str = ""
    stage: str = ""


def survey_target(
    target: Path | str,
    name: str = "",
    more: ExtraPaths = COLLECTED,
    *,
    client: Client | None = None,
    pins: tuple[str, ...] = (),
) -> Snapshot:
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
        with Folder(target, hold=True) as source:
            return collect(source, name, more)
    if not target.exists():
        none = "there is no such folder, evidence archive or text carried over by hand"
        # Who looks at a path without an estate has no other name for it.
        raise UnreadableError(f"{target}: {none}") if named else UnreadableError(none, guest=str(target))
    from nightlatch.evidence import archive
    from nightlatch.transports import by_hand

    if by_hand.is_output(target):
        return by_hand.read(target, name, more)
    return replace(archive.read(target), guest=name)


def survey_targets(
    names: Sequence[str], *, client: Client | None = None, pins: tuple[str, ...] = (), at_once: int = AT_ONCE
) -> Iterator[SurveyResult]:
    """Read folders, archives and live guests without an estate, several live ones at a time."""

    def one(name: str, using: Client) -> SurveyResult:
        try:
            with work_on(name):
                snapshot = survey_target(name, client=using, pins=pins)
            return SurveyResult(snapshot.guest, snapshot)
        except (NightlatchError, OSError) as error:
            return SurveyResult(name, None, words_of(error), getattr(error, "stage", ""))

    running = [name for name in names if targets.is_live(name)]
    others = (name for name in names if name not in running)
    with client_for(client) as using:
        yield from _several(running, others, lambda name: one(name, using), at_once, using)


def _several(
    running: Iterable[Item], others: Iterable[Item], act: Callable[[Item], SurveyResult], at_once: int, client: Client
) -> Iterator[SurveyResult]:
    """Live guests several at a time, and meanwhile the others one by one. No more than `at_once` live guests are under way or
    wait to be taken, however slowly that goes."""
    left = deque(running)
    with pool_of(min(at_once, len(left)), client) as pool:
        waiting = {pool.submit(act, left.popleft()) for _ in range(min(at_once, len(left)))} if pool else set()
        yield from map(act, others)
        while waiting and pool:
            done, waiting = wait(waiting, return_when=FIRST_COMPLETED)
            while done:
                yield done.pop().result()
                waiting |= {pool.submit(act, left.popleft())} if left else set()


def survey_live(shell: Shell, more: ExtraPaths = COLLECTED, *, ask: bool = True) -> Snapshot:
    """Read a live guest, and `more` of it than always, then ask its own sshd about the callers that our reasoning tells apart.

    Raises UnreadableError, UnreachableError.
    """
    from nightlatch.transports import live

    return live.survey(shell, more, mains=_mains, to_ask=_to_ask if ask else None)


def _mains(told: Snapshot) -> list[str]:
    """Configurations that the guest's own daemons were started with; of whatever else calls itself sshd nothing is read."""
    found = (daemons.main_file(each) for each in service_reading.read(told).daemons)
    return [path for path in found if path and not set(path) & set("\n\\")]


def _to_ask(snapshot: Snapshot) -> OpinionRequest | None:
    from nightlatch.evidence import opinions
    from nightlatch.services.ssh import opinion
    from nightlatch.transports.live import OpinionRequest

    access = guest_access(readings.read(snapshot), datetime.now(UTC))
    if not access.reading.installed:
        return None
    asked, running = opinions.Daemon(options=opinion.options(access.reading)), access.reading.service.daemon
    if running is not None:
        asked = replace(asked, program=running.program, pid=running.pid, started=running.started)
    return OpinionRequest(opinion.questions(access.ssh, access.accounts), asked)


@contextmanager
def client_for(client: Client | None) -> Iterator[Client]:
    """The caller's client, or one of our own for as long as it is needed."""
    if client is not None:
        yield client
        return
    from nightlatch.transports.ssh import Client

    with Client() as own:
        yield own


def _name_of(target: Path) -> str:
    return target.resolve().name.removesuffix(SUFFIX).removesuffix(".txt") or "guest"


def survey_script(estate: Estate | None = None, guest: str = "", *, short: bool = False) -> bytes:
    """The script that surveys a guest which no connection reaches, to be run at its console as root.

    With an estate and a guest of it, the folders that its grants speak of are looked at, too. `survey_target` reads what
    the script printed.
    """
    from nightlatch.evidence import byhand
    from nightlatch.evidence.script import CollectorRequest

    more = more_of(estate, chosen(estate, [guest])[0]) if estate is not None else COLLECTED
    wanted = CollectorRequest().more(more.files, more.looked, more.folders, accounts=more.accounts, every=more.every)
    mark = secrets.token_hex(12)
    return byhand.short(wanted, mark) if short else byhand.script(wanted, mark)


def survey(
    estate: Estate,
    guests: Sequence[str] | None = None,
    *,
    client: Client | None = None,
    at_once: int = AT_ONCE,
    kinds: Kinds = KINDS,
) -> Iterator[SurveyResult]:
    """Read guests, live ones several at a time, each given as soon as it is there; unreachable is a result, too."""
    picked = chosen(estate, guests)
    running = [spec for spec in picked if spec.via.is_live]
    others = (spec for spec in picked if not spec.via.is_live)
    with client_for(client) as using:
        yield from _several(running, others, lambda spec: _surveyed(estate, spec, using, kinds), at_once, using)


def from_evidence(estate: Estate, folder: Path) -> Estate:
    """The estate with each guest read from the archive that `survey` kept of it in a folder, in place of the guest itself.

    Raises UnreadableError when the folder is not there; a guest of which it holds nothing is one that could not be read.
    """
    if not folder.is_dir():
        raise UnreadableError(f"{folder}: there is no such folder; nightlatch survey --into {folder} makes it")
    guests = {name: replace(spec, via=replace(spec.via, kept=file_of(folder, name))) for name, spec in estate.guests.items()}
    return replace(estate, guests=guests)


@contextmanager
def pool_of(size: int, client: Client) -> Iterator[ThreadPoolExecutor | None]:
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


def _surveyed(estate: Estate, spec: GuestSpec, client: Client, kinds: Kinds) -> SurveyResult:
    try:
        with work_on(spec.name):
            return SurveyResult(spec.name, _survey_one(estate, spec, client, kinds))
    except (NightlatchError, OSError) as error:
        return SurveyResult(spec.name, None, words_of(error), getattr(error, "stage", ""))


def _survey_one(estate: Estate, spec: GuestSpec, client: Client, kinds: Kinds) -> Snapshot:
    """One guest, with the folders that grants speak of: a draft may confine somebody there."""
    if spec.via.is_live:
        return survey_live(targets.of_guest(spec, client), more_of(estate, spec, kinds))
    return read_one(estate, spec, kinds)


def read_one(estate: Estate, spec: GuestSpec, kinds: Kinds) -> Snapshot:
    """A guest that is no running one: from its folder, archive or text, or from the archive that was kept of it."""
    if spec.via.kept is not None and not spec.via.kept.exists():
        folder = spec.via.kept.parent
        raise UnreadableError(f"no evidence of it is kept in {folder}; nightlatch survey --into {folder} reads it")
    return survey_target(spec.via.source, spec.name, more_of(estate, spec, kinds))


def kept_of(spec: GuestSpec, folder: Path | None) -> Path | None:
    """Where evidence of a guest lies that no connection is needed for: its archive in `folder`, else the folder, archive or text
    that `via` names; None where there is none."""
    path = file_of(folder, spec.name) if folder is not None else None
    if path is not None and path.exists():
        return path
    return spec.via.path if spec.via.kind in READ_AS_FILES else None


def read_kept(estate: Estate, spec: GuestSpec, folder: Path | None, kinds: Kinds = KINDS) -> Snapshot | None:
    """That evidence; None where there is none. Raises UnreadableError."""
    path = kept_of(spec, folder)
    return survey_target(path, spec.name, more_of(estate, spec, kinds)) if path is not None else None


def more_of(estate: Estate, spec: GuestSpec, kinds: Kinds = KINDS) -> ExtraPaths:
    """Paths that are read of a guest in addition to those that always are: the files of its services, folders in grants,
    the folder that an account in a grant would get, the files of units in sentences, and accounts that a directory may have."""
    said = estate.of(spec.name)
    accounts = dict.fromkeys(account_of(each, estate.principals[who], spec.name) for each in said.grants for who in each.who)
    homes = [new_account.home_of(name) for name in accounts if NEW_NAME.fullmatch(name)]
    stated = [name for each in said.services if each.unit != "ssh" for name in members(each)]
    looked = (*homes, *said.folders, *(path for unit in stated for path in unit_state.paths_of(unit)))
    held = {name for each in estate.directories.values() for name in each.accounts}
    every = bool(held) and len(held) <= MOST_ASKED and all(map(NAME.fullmatch, held))
    asked = (*accounts, *(each.account for each in said.emergency), *(sorted(held) if every else ()))
    return ExtraPaths(looked, accounts=asked, every=every) | collected(kinds)


def chosen(estate: Estate, guests: Sequence[str] | None) -> list[GuestSpec]:
    if guests is None:
        return list(estate.guests.values())
    unknown = [name for name in guests if name not in estate.guests]
    if unknown:
        near = nearest(unknown[0], list(estate.guests))
        meant = f'; did you mean "{near}"?' if near else f" ({', '.join(estate.guests)})"
        raise NightlatchError(f'there is no guest "{unknown[0]}" in {estate.path}{meant}')
    return [estate.guests[name] for name in guests]
