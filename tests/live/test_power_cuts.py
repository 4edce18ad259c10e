"""Everything on the guest dies at once, at and between all steps: it boots as it was before, and the door opens."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from nightlatch.latch import live
from nightlatch.latch.transaction import SEAM
from tests.budget import sample
from tests.live import latching
from tests.live.latching import PATIENCE, PAUSE, Points, Subject
from tests.live.station import Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", root=True)
SEED = 20261125
BEFORE_THE_GUARD = ("begun", "locked", "named", "armed", "marked", "rehearsed", "guard-written")
AFTER_THE_GUARD = ("told", "unguarded", "releasing", "timeless")  # "told": the guard is just being taken away


@pytest.fixture(scope="module", params=["ssh.service", "ssh.socket"])
def x(request: pytest.FixtureRequest, station: Station) -> Subject:
    """One guest with the plain service, and one that a socket activates."""
    number = 21 if request.param == "ssh.service" else 22
    return latching.subject(station, request.param.replace(".", "-"), f"192.168.56.{number}", unit=request.param)


def test_a_power_cut_anywhere(x: Subject, tell: latching.Tell) -> None:
    there, back = latching.steps_of(x)
    chance = random.Random(SEED)
    points = Points(f"power cut, {x.guest.name}")
    # The second guest takes fewer steps: what differs there is how sshd reads its files again.
    for point in sample([*there, *back], 2 if x.guest.name == "ssh-service" else 3):
        for seconds in PATIENCE if point in back else (90,):
            made = x.transaction(PAUSE.format(point=point), seconds)
            thread = latching.begun(x, made)
            if x.reached(made.change, point):
                break
            thread.join(60)
        assert x.reached(made.change, point), f"{point}: {x.told(made.change)}"
        if chance.random() < 0.5:  # between this step and the next, too
            x.guest.inside("touch", "/run/go-on")
            latching.pause(chance.uniform(0, 0.05))
        x.guest.power_cut()
        thread.join(60)
        # How far it really got; where there is no line, it was at the point itself.
        last = next((line[5:] for line in reversed(x.progress(made.change)) if line.startswith("step ")), point)
        x.guest.boot()
        x.guest.until_listening()
        latching.until_guarded(x.guest)
        own = latching.leftovers(x.guest)
        if own and last in (*BEFORE_THE_GUARD, "told"):
            units = [path for path in own if "nightlatch-guard.service" in path]  # whole, or just being written
            own = [path for path in own if path not in units]
            for path in units:
                Path(path).unlink()
        assert not own, f"{point}: {own}"
        if (x.guest.root / "var/lib/nightlatch/lock").exists():
            assert last in BEFORE_THE_GUARD + AFTER_THE_GUARD, f"{point} (got to {last}) left its lock"
            x.guest.inside("touch", "-d", "1 minute ago", "/var/lib/nightlatch/lock")
        points.look(x, point)
    # A lock that a dead change left is no obstacle for the next.
    made = x.transaction(SEAM, 20)
    assert "step looked" in live.begin(x.shell, made).steps
    x.settled()
    points.look(x, "the next change")
    points.done(tell)
