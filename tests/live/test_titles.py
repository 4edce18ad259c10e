"""Nothing that a guest's user writes names what root runs, reloads or believes: titles, names, units, order of processes."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterator
from datetime import UTC, datetime

import pytest

from nightlatch.faults import RefusedError
from nightlatch.lab.inside import Inside
from nightlatch.latch import live
from nightlatch.latch.planned_change import planned
from nightlatch.latch.transaction import SEAM
from nightlatch.ops.audit import audit_target
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.survey import survey_live
from nightlatch.readings import guest as readings
from nightlatch.readings.units.service_reading import ServiceReading
from tests.live import latching
from tests.live.attacks import OWNED, TITLE, fake, plant, running
from tests.live.latching import Subject
from tests.live.station import Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", "perl", "setpriv", root=True)

MANAGED = pytest.mark.parametrize("x", ["systemd"], indirect=True)  # what is about units needs a service manager


@pytest.fixture(scope="module", params=["systemd", "bare"])
def x(request: pytest.FixtureRequest, station: Station) -> Subject:
    """A guest with a service manager and one without, on both of which mara has programs that call themselves sshd."""
    bare = request.param == "bare"
    return latching.subject(station, request.param, f"192.168.56.{22 if bare else 21}", bare=bare, prepared=bare, prepare=plant)


def service_of(x: Subject) -> ServiceReading:
    return readings.read(survey_live(Inside(x.guest))).service


def not_owned(x: Subject) -> None:
    assert not (x.guest.root / OWNED[1:]).exists(), "root ran mara's program"
    assert not (x.guest.root / "home/mara/signals").exists(), "mara's process was taken for the daemon"


@contextlib.contextmanager
def unit_of_her_own(x: Subject, name: str) -> Iterator[None]:
    """Mara's processes are moved into a group that bears a unit's name, below her own slice, as her own service manager does it."""
    if not x.guest.bare:
        x.guest.inside(
            "sh",
            "-c",
            f"mkdir -p /sys/fs/cgroup/user.slice/user-1001.slice/{name} && for each in $(pgrep -u 1001); do "
            f"echo $each >/sys/fs/cgroup/user.slice/user-1001.slice/{name}/cgroup.procs; done",
        )
    yield


def late(x: Subject) -> None:
    """The real daemon gets a higher number than mara's process."""
    if x.guest.bare:
        x.guest.inside("sh", "-c", "kill $(cat /run/sshd.pid); sleep 0.3; /usr/sbin/sshd")
    else:
        x.guest.inside("systemctl", "restart", "ssh")
    x.guest.until_listening()


@pytest.mark.parametrize("port", [0, 2222])
def test_a_process_with_its_title_is_told_and_never_run(x: Subject, port: int) -> None:
    with running(x.guest, *fake(port)):
        time.sleep(0.3)
        late(x)
        with unit_of_her_own(x, "ssh.service"):
            service = service_of(x)
            assert service.daemon is not None
            assert service.daemon.program == "/usr/sbin/sshd"
            assert [(each.title[: len(TITLE)], each.doubt) for each in service.strangers] == [(TITLE, "it is not root's")] * bool(
                port
            )
            snapshot = survey_live(Inside(x.guest))
            assert "opinions" in snapshot.listings
            told = {f.check: f for f in audit_target(snapshot, datetime.now(UTC)).guests[0].findings}
            assert ("service.second-server" in told) == bool(port)
            made = x.transaction(SEAM, 30)
            live.begin(x.shell, made)
            assert latching.offered(x.station, x.guest) == "publickey", "the real daemon read its files again"
            assert not live.decide(x.shell, made.change, "back").kept
            assert x.door() == x.offered
    not_owned(x)
    assert x.differences() == []


def test_many_of_them_hide_nothing(x: Subject) -> None:
    with contextlib.ExitStack() as stack:
        for number in range(40):
            stack.enter_context(running(x.guest, *fake(3000 + number)))
        late(x)
        service = service_of(x)
        assert service.daemon is not None
        assert service.daemon.program == "/usr/sbin/sshd"
        assert len(service.strangers) == 20
    not_owned(x)


def test_a_link_of_a_user_s_carries_nothing_of_root_s(x: Subject) -> None:
    """Mara's key folder leads to one of root's: what only root may read there does not come into the evidence."""
    x.guest.inside(
        "sh",
        "-c",
        "mkdir -p /srv/deep && echo for root only >/srv/deep/authorized_keys2 && chmod 600 /srv/deep/authorized_keys2 && "
        "echo for all >/srv/deep/authorized_keys && mv /home/mara/.ssh /home/mara/kept && ln -s /srv/deep /home/mara/.ssh && "
        "chown -h 1001:1001 /home/mara/.ssh",
    )
    try:
        snapshot = survey_live(Inside(x.guest))
        secret = snapshot.entries["/srv/deep/authorized_keys2"]
        assert secret.content is None
        assert "for root only" in secret.note
        assert snapshot.content("/srv/deep/authorized_keys") == b"for all\n"
        assert snapshot.content("/etc/sudoers"), "what is read anyway is read as ever"
    finally:
        x.guest.inside("sh", "-c", "rm -r /home/mara/.ssh /srv/deep; mv /home/mara/kept /home/mara/.ssh")
    assert x.differences() == []


