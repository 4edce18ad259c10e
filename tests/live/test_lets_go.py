"""The latch lets go whatever fails: no room, no inode, nothing to be written, paths that can't be restored, units that somebody
masked, files that somebody touched. Every case ends as before or as after, with a real login."""

from __future__ import annotations

import json
import os
import threading
import time
from collections.abc import Callable, Iterator

import pytest

from nightlatch.faults import NightlatchError, PutBackError, UnreadableError
from nightlatch.lab.machine import Guest
from nightlatch.latch import live
from nightlatch.latch.transaction import SEAM, Transaction
from tests.budget import ALL, sample
from tests.live import latching
from tests.live.latching import GRANTS, PAUSE, Subject, Tell
from tests.live.station import Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", "chattr", root=True)
CONFIG = "/etc/ssh/sshd_config"
STATE = "/var/lib/nightlatch"
LATE = ("told", "unguarded", "releasing", "timeless")
# Kind of failure, what makes it, what ends it.
FAILURES = [
    (
        "no inode",
        """mkdir -p /var/fill; perl -e 'my $i = 0; while (open my $f, ">", "/var/fill/" . $i++) { close $f }'; true""",
        "rm -rf /var/fill",
    ),
    (
        "no room",
        "dd if=/dev/zero of=/var/filled bs=4096 2>/dev/null; dd if=/dev/zero of=/var/filled2 bs=64 2>/dev/null; true",
        "rm -f /var/filled*",
    ),
    ("nothing can be written", f"mount --bind {STATE} {STATE} && mount -o remount,bind,ro {STATE}", f"umount -l {STATE}"),
]
MANAGED = pytest.mark.parametrize("x", ["systemd"], indirect=True)  # what is about units needs a service manager


@pytest.fixture(scope="module", params=["systemd", "bare"] if ALL else ["systemd"])
def x(request: pytest.FixtureRequest, station: Station) -> Subject:
    """A guest with a small disk of its own, with a service manager and without."""
    bare = request.param == "bare"
    return latching.subject(
        station, request.param, f"192.168.56.{22 if bare else 21}", bare=bare, prepared=bare, size="24m,nr_inodes=3000"
    )


@pytest.fixture(scope="module")
def there(x: Subject) -> list[str]:
    """The steps on the way in, from the timer on."""
    return [point for point in latching.steps_of(x)[0] if point not in ("begun", "locked", "named")]


@pytest.fixture
def clean(x: Subject) -> Iterator[Subject]:
    """Whatever a test does, the guest is as before at its end."""
    yield x
    x.settled()
    assert x.differences() == []
    assert x.door() == x.offered
    assert latching.leftovers(x.guest) == []


def until(what: str, holds: Callable[[], bool], seconds: float = 40) -> None:
    end = time.monotonic() + seconds
    while not holds():
        assert time.monotonic() < end, what
        time.sleep(0.1)


def restored(x: Subject) -> bool:
    """Whether all is as before but for what the latch itself has there: guard and lock go last."""
    try:
        left = [
            path
            for path in x.differences()
            if "nightlatch-" not in path and "S02" not in path and not path.endswith(".target.wants")
        ]
    except FileNotFoundError:  # it goes just now
        return False
    return not left


def at_point(x: Subject, point: str) -> tuple[Transaction, threading.Thread]:
    """A change that waits at a step; a busy machine needs more time on the latch to come there."""
    for seconds in (4, 12, 40):
        x.guest.inside("rm", "-f", "/run/go-on")
        made = x.transaction(PAUSE.format(point=point), seconds)
        thread = latching.begun(x, made)
        if x.reached(made.change, point):
            return made, thread
        thread.join(60)
        x.settled()
    raise AssertionError(f"{point} was not reached: {x.told(made.change)}")


def outcome(x: Subject, change: str) -> str:
    return (x.guest.root / f"var/lib/nightlatch/changes/{change}/outcome").read_text().strip()


@pytest.mark.parametrize("name, fail, lift", FAILURES, ids=[row[0] for row in FAILURES])
def test_time_up_while_nothing_can_be_noted(x: Subject, there: list[str], name: str, fail: str, lift: str, tell: Tell) -> None:
    """From each step on the way in: it goes back, and is never told as kept."""
    points = list(there)
    if not ALL:  # each kind from a step of its own
        points = [points[-1 - 6 * [row[0] for row in FAILURES].index(name)]]
    wrong = []
    for point in points:
        made, thread = at_point(x, point)
        x.guest.inside("sh", "-c", fail)
        x.guest.inside("touch", "/run/go-on")
        try:
            until(f"{name} at {point}: not put back", lambda: restored(x))
            thread.join(60)
        finally:
            x.guest.inside("sh", "-c", lift)
        x.settled()
        told = outcome(x, made.change)
        if (
            not told.startswith(("put back", "refused"))
            or x.differences()
            or x.door() != x.offered
            or latching.leftovers(x.guest)
        ):
            wrong.append(f"{name} at {point}: {told} {x.differences()} {latching.leftovers(x.guest)}")
    tell(f"{name}, {x.guest.name}: from {len(points)} steps, {len(wrong)} wrong")
    assert not wrong, "\n".join(wrong)


