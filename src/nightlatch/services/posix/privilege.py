"""Who may become root by sudo, and what is asked on top (sudoers(5): the last matching rule counts).

Root's rights here mean: may run any command as root. A single command that can be led to run others (a shell, an editor, an
interpreter) leaves it undecided, with its rule; other single commands are not counted. Not considered: su with root's password,
groups that amount to root (containers, disks), setuid programs of the guest's own.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

from nightlatch.formats import sudoers
from nightlatch.formats.patterns import matches
from nightlatch.model.gaps import Gap
from nightlatch.origin import Origin
from nightlatch.readings.accounts import Account
from nightlatch.readings.sudo import SudoReading

# Programs that run whatever they are told, and those that do so from within (their manual pages tell how).
LEADS_ON = frozenset(
    (
        "sh bash dash ash zsh ksh mksh rbash fish csh tcsh busybox su sudo env nice nohup timeout setsid stdbuf xargs "
        "find watch script screen tmux chroot unshare nsenter strace ltrace gdb make git ssh scp sftp rsync man less more "
        "most vi vim nvim view vimdiff ex ed nano pico emacs mg joe jed micro sudoedit vipw vigr visudo python python2 "
        "python3 perl ruby lua node php tclsh expect awk gawk mawk nawk crontab at batch ftp mysql psql sqlite3 zip tar "
        "cpio pip pip3 npm docker podman lxc snap apt apt-get aptitude dpkg dnf yum rpm systemd-run machinectl"
    ).split()
)
# Programs that write, or change the mode of, any file they are given: so without arguments in the rule, or with a wildcard.
WRITES = frozenset("cp mv install dd tee ln chmod chown chgrp setfacl mount useradd usermod passwd chpasswd sed truncate".split())


@dataclass(frozen=True, slots=True)
class RootWay:
    """A way to root: `password` says whose password is asked ("" for none); `command` is the only one that may be run, empty for
    any."""

    password: str
    origin: Origin
    command: str = ""


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
            elif isinstance(item, sudoers.UnreadLine):
                self.gaps.append(Gap("privilege", f"sudo: {item.because}", Origin(path, item.line)))

    def ways(self, account: Account) -> tuple[RootWay | None, RootWay | None]:
        """How this account becomes root, or None: if rules for a named host are for this guest, and if they are not.

        Which names the guest has for itself is not known from files, so the two may differ.
        """
        return self._way(account, here=True), self._way(account, here=False)

    def _way(self, account: Account, *, here: bool) -> RootWay | None:
        self._here = here
        found: tuple[str, sudoers.Rule] | None = None
        for path, item in self.reading.items:
            if isinstance(item, sudoers.Rule) and self._applies(item, account):
                every = self._every_command(item.command)
                if every is not None:
                    found = (path, item) if every else None
        if found is None:
            return None
        return self._asked(account, *found)

    def single(self, account: Account) -> tuple[RootWay, ...]:
        """Single commands as root that can be led to run others; of each the last rule counts."""
        self._here = True
        found: dict[str, tuple[str, sudoers.Rule]] = {}
        for path, item in self.reading.items:
            if not isinstance(item, sudoers.Rule) or not self._applies(item, account):
                continue
            for command in self._members(item.command, set()):
                body = command.lstrip("!")
                if body == "ALL":
                    found.clear()
                elif command.startswith("!"):
                    found.pop(body, None)
                elif leads_on(body):
                    found[body] = (path, item)
        return tuple(replace(self._asked(account, path, rule), command=body) for body, (path, rule) in found.items())

    def _members(self, command: str, seen: set[str]) -> Iterator[str]:
        """The commands that an alias stands for, or the command itself."""
        negated, body = command.startswith("!"), command.lstrip("!")
        members = self.aliases.get(("Cmnd", body))
        if members is None:
            yield command
        elif body not in seen:
            seen.add(body)
            for each in members:
                for one in self._members(each, seen):
                    yield f"!{one}" if negated and not one.startswith("!") else one

    def _asked(self, account: Account, path: str, rule: sudoers.Rule) -> RootWay:
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
        return RootWay(whose if asked is not False else "", Origin(path, rule.line))

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
        """The members of an alias, worked out once; one that names itself adds nothing."""
        if key not in self._known:
            self._known[key] = False
            self._known[key] = ask(self.aliases[key[:2]])
        return self._known[key]


def leads_on(command: str) -> bool:
    """Whether a command of a rule can be led to run any other, or to write any file (sudoers(5), Preventing shell escapes)."""
    words = command.split()
    name = words[0].rpartition("/")[2] if words else ""
    if any(sign in name for sign in "*?["):  # a pattern of programs; of a folder alone, a slash at its end
        return True
    if name in LEADS_ON or words[:1] == ["sudoedit"] or (words and words[0].endswith("/")):
        return True
    rest = " ".join(words[1:])
    return name in WRITES and (not rest or (any(sign in rest for sign in "*?[") and rest != '""'))
