"""What starts servers of VNC on a guest: units of the service manager, and lines of cron(8) that run at a boot.

A server that somebody starts by hand, or from a session, is known by its socket alone (server.py). Not covered: users' own units
and autostart files, and units that are linked from outside the folders of units.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.evidence.vnc_files import INSTANCES, TEMPLATE, USERS, WANTS
from nightlatch.formats import crontab, sections
from nightlatch.formats.lines import split, text_of
from nightlatch.formats.sections import Dialect
from nightlatch.model.gaps import Gap
from nightlatch.origin import Origin
from nightlatch.readings.units import unit_files
from nightlatch.systems import posix


class Program(StrEnum):
    """The programs that serve a screen by VNC."""

    SERVER = "Xtigervnc"
    WRAPPER = "tigervncserver"
    SCRAPER = "X0tigervnc"
    SCRAPER_WRAPPER = "x0tigervncserver"
    X11VNC = "x11vnc"


NAMES = {
    **{each.value: each for each in Program},
    "Xvnc": Program.SERVER,
    "vncserver": Program.WRAPPER,
    "x0vncserver": Program.SCRAPER_WRAPPER,
    "tigervncsession-start": Program.WRAPPER,
}
OTHERS_SHELL = ("sh", "bash", "dash")
MOST_STARTS = 50
_INSTANCE = re.compile(r"(?P<name>[A-Za-z0-9:_.\\-]{1,80})@(?P<instance>[^/@]{1,80})\.service")
_USER_LINE = re.compile(r" *(?P<display>:[0-9]{1,4})=(?P<user>[^=]*)")
_UNREAD = re.compile(r"[$`%]")


@dataclass(frozen=True, slots=True)
class Start:
    """One line that starts a server, as what account, with which words. `at_boot` is None where that is not known; `gap` says
    what of the line is not followed."""

    program: Program
    account: str
    words: tuple[str, ...]
    origin: Origin
    unit: str = ""
    at_boot: bool | None = None
    gap: Gap | None = None


def starts(snapshot: Snapshot) -> tuple[Start, ...]:
    """All that is found in a guest's files."""
    found = [*_units(snapshot), *_by_users_file(snapshot), *_by_cron(snapshot)]
    return tuple({(each.origin, each.unit): each for each in found}.values())[:MOST_STARTS]


def _units(snapshot: Snapshot) -> Iterator[Start]:
    wanted = {name for folder in WANTS for name in snapshot.children(folder)}
    known = [name for name in snapshot.children(posix.UNIT_FOLDERS[0]) if name.endswith(".service")]
    for name in sorted({*known, *(each for each in wanted if each.endswith(".service"))}):
        instance = _INSTANCE.fullmatch(name)
        unit = f"{instance['name']}@.service" if instance is not None else name
        files = unit_files.files_of(snapshot, unit)
        if files and not _is_masked(snapshot, name):
            yield from _of_unit(
                snapshot, name, instance["instance"] if instance is not None else "", files, at_boot=name in wanted
            )


def _is_masked(snapshot: Snapshot, name: str) -> bool:
    entry = snapshot.resolve(f"{posix.UNIT_FOLDERS[0]}/{name}", follow_last=False).entry
    return entry is not None and entry.kind is EntryKind.LINK and entry.target == "/dev/null"


def _of_unit(snapshot: Snapshot, name: str, instance: str, files: Sequence[str], *, at_boot: bool) -> Iterator[Start]:
    user = "root"
    lines: list[tuple[str, Origin]] = []
    for path in files:
        for line in sections.parse(snapshot.content(path) or b"", Dialect.UNIT).entries("Service"):
            if line.key == "User":
                user = _specified(line.value, instance) or "root"
            elif line.key == "ExecStart":
                lines = [*lines, (line.value, Origin(path, line.number))] if line.value else []
    if "@" in name and not instance:
        return
    for text, origin in lines:
        for each in command(_specified(text.lstrip("-@:+!"), instance), user, origin):
            start = replace(each, unit=name, at_boot=at_boot)
            yield _of_session(snapshot, start) if each.words[:1] and text.find("tigervncsession-start") >= 0 else start


def _specified(text: str, instance: str) -> str:
    return text.replace("%i", instance).replace("%I", instance.replace("-", "/")).replace("%%", "%")


def _of_session(snapshot: Snapshot, start: Start) -> Start:
    """The account of a display, by the first line of its file that names the display (tigervncsession-start)."""
    for number, piece in enumerate(split(snapshot.content(USERS) or b""), 1):
        text = text_of(piece).rstrip("\n")
        if re.match(rf" *{re.escape(start.words[0])}=", text):
            return replace(start, account=text.partition("=")[2].rstrip(" "), origin=Origin(USERS, number))
    return replace(start, account="", origin=Origin(USERS))


