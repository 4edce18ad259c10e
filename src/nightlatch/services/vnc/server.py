"""The VNC servers of one guest: those that its files start, and those that are known by their sockets alone."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from datetime import datetime

from nightlatch.evidence.remembered import remembered
from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.evidence.vnc_files import PROGRAMS
from nightlatch.formats import dpkg_status
from nightlatch.model.gaps import Gap
from nightlatch.model.sockets import CONSOLE, Listener, family_of
from nightlatch.readings import accounts as accounts_reading
from nightlatch.readings import release
from nightlatch.readings.guest import GuestReading
from nightlatch.readings.units.service_reading import OpenSocket
from nightlatch.services.base import Server, ServerState, SilentServer
from nightlatch.services.vnc import layers, mirror, parameters, session, tiger
from nightlatch.services.vnc.entries import VncAccess, VncServer
from nightlatch.services.vnc.security import NEWER
from nightlatch.services.vnc.serving import BASE, Serving
from nightlatch.services.vnc.starts import Program, Start, starts
from nightlatch.systems import posix

# The names that such programs' processes bear; a name is anybody's, so it only makes a socket worth telling of.
PROCESSES = ("Xtigervnc", "Xvnc", "X0tigervnc", "x0vncserver", "x0tigervncserv", "x11vnc")
WRAPPERS = (Program.WRAPPER, Program.SCRAPER_WRAPPER)
SCRAPERS = (Program.SCRAPER, Program.SCRAPER_WRAPPER)


def is_installed(snapshot: Snapshot) -> bool | None:
    """Whether one of the programs is there; None where nobody looked."""
    found = [snapshot.resolve(path).entry for path in PROGRAMS]
    if any(entry is not None and entry.kind is EntryKind.FILE for entry in found):
        return True
    return None if any(entry is None for entry in found) else False


def _version(snapshot: Snapshot) -> tuple[int, ...]:
    text = dpkg_status.version(snapshot.content("/var/lib/dpkg/status") or b"", "tigervnc-standalone-server")
    found = re.match(r"(?:\d+:)?(\d{1,6})\.(\d{1,6})", text)
    return (int(found[1]), int(found[2])) if found else ()


@remembered(64)
def read(snapshot: Snapshot) -> tuple[tuple[Start, Serving], ...]:
    """All that a guest's files start, and how each serves."""
    found = starts(snapshot)
    shown: dict[int, str] = {}
    out: list[tuple[Start, Serving]] = []
    for start in sorted(found, key=lambda each: each.program is Program.X11VNC or each.program in SCRAPERS):
        serving = served(snapshot, start, shown)
        if start.program in (Program.SERVER, Program.WRAPPER) and serving.display is not None:
            shown.setdefault(serving.display, start.account)
        out.append((start, serving))
    return tuple(out)


def served(snapshot: Snapshot, start: Start, shown: dict[int, str]) -> Serving:
    """How what one line starts serves; `shown` are the accounts of displays that other lines start."""
    account = accounts_reading.read(snapshot).by_name.get(start.account)
    if account is None:
        return Serving(start.account, start.account, None, fault=f'there is no account "{start.account}"')
    if start.program is Program.X11VNC:
        found = mirror.options(snapshot, account, start.words, start.origin)
        serving = mirror.serving(snapshot, account, found, CONSOLE)
        return replace(serving, screen=shown.get(serving.display, CONSOLE) if serving.display is not None else CONSOLE)
    gathered = None
    if start.program in WRAPPERS:
        gathered = layers.gathered(snapshot, account, start.words, start.origin)
        values = gathered.parameters
    else:
        values = parameters.read(start.words, start.origin)
    display = port = values.display
    screen = start.account
    if start.program in SCRAPERS:
        stated = parameters.DISPLAY.fullmatch(values.of("display").value)
        display = int(stated[1]) if stated is not None else display or 0
        screen, port = shown.get(display, CONSOLE), display if start.program is Program.SCRAPER_WRAPPER else 0
    serving = tiger.serving(snapshot, account, values, screen, _version(snapshot), port)
    if gathered is None:
        return replace(serving, display=display)
    other = _other_wrapper(snapshot)
    if other:
        return replace(serving, display=display, fault="", gaps=(*serving.gaps, Gap("VNC server", other, start.origin)))
    begins = None
    if start.program is Program.WRAPPER:
        begins = session.start(snapshot, account, gathered.folder, start.words, wanted=gathered.session)
    unsure = (gathered.gap, begins.gap if begins is not None else None)
    gaps = (*serving.gaps, *(gap for gap in unsure if gap is not None))
    return replace(serving, display=display, gaps=gaps, session=begins)


