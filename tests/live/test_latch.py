"""The latch, rule by rule, on guests with systemd and without: what is refused, what is left alone, what is told."""

from __future__ import annotations

import contextlib
import json
import os
import re
import shutil
import subprocess
import time
from collections.abc import Iterator, Mapping
from dataclasses import replace
from datetime import UTC, datetime

import pytest

from nightlatch.faults import NightlatchError, PutBackError, RefusedError
from nightlatch.lab.machine import Guest, environment
from nightlatch.latch import live
from nightlatch.latch.folder import new_change_id
from nightlatch.latch.transaction import SEAM, Transaction
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.enact import put_on_latch, terms
from nightlatch.ops.survey import survey_live
from nightlatch.transports.ssh import Address, Ssh
from tests.live import latching
from tests.live.latching import GRANTS, Subject
from tests.live.station import ROOT, Station
from tests.live.terminal import at_a_terminal

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", "nft", root=True)
ACT = 'at() {{ say step "$*"; [ "$*" != \'{point}\' ] || {{ {act}; }}; }}\n'
CONFIG = "/etc/ssh/sshd_config"


@pytest.fixture(scope="module")
def xs(station: Station) -> dict[str, Subject]:
    """The same guest three times: with the service, with the socket, and without systemd."""
    return {
        "service": latching.subject(station, "service", "192.168.56.21"),
        "socket": latching.subject(station, "socket", "192.168.56.22", unit="ssh.socket"),
        "bare": latching.subject(station, "bare", "192.168.56.23", bare=True, prepared=True),
    }


@pytest.fixture(autouse=True)
def cleared(xs: dict[str, Subject]) -> Iterator[None]:
    """What a failed test leaves on the latch is taken back, so that the next one does not fail with it."""
    yield
    for subject in xs.values():
        lock = subject.guest.root / "var/lib/nightlatch/lock/id"
        if lock.exists():
            with contextlib.suppress(NightlatchError, OSError):
                live.decide(subject.shell, lock.read_text().strip(), "back")


@pytest.fixture(params=["service", "bare"])
def x(request: pytest.FixtureRequest, xs: dict[str, Subject]) -> Iterator[Subject]:
    """One guest; whatever a test does, nothing is left on the latch and every byte is back."""
    subject = xs[request.param]
    yield subject
    subject.settled()
    assert subject.differences() == []
    assert subject.door() == subject.offered
    assert latching.leftovers(subject.guest) == []


def told(x: Subject, made: Transaction) -> str:
    """The message of the change's refusal or return."""
    with pytest.raises((RefusedError, PutBackError)) as caught:
        live.begin(x.shell, made)
    return f"{type(caught.value).__name__}: {caught.value}"


def asking(made: Transaction, expected: Mapping[str, tuple[str, ...]]) -> Transaction:
    """The change, with other answers that the guest's sshd must give."""
    checks = replace(made.planned.checks, expected=expected)
    return replace(made, planned=replace(made.planned, checks=checks))


def seamed(x: Subject, point: str, act: str, seconds: int = 20) -> Transaction:
    """The change, with an act of somebody else at one of its steps."""
    return x.transaction(ACT.format(point=point, act=act), seconds)


def test_a_file_that_changed_since_it_was_read_is_left_alone(x: Subject) -> None:
    act = f"cp -a {CONFIG} /run/was && echo '# somebody' >>{CONFIG}"
    said = told(x, seamed(x, "marked", act))
    assert said.startswith(f"RefusedError: {x.guest.name}: {CONFIG} was changed since it was read"), said
    x.guest.inside("sh", "-c", f"cp -a /run/was {CONFIG}")
    if "trusted" not in str(x.guest.files(CONFIG)):
        x.guest.inside("setfattr", "-n", "trusted.note", "-v", "station", CONFIG, check=False)


def test_a_change_between_staging_and_swapping_is_noticed(x: Subject) -> None:
    said = told(x, seamed(x, "checked", "chmod 700 /home/mara"))
    assert "/home/mara was changed by somebody else meanwhile" in said
    assert (x.guest.root / "home/mara").stat().st_mode & 0o777 == 0o700
    x.guest.inside("chmod", "775", "/home/mara")


