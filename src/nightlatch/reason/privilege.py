"""Who may become root by sudo, and what is asked on top (sudoers(5): the last matching rule counts).

Root's rights here mean: may run any command as root. Rules for single commands are not counted. Not considered: su
with root's password, groups that amount to root (containers, disks), setuid programs of the guest's own.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from nightlatch.formats import sudoers
from nightlatch.formats.patterns import matches
from nightlatch.origin import Origin
from nightlatch.readings.accounts import Account
from nightlatch.readings.gaps import Gap
from nightlatch.readings.sudo import SudoReading


@dataclass(frozen=True, slots=True)
class Way:
    """A way to root: `password` says whose password is asked ("" for none)."""

    password: str
    origin: Origin


class Sudo:
    """The rules of one guest, asked account by account."""

    def __init__(self, reading: SudoReading) -> None:
        self.reading = reading
        self.aliases: dict[tuple[str, str], tuple[str, ...]] = {}
        self._known: dict[tuple[str, str, str], bool] = {}
        self._commands: dict[str, bool | None] = {}
        self._here = True
        self.gaps: list[Gap] = list(reading.gaps)
        for path, item in reading.items:
            if isinstance(item, sudoers.Alias):
                self.aliases[(item.kind, item.name)] = item.members
            elif isinstance(item, sudoers.Unread):
                self.gaps.append(Gap("privilege", f"sudo: {item.because}", Origin(path, item.line)))

    def ways(self, account: Account) -> tuple[Way | None, Way | None]:
        """How this account becomes root, or None: if rules for a named host are for this guest, and if they are not.

        Which names the guest has for itself is not known from files, so the two may differ.
        """
        return self._way(account, here=True), self._way(account, here=False)

    def _way(self, account: Account, *, here: bool) -> Way | None:
        self._here = here
        found: tuple[str, sudoers.Rule] | None = None
        for path, item in self.reading.items:
            if isinstance(item, sudoers.Rule) and self._applies(item, account):
                every = self._every_command(item.command)
                if every is not None:
                    found = (path, item) if every else None
        if found is None:
            return None
        path, rule = found
        asked = rule.password
        whose = account.name
        for text in self._defaults(account):
            if "!authenticate" in text and asked is None:
                asked = False
            if "rootpw" in text and "!rootpw" not in text:
                whose = "root"
            if "targetpw" in text and "!targetpw" not in text:
                whose = "root"
        if account.uid == 0:
            asked = False
        return Way(whose if asked is not False else "", Origin(path, rule.line))

    def _every_command(self, command: str) -> bool | None:
        """Whether the rule lets every command run (True), takes all away (False), or speaks of some only (None)."""
        negated, body = command.startswith("!"), command.lstrip("!")
        if body == "ALL":
            return not negated
        if body not in self._commands and ("Cmnd", body) in self.aliases:
            self._commands[body] = None
            for member in self.aliases[("Cmnd", body)]:
                each = self._every_command(member)
                self._commands[body] = self._commands[body] if each is None else each
        result = self._commands.get(body)
        return result if result is None else result is not negated

    def _defaults(self, account: Account) -> Iterator[str]:
        for _, item in self.reading.items:
            if isinstance(item, sudoers.Defaults):
                scope = item.scope.strip()
                if not scope or (scope.startswith(":") and self._who((scope[1:],), account)):
                    yield item.text

    def _applies(self, rule: sudoers.Rule, account: Account) -> bool:
        return (
            self._who(rule.who, account)
            and self._listed("Host", rule.hosts, ("ALL",))
            and self._listed("Runas", rule.runas, ("ALL", "root", "#0"))
        )

    def _who(self, names: tuple[str, ...], account: Account) -> bool:
        held = False
        for name in names:
            negated = name.startswith("!")
            body = name.lstrip("!").strip('"')
            if body == "ALL" or body == account.name or body == f"#{account.uid}":
                hit = True
            elif body.startswith("%"):
                group = body[1:]
                hit = group in account.groups or group in {f"#{gid}" for gid in account.gids}
            elif ("User", body) in self.aliases:
                hit = self._once(("User", body, account.name), lambda m: self._who(m, account))
            else:
                hit = any(char in body for char in "*?") and matches(account.name, body)
            held = (not negated) if hit else held
        return held

    def _listed(self, kind: str, names: tuple[str, ...], wanted: tuple[str, ...]) -> bool:
        held = False
        for name in names:
            negated = name.startswith("!")
            body = name.lstrip("!")
            hit = body in wanted
            if (kind, body) in self.aliases:
                hit = self._once((kind, body, str(self._here)), lambda m: self._listed(kind, m, wanted))
            elif kind == "Host" and body != "ALL":
                hit = self._here
            held = (not negated) if hit else held
        return held

    def _once(self, key: tuple[str, str, str], ask: Callable[[tuple[str, ...]], bool]) -> bool:
        """What an alias comes to, worked out once; one that names itself adds nothing."""
        if key not in self._known:
            self._known[key] = False
            self._known[key] = ask(self.aliases[key[:2]])
        return self._known[key]
