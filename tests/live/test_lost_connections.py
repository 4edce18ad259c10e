"""The administrator's process is killed, or its connection is cut, at every step: the guest takes the change back."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor

import pytest

from nightlatch.lab.machine import environment
from tests.budget import sample
from tests.live import latching
from tests.live.latching import PAUSE, Points, Subject
from tests.live.station import ROOT, Station, interruptible

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", root=True)
HANDS = 3
SECONDS = 5


@pytest.fixture(scope="module")
def xs(station: Station) -> list[Subject]:
    """Guests that are cut off side by side, each from a desk of its own."""
    return [latching.subject(station, f"gauge-{n}", f"192.168.56.{21 + n}") for n in range(HANDS)]


def administrator(x: Subject, point: str, seconds: int = SECONDS) -> tuple[subprocess.Popen[str], str]:
    """An administrator who enacts; the guest's script waits at a step."""
    seam = x.station.folder / f"seam-{x.guest.name}"
    seam.write_text(PAUSE.format(point=point))
    x.guest.inside("rm", "-f", "/run/go-on")
    words = x.station.desk.words(sys.executable, "-m", "tests.live.driver", "estate.yaml", x.guest.name, str(seconds), str(seam))
    process = subprocess.Popen(
        interruptible(words),
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        stdin=subprocess.DEVNULL,
        text=True,
        cwd=x.station.folder,
        env=environment({"PYTHONPATH": f"{ROOT / 'src'}:{ROOT}", "TMPDIR": str(x.station.folder)}),
        start_new_session=True,
    )
    assert process.stdout is not None
    line = process.stdout.readline()
    assert line.startswith("change "), line + process.stdout.read()
    return process, line.split()[1]


def address_of(x: Subject) -> str:
    return x.guest.run("ip", "-o", "-4", "addr", "show", "eth0").split()[3].split("/")[0]


def cut(x: Subject, process: subprocess.Popen[str], how: str) -> None:
    """The process dies at once with its ssh, or the way to the guest is cut while both live."""
    if how == "killed":
        os.killpg(process.pid, signal.SIGKILL)
    else:
        x.station.desk.run("ip", "route", "add", "blackhole", f"{address_of(x)}/32")


def mended(x: Subject, process: subprocess.Popen[str], how: str) -> None:
    if how == "cut":
        x.station.desk.run("ip", "route", "del", "blackhole", f"{address_of(x)}/32")
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
    process.wait(60)


def waiting_at(x: Subject, point: str) -> tuple[subprocess.Popen[str], str]:
    """An administrator whose change waits at a step; a busy machine gets more time to come there."""
    for seconds in latching.PATIENCE[1:]:
        process, change = administrator(x, point, seconds)
        try:
            if x.reached(change, point):
                return process, change
        except AssertionError:
            os.killpg(process.pid, signal.SIGKILL)
            assert process.stdout is not None
            raise AssertionError(f"{point} was not reached: {x.told(change)}; said: {process.stdout.read()}") from None
        process.wait(60)
    raise AssertionError(f"{point} was never reached: {x.told(change)}")


def one(x: Subject, point: str, how: str, points: Points) -> None:
    process, change = waiting_at(x, point)
    cut(x, process, how)
    x.goes_on(change)
    x.settled()
    mended(x, process, how)
    assert not latching.leftovers(x.guest), f"{point}: {x.told(change)}"
    points.look(x, f"{point} ({how})")


def test_lost_at_every_step(xs: list[Subject], tell: latching.Tell) -> None:
    there = sample(latching.steps_of(xs[0])[0], 2)
    work = [(point, "killed") for point in there] + [(point, "cut") for point in there[::2]]
    points = Points("administrator killed or cut off")

    def share(number: int) -> None:
        for point, how in work[number::HANDS]:
            one(xs[number], point, how, points)

    with ThreadPoolExecutor(HANDS) as pool:
        list(pool.map(share, range(HANDS)))
    points.done(tell)


def test_who_is_cut_off_is_told_what_the_guest_does(xs: list[Subject]) -> None:
    x = xs[0]
    process, change = administrator(x, "swapped", 20)
    assert x.reached(change, "swapped")
    cut(x, process, "cut")
    x.guest.inside("touch", "/run/go-on")
    out, _ = process.communicate(timeout=60)
    mended(x, process, "cut")
    assert "he guest takes it back by itself within 20 s" in " ".join(out.split()), out
    assert process.returncode == 5
    x.settled()
    assert x.differences() == []


def test_ctrl_c_says_what_becomes_of_the_change(xs: list[Subject]) -> None:
    x = xs[1]
    process, change = administrator(x, "checked", 20)
    assert x.reached(change, "checked")
    os.killpg(process.pid, signal.SIGINT)
    x.guest.inside("touch", "/run/go-on")
    out, _ = process.communicate(timeout=60)
    assert "interrupted" in out
    assert "takes it back by itself within 20 s" in " ".join(out.split()), out
    x.settled()
    assert x.differences() == []
