"""The guest's own script is killed at every step, on the way in and on the way back, with systemd and without."""

from __future__ import annotations

import contextlib

import pytest

from nightlatch.faults import NightlatchError
from nightlatch.latch import live
from tests.budget import sample
from tests.live import latching
from tests.live.latching import KILL, Points, Subject
from tests.live.station import Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", root=True)
BEFORE_THE_TIMER = ("begun", "locked", "named")


@pytest.fixture(scope="module", params=["systemd", "bare"])
def x(request: pytest.FixtureRequest, station: Station) -> Subject:
    """A booted guest, and one where a single daemon runs and a boot folder is there."""
    bare = request.param == "bare"
    return latching.subject(station, request.param, f"192.168.56.{22 if bare else 21}", bare=bare, prepared=bare)


def test_a_killed_script(x: Subject, tell: latching.Tell) -> None:
    there, back = latching.steps_of(x)
    points = Points(f"killed script, {x.guest.name}")
    for point in sample([*there, *back], 2 if x.guest.name == "systemd" else 3):
        assert any(killed_at(x, point, seconds) for seconds in latching.PATIENCE), f"{point} was never reached"
        if point in BEFORE_THE_TIMER:  # the next one clears it
            points.count += 1
            assert x.differences() == []
            continue
        assert not latching.leftovers(x.guest), point
        points.look(x, point)
    points.done(tell)


def killed_at(x: Subject, point: str, seconds: int) -> bool:
    """The script is killed at a step; False when its time on the latch was over before it came there."""
    x.guest.inside("rm", "-f", "/run/killed")
    x.guest.inside("sh", "-c", "[ ! -d /var/lib/nightlatch/lock ] || touch -d '1 minute ago' /var/lib/nightlatch/lock")
    made = x.transaction(KILL.format(point=point, flag="/run/killed"), seconds=seconds)
    with contextlib.suppress(NightlatchError):
        live.begin(x.shell, made)
    if point not in BEFORE_THE_TIMER:
        x.settled()
    return "yes" in x.guest.inside("sh", "-c", "[ -e /run/killed ] && echo yes || echo no")
