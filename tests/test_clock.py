"""The clock: which service keeps it, whether it runs, how far it is off; each state is told by its check, and only there."""

from __future__ import annotations

from dataclasses import replace

import pytest

from nightlatch.access.paths import guest_access
from nightlatch.audit.run import guest_audit
from nightlatch.evidence.snapshot import Entry, EntryKind
from nightlatch.readings import guest as readings
from tests.guests import AT, Guest

SYSTEM = {"/lib/systemd/systemd": "", "/etc/localtime": ""}
TIMESYNCD = {
    "/lib/systemd/systemd-timesyncd": "",
    "/etc/systemd/system/sysinit.target.wants/systemd-timesyncd.service": "",
}
CHRONY = {"/usr/sbin/chronyd": "", "/etc/systemd/system/multi-user.target.wants/chrony.service": ""}


def unit(name: str, active: str = "active", state: str = "enabled") -> str:
    return f"Id={name}\nNames={name}\nLoadState=loaded\nActiveState={active}\nUnitFileState={state}\n"


def said(
    files: dict[str, str],
    listings: dict[str, str] | None = None,
    facts: dict[str, str] | None = None,
    zone: str = "/usr/share/zoneinfo/Atlantic/Faroe",
) -> dict[str, str]:
    snapshot = Guest(files={**SYSTEM, **files}).snapshot()
    link = Entry(EntryKind.LINK, target=zone) if zone else Entry(EntryKind.ABSENT)
    entries = {**snapshot.entries, "/etc/localtime": link}
    told = {name: text.encode() for name, text in (listings or {}).items()}
    made = replace(snapshot, entries=entries, listings=told, facts=facts or {})
    found = guest_audit(guest_access(readings.read(made), AT), AT).findings
    return {f.check: f.text for f in found if f.check.startswith("time.")}


CASES: list[tuple[str, dict[str, str], dict[str, str], dict[str, str], str, str]] = [
    ("time.no-service", {}, {}, {}, "/usr/share/zoneinfo/UTC", "No service that sets the clock is installed"),
    (
        "time.no-service",
        {"/usr/sbin/chronyd": ""},
        {},
        {},
        "/usr/share/zoneinfo/UTC",
        "chrony could set the clock, and is not started at boot",
    ),
    (
        "time.two-services",
        {**TIMESYNCD, **CHRONY},
        {},
        {},
        "/usr/share/zoneinfo/UTC",
        "systemd-timesyncd and chrony both set the clock",
    ),
    (
        "time.stopped",
        TIMESYNCD,
        {"units": unit("systemd-timesyncd.service", "inactive")},
        {},
        "../usr/share/zoneinfo/UTC",
        "does not run now",
    ),
    (
        "time.not-synchronised",
        TIMESYNCD,
        {"units": unit("systemd-timesyncd.service"), "clock": "NTP=yes\nNTPSynchronized=no\n"},
        {},
        "/usr/share/zoneinfo/UTC",
        "systemd-timesyncd runs, and the clock is not synchronised",
    ),
    (
        "time.off",
        TIMESYNCD,
        {},
        {"clock": "1000", "asked_from": "100", "asked_until": "110"},
        "/usr/share/zoneinfo/UTC",
        "at least 14 minutes ahead of",
    ),
    (
        "time.off",
        TIMESYNCD,
        {},
        {"clock": "100", "asked_from": "200", "asked_until": "300"},
        "/usr/share/zoneinfo/UTC",
        "at least 1 minute behind",
    ),
    ("time.zone", TIMESYNCD, {}, {}, "", "No time zone is set"),
    (
        "time.zone",
        {**TIMESYNCD, "/etc/timezone": "Europe/Lisbon\n"},
        {},
        {},
        "/usr/share/zoneinfo/Atlantic/Faroe",
        "programs tell different times",
    ),
    (
        "time.local-hardware-clock",
        {**TIMESYNCD, "/etc/adjtime": "0.0 0 0.0\n0\nLOCAL\n"},
        {},
        {},
        "/usr/share/zoneinfo/UTC",
        "kept in local time",
    ),
]


@pytest.mark.parametrize("check, files, listings, facts, zone, text", CASES, ids=[f"{c[0]} {n}" for n, c in enumerate(CASES)])
def test_every_state_of_the_clock(
    check: str, files: dict[str, str], listings: dict[str, str], facts: dict[str, str], zone: str, text: str
) -> None:
    found = said(files, listings, facts, zone)
    assert list(found) == [check]
    assert text in found[check]


QUIET: list[tuple[dict[str, str], dict[str, str], dict[str, str]]] = [
    (TIMESYNCD, {}, {}),
    (CHRONY, {"units": unit("chrony.service"), "clock": "NTPSynchronized=yes\n"}, {}),
    (TIMESYNCD, {}, {"clock": "120", "asked_from": "100", "asked_until": "160"}),
    ({"/run/systemd/container": "lab"}, {}, {}),
    ({**TIMESYNCD, "/etc/timezone": "Atlantic/Faroe\n", "/etc/adjtime": "0.0 0 0.0\n0\nUTC\n"}, {}, {}),
]


@pytest.mark.parametrize("files, listings, facts", QUIET, ids=[str(n) for n in range(len(QUIET))])
def test_a_clock_in_order_is_quiet(files: dict[str, str], listings: dict[str, str], facts: dict[str, str]) -> None:
    assert not said(files, listings, facts)


def test_a_guest_whose_system_is_not_known_is_not_judged() -> None:
    found = guest_audit(Guest().access(), AT).findings
    assert not [f for f in found if f.check.startswith("time.")]


SPOKEN = {case[0] for case in CASES}
