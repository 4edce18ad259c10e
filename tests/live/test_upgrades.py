"""What earlier releases left, in evidence, in folders and on running guests, is read, listed, kept and taken back."""

from __future__ import annotations

import itertools
import json
import re
import shutil
import tarfile
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.estate.load import load
from nightlatch.faults import RefusedError
from nightlatch.lab.inside import Inside
from nightlatch.lab.machine import Guest
from nightlatch.latch import live
from nightlatch.ops.enact import pending
from nightlatch.ops.evidence import read_evidence
from nightlatch.ops.keep import keep
from nightlatch.ops.undo import undo
from tests.guests import estate as estate_file
from tests.live.latching import DOOR, offered
from tests.live.releases import GRANT, RELEASES, described, live_guest, tree_of
from tests.live.station import Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", root=True)
MADE = sorted(path for path in RELEASES.iterdir() if path.is_dir())
NUMBERS = itertools.count(30)
EACH = pytest.mark.parametrize("release", MADE, ids=[path.name for path in MADE])


def test_there_is_something_to_read() -> None:
    assert MADE


@EACH
@pytest.mark.parametrize("name", ["folder", "running"])
def test_evidence_is_read(release: Path, name: str) -> None:
    found = described(read_evidence(release / f"{name}.evidence.tar.gz"))
    assert found == json.loads((release / f"{name}.json").read_text())


@EACH
def test_a_change_kept_in_a_folder_is_taken_back(release: Path, tmp_path: Path) -> None:
    made = estate_file(tmp_path, "let: mara, into: gauge, by: ssh, from: bench, with: key")
    root = tmp_path / "images/gauge"
    shutil.rmtree(root, ignore_errors=True)
    root.parent.mkdir(exist_ok=True)
    with tarfile.open(release / "folder-after.tar.gz") as tar:
        tar.extractall(root.parent, filter="fully_trusted")
    assert undo(made, "gauge", datetime.now(UTC)).changed.paths
    assert tree_of(root) == json.loads((release / "folder-before.json").read_text())


@dataclass
class Left:
    """A running guest on which an earlier release's script put its change on the latch."""

    station: Station
    guest: Guest
    change: str
    before: dict[str, str | None]

    def files(self) -> dict[str, str | None]:
        """The touched files as they are now."""
        places = {path: self.guest.root / path[1:] for path in self.before}
        return {path: place.read_text() if place.exists() else None for path, place in places.items()}


def _for_daemon(script: str, pid: str, started: str) -> str:
    """The script as it would have been sent for this daemon. It counts what arrived, so its count goes with how many digits
    these two have: the daemon's start is told in ticks since the machine was started."""
    script = script.replace("door=DOOR", f"door={pid}").replace("door_since=SINCE", f"door_since={started}")
    body = re.search(r"(?ms)^cat >\S+/latch\.sh <<'(\w+)'\n(.*?)^\1$", script)
    assert body is not None
    counted, count = re.subn(r"(?m)(?<=/latch\.sh\) = )[0-9]+(?= \])", str(len(body[2].encode())), script)
    assert count == 1
    return counted


@pytest.fixture(params=MADE, ids=[path.name for path in MADE])
def left(request: pytest.FixtureRequest, station: Station) -> Iterator[Left]:
    """The script as it was sent then, for the daemon that runs now."""
    told = json.loads((request.param / "change.json").read_text())
    number = next(NUMBERS)
    name = f"gauge-{number}"
    guest = live_guest(station, name, f"192.168.56.{number}")
    for path, text in told["before"].items():
        place = guest.root / path[1:]
        assert (place.read_text() if place.exists() else None) == text, f"{path} is not as that release found it"
    said = Inside(guest).run(_for_daemon(told["script"], *guest.inside("sh", "-c", DOOR).split()[:2]).encode()).out.decode()
    assert "on-the-latch" in said, said
    yield Left(station, guest, told["change"], told["before"])
    guest.close()
    del station.lab.guests[name]


def test_what_is_on_the_latch_is_listed_and_taken_back(left: Left) -> None:
    estate = load(left.station.estate(GRANT))
    name = left.guest.name
    with left.station.client() as client:
        (told,) = [found for guest, found in pending(estate, [name], client=client) if guest == name]
        assert not isinstance(told, str)
        assert told.pending is not None
        assert (told.pending.change, told.pending.timer, told.pending.unread) == (left.change, True, "")
        assert undo(estate, name, datetime.now(UTC), client=client).outcome == "put back"
    assert left.files() == left.before
    assert "password" in offered(left.station, left.guest)


def test_it_is_kept_and_taken_back_later(left: Left) -> None:
    estate = load(left.station.estate(GRANT))
    name = left.guest.name
    with left.station.client() as client:
        assert keep(estate, name, datetime.now(UTC), client=client).outcome == "kept"
        assert left.files() != left.before
        assert "password" not in offered(left.station, left.guest)
        assert undo(estate, name, datetime.now(UTC), client=client).outcome == "put back"
    assert left.files() == left.before


def test_what_a_newer_release_put_there_is_left_to_its_timer(left: Left) -> None:
    place = left.guest.root / f"var/lib/nightlatch/changes/{left.change}/format"
    place.write_text("nightlatch/latch/9\n")
    estate = load(left.station.estate(GRANT))
    newer = "version 9 of the script of a change, made by a newer Nightlatch"
    with left.station.client() as client:
        (told,) = [found for guest, found in pending(estate, [left.guest.name], client=client)]
        assert not isinstance(told, str)
        assert told.pending is not None
        assert newer in told.pending.unread
        for act in (keep, undo):
            with pytest.raises(RefusedError, match=newer):
                act(estate, left.guest.name, datetime.now(UTC), client=client)
    said = left.station.nightlatch("pending", "--ssh-config", "ssh_config", "--on", left.guest.name)
    assert "It can't be kept or taken back from here" in said
    assert left.files() != left.before, "it is still on the latch"
    place.write_text("nightlatch/latch/1\n")
    assert not live.decide(Inside(left.guest), left.change, "back").kept
