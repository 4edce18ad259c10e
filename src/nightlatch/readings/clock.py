"""A guest's clock: which service keeps it, whether it runs and has synchronised, how far it is off, which zone is set.

timedatectl(1), systemd-timesyncd.service(8), chrony.conf(5), ntp.conf(5); /etc/localtime is localtime(5).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.origin import Kind as OriginKind
from nightlatch.origin import Origin
from nightlatch.readings.network.profiles import PlacedValue
from nightlatch.readings.units.service_reading import ServiceReading

LISTED = Origin("timedatectl show", kind=OriginKind.LISTING)
ZONES = "/usr/share/zoneinfo/"
# Each service with its program, its units' names, and the folders of links by which it is started.
SERVICES = (
    ("systemd-timesyncd", "/lib/systemd/systemd-timesyncd", ("systemd-timesyncd.service",)),
    ("chrony", "/usr/sbin/chronyd", ("chrony.service", "chronyd.service")),
    ("ntpd", "/usr/sbin/ntpd", ("ntp.service", "ntpd.service", "ntpsec.service", "openntpd.service")),
)
WANTS = ("/etc/systemd/system/sysinit.target.wants", "/etc/systemd/system/multi-user.target.wants")


@dataclass(frozen=True, slots=True)
class TimeService:
    """One program that sets the clock; `at_boot` and `running` are None where that is not known."""

    name: str
    at_boot: bool | None
    running: bool | None
    origin: Origin


@dataclass(frozen=True)
class ClockReading:
    """The reading of the clock. `off` are the least and the most seconds that it is ahead of the reader's own clock.

    `applies` says that the guest keeps a clock of its own by systemd; a container has that of its host.
    """

    applies: bool = False
    services: tuple[TimeService, ...] = ()
    synchronised: bool | None = None
    off: tuple[int, int] | None = None
    zone: PlacedValue[str] | None = None
    stated_zone: PlacedValue[str] | None = None
    in_local_time: Origin | None = None


def read(snapshot: Snapshot, service: ServiceReading) -> ClockReading:
    """The clock of a snapshot."""
    told = _listed(snapshot.listings.get("clock", b"").decode("utf-8", "replace"))
    word = told.get("NTPSynchronized", "")
    return ClockReading(
        _applies(snapshot),
        tuple(_services(snapshot, service)),
        {"yes": True, "no": False}.get(word),
        _off(snapshot),
        _zone(snapshot),
        _stated(snapshot),
        _local(snapshot),
    )


def _listed(text: str) -> dict[str, str]:
    return {key: value for key, mark, value in (line.partition("=") for line in text.splitlines()) if mark}


def _there(snapshot: Snapshot, path: str) -> bool | None:
    entry = snapshot.resolve(path, follow_last=False).entry
    return None if entry is None else entry.kind is not EntryKind.ABSENT


def _applies(snapshot: Snapshot) -> bool:
    if _there(snapshot, "/run/systemd/container"):
        return False
    return snapshot.told.systemd or _there(snapshot, "/lib/systemd/systemd") is True


def _services(snapshot: Snapshot, service: ServiceReading) -> Iterator[TimeService]:
    for name, program, units in SERVICES:
        loaded = [service.units[unit] for unit in units if unit in service.units and service.units[unit].loaded]
        if _there(snapshot, program) is not True and not loaded:
            continue
        if loaded:
            unit = next((each for each in loaded if each.active), loaded[0])
            yield TimeService(name, unit.at_boot and unit.file_state != "static", unit.active, unit.origin)
            continue
        links = [(f"{folder}/{unit}", _there(snapshot, f"{folder}/{unit}")) for folder in WANTS for unit in units]
        found = next((path for path, there in links if there), "")
        known = any(there is not None for _, there in links)
        yield TimeService(name, bool(found) if known else None, None, Origin(found or program))


def _off(snapshot: Snapshot) -> tuple[int, int] | None:
    clock, asked = snapshot.told.clock, snapshot.told.asked
    if clock is None or asked is None:
        return None
    begun, ended = asked
    return clock - ended, clock - begun


def _zone(snapshot: Snapshot) -> PlacedValue[str] | None:
    """The zone that /etc/localtime leads to (localtime(5))."""
    entry = snapshot.resolve("/etc/localtime", follow_last=False).entry
    if entry is None or entry.kind is not EntryKind.LINK:
        return None
    _, mark, name = entry.target.partition(ZONES.removeprefix("/usr"))
    return PlacedValue(name, Origin("/etc/localtime")) if mark else None


def _stated(snapshot: Snapshot) -> PlacedValue[str] | None:
    """The zone in /etc/timezone, which Debian's programs read besides."""
    content = snapshot.content("/etc/timezone")
    word = content.decode("utf-8", "replace").strip() if content is not None else ""
    return PlacedValue(word, Origin("/etc/timezone", 1)) if word else None


def _local(snapshot: Snapshot) -> Origin | None:
    """The third line of adjtime(5) says whether the hardware's clock is kept in local time."""
    lines = (snapshot.content("/etc/adjtime") or b"").splitlines()
    return Origin("/etc/adjtime", 3) if len(lines) > 2 and lines[2].strip() == b"LOCAL" else None
