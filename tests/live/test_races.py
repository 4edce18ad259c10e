"""Whoever owns a folder swaps what is in it as fast as they can, at every step: no file of anybody else's is written or given."""

from __future__ import annotations

import contextlib
import os
import time
from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.faults import NightlatchError, UnreadableError
from nightlatch.lab.machine import Guest
from nightlatch.latch import live
from nightlatch.latch.transaction import SEAM
from nightlatch.ops.audit import audit_target
from nightlatch.ops.survey import survey_live
from nightlatch.ops.undo import undo
from tests.budget import ALL
from tests.live import latching
from tests.live.attacks import RACE, RACES, running
from tests.live.latching import GRANTS, PAUSE, Subject, Tell
from tests.live.station import Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", "perl", "setpriv", root=True)
POINTS = ("guarded", "saved 0", "staged", "checked", "swapped 3", "swapped", "looked")
HERS = "/home/mara"


def at_home(guest: Guest) -> None:
    """A second name of a file of root's in mara's home, as file systems allow it whose kernel does not guard such links."""
    guest.image.write("/etc/station-secret", "of root's\n", 0o600)
    os.link(guest.image.path("/etc/station-secret"), guest.image.path(f"{HERS}/.stolen"))


@pytest.fixture(scope="module", params=["systemd", "mounted", "bare"] if ALL else ["systemd", "mounted"])
def x(request: pytest.FixtureRequest, station: Station) -> Subject:
    """With homes beside /etc; with mara's home a file system of its own, which is all hers; and without a service manager."""
    number = {"systemd": 21, "mounted": 22, "bare": 23}[request.param]
    bare = request.param == "bare"
    return latching.subject(
        station,
        request.param,
        f"192.168.56.{number}",
        bare=bare,
        prepared=bare,
        prepare=mounted if request.param == "mounted" else at_home,
    )


def mounted(guest: Guest) -> None:
    """Mara's home is a mount; its top is her own, so that no folder of root's is on it."""
    at_home(guest)
    unit = "[Mount]\nWhat=/srv/mara\nWhere=/home/mara\nType=none\nOptions=bind\n[Install]\nWantedBy=local-fs.target\n"
    os.rename(guest.image.path(HERS), guest.image.path("/srv/mara"))
    guest.image.own(HERS, 0o755, 0, 0)
    guest.image.write("/etc/systemd/system/home-mara.mount", unit)
    guest.image.link("/etc/systemd/system/local-fs.target.wants/home-mara.mount", "/etc/systemd/system/home-mara.mount")


def others(x: Subject) -> dict[str, tuple[object, ...]]:
    """All that is not mara's, as it is."""
    now = x.guest.files("/etc", "/home", "/root")
    return {path: state for path, state in now.items() if not path.startswith(HERS) and not latching.own(path)}


def restored(x: Subject) -> None:
    """Her home as it was at the beginning, for the next race."""
    inside = "/home/mara" if x.guest.name != "mounted" else "/srv/mara"
    x.guest.inside(
        "sh",
        "-c",
        f"cd {inside} && find . -mindepth 1 -maxdepth 1 ! -name .stolen -exec rm -rf {{}} + && mkdir -m 700 .ssh && "
        f"chown 1001:{1001} .ssh && chmod 775 . && chown 1001:3000 .",
    )
    keys = x.guest.root / inside[1:] / ".ssh/authorized_keys"
    x.guest.inside(
        "sh",
        "-c",
        f"cat >{inside}/.ssh/authorized_keys && chmod 600 {inside}/.ssh/authorized_keys && "
        f"chown 1001:1001 {inside}/.ssh/authorized_keys",
        stdin=x.station.keys["mara"] + "\n",
    )
    assert keys.exists()


