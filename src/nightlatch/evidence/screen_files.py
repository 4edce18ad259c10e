"""The files that settings of screens name, and those of each account that decide about its session (xrdp.ini(5),
sesman.ini(5))."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from nightlatch.evidence.selection import Purpose
from nightlatch.evidence.snapshot import ABSENT, Entry, EntryKind
from nightlatch.formats import xrdp_ini

FOLDER = "/etc/xrdp"
MAIN, SESMAN = f"{FOLDER}/xrdp.ini", f"{FOLDER}/sesman.ini"
PROGRAM = "/usr/sbin/xrdp"
_PLACES = ("/x86_64-linux-gnu", "/aarch64-linux-gnu", "/arm-linux-gnueabihf", "/i386-linux-gnu", "", "64")
LIBRARY_FOLDERS = tuple(f"/usr/lib{place}/xrdp" for place in _PLACES)
MOST_NAMED = 20
# Of an account's own, what its session runs; the last is read by the shell before (Xsession(5)).
IN_HOME = ((".xsession", Purpose.TEXT), (".Xsession", Purpose.TEXT), (".xsessionrc", Purpose.TEXT), (".profile", Purpose.TEXT))


def named(entries: Mapping[str, Entry]) -> Iterator[tuple[str, Purpose]]:
    """Paths that the settings of xrdp and its session manager name. Of private keys only mode and owner are looked at."""
    main, sesman = (xrdp_ini.parse(entries.get(path, ABSENT).content or b"") for path in (MAIN, SESMAN))
    for key, use in (("certificate", Purpose.TEXT), ("key_file", Purpose.NAME)):
        for line in main.every("globals", key)[:MOST_NAMED]:
            if line.value.startswith("/"):
                yield line.value, use
    window = sesman.last("globals", "defaultwindowmanager")
    if window is not None and window.value:
        yield window.value if window.value.startswith("/") else f"{FOLDER}/{window.value}", Purpose.TEXT
    for section in ("xorg", "xvnc"):
        for line in sesman.every(section, "param")[:1]:
            yield line.value if line.value.startswith("/") else f"/usr/bin/{line.value}", Purpose.NAME
    for heading in main.sections[:MOST_NAMED]:
        library = main.last(heading.section, "lib")
        if library is not None and "/" not in library.value:
            yield from ((f"{folder}/{library.value}", Purpose.NAME) for folder in LIBRARY_FOLDERS)


def in_homes(entries: Mapping[str, Entry]) -> tuple[tuple[Purpose, str], ...]:
    """The files below each home that decide about a session; none where no server of screens is installed."""
    if entries.get(PROGRAM, ABSENT).kind is not EntryKind.FILE:
        return ()
    sesman = xrdp_ini.parse(entries.get(SESMAN, ABSENT).content or b"")
    own = sesman.last("globals", "userwindowmanager")
    more = [(Purpose.TEXT, own.value)] if own is not None and own.value and not own.value.startswith("/") else []
    return (*((use, name) for name, use in IN_HOME), *more)
