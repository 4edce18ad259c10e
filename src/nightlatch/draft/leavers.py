"""The accounts of people whose last day is over: password locked, keys closed, account expired, each by a step of its own.

An account that a grant still opens for somebody, root's, and those of management and emergency access are left alone. The account
itself stays, with its files and its number: who takes it away decides about them, too.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date, datetime

from nightlatch.access.leavers import accounts_of_leavers, is_expired
from nightlatch.access.paths import GuestAccess
from nightlatch.draft.order import Order
from nightlatch.draft.partial_draft import PartialDraft
from nightlatch.draft.steps import AnyStep
from nightlatch.draft.work import Work
from nightlatch.estate.model import Estate
from nightlatch.model.account_steps import LONG_AGO, NAME, SHADOW, LockPassword, SetExpiry
from nightlatch.model.grants import Grant
from nightlatch.model.services import SSH
from nightlatch.readings import own_jobs
from nightlatch.readings.accounts import Account
from nightlatch.services.posix.login_stack import FIRST_REGULAR
from nightlatch.services.ssh import key_lines


def given(estate: Estate, access: GuestAccess, grants: tuple[Grant, ...], at: datetime, order: Order) -> PartialDraft:
    """All that is due on one guest for people who left; nothing where it is done. Administrators wait where the same draft makes
    another one."""
    out = PartialDraft()
    work = Work(access, grants, estate)
    for person, account in accounts_of_leavers(estate, access, grants, at):
        why = f"{person.name} left after {person.until}, and has the account {account.name} (uid {account.uid})."
        if account.elsewhere:
            out.leave(why, "disable it in the directory that it comes from")
            continue
        if account.uid < FIRST_REGULAR:
            out.leave(why, "its number is one of the system's own: disable it by hand if it is really theirs")
            continue
        if not NAME.fullmatch(account.name) or not account.in_shadow:
            out.leave(why, "disable it by hand: the tools don't take its name, or shadow has no record of it")
            continue
        stays = order.administrators_stay() if order.is_administrator(account.name) else ""
        if stays and not is_expired(account, at.date()):
            out.leave(why, stays)
            continue
        steps = list(_retiring(work, account, why, at.date()))
        out.steps += steps
        if steps:
            jobs = " and ".join(own_jobs.places_of(access.reading.snapshot, account.name))
            also = f", and with what runs for it by itself: {jobs}" if jobs else ""
            out.leave(f"{account.name} stays with its files and its number{also}.", _behind(account))
    return out


def _retiring(work: Work, account: Account, why: str, today: date) -> Iterator[AnyStep]:
    if account.hash_method or account.has_empty_password:
        yield LockPassword(SHADOW, why, False, account.name)
    for server in work.access.of(SSH.name):
        yield from key_lines.close_all(work.case(server), account, why)
    if not is_expired(account, today):
        yield SetExpiry(SHADOW, why, False, account.name, LONG_AGO, account.expires)


def _behind(account: Account) -> str:
    return (
        f"what still runs for it: crontab -lu {account.name}, atq, loginctl list-sessions; what is its own: find / -xdev -user "
        f"{account.uid}. Give no other account the number {account.uid} while files have it"
    )