def test_a_change_waits_while_the_one_before_it_tidies_up(xs: dict[str, Subject]) -> None:
    x = xs["service"]
    slow = 'at() { say step "$*"; case $* in checked) chmod 700 /home/mara ;; told) sleep 2 ;; esac; }\n'
    assert "/home/mara was changed by somebody else meanwhile" in told(x, x.transaction(slow))
    assert x.guest.inside("systemctl", "is-active", "nightlatch-go", check=False).strip() == "active", "it is still tidying up"
    x.guest.inside("chmod", "775", "/home/mara")
    second = x.transaction(SEAM)
    live.begin(x.shell, second)
    assert not live.decide(x.shell, second.change, "back").kept
    x.settled()
    assert x.differences() == []


def test_what_somebody_else_writes_on_the_latch_stays_and_our_lines_go(x: Subject) -> None:
    made = x.transaction(SEAM, 30)
    live.begin(x.shell, made)
    path = next(p for p in made.rows if p.endswith("authorized_keys"))
    x.guest.inside("sh", "-c", f"echo '# theirs' >>{path}; echo '# theirs' >>{CONFIG}")
    outcome = live.decide(x.shell, made.change, "back")
    assert outcome.left == ()
    assert set(outcome.merged) == {path, CONFIG}
    assert {*outcome.back, *outcome.removed} == set(made.rows) - {path, CONFIG}
    assert (x.guest.root / path[1:]).read_text() == "# theirs\n"
    (x.guest.root / path[1:]).unlink()
    was = x.before[CONFIG][4]
    assert isinstance(was, bytes)
    assert (x.guest.root / CONFIG[1:]).read_bytes() == was + b"# theirs\n"
    assert x.door() == x.offered
    x.guest.inside("sh", "-c", f"head -n -1 {CONFIG} >/run/was && cat /run/was >{CONFIG}")


def test_a_line_of_ours_that_somebody_rewrote_stays_theirs(x: Subject) -> None:
    made = x.transaction(SEAM, 30)
    live.begin(x.shell, made)
    x.guest.inside("sed", "-i", "s/^PasswordAuthentication no$/PasswordAuthentication no # theirs/", CONFIG)
    outcome = live.decide(x.shell, made.change, "back")
    assert outcome.left == (CONFIG,)
    assert "PasswordAuthentication no # theirs\n" in (x.guest.root / CONFIG[1:]).read_text()
    was = x.before[CONFIG][4]
    assert isinstance(was, bytes)
    (x.guest.root / CONFIG[1:]).write_bytes(was)
    (x.guest.root / CONFIG[1:]).chmod(0o640)
    os.setxattr(x.guest.root / CONFIG[1:], "trusted.note", b"station")  # sed had taken it away
    x.guest.inside("sh", "-c", "kill -HUP $(cat /run/sshd.pid)")
    latching.pause(0.5)


def test_a_mount_in_the_way_is_refused(x: Subject) -> None:
    x.guest.inside("mount", "--bind", CONFIG, CONFIG)
    try:
        said = told(x, x.transaction(SEAM))
    finally:
        x.guest.inside("umount", "--lazy", CONFIG)
    assert f"RefusedError: {x.guest.name}: {CONFIG} is a mount of its own" in said


def test_a_file_marked_as_unchangeable_is_refused(x: Subject) -> None:
    x.guest.inside("chattr", "+i", CONFIG)
    try:
        said = told(x, x.transaction(SEAM))
    finally:
        x.guest.inside("chattr", "-i", CONFIG)
    assert "is marked as not to be changed (chattr)" in said


def test_attributes_that_the_guests_cp_drops_are_refused(x: Subject) -> None:
    """busybox' cp carries none and says nothing; the configuration has one here."""
    folder = x.guest.root / "usr/local/bin"
    try:
        x.guest.inside(
            "sh", "-c", "printf '#!/bin/sh\\nexec busybox cp \"$@\"\\n' >/usr/local/bin/cp; chmod 755 /usr/local/bin/cp"
        )
        said = told(x, x.transaction(SEAM))
        assert f"{CONFIG} has extended attributes (trusted.note" in said, said
        assert "this guest's cp drops them" in said
        x.guest.inside("sh", "-c", "printf '#!/bin/sh\\nexit 1\\n' | tee /usr/local/bin/python3 >/usr/local/bin/getfattr")
        x.guest.inside("chmod", "755", "/usr/local/bin/python3", "/usr/local/bin/getfattr")
        said = told(x, x.transaction(SEAM))
        assert "has extended attributes can't be told here, and cp would drop them; install getfattr" in said
    finally:
        for name in ("cp", "python3", "getfattr"):
            (folder / name).unlink(missing_ok=True)


