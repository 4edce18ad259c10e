"""Steps that give somebody root's rights by sudo, or take them away: one rule in a file of its own, one line, or one group."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.evidence.snapshot import EntryKind
from nightlatch.formats import lines as text_lines
from nightlatch.formats import sudoers
from nightlatch.model.account_steps import GROUP, NAME, AddMember, DropMember
from nightlatch.model.candidates import Candidate
from nightlatch.model.causes import SudoRule
from nightlatch.model.grants import Grant
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import PowerKind
from nightlatch.model.steps import MakeFile, ReplaceLine
from nightlatch.origin import Kind
from nightlatch.readings.accounts import Account
from nightlatch.readings.guest import GuestReading

FOLDER = "/etc/sudoers.d"
MODE = 0o440  # as sudo's own files (sudoers(5), owner and mode)


def gives(reading: GuestReading, grant: Grant, account: Account, why: str) -> Iterator[Candidate]:
    """Candidates that make an account an administrator as its grant says: a rule in a file of its own, which names nobody else
    and opens nothing but sudo; else the group that the guest's own rules name."""
    if (
        not any(power.gives is PowerKind.ADMINISTER for power in grant.gives)
        or account.uid == 0
        or not NAME.fullmatch(account.name)
    ):
        return
    tag = "" if grant.after else "NOPASSWD: "
    folder = reading.snapshot.resolve(FOLDER)
    if folder.entry is not None and folder.entry.kind is EntryKind.FOLDER:
        name = account.name.replace(".", "-")  # sudo skips names with a dot
        taken = set(reading.snapshot.children(folder.path))
        free = next(each for number in range(len(taken) + 1) if (each := f"{name}-{number}" if number else name) not in taken)
        text = f"{account.name} ALL=(ALL:ALL) {tag}ALL\n"
        yield (MakeFile(f"{folder.path}/{free}", why, True, text, MODE, 0, 0),)
    for _, item in reading.sudo.items:
        names = item.who if isinstance(item, sudoers.Rule) else ()
        for group in (each[1:] for each in names if each.startswith("%") and NAME.fullmatch(each[1:])):
            if group not in account.groups and any(known.name == group for known in reading.accounts.groups):
                yield (AddMember(GROUP, why, True, account.name, group),)


def takes(reading: GuestReading, path: AccessPath, why: str) -> Iterator[Candidate]:
    """Candidates that take root's rights from the account of a way in: the line that names it alone, or its place in a group."""
    account = reading.accounts.by_name.get(path.account)
    if path.power.gives is not PowerKind.ADMINISTER or account is None or account.uid == 0:
        return
    for cause in path.causes:
        if isinstance(cause, SudoRule) and cause.origin.kind is Kind.FILE:
            yield from _rule(reading, cause, account, why)


def _rule(reading: GuestReading, cause: SudoRule, account: Account, why: str) -> Iterator[Candidate]:
    where = cause.origin.path
    rules = [item for path, item in reading.sudo.items if path == where and item.line == cause.origin.line]
    who = {name for rule in rules if isinstance(rule, sudoers.Rule) for name in rule.who}
    content = reading.snapshot.content(where)
    if who == {account.name} and content is not None:
        lines = [text_lines.text_of(line).rstrip("\r\n") for line in text_lines.split(content)]
        before = lines[cause.origin.line - 1]
        if not before.endswith("\\"):
            yield (ReplaceLine(where, why, False, before, "", lines[: cause.origin.line - 1].count(before)),)
    for group in sorted(each[1:] for each in who if each.startswith("%")):
        listed = any(known.name == group and account.name in known.members for known in reading.accounts.groups)
        if listed and NAME.fullmatch(account.name):
            yield (DropMember(GROUP, why, False, account.name, group),)