def test_a_script_that_is_frozen_is_taken_back_by_the_timer(clean: Subject, there: list[str], tell: Tell) -> None:
    """Stopped at a step, for ever: the timer ends it and takes back what it did."""
    x = clean
    tried = there if ALL else there[9::20]
    for point in tried:
        made, thread = at_point(x, point)
        x.guest.inside("sh", "-c", f"kill -STOP $(cat {STATE}/changes/{made.change}/going)")
        x.guest.inside("touch", "/run/go-on")
        x.settled(90)
        thread.join(60)
        assert outcome(x, made.change).startswith("put back: the time on the latch was over"), point
        assert x.differences() == [], point
    tell(f"a frozen script, {x.guest.name}: {len(tried)} steps, 0 wrong")


TO_KEEP = FAILURES if ALL else FAILURES[::2]


@pytest.mark.parametrize("name, fail, lift", TO_KEEP, ids=[row[0] for row in TO_KEEP])
def test_to_keep_what_can_not_be_noted(clean: Subject, name: str, fail: str, lift: str) -> None:
    """What the guest answers is so: kept with every path as made, or put back with every path as before."""
    x = clean
    made = x.transaction(SEAM, 60)
    live.begin(x.shell, made)
    x.guest.inside("sh", "-c", fail)
    try:
        try:
            kept = live.decide(x.shell, made.change, "keep").kept
        except UnreadableError:
            kept = False
        except PutBackError:
            kept = False
        until("it is one or the other", lambda: restored(x) != kept)
    finally:
        x.guest.inside("sh", "-c", lift)
    x.settled(90)
    assert outcome(x, made.change).startswith("kept" if kept else "put back")
    if kept:  # by hand, as it was
        before(x)


def before(x: Subject) -> None:
    """A kept change taken out again."""
    place = f"{STATE}/changes"
    script = (
        f"cd {place}/*/ && while read -r n bk bm bu bg bs ak am au ag as path; do case $bk in file) cat $n.before >$path;; absent) rm -f $path;; "
        "folder) chown $bu:$bg $path; chmod $bm $path;; esac; done"
    )
    rows = x.transaction(SEAM).table()
    newest = sorted(each.name for each in (x.guest.root / place[1:]).iterdir() if (each / "record.json").exists())[-1]
    x.guest.inside("sh", "-c", script.replace("*/", newest), stdin=rows)
    x.guest.inside("sh", "-c", "kill -HUP $(cat /run/sshd.pid)")
    latching.pause(0.5)


STUCK = [
    ("marked as not to be changed", "chattr +i /home/joon/.ssh/authorized_keys", "chattr -i /home/joon/.ssh/authorized_keys"),
    (
        "a home that can't be written",
        "mount --bind /home/joon /home/joon && mount -o remount,bind,ro /home/joon",
        "umount -l /home/joon",
    ),
]


@pytest.mark.parametrize("name, fail, lift", STUCK if ALL else STUCK[:1], ids=[row[0] for row in (STUCK if ALL else STUCK[:1])])
def test_one_path_keeps_nothing_else_from_counting(clean: Subject, name: str, fail: str, lift: str) -> None:
    x = clean
    made = x.transaction(SEAM, 12)
    live.begin(x.shell, made)
    x.guest.inside("sh", "-c", fail)
    try:
        until("sshd has its old files", lambda: latching.offered(x.station, x.guest) == x.offered)
        until("it is told", lambda: bool((found := live.ask(x.shell).pending) and found.stuck))
        pending = live.ask(x.shell).pending
        assert pending is not None
        assert pending.timer, "the guest tries on"
        assert pending.stuck.startswith("/home/joon/.ssh/authorized_keys")
        assert [path for path in x.differences() if "nightlatch" not in path and "target.wants" not in path] == [
            "/home/joon/.ssh/authorized_keys"
        ]
        with pytest.raises(PutBackError, match="all else was put back and counts"):
            live.decide(x.shell, made.change, "back")
    finally:
        x.guest.inside("sh", "-c", lift)
    x.settled()
    assert outcome(x, made.change).startswith("put back")


