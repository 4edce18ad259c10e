"""Whether a session that an account's own script makes lasts: it ends with the script (sesman.ini(5), Xsession(5)).

Read of a script: assignments, and plain commands one below the other, the last of which is the session. Whatever else it holds
is not worked out. Not covered: errors of syntax, and what a program does once it runs.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import StrEnum

# Programs that last as long as somebody is logged in, in /usr/bin; their manual pages say so.
LAST = tuple(
    (
        "startxfce4 xfce4-session gnome-session startplasma-x11 mate-session lxsession startlxde startlxqt lxqt-session "
        "cinnamon-session openbox-session openbox icewm-session icewm fluxbox startfluxbox i3 twm fvwm jwm awesome xterm"
    ).split()
)
MOST_LINES = 200
_ASSIGNS = re.compile(r"(?:export[ \t]+)?[A-Za-z_][A-Za-z0-9_]*=[A-Za-z0-9_./:@%+-]*")
_PLAIN = re.compile(r"(?P<exec>exec[ \t]+)?(?P<program>[A-Za-z0-9_./+-]+)(?:[ \t]+[A-Za-z0-9_./:=@%+,-]+)*[ \t]*(?P<away>&?)")
_WORDS = frozenset("if for while until case exit wait return . source eval set trap".split())
_LEAVES = re.compile(rb"(?m)^[ \t]*(?:exit|exec)\b")


class Lasts(StrEnum):
    """What a script comes to."""

    RUNS = "its last command is the session"
    ENDS = "it ends at once"
    UNKNOWN = "what it does is not worked out"


@dataclass(frozen=True, slots=True)
class Script:
    """What was read of a script: `program` is its last command where it `RUNS` that; `because` is for people."""

    lasts: Lasts
    program: str = ""
    because: str = ""
    line: int = 0


def read(content: bytes) -> Script:
    """The session that a script makes."""
    if b"\r\n" in content:
        return Script(Lasts.ENDS, because="its lines end with CR LF, so no command in it is found")
    found: list[tuple[int, str]] = []
    for number, raw in enumerate(content.decode("utf-8", "replace").split("\n")[: MOST_LINES + 1], 1):
        text = raw.strip()
        if text and not text.startswith("#"):
            found.append((number, text))
    if not found:
        return Script(Lasts.ENDS, because="it holds no command")
    last = Script(Lasts.ENDS, because="it holds no command", line=found[-1][0])
    for number, text in found:
        if _ASSIGNS.fullmatch(text):
            continue
        plain = _PLAIN.fullmatch(text)
        if number > MOST_LINES or plain is None or plain["program"] in _WORDS:
            return Script(Lasts.UNKNOWN, because="what it does is not worked out", line=number)
        if plain["away"]:
            last = Script(Lasts.ENDS, because=f"its last command, {plain['program']}, runs in the background", line=number)
        else:
            last = Script(Lasts.RUNS, plain["program"], line=number)
        if plain["exec"]:
            return last
    return last


def may_leave(content: bytes) -> bool:
    """Whether a file that a session's shell reads first may end it."""
    return _LEAVES.search(content) is not None
