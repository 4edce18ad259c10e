"""Which process is sshd: told by the kernel, the service manager and what only root can write (proc(5), systemctl(1)).

A process's title, its name and the name of a unit in a control group's path are for its user to choose. A daemon is root's,
holds a listening socket, runs a program that only root can write, and is where the service manager says that its unit is;
without a service manager it is a child of the first process. All else that calls itself sshd is told about, never run,
never reloaded, and no door.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace

from nightlatch.origin import Kind, Origin

SERVICES = ("ssh.service", "sshd.service")
ROOT = "root"
# What sshd writes over its own command line: "sshd: PROGRAM OPTIONS [listener] 0 of 10-100 startups" (sshd.c).
TITLE = re.compile(r"(?:sshd: )?(?:/\S+|sshd)(?: (?!\[listener\])(.*?))?(?: \[listener\].*)?")
UNIT = re.compile(r"[A-Za-z0-9:_.@\\-]{1,255}\.service")


@dataclass(frozen=True, slots=True)
class Daemon:
    """A process that bears sshd's name and waits for callers.

    `program` is the file that it runs, or what is at that path now where that was `replaced`; `options` are the words it was
    started with; `unit` is empty for one by hand. `started` is in ticks since the guest's boot. `doubt` says why it is not the
    guest's sshd, in words; empty for the daemon. `holds` are the inodes of its listening sockets, `group` its control group.
    """

    pid: int
    program: str
    options: tuple[str, ...]
    unit: str
    title: str
    started: str = ""
    doubt: str = ""
    replaced: bool = False
    holds: frozenset[str] = frozenset()
    group: str = ""
    parent: int = 0

    @property
    def origin(self) -> Origin:
        """Where this was read."""
        return Origin(f"/proc/{self.pid}/cmdline", kind=Kind.LISTING)


def main_file(daemon: Daemon) -> str:
    """The configuration that a daemon was started with (sshd(8), -f), empty for sshd's own."""
    found = re.search(r"(?:^|\s)-f\s*(/\S{1,200})", " ".join(daemon.options))
    return found[1] if found else ""


def outermost(group: str) -> str:
    """The service that a control group's path is in, empty where there is none: its first part that is no slice, for what is
    below is the unit's own to name (systemd.slice(5))."""
    parts = (part for part in group.split("/") if part and not part.endswith(".slice"))
    first = next(parts, "")
    return first if UNIT.fullmatch(first) else ""


def read(
    text: str, waiting: frozenset[str], groups: Mapping[str, str], mains: Mapping[str, int], *, managed: bool
) -> tuple[Daemon, ...]:
    """All that call themselves sshd and wait for callers, the guest's own daemons first.

    `waiting` are the inodes of listening sockets; `groups` and `mains` are the control group and main process of each unit, as
    the service manager itself says; `managed` says whether there is one.
    """
    found = [_placed(each, groups, mains, managed=managed) for each in _listed(text, waiting)]
    own = [each for each in found if not each.doubt]
    first = [each for each in own if each.unit in SERVICES] or own
    if managed and len(first) > 1 and not any(each.unit in SERVICES for each in first):
        first = []  # several units run an sshd, and none bears its usual name
    others = (replace(each, doubt=each.doubt or "it is a second one") for each in found if each not in first)
    return (*first, *others)


def _listed(text: str, waiting: frozenset[str]) -> Iterator[Daemon]:
    for block in re.split(r"(?m)^(?=pid )", text):
        values: dict[str, list[str]] = {}
        for line in block.splitlines():
            key, _, value = line.partition(" ")
            values.setdefault(key, []).append(value)
        title = values.get("title", [""])[0].strip()
        holds = frozenset(values.get("holds", ())) & waiting
        if "pid" not in values or "other" in values or not holds:
            continue
        found = TITLE.fullmatch(title)
        options = tuple((found[1] or "").split()) if found is not None else ()
        yield Daemon(
            _number(values["pid"]),
            next(iter(values.get("program", ())), ""),
            options,
            "",
            title[:200],
            next(iter(values.get("started", ())), ""),
            _doubt(values, titled=found is not None),
            "replaced" in values,
            holds,
            _group(values.get("group", ())),
            _number(values.get("parent", ())),
        )


def _doubt(values: Mapping[str, list[str]], *, titled: bool) -> str:
    """Why a process can't be sshd whatever unit it is in; empty when it can."""
    if values.get("uids") != [ROOT]:
        return "it is not root's"
    if not values.get("program"):
        return "its program is not known"
    if "roots" not in values:
        return "others than root can change its program"
    return "" if titled else "its title is not sshd's"


def _placed(daemon: Daemon, groups: Mapping[str, str], mains: Mapping[str, int], *, managed: bool) -> Daemon:
    """The daemon with the unit that it is in, or with why it is in none."""
    if not managed:
        outside = "" if daemon.parent == 1 or daemon.pid == 1 else "it is no child of the first process"
        return replace(daemon, doubt=daemon.doubt or outside)
    name = next((unit for unit, pid in mains.items() if pid == daemon.pid and pid), "") or outermost(daemon.group)
    group = groups.get(name, "")
    inside = mains.get(name) == daemon.pid or (group and f"{daemon.group}/".startswith(f"{group}/"))
    if not inside:
        return replace(daemon, doubt=daemon.doubt or "it is in no unit of the service manager's")
    return replace(daemon, unit=name)


def _group(lines: Iterable[str]) -> str:
    """The control group by which the service manager goes (cgroups(7): the unified one, or the one named systemd)."""
    found = (re.fullmatch(r"(?:0:|[0-9]{1,3}:name=systemd):(/.*)", line) for line in lines)
    return next((match[1] for match in found if match), "")


def _number(words: Iterable[str]) -> int:
    text = next(iter(words), "")
    return int(text) if re.fullmatch(r"[0-9]{1,9}", text) else 0
