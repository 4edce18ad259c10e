"""What display managers open to the network: logins by XDMCP, and X servers that listen over TCP (their own manuals; Xserver(1)).

GDM's and LightDM's settings, and the X server's own words in SDDM's. Whether such a program is installed is not looked at.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.formats import sections
from nightlatch.formats.sections import Dialect
from nightlatch.origin import Origin
from nightlatch.systems.automatic_logins import GDM, LIGHTDM, SDDM

YES = ("true", "1", "yes")
NO = ("false", "0", "no")


class Opened(StrEnum):
    """What is opened."""

    XDMCP = "XDMCP"
    X_OVER_TCP = "X over TCP"


@dataclass(frozen=True, slots=True)
class DisplayOpening:
    """One setting that opens something, with its text."""

    opens: Opened
    text: str
    origin: Origin


# Section (its beginning, in small letters), key and the values that open; the later of two counts.
_SETTINGS = (
    ("xdmcp", "Enable", YES, Opened.XDMCP),
    ("security", "DisallowTCP", NO, Opened.X_OVER_TCP),
    ("xdmcpserver", "enabled", YES, Opened.XDMCP),
    ("seat", "xserver-allow-tcp", YES, Opened.X_OVER_TCP),
)


def read(snapshot: Snapshot) -> Iterator[DisplayOpening]:
    """All that a guest's files open."""
    for paths in (*((path,) for path in GDM), _with_drop_ins(snapshot, LIGHTDM)):
        last: dict[tuple[str, str], DisplayOpening | None] = {}
        for path in paths:
            for line in sections.parse(snapshot.content(path) or b"", Dialect.KEYFILE).lines:
                for section, key, values, opens in _SETTINGS:
                    if line.key.lower() == key.lower() and _is_in(line.section.lower(), section):
                        said = DisplayOpening(opens, f"{line.key}={line.value.strip()[:40]}", Origin(path, line.number))
                        last[line.section, key] = said if line.value.strip().lower() in values else None
        yield from (each for each in last.values() if each is not None)
    for path in _with_drop_ins(snapshot, SDDM):
        for line in sections.parse(snapshot.content(path) or b"", Dialect.KEYFILE).lines:
            if line.key == "ServerArguments" and "-listen tcp" in " ".join(line.value.split()):
                yield DisplayOpening(Opened.X_OVER_TCP, f"ServerArguments={line.value[:40]}", Origin(path, line.number))


def _is_in(section: str, wanted: str) -> bool:
    return section == wanted or (wanted == "seat" and section.startswith("seat"))


def _with_drop_ins(snapshot: Snapshot, main: str) -> tuple[str, ...]:
    names = sorted(name for name in snapshot.children(f"{main}.d") if name.endswith(".conf"))
    return (*(f"{main}.d/{name}" for name in names), main)