def test_a_race_for_every_step(x: Subject, tell: Tell) -> None:
    before = others(x)
    assert "/etc/shadow" in before
    tried, wrong, ends = 0, [], {"kept": 0, "put back": 0, "refused": 0}
    kinds = RACES if ALL else RACES[:: 2 if x.guest.name == "systemd" else 4]
    for number, kind in enumerate(kinds):
        for point in POINTS if ALL else POINTS[number % len(POINTS) :][:1]:
            tried += 1
            x.guest.inside("rm", "-f", "/run/go-on")
            made = x.transaction(PAUSE.format(point=point), 25)
            thread = latching.begun(x, made)
            if not x.reached(made.change, point):
                thread.join(60)
                continue
            with running(x.guest, "perl", "-e", RACE, kind):
                latching.pause(0.2)
                x.guest.inside("touch", "/run/go-on")
                thread.join(60)
                with contextlib.suppress(NightlatchError):
                    live.decide(x.shell, made.change, "keep" if tried % 2 else "back")
            x.settled()
            told = x.told(made.change).partition("] ")[2]
            ends[next((end for end in ends if told.startswith(end)), "refused")] += 1
            now = others(x)
            # What was kept is as the change made it; of all else nothing has another byte, mode or owner.
            changed = {path for path in {**before, **now} if before.get(path) != now.get(path)}
            if changed - (set(made.rows) if told.startswith("kept") else set()):
                wrong.append(f"{kind} from {point}: {sorted(changed)[:4]} {told[:80]}")
            if not x.station.login(x.guest):
                wrong.append(f"{kind} from {point}: management access is shut, {told[:80]}")
            reset(x, before)
            restored(x)
    tell(f"races in a user's folder, {x.guest.name}: {tried} races ({ends}), {len(wrong)} wrong")
    assert not wrong, "\n".join(wrong)
    assert x.guest.root.joinpath("etc/station-secret").stat().st_uid == 0


def reset(x: Subject, before: dict[str, tuple[object, ...]]) -> None:
    """A kept change is taken out by hand, so that the next race begins where this one did."""
    for path, state in before.items():
        place: Path = x.guest.root / path[1:]
        if isinstance(state[4], bytes) and (not place.exists() or place.read_bytes() != state[4]):
            place.write_bytes(state[4])
            os.chown(place, int(str(state[1])), int(str(state[2])))
            place.chmod(int(str(state[0])) & 0o7777)
    for path in set(others(x)) - set(before):
        (x.guest.root / path[1:]).unlink()
    config = x.guest.root / "etc/ssh/sshd_config"
    os.setxattr(config, "trusted.note", b"station")
    x.guest.inside("sh", "-c", "kill -HUP $(cat /run/sshd.pid)")
    latching.pause(0.3)


def test_a_survey_in_the_middle_of_a_race_ends_and_touches_nothing(x: Subject, tell: Tell) -> None:
    before, told = others(x), {"read": 0, "not read": 0}
    for kind in RACES if ALL else RACES[:: 4 if x.guest.name == "mounted" else 3]:
        with running(x.guest, "perl", "-e", RACE, kind):
            latching.pause(0.1)
            started = time.monotonic()
            try:
                snapshot = survey_live(x.shell)
                told["read"] += 1
                held = snapshot.entries.get(f"{HERS}/.ssh/authorized_keys")
                assert held is None or b"of root's" not in (held.content or b""), kind
                audit_target(snapshot, datetime.now(UTC))
            except UnreadableError:
                told["not read"] += 1
            assert time.monotonic() - started < 100, kind
        assert others(x) == before, kind
        restored(x)
    tell(f"surveys in a race, {x.guest.name}: {told}")


def test_an_undo_in_the_middle_of_a_race(x: Subject, tell: Tell) -> None:
    """What was kept is taken back by a change of its own, while the folder's owner swaps what is in it."""
    before, ends = others(x), []
    for kind in RACES if ALL else RACES[1:2] if x.guest.name == "systemd" else ():
        made = x.transaction(SEAM, 40)
        live.begin(x.shell, made)
        assert live.decide(x.shell, made.change, "keep").kept
        x.station.estate(GRANTS)
        with running(x.guest, "perl", "-e", RACE, kind), x.station.client() as client:
            latching.pause(0.1)
            try:
                undo(x.estate, x.guest.name, datetime.now(UTC), client=client, seconds=20)
                ends.append("undone")
            except NightlatchError as error:
                ends.append(type(error).__name__)
        x.settled()
        now = others(x)
        changed = {path for path in {**before, **now} if before.get(path) != now.get(path)}
        assert changed <= set(made.rows), (kind, changed)
        assert x.station.login(x.guest)
        x.guest.inside("sh", "-c", "rm -rf /var/lib/nightlatch/changes/*")
        reset(x, before)
        restored(x)
    tell(f"undo in a race, {x.guest.name}: {ends}")