def test_what_the_guests_sshd_says_otherwise_is_refused(x: Subject) -> None:
    made = x.transaction(SEAM)
    expected = made.planned.checks.expected
    assert expected, "nothing is predicted"
    who = next(iter(expected))
    said = told(x, asking(made, {**expected, who: (*expected[who], "passwordauthentication yes")}))
    assert f"RefusedError: {x.guest.name}: for {who}, sshd does not say: passwordauthentication yes" in said


def test_the_check_works_where_nothing_can_be_mounted(x: Subject) -> None:
    off = 'unshare() { false; }; at() { say step "$*"; }\n'
    made = x.transaction(off)
    live.begin(x.shell, made)
    assert not live.decide(x.shell, made.change, "back").kept
    who = next(iter(made.planned.checks.expected))
    wrong = asking(x.transaction(off), {who: ("passwordauthentication yes",)})
    assert "sshd does not say: passwordauthentication yes" in told(x, wrong)


def test_a_daemon_that_dies_over_its_new_files_is_started_again_with_the_old(x: Subject) -> None:
    # Reloading returns 0, and then the address is not there to be bound.
    act = "printf 'ListenAddress 192.0.2.77\\n' >/etc/ssh/sshd_config.d/00-other.conf"
    undone = ACT.format(point="loading", act=act).replace(
        "; }; }", f'; }}; [ "$*" != restored ] || rm -f {act.split(">")[1]}; }}'
    )
    said = told(x, x.transaction(undone, 60))
    assert "sshd does not listen on" in said or "could not be told" in said, said
    assert "Everything was put back" in said
    assert "but sshd does not listen" not in said
    killed = seamed(x, "loading", 'kill -9 $(listener); while [ -n "$(listener)" ]; do :; done')
    if x.guest.bare:
        assert "could not be told to read its files again" in told(x, killed)
    else:  # its service manager starts it again at once, and then it has read them
        live.begin(x.shell, killed)
        assert not live.decide(x.shell, killed.change, "back").kept


def test_time_that_is_over_while_it_is_still_being_made_is_said(x: Subject) -> None:
    # Long enough for a slow machine to come that far: before, there would be nothing to put back.
    said = told(x, seamed(x, "loaded", "sleep 60", seconds=10))
    assert said.startswith("PutBackError")
    assert "the time on the latch was over. Everything was put back" in said


def test_a_timer_that_would_not_run_is_found_before_anything_is_changed(xs: dict[str, Subject]) -> None:
    x = xs["service"]
    place = x.guest.root / "usr/local/sbin/systemd-run"
    for answer, words in (
        ("exit 1", "no timer could be set"),
        ("exit 0", "the timer does not run this guest's own file"),
    ):
        place.write_text(f'#!/bin/sh\ncase $* in *nightlatch-re*) {answer} ;; esac\nexec /usr/bin/systemd-run "$@"\n')
        place.chmod(0o755)
        said = told(x, x.transaction(SEAM))
        place.unlink()
        assert f"RefusedError: service: {words}" in said
        assert "step saved 0" not in said
    assert x.differences() == []


def test_only_so_much_room_is_needed_and_less_is_refused_whole(station: Station) -> None:
    x = latching.subject(station, "full", "192.168.56.25", size="3m")
    free = x.guest.root / "var/fill"
    outcomes: set[str] = set()
    for pages in (0, 4, 8, 12, 16, 20, 24, 28, 32, 36, 38, 39, 40, 41, 42, 44, 56):
        with free.open("wb", buffering=0) as stream:
            while True:
                try:
                    stream.write(bytes(4096))
                except OSError:
                    break
        with free.open("r+b") as stream:
            stream.truncate(max(0, free.stat().st_size - 4096 * pages))
        made = x.transaction(SEAM, 20)
        try:
            live.begin(x.shell, made)
            outcomes.add("done")
            assert not live.decide(x.shell, made.change, "back").kept
        except RefusedError as error:
            outcomes.add("refused" if "Nothing was changed" in str(error) else str(error))
        free.unlink()
        x.settled()
        assert x.differences() == [], pages
        assert latching.leftovers(x.guest) == [], pages
    assert outcomes == {"done", "refused"}
    assert x.door() == x.offered
    x.guest.close()
    del station.lab.guests["full"]


