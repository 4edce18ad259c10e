"""The live demo, run as a user runs it: it tells the whole loop, and nothing of it is left."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from nightlatch.faults import RefusedError
from nightlatch.lab.labs import Lab
from nightlatch.lab.machine import environment
from nightlatch.lab.tools import PREFIX, alive
from tests.live.station import ROOT

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", root=True)
TOLD = (
    "4 holes, 1 shut out",
    "plotter    offers publickey; joon's key is rejected",
    "put back: the time on the latch was over",
    "put back: the guest was restarted while the change was on the latch",
    "gate       offers publickey and password; joon gets in with their key",
    "Keys that stand in for passwords:",
    "lantern by the key lantern: sshd takes it from here",
    "mara by the key mara-desk: sshd takes it from here",
    "pins the host keys of chartbox as they are now",
    "no holes, nobody shut out",
    "plotter    offers publickey; joon gets in with their key",
    "gate 192.168.56.22: answers in",
    "1 of 1 guest answer as they should",
    "That was the whole loop on running guests",
)


def test_the_live_demo_tells_its_story_and_leaves_nothing(tmp_path: Path) -> None:
    words = [sys.executable, "-m", "nightlatch.cli", "demo", "--live", "--folder", str(tmp_path / "station")]
    done = subprocess.run(
        words,
        capture_output=True,
        text=True,
        timeout=300,
        stdin=subprocess.DEVNULL,
        env=environment({"PYTHONPATH": str(ROOT / "src")}),
    )
    assert done.returncode == 0, done.stdout[-2000:] + done.stderr[-2000:]
    told, at = " ".join(done.stdout.split()), -1
    for each in TOLD:
        found = told.find(" ".join(each.split()), at + 1)
        assert found > at, f"not told, or not in this order: {each}\n{done.stdout[-6000:]}"
        at = found
    assert not (tmp_path / "station").exists()
    owners = [path.read_text() for path in Path("/tmp").glob(f"{PREFIX}-*/owner")]
    assert all(alive(int(owner)) for owner in owners), "a lab is left whose maker is gone"


def test_a_prompt_on_the_station_without_the_story(tmp_path: Path) -> None:
    """Commands typed there run at the desk of the station; it ends with the shell."""
    words = [sys.executable, "-m", "nightlatch.cli", "demo", "--live", "--leave", "--folder", str(tmp_path / "station")]
    typed = "pwd\nnightlatch --version\nnightlatch audit --on gauge\necho status $?\nnightlatch pending --on gate\n"
    done = subprocess.run(
        words,
        capture_output=True,
        text=True,
        timeout=200,
        input=typed,
        env=environment({"PYTHONPATH": str(ROOT / "src")}),
    )
    told = " ".join(done.stdout.split())
    assert done.returncode == 0, done.stdout[-2000:] + done.stderr[-2000:]
    assert str(tmp_path / "station") in told
    assert "0 of 4" not in told
    assert "status 0" in told, done.stdout[-3000:] + done.stderr[-2000:]
    assert "gate: nothing on the latch" in told
    assert "1. audit" not in told
    assert not (tmp_path / "station").exists()


def test_without_roots_rights_it_says_what_is_missing(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(os, "geteuid", lambda: 1000)
    with pytest.raises(RefusedError, match="live guests need root's rights"):
        Lab()
