"""passwd, group and shadow: one record a line (passwd(5), group(5), shadow(5)).

Knows grammar only. Password fields never hold a hash here: they are reduced to `{method}` where they are collected.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

from nightlatch.formats import lines as text_lines


@dataclass(frozen=True, slots=True)
class Passwd:
    """One line of passwd(5)."""

    line: int
    name: str
    uid: int
    gid: int
    home: str
    shell: str
    password: str = "x"


@dataclass(frozen=True, slots=True)
class GroupRecord:
    """One line of group(5)."""

    line: int
    name: str
    gid: int
    members: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Shadow:
    """One line of shadow(5): the password field, and days since 1970 or None where a field is empty."""

    line: int
    name: str
    password: str
    changed: int | None
    longest: int | None
    inactive: int | None
    expires: int | None


@dataclass(frozen=True, slots=True)
class BadRecord:
    """A line that is no record."""

    line: int
    because: str


Records = tuple[Passwd | GroupRecord | Shadow | BadRecord, ...]

METHODS = {
    "1": "md5",
    "2a": "bcrypt",
    "2b": "bcrypt",
    "2y": "bcrypt",
    "5": "sha256",
    "6": "sha512",
    "7": "scrypt",
    "y": "yescrypt",
    "gy": "gost-yescrypt",
    "sha1": "sha1",
    "md5": "sunmd5",
    "3": "nthash",
}
_REDUCED = re.compile(r"!*\{([a-z0-9-]+)\}")
_DES = re.compile(r"[./0-9A-Za-z]{13}|_[./0-9A-Za-z]{19}")


def reduced(password: str) -> str:
    """A password field with the hash replaced by `{method}`; locks (`!`) and `*` stay as they are (crypt(5))."""
    lock = password[: len(password) - len(password.lstrip("!"))]
    body = password[len(lock) :]
    if body in ("", "*", "x") or _REDUCED.fullmatch(body):
        return password
    found = re.match(r"\$([A-Za-z0-9]+)[$,]", body)
    if found:
        return f"{lock}{{{METHODS.get(found[1], 'unknown')}}}"
    # Anything else that crypt(3) can't have made opens for nobody, and may still be a secret: its text is dropped.
    return f"{lock}{{des}}" if _DES.fullmatch(body) else f"{lock}*"


def method(password: str) -> str:
    """The hash method of a reduced field, empty where there is no hash or it is locked by `!`."""
    found = _REDUCED.fullmatch(password)
    return found[1] if found and not password.startswith("!") else ""


def reduce_shadow(raw: bytes) -> bytes:
    """shadow(5) with every hash reduced; all else stays byte for byte."""
    out: list[bytes] = []
    for line in text_lines.split(raw):
        name, colon, rest = text_lines.text_of(line).partition(":")
        password, more, fields = rest.partition(":")
        if not colon or not more:
            # No record: whatever it holds, it may be a hash.
            out.append(b"\n" if line.strip() else line)
            continue
        out.append(text_lines.bytes_of(f"{name}:{reduced(password)}:{fields}"))
    return b"".join(out)


def reduce_passwd(raw: bytes) -> bytes:
    """passwd(5) or group(5) with a hash in the second field reduced, where an old system keeps one there."""
    out: list[bytes] = []
    for line in text_lines.split(raw):
        parts = text_lines.text_of(line).split(":")
        if len(parts) > 2 and parts[1] not in ("x", "*", "!", ""):
            parts[1] = reduced(parts[1])
            line = text_lines.bytes_of(":".join(parts))
        out.append(line)
    return b"".join(out)


@lru_cache(maxsize=1024)
def passwd(raw: bytes) -> Records:
    """The records of passwd(5)."""
    return _records(raw, 7, lambda n, f: Passwd(n, f[0], int(f[2]), int(f[3]), f[5], f[6], f[1]))


@lru_cache(maxsize=1024)
def group(raw: bytes) -> Records:
    """The records of group(5)."""
    return _records(raw, 4, lambda n, f: GroupRecord(n, f[0], int(f[2]), tuple(m for m in f[3].split(",") if m)))


@lru_cache(maxsize=1024)
def shadow(raw: bytes) -> Records:
    """The records of shadow(5)."""
    return _records(raw, 9, lambda n, f: Shadow(n, f[0], f[1], _days(f[2]), _days(f[4]), _days(f[6]), _days(f[7])))


def _days(text: str) -> int | None:
    return int(text) if re.fullmatch(r"-?[0-9]{1,9}", text) and int(text) >= 0 else None


Record = Passwd | GroupRecord | Shadow


def _records(raw: bytes, fields: int, make: Callable[[int, list[str]], Record]) -> Records:
    out: list[Passwd | GroupRecord | Shadow | BadRecord] = []
    for number, line in enumerate(text_lines.split(raw), 1):
        text = text_lines.text_of(line).rstrip("\n")
        if not text.strip() or text.startswith("#"):
            continue
        parts = text.split(":")
        try:
            if len(parts) < fields or not parts[0]:
                raise ValueError
            out.append(make(number, parts))
        except ValueError:
            because = "NIS or directory entry" if text[0] in "+-" else f"not {fields} fields"
            out.append(BadRecord(number, because))
    return tuple(out)