@pytest.mark.parametrize(
    ("folder", "words"),
    [("/var/lib", "/var/lib/nightlatch can not be written"), ("/etc", "the boot guard could not be placed")],
)
def test_a_guest_that_can_not_be_written_is_refused(xs: dict[str, Subject], folder: str, words: str) -> None:
    x = xs["socket"]
    x.guest.inside("mount", "--bind", folder, folder)
    try:
        x.guest.inside("mount", "-o", "remount,bind,ro", folder)
        said = told(x, x.transaction(SEAM))
    finally:  # lazily: systemd, or whoever reads a file there just then, makes it busy
        x.guest.inside("umount", "--lazy", folder)
    assert f"RefusedError: socket: {words}. Nothing was changed" in said
    assert x.differences() == []


def test_a_link_stays_a_link_and_its_target_is_changed(station: Station) -> None:
    def linked(guest: Guest) -> None:
        for path, real in (
            (CONFIG, "/etc/ssh/real/config"),
            ("/home/keeper/.ssh/authorized_keys", "/etc/ssh/real/keeper.keys"),
        ):
            at, target = guest.image.path(path), guest.image.path(real)
            shutil.move(at, target)
            at.symlink_to(real)

    x = latching.subject(station, "linked", "192.168.56.27", prepare=linked)
    made = x.transaction(SEAM)
    assert {"/etc/ssh/real/config", "/etc/ssh/real/keeper.keys"} <= set(made.rows)
    copied = x.transaction(f"unshare() {{ false; }}; {SEAM}")
    live.begin(x.shell, copied)  # the check on a copy, too, where nothing can be mounted
    assert not live.decide(x.shell, copied.change, "back").kept
    live.begin(x.shell, made)
    now = x.guest.files("/etc/ssh", "/home/keeper")
    for path in (CONFIG, "/home/keeper/.ssh/authorized_keys"):
        assert now[path] == x.before[path], "the link itself is untouched"
    assert latching.offered(station, x.guest) == "publickey"
    assert station.login(x.guest)
    assert not live.decide(x.shell, made.change, "back").kept
    assert x.differences() == []
    x.guest.close()
    del station.lab.guests["linked"]


def test_a_new_folder_goes_again_unless_something_else_is_in_it(station: Station) -> None:
    def without_folder(guest: Guest) -> None:
        guest.image.path("/home/joon/.ssh").rmdir()

    x = latching.subject(station, "fresh", "192.168.56.28", prepare=without_folder)
    folder = x.guest.root / "home/joon/.ssh"
    made = x.transaction(SEAM, 60)
    live.begin(x.shell, made)
    assert (folder / "authorized_keys").stat().st_uid == folder.stat().st_uid == 1002
    assert station.login(x.guest, "joon", "joon")
    (folder / "known_hosts").write_text("theirs\n")
    assert live.decide(x.shell, made.change, "back").left == ("/home/joon/.ssh",)
    x.settled()
    assert [path.name for path in folder.iterdir()] == ["known_hosts"]
    (folder / "known_hosts").unlink()
    folder.rmdir()
    assert x.differences() == []
    station.estate(GRANTS)
    on = ("--on", "fresh")
    station.nightlatch("enact", "estate.yaml", "--yes", *on)
    (folder / "known_hosts").write_text("theirs\n")
    said = station.nightlatch("undo", "estate.yaml", *on, code=5)
    assert "/home/joon/.ssh changed by somebody else since: left as it is" in flat(said)
    assert [path.name for path in folder.iterdir()] == ["known_hosts"]
    x.guest.close()
    del station.lab.guests["fresh"]