def _other_wrapper(snapshot: Snapshot) -> str:
    """Why the wrapper's settings are not read: only Debian's is known, of the releases before TigerVNC 1.13."""
    if release.system(snapshot) not in posix.DEBIAN_LIKE:
        return "the wrapper of another system than Debian is not read"
    return "the wrapper of this release reads other files, which are not read" if _version(snapshot) >= NEWER else ""


def listening(reading: GuestReading) -> Iterator[Listener]:
    """The sockets of all servers that start, and of those that are known by their sockets."""
    for access in _stand(reading):
        if access.state is ServerState.SERVES:
            yield from access.listeners


def of(reading: GuestReading, at: datetime) -> Iterator[Server]:
    """The servers of a guest; one that says so where there is none."""
    found = list(_stand(reading))
    for access in found:
        if access.serving is not None and access.state in (ServerState.SERVES, ServerState.STOPPED):
            yield VncServer(access, access.serving, at)
        else:
            yield SilentServer(access)
    if not found:
        installed = is_installed(reading.snapshot)
        state = ServerState.NOT_COLLECTED if installed is None else ServerState.STOPPED if installed else ServerState.ABSENT
        yield SilentServer(VncAccess(reading, state))


def _stand(reading: GuestReading) -> Iterator[VncAccess]:
    taken = {each.port: each for each in reading.service.sockets}
    told: set[int] = set()
    for start, serving in read(reading.snapshot) if is_installed(reading.snapshot) else ():
        ports = {each.port for each in serving.listeners}
        if serving.fault and not (reading.service.is_live and ports & set(taken)):
            yield VncAccess(reading, ServerState.BROKEN, start, serving)
            continue
        stays = start.at_boot is not False and serving.ends is None
        running = bool(ports & set(taken)) if reading.service.is_live else stays
        told |= ports if running else set()
        yield VncAccess(
            reading, ServerState.SERVES if running else ServerState.STOPPED, start, serving, serving.listeners if running else ()
        )
    yield from _unexplained(reading, told)


def _unexplained(reading: GuestReading, told: set[int]) -> Iterator[VncAccess]:
    """Sockets of processes that bear such a name, on ports that no line explains; the kernel says whose they are."""
    found: dict[int, list[OpenSocket]] = {}
    for socket in reading.service.sockets:
        if socket.port not in told and any(name in PROCESSES for name, _ in socket.programs):
            found.setdefault(socket.port, []).append(socket)
    by_number = {account.uid: account.name for account in reversed(tuple(reading.accounts.by_name.values()))}
    for port, sockets in found.items():
        name = by_number.get(sockets[0].uid, "")
        mirrors = any(each in ("x11vnc", "X0tigervnc", "x0vncserver") for each, _ in sockets[0].programs)
        listeners = tuple(
            Listener("" if each.address in ("", "*") else each.address, port, family_of(each.address), each.origin)
            for each in sockets
        )
        display = port - BASE if 0 <= port - BASE < 1000 else None
        yield VncAccess(
            reading, ServerState.SERVES, None, Serving(name, CONSOLE if mirrors else name or CONSOLE, display), listeners
        )
