"""Steps on accounts applied: to evidence in memory, or to the bytes of a guest's own databases.

gshadow(5) is never read as evidence; where a guest has one, its records follow those of group(5).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import date

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.formats import account_fields as fields
from nightlatch.model.account_steps import (
    DATABASES,
    GROUP,
    PASSWD,
    SHADOW,
    AccountStep,
    AddAccount,
    AddMember,
    DropAccount,
    DropMember,
    GivePassword,
    LockPassword,
    SetExpiry,
    TakePassword,
    UnlockPassword,
    inverse,
)

GSHADOW = "/etc/gshadow"
Files = Mapping[str, bytes]
Alone = LockPassword | UnlockPassword | SetExpiry | GivePassword | TakePassword  # steps on one database
NEW = b"{new}"  # in evidence, a password that is not made yet


def changed(files: Files, step: AccountStep, today: date | None, hashes: Mapping[str, bytes] | None = None) -> dict[str, bytes]:
    """The databases that a step changes, by their paths, from all that are there, in the order in which they are to be written:
    the one by which it counts comes last. Raises fields.FieldFault.

    `today` is written as the day of the last change of a new account's password (shadow(5)); None leaves it empty. `hashes` are
    those of passwords that are given, by account (crypt(5)); evidence has none.
    """
    match step:
        case AddAccount():
            return _added(files, step, "" if today is None else str((today - date(1970, 1, 1)).days))
        case DropAccount():
            return _dropped(files, step)
        case AddMember():
            return {path: fields.with_member(files[path], step.group, step.account) for path in _groups(files, step.group)}
        case DropMember():
            return {path: fields.without_member(files[path], step.group, step.account) for path in _groups(files, step.group)}
        case LockPassword():
            return {SHADOW: fields.locked(_of(files, SHADOW), step.account)}
        case UnlockPassword():
            return {SHADOW: fields.unlocked(_of(files, SHADOW), step.account)}
        case SetExpiry():
            return {SHADOW: fields.expiring(_of(files, SHADOW), step.account, step.day, step.was)}
        case GivePassword():
            hashed = NEW if hashes is None else hashes.get(step.account)
            if hashed is None:
                raise fields.FieldFault(f"the password that {step.account} had is known to nobody here")
            return {SHADOW: fields.given(_of(files, SHADOW), step.account, step.marker, hashed)}
        case TakePassword():
            return {SHADOW: fields.taken(_of(files, SHADOW), step.account, step.marker, step.was)}


def undone(files: Files, step: AccountStep) -> dict[str, bytes]:
    """The databases that take a step back, which may have been cut off before it counted; nothing where it was not begun. Raises
    fields.FieldFault where somebody has changed since what it made."""
    try:
        return changed(files, inverse(step), None, {})
    except fields.FieldFault:
        parts = {path: one for path in DATABASES if path in files and (one := _part_undone(files, step, path)) is not None}
        if (PASSWD if isinstance(step, AddAccount | DropAccount) else GROUP) in parts or isinstance(step, Alone):
            if isinstance(step, Alone) and _fits(files, step):
                return {}
            raise
        return parts


def _part_undone(files: Files, step: AccountStep, path: str) -> bytes | None:
    """One database without its part of a step; None where that is not there."""
    try:
        match step:
            case AddAccount():
                return fields.dropped(files[path], _passwd(step) if path == PASSWD else (step.account,))
            case AddMember() if path in (GROUP, GSHADOW):
                return fields.without_member(files[path], step.group, step.account)
            case DropMember() if path in (GROUP, GSHADOW):
                return fields.with_member(files[path], step.group, step.account)
    except fields.FieldFault:
        pass
    return None


def _fits(files: Files, step: AccountStep) -> bool:
    try:
        changed(files, step, None)
    except fields.FieldFault:
        return False
    return True


def _added(files: Files, step: AddAccount, today: str) -> dict[str, bytes]:
    if _listed(files, step.account):
        raise fields.FieldFault(f"a group lists {step.account} already: the new account would be in it at once")
    out = {GROUP: fields.added(_of(files, GROUP), (step.account, "x", str(step.gid), ""))}
    if GSHADOW in files:
        out[GSHADOW] = fields.added(files[GSHADOW], (step.account, "!", "", ""))
    out[SHADOW] = fields.added(_of(files, SHADOW), (step.account, "*", today, "0", "99999", "7", "", "", ""))
    out[PASSWD] = fields.added(_of(files, PASSWD), _passwd(step))
    return out


def _dropped(files: Files, step: DropAccount) -> dict[str, bytes]:
    """The account must be as it was made: with a password by now, or a group's member, it is somebody's."""
    if _listed(files, step.account):
        raise fields.FieldFault(f"{step.account} is a member of groups by now; retire it instead of taking it away")
    try:
        shadow = fields.dropped(_of(files, SHADOW), (step.account, "*"))
    except fields.FieldFault:
        raise fields.FieldFault(f"{step.account} has a password by now; retire it instead of taking it away") from None
    out = {
        PASSWD: fields.dropped(_of(files, PASSWD), _passwd(step)),
        SHADOW: shadow,
        GROUP: fields.dropped(_of(files, GROUP), (step.account, "", str(step.gid))),
    }
    if GSHADOW in files:
        out[GSHADOW] = fields.dropped(files[GSHADOW], (step.account,))
    return out


def _listed(files: Files, account: str) -> bool:
    """Whether a group lists an account, be it a missing one: a new account of that name would be in the group at once."""
    return any(account.encode() in line.rpartition(b":")[2].split(b",") for line in _of(files, GROUP).split(b"\n"))


def _passwd(step: AddAccount | DropAccount) -> tuple[str, ...]:
    return (step.account, "x", str(step.uid), str(step.gid), "", step.home, step.shell)


def _groups(files: Files, group: str) -> list[str]:
    """The databases that have a record of the group; gshadow may lack one (grpconv(8))."""
    _of(files, GROUP)
    held = f"{group}:".encode()
    return [*([GSHADOW] if any(line.startswith(held) for line in files.get(GSHADOW, b"").split(b"\n")) else []), GROUP]


def _of(files: Files, path: str) -> bytes:
    if path not in files:
        raise fields.FieldFault(f"{path} is no file that was read")
    return files[path]


def applied(snapshot: Snapshot, step: AccountStep) -> Snapshot:
    """The evidence after a step. Raises fields.FieldFault where it does not fit."""
    held = {path: snapshot.entries.get(snapshot.resolve(path).path) for path in (PASSWD, SHADOW, GROUP)}
    files = {path: each.content for path, each in held.items() if each is not None and each.content is not None}
    made = changed(files, step, None)
    entries = {
        snapshot.resolve(path).path: replace(entry, content=raw, size=len(raw))
        for path, raw in made.items()
        if (entry := held[path]) is not None
    }
    return snapshot.with_files(entries)


def not_so(snapshot: Snapshot, steps: Sequence[AccountStep]) -> list[AccountStep]:
    """The steps whose work evidence does not show, in order. Each is looked at as it was before the later ones."""
    out: list[AccountStep] = []
    given = {step.account for step in steps if isinstance(step, TakePassword)}
    for step in reversed(steps):
        if isinstance(step, DropAccount) and step.account in given:  # its record in shadow, locked, goes when that is kept
            passwd = (snapshot.content(PASSWD) or b"").split(b"\n")
            so, back = not any(line.startswith(f"{step.account}:".encode()) for line in passwd), False
        else:
            so, back = holds(snapshot, step), not isinstance(step, TakePassword)
        if not so:
            out.insert(0, step)
        elif back:
            snapshot = applied(snapshot, inverse(step))
    return out


def holds(snapshot: Snapshot, step: AccountStep) -> bool:
    """Whether evidence is as a step makes it: its inverse would fit, and it would not fit again. A password that is to be taken
    away is only locked until that is decided."""
    if isinstance(step, TakePassword):
        return holds(snapshot, LockPassword(SHADOW, "", False, step.account))
    try:
        applied(snapshot, step)
    except fields.FieldFault:
        pass
    else:
        return False
    try:
        applied(snapshot, inverse(step))
    except fields.FieldFault:
        return False
    return True
