"""Which accounts may log in from where, by sshd's lists of users and groups (sshd_config(5); auth.c, allowed_user)."""

from __future__ import annotations

from nightlatch.formats.patterns import matches
from nightlatch.model.bounds import EVERYBODY, NOBODY, Addresses, Bounds, in_all
from nightlatch.model.causes import AccountState, Cause, Condition, Effect, SettingLine, UserList
from nightlatch.net.addresses import EVERY_ADDRESS, NO_ADDRESS, AddressSet, union
from nightlatch.readings import address_lists
from nightlatch.readings.accounts import Account
from nightlatch.services.ssh.settings import Settings


def permitted(account: Account, settings: Settings, *, names_looked_up: bool) -> tuple[Addresses, Cause | None]:
    """From where an account may come by DenyUsers, AllowUsers, DenyGroups, AllowGroups and root's own setting; and where that is
    from nowhere, the line that says so."""
    denied = _user_list(settings["denyusers"].value, account.name, names_looked_up)
    pair = Bounds(EVERY_ADDRESS - denied.perhaps, EVERY_ADDRESS - denied.surely)
    if not pair.perhaps:
        return pair, UserList("denyusers", Effect.NAMED, settings["denyusers"].origin)
    if settings["allowusers"].value:
        pair = in_all([pair, _user_list(settings["allowusers"].value, account.name, names_looked_up)])
        if not pair.perhaps:
            return pair, UserList("allowusers", Effect.LEFT_OUT, settings["allowusers"].origin)
    nobody = NOBODY
    deny, allow = settings["denygroups"], settings["allowgroups"]
    if (deny.value or allow.value) and not account.groups:
        return nobody, AccountState(Condition.NO_GROUP, account.origin)
    if any(matches(group, pattern) for group in account.groups for pattern in deny.value):
        return nobody, UserList("denygroups", Effect.NAMED, deny.origin)
    if allow.value and not any(matches(group, pattern) for group in account.groups for pattern in allow.value):
        return nobody, UserList("allowgroups", Effect.LEFT_OUT, allow.origin)
    if account.uid == 0 and settings["permitrootlogin"].word == "no":
        return nobody, SettingLine("permitrootlogin", "no", settings["permitrootlogin"].origin)
    return pair, None


def limiting(
    account: Account, settings: Settings, sources: AddressSet, *, names_looked_up: bool
) -> tuple[Cause, AddressSet] | None:
    """The list that keeps an account from logging in from some of these addresses, and from which."""
    denied = _user_list(settings["denyusers"].value, account.name, names_looked_up).surely & sources
    if denied:
        return UserList("denyusers", Effect.NAMED, settings["denyusers"].origin), denied
    named = _user_list(settings["allowusers"].value, account.name, names_looked_up)
    left_out = sources - named.perhaps if settings["allowusers"].value else NO_ADDRESS
    if left_out:
        return UserList("allowusers", Effect.NAMED_ELSEWHERE, settings["allowusers"].origin), left_out
    return None


def _user_list(patterns: tuple[str, ...], name: str, names_looked_up: bool) -> Addresses:
    """AllowUsers and DenyUsers: patterns of a user, or of a user and where from (match_user)."""
    surely: list[AddressSet] = []
    perhaps: list[AddressSet] = []
    for pattern in patterns:
        user, at, host = pattern.rpartition("@")
        if not at:
            if matches(name, pattern):
                return EVERYBODY
        elif matches(name, user):
            found = address_lists.host_list(host, names_looked_up=names_looked_up)
            surely.append(found.yes)
            perhaps.append(found.yes | found.unsure)
    return Bounds(union(surely), union(perhaps))
