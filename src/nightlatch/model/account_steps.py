"""Steps on a guest's accounts and groups: one field of one record each, with its inverse.

The databases hold secrets, so no step carries their text. A running guest changes them with its own tools (useradd(8),
usermod(8), gpasswd(1), chage(1)) or under their lock; in a folder the one field is changed and every other byte stays. `words`
and `parse` carry a step through a record; a guest may have written that, so it is read strictly.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from nightlatch.model.steps import Step

PASSWD, SHADOW, GROUP = "/etc/passwd", "/etc/shadow", "/etc/group"
DATABASES = (PASSWD, SHADOW, GROUP, "/etc/gshadow")
NEW_NAME = re.compile(r"[a-z_][a-z0-9_-]{0,31}")  # what useradd(8) takes without a question
NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_.-]{0,31}")
PLACE = re.compile(r"(/[A-Za-z0-9_.-]+)+")
NUMBER = re.compile(r"0|[1-9][0-9]{0,9}")
MARKER = re.compile(r"[!*]{1,3}")  # a password field that no password opens (shadow(5)), and that is no secret
LONG_AGO = 1  # the second day of 1970, as chage(1) has it: 0 may mean "no day"
NEVER = "-"


@dataclass(frozen=True, slots=True)
class AddAccount(Step):
    """Make an account with a group of its own name; its password field is `*`, so no password opens it. No folder is made."""

    account: str
    uid: int
    gid: int
    home: str
    shell: str

    def __str__(self) -> str:
        return f"make the account {self.account}: uid {self.uid}, home {self.home}, shell {self.shell}, no password"


@dataclass(frozen=True, slots=True)
class DropAccount(Step):
    """Take away such an account, with its group, as long as it is as it was made. Its folder stays."""

    account: str
    uid: int
    gid: int
    home: str
    shell: str

    def __str__(self) -> str:
        return f"take the account {self.account} away (uid {self.uid})"


@dataclass(frozen=True, slots=True)
class AddMember(Step):
    """Put an account into a group."""

    account: str
    group: str

    def __str__(self) -> str:
        return f"put {self.account} into the group {self.group}"


@dataclass(frozen=True, slots=True)
class DropMember(Step):
    """Take an account out of a group that is not its own."""

    account: str
    group: str

    def __str__(self) -> str:
        return f"take {self.account} out of the group {self.group}"


@dataclass(frozen=True, slots=True)
class LockPassword(Step):
    """Put ! before an account's password field: no password opens it, and without PAM sshd refuses its keys as well."""

    account: str

    def __str__(self) -> str:
        return f"lock the password of {self.account}"


@dataclass(frozen=True, slots=True)
class UnlockPassword(Step):
    """Take that ! away again."""

    account: str

    def __str__(self) -> str:
        return f"unlock the password of {self.account}"


@dataclass(frozen=True, slots=True)
class SetExpiry(Step):
    """Give an account the day it expires on, in days since 1970 (shadow(5)), or None for none; `was` is what it must be now."""

    account: str
    day: int | None
    was: int | None

    def __str__(self) -> str:
        if self.day is None:
            return f"let the account {self.account} expire no more"
        return f"expire the account {self.account}" + ("" if self.day == LONG_AGO else f" on day {self.day} since 1970")


@dataclass(frozen=True, slots=True)
class GivePassword(Step):
    """Give an account that has none a password, which is made when the step is done and has to be changed at the first login.

    `marker` is its password field now, `was` the day of its last change in days since 1970, or None (shadow(5)).
    """

    account: str
    marker: str
    was: int | None

    def __str__(self) -> str:
        return f"give {self.account} a password, made when this is enacted, to be changed at the first login"


@dataclass(frozen=True, slots=True)
class TakePassword(Step):
    """Take such a password away, as long as nobody has changed it."""

    account: str
    marker: str
    was: int | None

    def __str__(self) -> str:
        return f"take the password of {self.account} away, which was given and not changed yet"


AccountStep = (
    AddAccount | DropAccount | AddMember | DropMember | LockPassword | UnlockPassword | SetExpiry | GivePassword | TakePassword
)
Made = AddAccount | DropAccount
VERBS = {
    "account-add": AddAccount,
    "account-drop": DropAccount,
    "account-join": AddMember,
    "account-part": DropMember,
    "account-lock": LockPassword,
    "account-unlock": UnlockPassword,
    "account-expire": SetExpiry,
    "account-give": GivePassword,
    "account-take": TakePassword,
}