UNITS = [
    "systemctl mask --now ssh",
    "systemctl mask --runtime --now ssh",
    "systemctl stop ssh",
    "rm /etc/systemd/system/multi-user.target.wants/ssh.service; systemctl daemon-reload; systemctl stop ssh",
    "systemctl kill -s KILL ssh; systemctl stop ssh; systemctl mask ssh",
]


@MANAGED
@pytest.mark.parametrize("act", sample(UNITS, 4))
def test_a_service_that_somebody_took_away_comes_back(clean: Subject, act: str) -> None:
    x = clean
    made = x.transaction(SEAM, 60)
    live.begin(x.shell, made)
    x.guest.inside("sh", "-c", act)
    assert not live.decide(x.shell, made.change, "back").kept
    assert x.guest.inside("systemctl", "is-enabled", "ssh").strip() == "enabled"
    assert x.door() == x.offered


@MANAGED
def test_a_service_that_was_masked_and_a_restart(clean: Subject) -> None:
    x = clean
    live.begin(x.shell, x.transaction(SEAM, 60))
    x.guest.inside("systemctl", "mask", "ssh")
    x.guest.power_cut()
    x.guest.boot()
    x.guest.until_listening(20)
    assert x.door() == x.offered


def test_what_sshd_refuses_of_both_is_ours_as_it_was(clean: Subject) -> None:
    x = clean
    made = x.transaction(SEAM, 60)
    live.begin(x.shell, made)
    x.guest.inside("sh", "-c", f"echo 'Tide high' >>{CONFIG}")
    told = live.decide(x.shell, made.change, "back")
    assert told.whole == (CONFIG,)
    number = made.rows.index(CONFIG)
    theirs = x.guest.root / f"{STATE[1:]}/changes/{made.change}/{number}.theirs"
    assert theirs.read_text().endswith("Tide high\n")


@pytest.mark.parametrize(
    "act", [f"rm {CONFIG}", f"chmod 600 {CONFIG}; chown 1:1 {CONFIG}", f"cp {CONFIG} /run/c; cat /run/c >{CONFIG}"]
)
def test_a_touch_on_a_file_of_sshd_s_keeps_no_lock_out(x: Subject, act: str) -> None:
    made = x.transaction(SEAM, 60)
    live.begin(x.shell, made)
    x.guest.inside("sh", "-c", act)
    live.decide(x.shell, made.change, "back")
    assert x.door() == x.offered
    was = x.before[CONFIG][4]
    assert isinstance(was, bytes)
    assert (x.guest.root / CONFIG[1:]).read_bytes() == was
    x.guest.inside("sh", "-c", f"chown 0:0 {CONFIG}; chmod 640 {CONFIG}")
    assert x.differences() == []


# The same over the station's network, as an administrator sees it.


def test_keep_proves_what_enact_proves(clean: Subject) -> None:
    x = clean
    x.station.estate(GRANTS)
    on = ("--on", x.guest.name)
    x.station.nightlatch("enact", "estate.yaml", "--yes", "--leave", "--for", "10m", *on)
    hole = "/home/mara/.ssh/authorized_keys2"
    x.guest.inside("sh", "-c", f"cat >{hole}; chown 1001:1001 {hole}; chmod 600 {hole}", stdin=x.station.keys["other"] + "\n")
    said = " ".join(x.station.nightlatch("keep", "estate.yaml", *on, code=4).split())
    assert "a fresh connection found that it does not hold, so it was not kept" in said
    assert "The key other-key" in said, said
    assert "the guest takes it back by itself within" in said
    x.guest.inside("sh", "-c", f"rm {hole}; echo '# theirs' >>/home/joon/.ssh/authorized_keys")
    assert "/home/joon/.ssh/authorized_keys is not as it was made" in x.station.nightlatch("keep", "estate.yaml", *on, code=4)
    keys = "/home/joon/.ssh/authorized_keys"
    x.guest.inside("sh", "-c", f"sed -i '/^# theirs$/d' {keys}; chown 1002:1002 {keys}")
    assert "kept: change" in x.station.nightlatch("keep", "estate.yaml", *on)
    undone = x.station.nightlatch("undo", "estate.yaml", *on)
    assert f"taken back: {len(x.proved.changed)} paths" in " ".join(undone.split())