def test_a_name_in_ss_s_own_words_is_no_process(x: Subject) -> None:
    """A program's name may hold what ss writes around names: the holder is asked of the kernel."""
    name = 'x",pid=1,fd=3'
    code = f"$0 = '{name}'; use IO::Socket::INET; IO::Socket::INET->new(Proto => 'tcp', LocalPort => 4444, Listen => 5) or die; sleep 600"
    code = code.replace("IO::Socket::INET->new", "my $s = IO::Socket::INET->new")
    with running(x.guest, "perl", "-e", code) as process:
        time.sleep(0.5)
        (socket,) = [each for each in service_of(x).sockets if each.port == 4444]
        assert [pid for _, pid in socket.programs if pid != 1] == [pid for _, pid in socket.programs], socket
        assert len(socket.programs) == 1
        assert process.poll() is None


@MANAGED
def test_a_program_that_others_may_write_is_not_run(x: Subject) -> None:
    """Even root's own daemon: whoever may write the folder of its program could put another there."""
    x.guest.inside(
        "sh",
        "-c",
        "mkdir -p /srv/bin && cp /usr/sbin/sshd /srv/bin/sshd && chown 0:1001 /srv/bin && chmod 775 /srv/bin && "
        "mkdir -p /etc/systemd/system/ssh.service.d && printf '[Service]\\nExecStart=\\nExecStart=/srv/bin/sshd -D\\n' "
        ">/etc/systemd/system/ssh.service.d/x.conf && systemctl daemon-reload && systemctl restart ssh",
    )
    x.guest.until_listening()
    try:
        now, snapshot = datetime.now(UTC), survey_live(Inside(x.guest))
        service = readings.read(snapshot).service
        assert [each.doubt for each in service.strangers] == ["others than root can change its program"]
        assert not service.daemons
        proved = prove(x.estate, draft(x.estate, snapshot, now), snapshot, now)
        with pytest.raises(RefusedError, match="can't be told"):
            planned(x.estate, proved)
    finally:
        x.guest.inside(
            "sh",
            "-c",
            "rm -r /etc/systemd/system/ssh.service.d /srv/bin; systemctl daemon-reload; systemctl restart ssh",
        )
        x.guest.until_listening()


def test_an_upgraded_program_counts_as_the_new_one_and_its_restart_is_due(x: Subject) -> None:
    x.guest.inside("sh", "-c", "cp -a /usr/sbin/sshd /usr/sbin/sshd.new && mv /usr/sbin/sshd.new /usr/sbin/sshd")
    snapshot = survey_live(Inside(x.guest))
    daemon = readings.read(snapshot).service.daemon
    assert daemon is not None
    assert (daemon.program, daemon.replaced) == ("/usr/sbin/sshd", True)
    assert "service.restart-due" in {f.check for f in audit_target(snapshot, datetime.now(UTC)).guests[0].findings}
    assert "opinions" in snapshot.listings
    made = x.transaction(SEAM, 30)
    live.begin(x.shell, made)
    assert not live.decide(x.shell, made.change, "back").kept
    late(x)
    assert x.door() == x.offered
    assert x.differences() == []


def test_an_honest_second_server_is_told_and_left_alone(x: Subject) -> None:
    """Root's own, by hand, there before or started while a change is on the latch: it reads nothing again."""
    x.guest.inside(
        "sh",
        "-c",
        "printf 'Port 2200\\nPidFile none\\nHostKey /etc/ssh/ssh_host_ed25519_key\\n' >/etc/ssh/second && /usr/sbin/sshd -f /etc/ssh/second",
    )
    time.sleep(0.3)
    try:
        x.guest.inside("sed", "-i", "s/2200/2201/", "/etc/ssh/second")
        service = service_of(x)
        seen = (*service.daemons, *service.strangers)
        assert len(seen) == 2
        if not x.guest.bare:
            assert [each.doubt for each in service.strangers] == ["it is in no unit of the service manager's"]
            made = x.transaction(SEAM, 30)
            live.begin(x.shell, made)
            assert latching.offered(x.station, x.guest) == "publickey"
            assert not live.decide(x.shell, made.change, "back").kept
        assert x.guest.listening(2200)
        assert not x.guest.listening(2201)
    finally:
        x.guest.inside(
            "sh",
            "-c",
            "kill $(ss -Hltnp sport = 2200 | grep -o 'pid=[0-9]*' | head -n 1 | cut -d= -f2); rm /etc/ssh/second",
        )
    assert x.door() == x.offered


def test_a_daemon_that_was_started_anew_since_is_asked_to_be_read_again(x: Subject) -> None:
    made = x.transaction(SEAM, 30)
    late(x)
    with pytest.raises(RefusedError, match="sshd is not the process that was read"):
        live.begin(x.shell, made)
    assert x.differences() == []
    not_owned(x)