def test_without_a_boot_hook_it_is_refused_unless_told(station: Station) -> None:
    x = latching.subject(station, "hookless", "192.168.56.26", bare=True)
    said = told(x, x.transaction(SEAM))
    assert "this guest has no systemd and no /etc/rcS.d: after a restart nothing would take the change back" in said
    made = x.transaction(SEAM, unguarded=True)
    live.begin(x.shell, made)
    assert live.decide(x.shell, made.change, "keep").kept
    assert station.login(x.guest)
    x.guest.close()
    del station.lab.guests["hookless"]


def test_sessions_go_on_and_isolating_a_target_stops_nothing(xs: dict[str, Subject]) -> None:
    for x in (xs["service"], xs["socket"]):
        words = [
            "ssh",
            "-F",
            str(x.station.folder / "ssh_config"),
            "-o",
            "StrictHostKeyChecking=no",
            "-T",
            f"keeper@{x.estate.guests[x.guest.name].via.host}",
            "cat",
        ]
        session = subprocess.Popen(
            x.station.desk.words(*words), stdin=subprocess.PIPE, stdout=subprocess.PIPE, env=environment({})
        )
        assert session.stdin is not None
        assert session.stdout is not None
        session.stdin.write(b"before\n")
        session.stdin.flush()
        assert session.stdout.readline() == b"before\n"
        made = x.transaction(SEAM, 20)
        live.begin(x.shell, made)
        x.guest.inside("systemctl", "isolate", "multi-user.target")
        x.settled()
        assert x.differences() == []
        out, _ = session.communicate(b"after\n", timeout=10)
        assert out == b"after\n", "the session was cut"


def test_the_way_back_is_shut_by_somebody_and_the_guest_takes_it_back(xs: dict[str, Subject]) -> None:
    x = xs["service"]
    drop = "nft -f - <<R\\ntable inet shut { chain i { type filter hook input priority 0; tcp dport 22 drop; }; }\\nR\\n".replace(
        "\\n", "\n"
    )
    seam = 'at() { say step "$*"; [ "$*" != looked ] || {\n' + drop + '}; [ "$*" != restored ] || nft delete table inet shut; }\n'
    now = datetime.now(UTC)
    with x.station.client() as client:
        way = x.estate.guests["service"].via
        shell = Ssh("service", Address(way.host, "keeper"), client, pins=(x.station.host_keys["service"],))
        snapshot = survey_live(shell)
        proved = prove(x.estate, draft(x.estate, snapshot, now), snapshot, now)
        with pytest.raises(PutBackError) as caught:
            put_on_latch(x.estate, shell, proved, now, terms(now, new_change_id(now), 25, seam=seam))
    said = str(caught.value)
    assert "The time on the latch was over" in said or "Put back: the time on the latch was over" in said, said
    x.settled(60)
    assert x.differences() == []
    assert x.door() == x.offered


def test_the_last_ten_changes_stay_and_older_ones_go(xs: dict[str, Subject]) -> None:
    x = xs["service"]
    place = x.guest.root / "var/lib/nightlatch/changes"
    for number in range(15):
        (place / f"20200101-0000{number:02}-000000").mkdir(exist_ok=True)
    made = x.transaction(SEAM)
    live.begin(x.shell, made)
    live.decide(x.shell, made.change, "back")
    names = sorted(path.name for path in place.iterdir())
    assert len(names) <= 11
    assert made.change in names
    assert "20200101-000000-000000" not in names


# The same through the command line, over the lab's network, as an administrator at the desk sees it.


def flat(text: str) -> str:
    """Without line breaks, however the terminal wrapped it."""
    return " ".join(text.split())


def test_the_whole_life_of_a_change(xs: dict[str, Subject], station: Station) -> None:
    x = xs["socket"]
    station.estate(GRANTS.replace("from: bench", "from: [bench, field]"))
    on = ("--on", "socket")
    dry = station.nightlatch("enact", "estate.yaml", "--dry-run", *on)
    assert x.differences() == []
    out = station.nightlatch("enact", "estate.yaml", "--yes", *on)
    shown = [line for line in dry.splitlines() if line.strip()[:1] in ("+", "-")]
    assert shown
    assert all(line in out for line in shown), "what a dry run shows is what is done"
    assert "socket kept: change" in flat(out)
    assert "Proven by a fresh connection from 192.168.40.7 (bench)." in out
    assert "Not proven from field" in out
    assert station.login(x.guest, "joon", "joon")
    assert latching.offered(station, x.guest) == "publickey"
    assert "Nothing to change" in station.nightlatch("enact", "estate.yaml", "--yes", *on)
    change = re.search(r"change (\d{8}-\d{6}-\d{6})", out)
    assert change is not None
    assert "kept" in station.nightlatch("pending", "estate.yaml", *on)
    assert "is on the latch" in station.nightlatch("keep", "estate.yaml", *on, code=4)
    undone = station.nightlatch("undo", "estate.yaml", *on)
    assert f"change {change[1]} taken back" in flat(undone)
    assert x.differences() == []
    assert x.door() == x.offered
    assert f"it takes back change {change[1]}" in flat(station.nightlatch("pending", "estate.yaml", *on))
    assert "no change is kept" in station.nightlatch("undo", "estate.yaml", code=4)


