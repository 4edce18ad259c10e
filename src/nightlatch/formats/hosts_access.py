"""Lines of hosts.allow and hosts.deny: daemons, clients, options (hosts_access(5), hosts_options(5)).

Read only, by the rules of libwrap: a backslash joins lines, a comment begins in the first column, and a last line without a
line end, be it a comment, is an error of the whole file (measured: libwrap 7.6). readings/filters/wrapper.py
says what the lists match.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

MOST_LINES = 100_000
_PARTS = re.compile(r"[^\s,]+")


@dataclass(frozen=True, slots=True)
class Line:
    """One rule. `fault` says why it is none; `incomplete` that it is a last line without a line end."""

    number: int
    text: str
    daemons: tuple[str, ...] = ()
    clients: tuple[str, ...] = ()
    options: tuple[str, ...] = ()
    fault: str = ""
    incomplete: bool = False


def parse(raw: bytes) -> tuple[Line, ...]:
    """The rules of a file in order."""
    out: list[Line] = []
    held, begun, breaks = "", 0, raw.count(b"\n")
    for number, piece in enumerate(raw.decode("utf-8", "replace").split("\n")[:MOST_LINES], 1):
        begun = begun or number
        if piece.endswith("\\"):
            held += piece[:-1]
            continue
        text = held + piece
        if number > breaks and text:
            out.append(Line(begun, text.strip(), fault="a last line without a line end", incomplete=True))
        elif text.strip() and not text.startswith("#"):
            out.append(_line(begun, text))
        held, begun = "", 0
    return tuple(out)


def _line(number: int, text: str) -> Line:
    parts = split(text)
    if len(parts) < 2:
        return Line(number, text.strip(), fault="no colon between daemons and clients")
    daemons, clients = (tuple(_PARTS.findall(part)) for part in parts[:2])
    return Line(number, text.strip(), daemons, clients, tuple(part.strip() for part in parts[2:]))


def split(text: str) -> list[str]:
    """The parts between colons; one in brackets (an IPv6 address) or behind a backslash parts nothing."""
    parts, current, depth, at = [], "", 0, 0
    while at < len(text):
        sign = text[at]
        if sign == "\\" and text[at + 1 : at + 2] == ":":
            current += ":"
            at += 2
            continue
        depth += {"[": 1, "]": -1}.get(sign, 0)
        if sign == ":" and depth <= 0:
            parts.append(current)
            current = ""
        else:
            current += sign
        at += 1
    return [*parts, current]
