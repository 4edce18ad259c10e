"""The accounts of people whose last day is over, on one guest."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import date, datetime

from nightlatch.access.paths import GuestAccess
from nightlatch.estate.model import Estate, Principal
from nightlatch.model.grants import Grant, GrantKind
from nightlatch.readings.accounts import Account


def accounts_of_leavers(
    estate: Estate, access: GuestAccess, grants: Iterable[Grant], at: datetime
) -> Iterator[tuple[Principal, Account]]:
    """The people whose last day was before `at` (aware), each with their own account where the guest has it and nobody else is
    granted it; root's, and those of management and emergency access, are left out."""
    known = access.reading.accounts.by_name
    kept = {grant.account for grant in grants if grant.kind is not GrantKind.GRANT or any(grant.callers.perhaps.values())}
    kept |= {each.account for each in estate.of(access.reading.guest).emergency}
    for person in estate.principals.values():
        account = known.get(person.accounts.get(access.reading.guest, person.name))
        if estate.over(person.until, at) and account is not None and account.uid and account.name not in kept:
            yield person, account


def is_expired(account: Account, today: date) -> bool:
    """Whether the account's day of expiry has come (shadow(5): on that day it is)."""
    return account.expires is not None and account.expires <= (today - date(1970, 1, 1)).days
