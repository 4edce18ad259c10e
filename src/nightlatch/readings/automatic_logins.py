"""Accounts that are logged in without being asked: by a console's getty, or by a display manager.

agetty(8) with --autologin, from units and inittab(5); GDM's, LightDM's and SDDM's own settings. Whether such a program is
installed is not looked at: the setting waits for it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.formats import lines as text_lines
from nightlatch.formats import sections
from nightlatch.formats.sections import Dialect, Document
from nightlatch.origin import Origin
from nightlatch.systems.automatic_logins import CONSOLES, GDM, INITTAB, LIGHTDM, SDDM, UNITS

_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_.-]{0,31}")
_GETTY = re.compile(r"\S*getty\s(?:.*\s)?(?:--autologin[=\s]\s*|-a\s*)(\S+)")


@dataclass(frozen=True, slots=True)
class AutomaticLogin:
    """An account that a console or a screen logs in by itself, and the line that says so."""

    account: str
    at_screen: bool
    origin: Origin
    text: str


def read(snapshot: Snapshot) -> tuple[AutomaticLogin, ...]:
    """All that the guest's files ask for."""
    found = (*_gettys(snapshot), *_inittab(snapshot), *_gdm(snapshot), *_seats(snapshot))
    return tuple(each for each in found if _NAME.fullmatch(each.account))


def _gettys(snapshot: Snapshot) -> Iterator[AutomaticLogin]:
    """Of each unit the ExecStart that counts: the last one, with the drop-ins in the order of their names (systemd.unit(5))."""
    for unit in CONSOLES:
        folder = f"{UNITS}/{unit}.service.d"
        names = sorted(name for name in snapshot.children(folder) if name.endswith(".conf"))
        last = None
        for path in (f"{UNITS}/{unit}.service", *(f"{folder}/{name}" for name in names)):
            for line in _document(snapshot, path, Dialect.UNIT).entries("Service"):
                if line.key == "ExecStart":
                    last = (path, line)
        told = _GETTY.search(last[1].value) if last is not None else None
        if last is not None and told is not None:
            yield AutomaticLogin(told[1], False, Origin(last[0], last[1].number), f"--autologin {told[1]}")


def _inittab(snapshot: Snapshot) -> Iterator[AutomaticLogin]:
    for number, raw in enumerate(text_lines.split(snapshot.content(INITTAB) or b""), 1):
        text = text_lines.text_of(raw).strip()
        told = _GETTY.search(text) if not text.startswith("#") else None
        if told is not None:
            yield AutomaticLogin(told[1], False, Origin(INITTAB, number), f"--autologin {told[1]}")


def _gdm(snapshot: Snapshot) -> Iterator[AutomaticLogin]:
    for path in GDM:
        document = _document(snapshot, path, Dialect.KEYFILE)
        for kind in ("AutomaticLogin", "TimedLogin"):
            switch, name = document.last("daemon", f"{kind}Enable"), document.last("daemon", kind)
            if switch is not None and name is not None and switch.value.strip().lower() in ("true", "1"):
                yield _at_screen(path, name, kind)


def _seats(snapshot: Snapshot) -> Iterator[AutomaticLogin]:
    """LightDM's seats, and SDDM's one: of files of a folder the last that says something counts."""
    for main, of_section, key in ((LIGHTDM, "seat", "autologin-user"), (SDDM, "autologin", "User")):
        names = sorted(name for name in snapshot.children(f"{main}.d") if name.endswith(".conf"))
        drop_ins = [f"{main}.d/{name}" for name in names]
        last: dict[str, AutomaticLogin] = {}
        for path in (*drop_ins, main):
            for line in _document(snapshot, path, Dialect.KEYFILE).lines:
                if line.key == key and line.section.lower().startswith(of_section):
                    last[line.section] = _at_screen(path, line, key)
        yield from last.values()


def _at_screen(path: str, line: sections.Line, key: str) -> AutomaticLogin:
    name = line.value.strip()
    return AutomaticLogin(name, True, Origin(path, line.number), f"{key}={name[:40]}")


def _document(snapshot: Snapshot, path: str, dialect: Dialect) -> Document:
    return sections.parse(snapshot.content(path) or b"", dialect)