def test_left_on_the_latch_listed_and_decided(xs: dict[str, Subject], station: Station) -> None:
    x = xs["service"]
    station.estate(GRANTS)
    on = ("--on", "service")
    began = time.monotonic()
    out = station.nightlatch("enact", "estate.yaml", "--yes", "--leave", "--for", "10m", *on)
    assert "Now decide: nightlatch keep estate.yaml --on service" in flat(out)
    listed = flat(station.nightlatch("pending", "estate.yaml"))
    assert "socket: nothing on the latch" in listed or "bare, socket" in listed or "socket, bare" in listed
    rows = json.loads(station.nightlatch("pending", "estate.yaml", "--format", "json"))
    passed = time.monotonic() - began  # a busy machine takes its time
    row = next(each for each in rows["guests"] if each["guest"] == "service")
    waiting = row["on_the_latch"]
    assert 598 - passed <= waiting["seconds_left"] <= 600, row
    second = flat(station.nightlatch("enact", "estate.yaml", "--yes", *on, code=4))
    assert f"change {waiting['change']}, by root@" in second
    assert "is on the latch, goes back in" in second
    assert "Nothing was changed; nightlatch keep keeps it" in second
    assert "taken back" in station.nightlatch("undo", "estate.yaml", *on)
    assert x.differences() == []
    for seconds in ("12s", "60s"):  # where getting it on the latch takes longer than it may stay there, once more
        if "Now decide" in station.nightlatch("enact", "estate.yaml", "--yes", "--leave", "--for", seconds, *on, code=None):
            break
    else:
        raise AssertionError("it was never left on the latch")
    x.settled(120)
    assert "the time on the latch was over" in flat(station.nightlatch("pending", "estate.yaml", *on))
    said = station.nightlatch("keep", "estate.yaml", *on, code=4)
    assert "no change is on the latch (put back: the time on the latch was over)" in flat(said)
    station.nightlatch("enact", "estate.yaml", "--yes", "--leave", *on)
    assert "kept: change" in station.nightlatch("keep", "estate.yaml", *on)
    # Something newer beside our lines stays, and does not hinder.
    with (x.guest.root / "etc/ssh/sshd_config").open("a") as stream:
        stream.write("# a note of mara's\n")
    station.nightlatch("undo", "estate.yaml", *on)
    found = (x.guest.root / "etc/ssh/sshd_config").read_bytes()
    before = x.before[CONFIG][4]
    assert isinstance(before, bytes)
    assert found == before + b"# a note of mara's\n"
    x.guest.inside("sh", "-c", f"head -n -1 {CONFIG} >/run/was && cat /run/was >{CONFIG}")
    assert x.differences() == []


def test_undo_is_refused_where_something_newer_touches_the_same_lines(xs: dict[str, Subject], station: Station) -> None:
    x = xs["service"]
    station.estate(GRANTS)
    on = ("--on", "service")
    station.nightlatch("enact", "estate.yaml", "--yes", *on)
    config = x.guest.root / "etc/ssh/sshd_config"
    kept = config.read_bytes()
    config.write_bytes(kept.replace(b"PasswordAuthentication no", b"PasswordAuthentication no # mine"))
    assert config.read_bytes() != kept
    said = station.nightlatch("undo", "estate.yaml", *on, code=4)
    assert "something newer touches the same lines of /etc/ssh/sshd_config" in flat(said)
    config.write_bytes(kept)
    station.nightlatch("undo", "estate.yaml", *on)
    assert x.differences() == []


