"""authorized_keys: parse, edit, render (sshd(8), AUTHORIZED_KEYS FILE FORMAT).

Lossless: a file is its lines, and only `KeyEntry.number` is needed to edit one. A line is read as sshd reads it: first as
a key, then as options and a key; a line that is neither is skipped by sshd and kept as `SkippedLine` here.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import lru_cache

from nightlatch.formats import lines as text_lines
from nightlatch.formats.keys import KeyFault, PublicKey, decode

LONGEST_LINE = 65536
FLAGS = tuple(
    """
    restrict cert-authority agent-forwarding no-agent-forwarding port-forwarding no-port-forwarding pty no-pty
    user-rc no-user-rc X11-forwarding no-X11-forwarding touch-required no-touch-required verify-required
    no-verify-required
""".split()
)
VALUES = ("command", "principals", "from", "expiry-time", "environment", "permitopen", "permitlisten", "tunnel")


class OptionFault(ValueError):
    """sshd would skip the line because of its options."""


@dataclass(frozen=True, slots=True)
class Options:
    """The effect of the options of a line, in sshd's own order: later flags beat earlier ones."""

    command: str | None = None
    source: str | None = None
    principals: str | None = None
    expires: str | None = None
    authority: bool = False
    restricted: bool = False
    ports: bool = True
    agent: bool = True
    pty: bool = True
    touch: bool = True
    opens: tuple[str, ...] = ()
    listens: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class KeyEntry:
    """One line that sshd takes for a key. `column` is where the options or the key begin."""

    number: int
    column: int
    key: PublicKey
    options: Options = field(default_factory=Options)
    option_text: str = ""


@dataclass(frozen=True, slots=True)
class SkippedLine:
    """A line that sshd skips, and why."""

    number: int
    because: str
    key: PublicKey | None = None


@lru_cache(maxsize=4096)
def parse(raw: bytes) -> tuple[KeyEntry | SkippedLine, ...]:
    """All lines but comments and blank ones."""
    out: list[KeyEntry | SkippedLine] = []
    for number, line in enumerate(text_lines.split(raw), 1):
        text = text_lines.text_of(line).rstrip("\r\n")
        body = text.lstrip(" \t")
        if body and not body.startswith("#"):
            out.append(_line(number, len(text) - len(body) + 1, body))
    return tuple(out)


def _line(number: int, column: int, body: str) -> KeyEntry | SkippedLine:
    if len(body) > LONGEST_LINE:
        return SkippedLine(number, f"the line is longer than {LONGEST_LINE} characters")
    try:
        return KeyEntry(number, column, _key(body))
    except KeyFault as first:
        end = options_end(body)
        if end is None or not body[end:].strip():
            return SkippedLine(number, str(first))
        try:
            key = _key(body[end:].lstrip(" \t"))
        except KeyFault as second:
            looks_bare = body.split(None, 1)[0].startswith(("ssh-", "ecdsa-", "sk-"))
            return SkippedLine(number, str(first) if looks_bare else str(second))
        try:
            return KeyEntry(number, column, key, parse_options(body[:end]), body[:end])
        except OptionFault as error:
            return SkippedLine(number, f"sshd skips the line: {error}", key)


def _key(text: str) -> PublicKey:
    words = text.split(None, 2)
    if len(words) < 2:
        raise KeyFault("no key on this line")
    key = decode(words[0], words[1])
    return PublicKey(key.algorithm, key.blob, words[2].strip() if len(words) > 2 else "")


def options_end(text: str) -> int | None:
    """Where the options end: at the first blank outside quotes; None when a quote is open (sshkey_advance_past_options)."""
    quoted = False
    at = 0
    while at < len(text) and (quoted or text[at] not in " \t"):
        if text[at] == "\\" and text[at + 1 : at + 2] == '"':
            at += 1
        elif text[at] == '"':
            quoted = not quoted
        at += 1
    return None if quoted else at


def parse_options(text: str) -> Options:
    """The options of a line, comma separated. Raises OptionFault where sshd gives up on the line (auth-options.c)."""
    taken: dict[str, object] = {}
    opens: list[str] = []
    listens: list[str] = []
    for name, value in _options(text):
        if value is None:
            _flag(name, taken)
        elif name in ("permitopen", "permitlisten"):
            (opens if name == "permitopen" else listens).append(_target(name, value))
        elif name == "expiry-time":
            _expiry(value)
            taken["expires"] = value
        elif name in ("command", "from", "principals"):
            attribute = {"command": "command", "from": "source", "principals": "principals"}[name]
            if attribute in taken:
                raise OptionFault(f'more than one "{name}"')
            taken[attribute] = value
        elif name == "environment" and not re.match(r"[A-Za-z0-9_]+=", value):
            raise OptionFault("an environment string that is not NAME=VALUE")
        elif name == "tunnel" and not value.isdigit():
            raise OptionFault("a tunnel device that is no number")
    return Options(opens=tuple(opens), listens=tuple(listens), **taken)  # type: ignore[arg-type]


