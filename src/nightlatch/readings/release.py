"""What system a guest is, and which release of it (os-release(5))."""

from __future__ import annotations

import re

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.systems import posix

PATHS = ("/etc/os-release", "/usr/lib/os-release")


def _value(snapshot: Snapshot, key: str) -> str:
    """A value in lower-case letters, numbers, dots, dashes and blanks, as far as it is of these; empty where there is none."""
    content = next((raw for raw in map(snapshot.content, PATHS) if raw), b"")
    found = re.search(rb"(?m)^" + key.encode() + rb"=[\"']?([a-z0-9._ -]{1,80})", content)
    return found[1].decode() if found else ""


def families(snapshot: Snapshot) -> tuple[str, ...]:
    """ID and the words of ID_LIKE: what the system is, and what it takes after."""
    return tuple(word for key in ("ID", "ID_LIKE") for word in _value(snapshot, key).split())


def system(snapshot: Snapshot) -> str:
    """ID; "debian-like" for what takes after Debian and has a name that is not known here."""
    name = _value(snapshot, "ID").partition(" ")[0]
    like = "debian" in _value(snapshot, "ID_LIKE").split()
    return "debian-like" if like and name not in posix.FROM_DEBIAN else name


def version(snapshot: Snapshot) -> str:
    """VERSION_ID, empty where there is none."""
    return _value(snapshot, "VERSION_ID").partition(" ")[0]
