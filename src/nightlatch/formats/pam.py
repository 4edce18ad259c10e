"""PAM service files: which module is asked in which order, and what its answer does (pam.conf(5))."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache

from nightlatch.formats import lines as text_lines

# What the short words stand for (pam.conf(5)).
CONTROLS = {
    "required": {"success": "ok", "new_authtok_reqd": "ok", "ignore": "ignore", "default": "bad"},
    "requisite": {"success": "ok", "new_authtok_reqd": "ok", "ignore": "ignore", "default": "die"},
    "sufficient": {"success": "done", "new_authtok_reqd": "done", "default": "ignore"},
    "optional": {"success": "ok", "new_authtok_reqd": "ok", "default": "ignore"},
}


CODES = "pam_google_authenticator.so"  # one-time codes (RFC 4226, RFC 6238)
# Where PAM looks for modules: by the machine's name on Debian and its kin, else in one folder.
CODES_PLACES = tuple(
    f"/lib{kind}/security/{CODES}"
    for kind in ("/x86_64-linux-gnu", "/aarch64-linux-gnu", "/arm-linux-gnueabihf", "/i386-linux-gnu", "", "64")
)
CODE_FILE = ".google_authenticator"  # an account's own secret for them, in its home


@dataclass(frozen=True, slots=True)
class Line:
    """One line: `facility` is auth, account, password or session; `include` names another service instead of a module."""

    number: int
    facility: str
    control: tuple[tuple[str, str], ...]
    module: str
    arguments: tuple[str, ...] = ()
    include: str = ""
    substack: bool = False
    fault: str = ""


@lru_cache(maxsize=512)
def parse(raw: bytes) -> tuple[Line, ...]:
    """All lines that say something; continuation lines are joined."""
    out: list[Line] = []
    waiting = ""
    for number, line in enumerate(text_lines.split(raw), 1):
        text = waiting + text_lines.text_of(line).rstrip("\r\n")
        if text.endswith("\\"):
            waiting = text[:-1] + " "
            continue
        waiting = ""
        text = re.sub(r"(^|\s)#.*", "", text).strip()
        if text:
            out.append(_line(number, text))
    return tuple(out)


def _line(number: int, text: str) -> Line:
    if text.startswith("@include"):
        return Line(number, "", (), "", include=text.split()[-1])
    found = re.fullmatch(r"-?(\w+)\s+(\[[^\]]*\]|\S+)\s+(\S+)\s*(.*)", text)
    if not found or found[1].lower() not in ("auth", "account", "password", "session"):
        return Line(number, "", (), "", fault="not a PAM line")
    facility, control, module, rest = found[1].lower(), found[2], found[3], found[4]
    if control in ("include", "substack"):
        return Line(number, facility, (), "", include=module, substack=control == "substack")
    if control.startswith("["):
        pairs = tuple((k, v) for k, _, v in (word.partition("=") for word in control[1:-1].split()))
    else:
        pairs = tuple(CONTROLS.get(control.lower(), {}).items())
    fault = "" if pairs else f'"{control}" is no control'
    return Line(number, facility, pairs, module.rpartition("/")[2], tuple(rest.split()), fault=fault)


def asks_codes(raw: bytes) -> bool:
    """Whether a line of a service file asks for one-time codes."""
    return CODES.encode() in raw and any(line.module == CODES for line in parse(raw))
