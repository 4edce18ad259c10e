"""The public function that judges a password: by itself, and by the limits of a guest that it is for."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime

from nightlatch.access.paths import guest_access
from nightlatch.draft.work import Work
from nightlatch.estate.model import Estate
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import NightlatchError, UnreadableError, nearest, work_on
from nightlatch.model.services import SSH
from nightlatch.ops.survey import chosen, survey, survey_target
from nightlatch.ops.why import of_one
from nightlatch.passwords.judged import Judgement, judged
from nightlatch.readings import guest as readings
from nightlatch.services.ssh import guessing
from nightlatch.services.ssh.guessing import GuessLimit
from nightlatch.transports.ssh import Client

__all__ = ["JudgedPassword", "judge_password"]


@dataclass(frozen=True, slots=True)
class JudgedPassword:
    """The judgement of a password, which itself is nowhere in it; of a `guest`, what slows guesses of that account there."""

    judgement: Judgement
    account: str = ""
    guest: str = ""
    limit: GuessLimit | None = None

    @property
    def hours(self) -> float | None:
        """How many hours of guessing find it at most; None where nothing tells how fast that goes."""
        if self.limit is None or self.limit.an_hour is None:
            return None
        return self.judgement.guesses / self.limit.an_hour


def judge_password(
    password: str | Callable[[], str],
    at: datetime,
    account: str = "",
    *,
    estate: Estate | None = None,
    guest: str = "",
    beside: bool = False,
    screen: bool = False,
    client: Client | None = None,
) -> JudgedPassword:
    """Judge a password, or what asks for one once the guest was read, and keep nothing of it. `guest` is one of the estate, else
    a folder, an archive or a live guest; `at` is aware.

    `beside` another proof it may be shorter; that of a `screen` is cut by a VNC server. Raises NightlatchError for a guest or an
    account that is not there, UnreadableError for one that can't be read.
    """
    if guest and not account:
        raise NightlatchError("a guest's limits are those of an account: say --for ACCOUNT")
    if guest and screen:
        raise NightlatchError("a guest's limits are those of SSH: judge a screen's password without GUEST")
    name, limit = "", None
    if guest:
        snapshot = _snapshot(estate, guest, client)
        name, limit = snapshot.guest, _limit(estate or of_one(snapshot.guest), snapshot, account, at)
    text = password if isinstance(password, str) else password()
    return JudgedPassword(judged(text, account, beside=beside, screen=screen), account, name, limit)


def _snapshot(estate: Estate | None, guest: str, client: Client | None) -> Snapshot:
    if estate is None:
        return survey_target(guest, client=client)
    chosen(estate, [guest])
    (found,) = survey(estate, [guest], client=client)
    if found.snapshot is None:
        raise UnreadableError(found.problem, guest=guest)
    return found.snapshot


def _limit(estate: Estate, snapshot: Snapshot, account: str, at: datetime) -> GuessLimit:
    with work_on(snapshot.guest):
        access = guest_access(readings.read(snapshot), at)
        known = access.reading.accounts.by_name
        if account not in known:
            near = nearest(account, list(known))
            meant = f'; did you mean "{near}"?' if near else ""
            raise NightlatchError(f'{snapshot.guest} has no account "{account[:40]}"{meant}')
        servers = list(access.of(SSH.name))
        if not servers:
            return GuessLimit(guessing.LimitKind.NOT_ASKED, ever=0)
        return guessing.limit(Work(access, (), estate).case(servers[0]), known[account])
