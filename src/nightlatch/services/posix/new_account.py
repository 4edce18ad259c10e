"""The account that a grant names and a guest lacks: its number, group, folder and shell, worked out from what the guest has.

A number is free where no account, no group and no file that was read has it: the files of a removed account would belong to the
next account of that number.
"""

from __future__ import annotations

from collections import Counter

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.model.account_steps import NEW_NAME, PASSWD, PLACE, AddAccount
from nightlatch.model.steps import FileStep, MakeFolder
from nightlatch.origin import Origin
from nightlatch.readings.accounts import Account, Accounts

FIRST, LAST = 1000, 59999  # login.defs(5), UID_MIN and UID_MAX, as shadow has them unless told otherwise
NO_LOGIN = ("/nologin", "/false", "/sync", "/halt", "/shutdown")
HOMES = "/home"


def made(snapshot: Snapshot, accounts: Accounts, name: str, why: str) -> tuple[tuple[AddAccount | FileStep, ...], Account] | None:
    """The steps that make an account with a folder of its own, and the account as it will be; None where a person has to decide:
    the tools don't take the name, a group has it or lists it, or the folder is there already."""
    home = home_of(name)
    there = snapshot.resolve(home)
    if not NEW_NAME.fullmatch(name) or accounts.gaps or any(name in (group.name, *group.members) for group in accounts.groups):
        return None
    if there.entry is not None and there.entry.kind is not EntryKind.ABSENT:
        return None
    above = snapshot.resolve(HOMES)
    if above.entry is None or above.entry.kind is not EntryKind.FOLDER:
        return None
    uid, shell = _free(snapshot, accounts), _shell(accounts)
    if uid is None:
        return None
    steps = (
        AddAccount(PASSWD, why, True, name, uid, uid, home, shell),
        MakeFolder(there.path, why, True, 0o700, uid, uid),
    )
    account = Account(name, uid, uid, home, shell, (name,), "*", Origin(PASSWD), Origin("/etc/shadow"), gids=frozenset([uid]))
    return steps, account


def home_of(name: str) -> str:
    """The folder that a new account gets."""
    return f"{HOMES}/{name}"


def _free(snapshot: Snapshot, accounts: Accounts) -> int | None:
    """The first free number behind the highest of a person's; where there is none, the first free one."""
    owners = {account.uid for account in accounts.by_name.values()} | {entry.uid for entry in snapshot.entries.values()}
    used = owners | {account.gid for account in accounts.by_name.values()}
    used |= {group.gid for group in accounts.groups} | {entry.gid for entry in snapshot.entries.values()}
    last = max((uid for uid in owners if FIRST <= uid <= LAST), default=FIRST - 1)
    return next((uid for uid in (*range(last + 1, LAST + 1), *range(FIRST, last)) if uid not in used), None)


def _shell(accounts: Accounts) -> str:
    """What most people of the guest have, or root."""
    people = [each for each in accounts.by_name.values() if FIRST <= each.uid <= LAST or each.uid == 0]
    shells = Counter(each.shell for each in people if PLACE.fullmatch(each.shell) and not each.shell.endswith(NO_LOGIN))
    return shells.most_common(1)[0][0] if shells else "/bin/sh"