def _by_users_file(snapshot: Snapshot) -> Iterator[Start]:
    """Displays of that file whose unit is not started at a boot: it is there to be started."""
    wanted = {name for folder in WANTS for name in snapshot.children(folder)}
    if snapshot.content(USERS) is None or not unit_files.files_of(snapshot, TEMPLATE):
        return
    seen: set[str] = set()
    for number, piece in enumerate(split(snapshot.content(USERS) or b""), 1):
        line = _USER_LINE.fullmatch(text_of(piece).rstrip("\n"))
        if line is None or line["display"] in seen:
            continue
        seen.add(line["display"])
        unit = INSTANCES.format(line["display"])
        if unit not in wanted:
            user = line["user"].rstrip(" ")
            yield Start(Program.WRAPPER, user, (line["display"],), Origin(USERS, number), unit, at_boot=False)


def _by_cron(snapshot: Snapshot) -> Iterator[Start]:
    tables = [posix.JOB_TABLE, *(f"{posix.JOB_TABLES}/{name}" for name in snapshot.children(posix.JOB_TABLES))]
    own = [(f"{folder}/{name}", name) for folder in posix.CRON_FOLDERS for name in snapshot.children(folder)]
    for path, owner in [*((path, "") for path in tables), *own]:
        for job in crontab.parse(snapshot.content(path) or b"", owner):
            if job.when.lower() == crontab.REBOOT:
                for each in command(job.command, job.account, Origin(path, job.line)):
                    yield replace(each, at_boot=True)


def command(text: str, account: str, origin: Origin, depth: int = 0) -> Iterator[Start]:
    """The servers that a command starts as an account: by itself, or through a shell or a change of account."""
    for words in _commands(text):
        name = words[0].rpartition("/")[2] if words else ""
        inner = _inside(words, account) if depth < 3 else None
        if inner is not None:
            yield from command(inner[0], inner[1], origin, depth + 1)
        elif name in NAMES:
            unread = next((word for word in words if _UNREAD.search(word)), None)
            gap = Gap("VNC server", f'what "{unread[:60]}" stands for is not known', origin) if unread is not None else None
            yield Start(NAMES[name], account, tuple(words[1:]), origin, gap=gap)


def _commands(text: str) -> Iterator[list[str]]:
    """The single commands of a line of a shell, without settings of their environment in front of them and what is redirected."""
    lexer = shlex.shlex(text, posix=True, punctuation_chars="();<>|&")
    lexer.whitespace_split = True
    lexer.commenters = ""
    held: list[str] = []
    skip = False
    try:
        words = list(lexer)
    except ValueError:
        return
    for word in [*words, ";"]:
        if set(word) <= set(";|&()"):
            if held:
                yield held
            held, skip = [], False
        elif set(word) <= set("<>&"):
            skip = True
            if held and held[-1].isdigit():
                held.pop()
        elif skip:
            skip = False
        elif held or not (word in ("exec", "nohup", "env", "setsid") or re.match(r"[A-Za-z_][A-Za-z0-9_]*=", word)):
            held.append(word)


def _inside(words: Sequence[str], account: str) -> tuple[str, str] | None:
    """What a shell or a change of account runs, and as what account; None for another program."""
    name, rest = words[0].rpartition("/")[2], list(words[1:])
    if name in OTHERS_SHELL:
        flag = next((number for number, word in enumerate(rest) if re.fullmatch(r"-[a-z]*c", word)), None)
        return (rest[flag + 1], account) if flag is not None and flag + 1 < len(rest) else None
    if name in ("su", "runuser", "sudo"):
        return _other_account(name, rest, account)
    return None


def _other_account(name: str, rest: list[str], account: str) -> tuple[str, str] | None:
    run, plain = "", []
    while rest:
        word = rest.pop(0)
        if word in ("-c", "--command") and name != "sudo" and rest:
            run = rest.pop(0)
        elif word in ("-u", "-l", "--user") and rest and (name != "su") and not (name == "sudo" and word == "-l"):
            account = rest.pop(0)
            if name == "sudo" or word == "-u":
                plain = [each for each in rest if each != "--"] if "-c" not in rest else []
                rest = [] if plain else rest
        elif not word.startswith("-"):
            account = word if name != "sudo" else account
    return (run or shlex.join(plain), account) if run or plain else None