def _flag(name: str, taken: dict[str, object]) -> None:
    if name == "restrict":
        taken.update(restricted=True, ports=False, agent=False, pty=False)
    elif name == "cert-authority":
        taken["authority"] = True
    else:
        allowed = not name.startswith("no-")
        part = name.removeprefix("no-")
        key = {"port-forwarding": "ports", "agent-forwarding": "agent", "pty": "pty", "touch-required": "touch"}.get(part)
        if key:
            taken[key] = allowed


def _options(text: str) -> Iterator[tuple[str, str | None]]:
    at = 0
    flags = {flag.lower(): flag for flag in FLAGS}
    while at < len(text):
        found = re.compile(r"[A-Za-z0-9-]+").match(text, at)
        name = found[0].lower() if found else ""
        after = at + len(name)
        following = text[after : after + 1]
        if name in flags and following in ("", ","):
            yield name, None
        elif name in VALUES and following == "=":
            value, after = _quoted(text, after + 1)
            yield name, value
        else:
            raise OptionFault(f'unknown option "{text[at : at + 30]}"')
        if after < len(text):
            if text[after] != ",":
                raise OptionFault("a comma is missing between two options")
            after += 1  # a comma at the very end is accepted (measured: sshd, 9.2)
        at = after


def _quoted(text: str, at: int) -> tuple[str, int]:
    if text[at : at + 1] != '"':
        raise OptionFault("a value without quotes")
    out: list[str] = []
    at += 1
    while at < len(text) and text[at] != '"':
        if text[at] == "\\" and text[at + 1 : at + 2] == '"':
            at += 1
        out.append(text[at])
        at += 1
    if at >= len(text):
        raise OptionFault("a quote is not closed")
    return "".join(out), at + 1


def _target(name: str, value: str) -> str:
    if name == "permitlisten" and ":" not in value:
        value = f"*:{value}"
    found = re.fullmatch(r"(\[[^\]/]+\]|[^:\[\]/]+):([0-9]+|\*)", value)
    if not found or (found[2] != "*" and not 0 < int(found[2][:9]) <= 65535):
        raise OptionFault(f"{name} without host:port")
    return value


def _expiry(value: str) -> None:
    if not re.fullmatch(r"[0-9]{8}(?:[0-9]{4}(?:[0-9]{2})?)?Z?", value):
        raise OptionFault("an expiry-time that is no date")


def quote(value: str) -> str:
    """A value as it stands between quotes in an option."""
    return '"' + value.replace('"', '\\"') + '"'


def split_options(text: str) -> list[str]:
    """The options as written, one text each; commas inside quotes don't split."""
    out: list[str] = [""]
    quoted = False
    at = 0
    while at < len(text):
        if text[at] == "\\" and text[at + 1 : at + 2] == '"':
            out[-1] += text[at : at + 2]
            at += 2
            continue
        quoted = quoted != (text[at] == '"')
        if text[at] == "," and not quoted:
            out.append("")
        else:
            out[-1] += text[at]
        at += 1
    return [part for part in out if part]


def with_options(line: str, entry: KeyEntry, changes: dict[str, str | None]) -> str:
    """The text of a line with some options changed: a value sets one, "" sets a flag, None takes it away.

    Everything else on the line stays as written; new options come first. Doing it twice is doing it once.
    """
    indent = line[: entry.column - 1]
    rest = line[entry.column - 1 + len(entry.option_text) :].lstrip(" \t")
    kept: list[str] = []
    waiting = dict(changes)
    for part in split_options(entry.option_text):
        name = part.partition("=")[0].lower()
        if name not in waiting:
            kept.append(part)
            continue
        value = waiting.pop(name)
        if value is not None:
            kept.append(_option(name, value))
    fresh = [_option(name, value) for name, value in waiting.items() if value is not None]
    options = ",".join([*fresh, *kept])
    return f"{indent}{options} {rest}" if options else f"{indent}{rest}"


def _option(name: str, value: str) -> str:
    return name if value == "" else f"{name}={quote(value)}"