def test_two_administrators_at_once(xs: dict[str, Subject], station: Station) -> None:
    x = xs["service"]
    station.estate(GRANTS)
    words = station.words("enact", "estate.yaml", "--yes", "--on", "service")
    both = [
        subprocess.Popen(
            words,
            cwd=station.folder,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            stdin=subprocess.DEVNULL,
            env=environment({"PYTHONPATH": str(ROOT / "src")}),
        )
        for _ in range(2)
    ]
    outs = [process.communicate(timeout=90)[0] for process in both]
    codes = sorted(process.returncode for process in both)
    told = f"{codes}\n" + "\n----\n".join(out[-1500:] for out in outs) + x.guest.inside("journalctl", "-n", "40", "--no-pager")
    assert codes in ([0, 4], [0, 0]), told
    if codes == [0, 4]:
        refused = flat(outs[[p.returncode for p in both].index(4)])
        assert "another change" in refused or "was changed since it was read" in refused, refused
    else:
        assert any("Nothing to change" in out for out in outs), "both did the same change"
    station.nightlatch("undo", "estate.yaml", "--on", "service")
    x.settled()
    assert x.differences() == []


def test_several_guests_in_order_and_a_stop_at_the_first_failure(xs: dict[str, Subject], station: Station) -> None:
    known = (xs["service"].guest.root / "etc/ssh/ssh_host_ed25519_key.pub").read_text()
    (station.folder / "order_known").write_text(f"192.168.56.21 {known}")
    (station.folder / "order_config").write_text(
        f"Host 192.168.56.22\n    ProxyJump keeper@192.168.56.21\nHost 192.168.56.21\n    UserKnownHostsFile {station.folder}/order_known\n"
        + (station.folder / "ssh_config").read_text()
    )
    station.estate(GRANTS, labels={"bare": "test"})
    out = flat(station.nightlatch("enact", "estate.yaml", "--dry-run", "--ssh-config", "order_config", code=None))
    assert "In this order: bare, socket, service" in out, out[-400:]
    station.estate(GRANTS, labels={"socket": "test"})
    socket = xs["socket"]
    socket.guest.inside("mount", "--bind", CONFIG, CONFIG)
    try:
        said = flat(station.nightlatch("enact", "estate.yaml", "--yes", "--on", "socket", "--on", "service", code=4))
    finally:
        socket.guest.inside("umount", "--lazy", CONFIG)
    assert "is a mount of its own" in said
    assert "Stopped here; nothing was begun on service" in said
    assert xs["service"].differences() == []
    assert socket.differences() == []


def test_ctrl_c_at_the_question_says_what_becomes_of_the_change(xs: dict[str, Subject], station: Station) -> None:
    x = xs["service"]
    station.estate(GRANTS)
    words = ["enact", "estate.yaml", "--on", "service", "--for", "45s"]
    code, said = at_a_terminal(station, words, [("Apply this", "\x03")])
    assert code == 130
    assert "Nothing was changed." in said
    code, said = at_a_terminal(station, words, [("Apply this", "y\n"), ("Keep it?", "\x03")])
    assert code == 5, said
    assert "the guest takes it back by itself within 45 s" in flat(said)
    x.settled()
    assert x.differences() == []
    code, said = at_a_terminal(station, words, [("Apply this", "y\n"), ("Keep it?", "n\n")])
    assert code == 0, said
    assert "put back: change" in flat(said)
    assert x.differences() == []
    code, said = at_a_terminal(station, words, [("Apply this", "y\n"), ("Keep it?", "\n")])
    assert "kept: change" in flat(said)
    station.nightlatch("undo", "estate.yaml", "--on", "service")
    assert x.differences() == []


def test_a_time_that_makes_no_sense_is_said(station: Station, xs: dict[str, Subject]) -> None:
    assert xs
    station.estate(GRANTS)
    assert "is no time" in station.nightlatch("enact", "estate.yaml", "--for", "soon", code=2)
    x = xs["service"]
    at = datetime.now(UTC)
    on = terms(at, "20260101-000000-000000", 1)
    with pytest.raises(NightlatchError, match="from 5 s"):
        put_on_latch(x.estate, x.shell, x.proved, at, on)