def words(step: AccountStep) -> tuple[str, ...]:
    """A step as the words that a record and the guest's script have it in."""
    verb = next(word for word, kind in VERBS.items() if kind is type(step))
    match step:
        case AddAccount() | DropAccount():
            return (verb, step.account, f"{step.uid}:{step.gid}:{step.home}:{step.shell}")
        case AddMember() | DropMember():
            return (verb, step.account, step.group)
        case SetExpiry():
            return (verb, step.account, f"{_day(step.day)}:{_day(step.was)}")
        case GivePassword() | TakePassword():
            return (verb, step.account, f"{step.marker}:{_day(step.was)}")
        case _:
            return (verb, step.account)


def parse(found: Sequence[str], why: str = "") -> AccountStep:
    """The step of such words. Raises ValueError for words that are none."""
    verb, *rest = found or ("",)
    if rest and NAME.fullmatch(rest[0]):
        match (verb, *rest):
            case ("account-add" | "account-drop", name, told):
                made = _made(verb, name, told.split(":"), why)
                if made is not None:
                    return made
            case ("account-join", name, group) if NAME.fullmatch(group):
                return AddMember(GROUP, why, True, name, group)
            case ("account-part", name, group) if NAME.fullmatch(group):
                return DropMember(GROUP, why, False, name, group)
            case ("account-lock", name):
                return LockPassword(SHADOW, why, False, name)
            case ("account-unlock", name):
                return UnlockPassword(SHADOW, why, True, name)
            case ("account-expire", name, told) if all(each == NEVER or NUMBER.fullmatch(each) for each in told.split(":")):
                days = [None if each == NEVER else int(each) for each in told.split(":")]
                if len(days) == 2:
                    return SetExpiry(SHADOW, why, days[0] is None, name, *days)
            case ("account-give" | "account-take", name, told):
                given = _given(verb, name, told, why)
                if given is not None:
                    return given
    raise ValueError(f"{' '.join(map(str, found))!r} is no step on an account")


def _made(verb: str, name: str, told: Sequence[str], why: str) -> Made | None:
    if (
        len(told) != 4
        or not all(NUMBER.fullmatch(each) for each in told[:2])
        or not all(PLACE.fullmatch(each) for each in told[2:])
    ):
        return None
    known = (name, int(told[0]), int(told[1]), told[2], told[3])
    return AddAccount(PASSWD, why, True, *known) if verb == "account-add" else DropAccount(PASSWD, why, False, *known)


def _given(verb: str, name: str, told: str, why: str) -> GivePassword | TakePassword | None:
    marker, _, day = told.partition(":")
    if not MARKER.fullmatch(marker) or not (day == NEVER or NUMBER.fullmatch(day)):
        return None
    was = None if day == NEVER else int(day)
    opens = verb == "account-give"
    return GivePassword(SHADOW, why, True, name, marker, was) if opens else TakePassword(SHADOW, why, False, name, marker, was)


def is_account_step(found: Sequence[str]) -> bool:
    """Whether words of a record are about an account."""
    return bool(found) and found[0] in VERBS


def inverse(step: AccountStep, why: str = "") -> AccountStep:
    """The step that takes another one back."""
    match step:
        case AddAccount():
            return DropAccount(PASSWD, why, False, step.account, step.uid, step.gid, step.home, step.shell)
        case DropAccount():
            return AddAccount(PASSWD, why, True, step.account, step.uid, step.gid, step.home, step.shell)
        case AddMember():
            return DropMember(GROUP, why, False, step.account, step.group)
        case DropMember():
            return AddMember(GROUP, why, True, step.account, step.group)
        case LockPassword():
            return UnlockPassword(SHADOW, why, True, step.account)
        case UnlockPassword():
            return LockPassword(SHADOW, why, False, step.account)
        case SetExpiry():
            return SetExpiry(SHADOW, why, step.was is None, step.account, step.was, step.day)
        case GivePassword():
            return TakePassword(SHADOW, why, False, step.account, step.marker, step.was)
        case TakePassword():
            return GivePassword(SHADOW, why, True, step.account, step.marker, step.was)


def _day(day: int | None) -> str:
    return NEVER if day is None else str(day)
