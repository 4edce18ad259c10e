"""A guest that no connection reaches: the script typed at its console, its output carried over in awkward ways."""

from __future__ import annotations

import contextlib
import os
import pty
import re
import select
import subprocess
import textwrap
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from nightlatch.evidence.byhand import ENDS
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import UnreadableError
from nightlatch.lab.inside import Inside
from nightlatch.lab.machine import Guest
from nightlatch.ops.survey import survey_live, survey_script, survey_target
from tests.live.station import Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", root=True)


@pytest.fixture(scope="module")
def guest(station: Station) -> Guest:
    """A guest whose sshd does not run."""
    made = station.guest("chartbox", unit="")
    made.boot()
    return made


@pytest.fixture(scope="module")
def text(guest: Guest) -> str:
    """What the script prints there."""
    return guest.inside("sh", "-s", stdin=survey_script())


def differing(one: Snapshot, other: Snapshot) -> list[str]:
    """The paths where both do not hold the same."""
    mine, theirs = ({path: replace(entry, changed=0) for path, entry in each.entries.items()} for each in (one, other))
    return sorted(path for path in {*mine, *theirs} if mine.get(path) != theirs.get(path))


CARRIED: dict[str, Callable[[str], str]] = {
    "as it is": lambda t: t,
    "other line ends": lambda t: t.replace("\n", "\r\n"),
    "wrapped and indented": lambda t: "\n".join(f"   {part}" for line in t.splitlines() for part in textwrap.wrap(line, 41)),
    "in one line": lambda t: t.replace("\n", " "),
    "from a scrollback": lambda t: f"root@chartbox:~# sh gauge.sh\n{t}root@chartbox:~# exit\nlogout\n",
}


@pytest.mark.parametrize("way", CARRIED)
def test_what_was_carried_over_is_what_the_guest_holds(guest: Guest, text: str, tmp_path: Path, way: str) -> None:
    path = tmp_path / "chartbox.txt"
    path.write_text(CARRIED[way](text))
    found = survey_target(path)
    assert found.guest == "chartbox"
    assert found.facts["transport"] == "by hand"
    assert differing(found, survey_live(Inside(guest), ask=False)) == []


WRONG = [
    ("a letter lost", lambda t: t[:200] + t[201:], "letters are missing or doubled|check sum|cut short"),
    (
        "two letters changed places",
        lambda t: re.sub(r"(?s)^(.{300}.*?)([A-Z])([a-z])", r"\1\3\2", t),
        "the check sum does not fit|cut short",
    ),
    ("a foreign letter", lambda t: t[:300] + "$" + t[301:], r"chartbox.txt:\d+: '\$' is no letter of base64"),
    ("the end missing", lambda t: t[:2000], 'it stops before "== nightlatch survey ends"'),
]


@pytest.mark.parametrize(("change", "words"), [row[1:] for row in WRONG], ids=[row[0] for row in WRONG])
def test_what_was_damaged_on_the_way_is_said(text: str, tmp_path: Path, change: Callable[[str], str], words: str) -> None:
    path = tmp_path / "chartbox.txt"
    damaged = change(text)
    assert damaged != text
    path.write_text(damaged)
    with pytest.raises(UnreadableError, match=words):
        survey_target(path)


def test_the_short_form_is_typed_at_a_console(guest: Guest, tmp_path: Path) -> None:
    ours, theirs = pty.openpty()
    words = [
        "nsenter",
        "-t",
        str(guest.pid),
        "-m",
        "-p",
        "-u",
        "-i",
        "-n",
        "-C",
        "-r",
        "-w",
        "--",
        "env",
        "-i",
        "PATH=/usr/sbin:/usr/bin",
        "dash",
        "-i",
    ]
    process = subprocess.Popen(words, stdin=theirs, stdout=theirs, stderr=theirs, start_new_session=True)
    os.close(theirs)
    said, waiting, end = "", survey_script(short=True), time.monotonic() + 60
    with contextlib.suppress(OSError):
        while time.monotonic() < end:
            readable, writable, _ = select.select([ours], [ours] if waiting else [], [], 1)
            if writable:  # line by line, as a terminal's buffer is small
                line, _, waiting = waiting.partition(b"\n")
                os.write(ours, line + b"\n")
                time.sleep(0.005)
            if readable:
                said += os.read(ours, 65536).decode()
            if ENDS in said:  # what is typed while it prints would be echoed into the middle
                os.write(ours, b"exit\n")
                break
    os.close(ours)
    process.wait(10)
    path = tmp_path / "typed.txt"
    path.write_text(said)
    found = survey_target(path, "chartbox")
    assert found.content("/etc/hostname") == b"chartbox\n"
    assert differing(found, survey_live(Inside(guest), ask=False)) == []


def test_the_estate_reads_it_and_nothing_can_be_enacted_there(station: Station, text: str) -> None:
    (station.folder / "chartbox.txt").write_text(text)
    station.estate("let: mara, into: all guests, by: ssh, from: bench, with: key", via={"chartbox": "{by_hand: chartbox.txt}"})
    out = station.nightlatch("audit", code=None)
    assert "chartbox" in out
    assert "service.stopped" in out
    said = station.nightlatch("survey", "--into", "kept")
    assert "chartbox: " in said
    first = station.nightlatch("audit", "chartbox.txt", code=None)
    assert "mara" in first
    script = station.nightlatch("survey", "--script", "estate.yaml", "--on", "chartbox")
    assert script.startswith("# Nightlatch: prints what this guest holds")
    refused = station.nightlatch("enact", "--yes", "--on", "chartbox", code=None)
    assert "a survey carried over by hand" in " ".join(refused.split()) or "Nothing to change" in refused