def test_undo_counts_what_really_went_back(clean: Subject) -> None:
    x = clean
    x.station.estate(GRANTS)
    on = ("--on", x.guest.name)
    x.station.nightlatch("enact", "estate.yaml", "--yes", "--leave", "--for", "10m", *on)
    keys = "/home/mara/.ssh/authorized_keys"
    x.guest.inside("sh", "-c", f"cp -a {keys} /run/keys; sed -i 's/mara-key/theirs/' {keys}; echo '# theirs' >>{CONFIG}")
    listed = json.loads(x.station.nightlatch("pending", "estate.yaml", "--format", "json"))
    row = next(each for each in listed["guests"] if each["guest"] == x.guest.name)
    assert row["on_the_latch"]["stuck"] is None
    undone = " ".join(x.station.nightlatch("undo", "estate.yaml", *on, code=5).split())
    assert f"taken back: {len(x.proved.changed) - 2} paths" in undone, undone
    assert f"{keys} changed by somebody else since: left as it is" in undone
    assert f"{CONFIG} touched by somebody else since: our lines went back, theirs stay" in undone
    number = x.transaction(SEAM).rows.index(keys)
    was = x.before[keys][4]
    assert isinstance(was, bytes)
    assert number >= 0
    (x.guest.root / keys[1:]).write_bytes(was)
    x.guest.inside("sh", "-c", f"chown 1001:1001 {keys}; chmod 600 {keys}; sed -i '/^# theirs$/d' {CONFIG}; chmod 640 {CONFIG}")
    os.setxattr(x.guest.root / CONFIG[1:], "trusted.note", b"station")


# A restart with homes that come late, or not at all.

HOMES = "[Mount]\nWhat=/srv/homes\nWhere=/home\nType=none\nOptions=bind,_netdev\n[Unit]\nAfter=tide-net.service\nWants=tide-net.service\nAssertPathIsDirectory=/srv/homes/joon\n[Install]\nWantedBy=remote-fs.target\n"
NET = "[Unit]\nAfter=basic.target\nBefore=network-online.target remote-fs-pre.target\n[Service]\nType=oneshot\nRemainAfterExit=yes\nExecStart=/bin/sleep 1\n"


def homes_behind_the_network(guest: Guest) -> None:
    """Homes are mounted by a unit that waits for the network, which comes after basic.target, as sockets come before it."""
    image = guest.image
    image.path("/home").rename(image.path("/srv/homes"))
    image.own("/home", 0o755, 0, 0)
    image.write("/etc/systemd/system/home.mount", HOMES)
    image.write("/etc/systemd/system/tide-net.service", NET)
    image.path("/etc/systemd/system/remote-fs.target.wants").mkdir(exist_ok=True)
    image.link("/etc/systemd/system/remote-fs.target.wants/home.mount", "/etc/systemd/system/home.mount")
    image.path("/etc/systemd/system/multi-user.target.wants").mkdir(exist_ok=True)
    image.link("/etc/systemd/system/multi-user.target.wants/remote-fs.target", "/lib/systemd/system/remote-fs.target")


@pytest.mark.parametrize("unit", ["ssh.socket", "ssh.service"])
def test_homes_behind_the_network(station: Station, unit: str) -> None:
    name = unit.replace(".", "-")
    x = latching.subject(
        station, name, f"192.168.56.{25 if unit == 'ssh.socket' else 26}", unit=unit, prepare=homes_behind_the_network
    )
    keys = x.guest.root / "srv/homes/joon/.ssh/authorized_keys"
    lock = x.guest.root / f"{STATE[1:]}/lock"
    for missing in (False, True) if ALL or unit == "ssh.service" else (False,):
        live.begin(x.shell, x.transaction(SEAM, 90))
        assert keys.exists()
        x.guest.power_cut()
        if missing:
            (x.guest.root / "srv/homes").rename(x.guest.root / "srv/gone")
        x.guest.boot()
        x.guest.until_listening(20)
        assert latching.offered(station, x.guest) == x.offered, "what is in /etc is back before sshd starts"
        if missing:
            assert lock.exists()
            pending = live.ask(x.shell).pending
            assert pending is not None
            assert pending.timer
            (x.guest.root / "srv/gone").rename(x.guest.root / "srv/homes")
            x.guest.inside("systemctl", "start", "home.mount")
        x.settled(30)
        assert not keys.exists()
        assert station.login(x.guest)
        assert latching.leftovers(x.guest) == []
    x.guest.close()
    del station.lab.guests[name]


def test_nothing_can_be_kept_once_it_was_begun_to_take_it_back(clean: Subject) -> None:
    x = clean
    made = x.transaction(PAUSE.format(point="reverting"), 60)
    x.guest.inside("rm", "-f", "/run/go-on")
    live.begin(x.shell, made)

    def back() -> None:
        try:
            live.decide(x.shell, made.change, "back")
        except NightlatchError:
            pass

    thread = threading.Thread(target=back)
    thread.start()
    assert x.reached(made.change, "reverting")
    x.guest.inside("sh", "-c", f"sleep 1; touch /run/go-on; sh {STATE}/changes/{made.change}/latch.sh keep; true")
    thread.join(60)
    assert outcome(x, made.change).startswith("put back")
