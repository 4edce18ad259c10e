"""sudoers: the commands that users may run as others (sudoers(5), SUDOERS FILE FORMAT), as far as they tell who may become root.

Not covered: netgroups (`+name`), host lists other than ALL and the guest's name, digests. Lines that can't be read
become `UnreadLine`.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache

from nightlatch.formats import lines as text_lines


@dataclass(frozen=True, slots=True)
class Alias:
    """`User_Alias NAME = ...` and its like; `kind` is User, Runas, Host or Cmnd."""

    line: int
    kind: str
    name: str
    members: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Rule:
    """`who hosts = (runas) TAGS: command`, one command each, in the order of the file."""

    line: int
    who: tuple[str, ...]
    hosts: tuple[str, ...]
    runas: tuple[str, ...]
    password: bool | None
    command: str


@dataclass(frozen=True, slots=True)
class Include:
    """Another file, or all of a folder."""

    line: int
    path: str
    folder: bool


@dataclass(frozen=True, slots=True)
class Defaults:
    """One Defaults line: its scope (such as `:mara`) and its text."""

    line: int
    scope: str
    text: str


@dataclass(frozen=True, slots=True)
class UnreadLine:
    """A line of no other kind here."""

    line: int
    because: str


Item = Alias | Rule | Include | Defaults | UnreadLine
_ALIAS = re.compile(r"(User|Runas|Host|Cmnd|Cmd)_Alias\s+(.*)", re.DOTALL)
_TAGS = re.compile(
    r"((?:NO)?(?:PASSWD|EXEC|SETENV|LOG_INPUT|LOG_OUTPUT|MAIL|FOLLOW|INTERCEPT)"
    r"|(?:TIMEOUT|NOTBEFORE|NOTAFTER|CWD|CHROOT|ROLE|TYPE)=\S+) ?:? ?"
)


@lru_cache(maxsize=512)
def parse(raw: bytes) -> tuple[Item, ...]:
    """All that the file says, in order."""
    out: list[Item] = []
    waiting, start = "", 0
    for number, line in enumerate(text_lines.split(raw), 1):
        text = text_lines.text_of(line).rstrip("\r\n")
        start = start or number
        if text.endswith("\\"):
            waiting += text[:-1] + " "
            continue
        out.extend(_items(start, (waiting + text).strip()))
        waiting, start = "", 0
    return tuple(out)


def _items(number: int, text: str) -> list[Item]:
    found = re.match(r"[@#]include(dir)?\s+(\S.*)", text)
    if found:
        return [Include(number, found[2].strip().strip('"'), bool(found[1]))]
    # A "#" begins a comment, but before digits it is a user or group number.
    text = " ".join(re.sub(r"(?<!\\)#(?![0-9]).*", "", text).split())
    if not text:
        return []
    if text.startswith("Defaults"):
        scope, _, rest = text[8:].partition(" ") if text[8:9] not in (" ", "\t") else ("", "", text[8:])
        return [Defaults(number, scope, rest.strip())]
    alias = _ALIAS.fullmatch(text)
    if alias:
        kind = "Cmnd" if alias[1] == "Cmd" else alias[1]
        parts = [part.partition("=") for part in re.split(r"(?<!\\):(?=\s*[A-Z][A-Z0-9_]*\s*=)", alias[2])]
        return [Alias(number, kind, name.strip(), _list(members)) for name, _, members in parts]
    return list(_rules(number, text))


def _list(text: str) -> tuple[str, ...]:
    return tuple(part.strip() for part in re.split(r"(?<!\\),", text) if part.strip())


def _commands(text: str) -> list[str]:
    """The parts between commas; those in (runas, lists) and behind a backslash don't part."""
    out = [""]
    start = depth = 0
    for at, char in enumerate(text):
        if char == "," and not depth and text[at - 1 : at] != "\\":
            out[-1] = text[start:at]
            out.append("")
            start = at + 1
        elif char in "()":
            depth = 1 if char == "(" else 0
    out[-1] = text[start:]
    return out


def _rules(number: int, text: str) -> list[Item]:
    left, equals, right = text.partition("=")
    words = re.split(r"\s+(?=\S+\s*$)", left.strip(), maxsplit=1)
    if not equals or len(words) != 2:
        return [UnreadLine(number, "not a rule")]
    who, hosts = _list(words[0]), _list(words[1])
    out: list[Item] = []
    runas: tuple[str, ...] = ("root",)
    password: bool | None = None
    for part in _commands(right):
        body = part.strip()
        stated = re.match(r"\(([^)]*)\)\s*", body)
        if stated:
            runas = _list(stated[1].partition(":")[0]) or ("=self",)
            body = body[stated.end() :]
        while tag := _TAGS.match(body):
            if tag[1].endswith("PASSWD"):
                password = tag[1] == "PASSWD"
            body = body[tag.end() :]
        if not body:
            return [UnreadLine(number, "a rule without a command")]
        out.append(Rule(number, who, hosts, runas, password, body))
    return out
