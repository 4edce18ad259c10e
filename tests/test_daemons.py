"""Which process is sshd, from what a guest lists of them: a table of processes that bear its name, and the reason for each."""

from __future__ import annotations

from dataclasses import replace

import pytest

from nightlatch.access.paths import guest_access
from nightlatch.audit.run import guest_audit
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.readings import guest as readings
from nightlatch.readings.units import daemons, service_reading
from tests.guests import AT, Guest, listening, sshd

OFF = "PasswordAuthentication no\nKbdInteractiveAuthentication no\n"
REAL = sshd(7, 1000)["daemons"].decode()
UNITS = sshd(7, 1000)["units"].decode()
# What is other than with the real one: the text that is replaced, by what; the reason.
DOUBTS = [
    ("a user's", "uids root", "uids 1001 1001 1001 1001", "it is not root's"),
    ("a user's that became root in part", "uids root", "uids 1001\t0\t1001\t0", "it is not root's"),
    ("no uids told", "uids root\n", "", "it is not root's"),
    ("a program that others may write", "roots yes\n", "", "others than root can change its program"),
    ("no program told", "program /usr/sbin/sshd\n", "", "its program is not known"),
    (
        "a group of her own that bears the unit's name",
        "0::/system.slice",
        "0::/user.slice/user-1001.slice",
        "it is in no unit of the service manager's",
    ),
    (
        "below a unit of her own manager",
        "0::/system.slice",
        "0::/user.slice/user@1001.service/app.slice",
        "it is in no unit of the service manager's",
    ),
    ("a session", "0::/system.slice/ssh.service", "0::/user.slice/session-3.scope", "it is in no unit of the service manager's"),
    (
        "a longer name",
        "0::/system.slice/ssh.service",
        "0::/system.slice/ssh.service2",
        "it is in no unit of the service manager's",
    ),
]


def read(text: str, units: str = UNITS, init: str = "systemd") -> service_reading.ServiceReading:
    listings = {**listening(("tcp", "0.0.0.0", 22, "sshd", 7)), "daemons": text.encode(), "units": units.encode()}
    return service_reading.read(Snapshot("gauge", {}, listings=listings, facts={"init": init}))


def test_the_real_one() -> None:
    found = read(REAL)
    assert [(each.pid, each.unit, each.doubt) for each in found.daemons] == [(7, "ssh.service", "")]
    assert not found.strangers
    assert found.is_door(found.sockets[0])


@pytest.mark.parametrize("text, by, doubt", [row[1:] for row in DOUBTS], ids=[row[0] for row in DOUBTS])
def test_what_is_not_sshd(text: str, by: str, doubt: str) -> None:
    assert text in REAL
    units = UNITS.replace("MainPID=7", "MainPID=9")
    found = read(REAL.replace(text, by), units)
    assert [each.doubt for each in found.strangers] == [doubt]
    assert not found.daemons
    assert not found.is_running


def test_the_main_process_is_the_daemon_wherever_its_group_is() -> None:
    found = read(REAL.replace("0::/system.slice/ssh.service", "0::/elsewhere.slice"))
    assert [each.unit for each in found.daemons] == ["ssh.service"]


def test_a_socket_that_it_does_not_hold_makes_it_nothing() -> None:
    found = read(REAL.replace("holds 1000", "holds 77"))
    assert not (*found.daemons, *found.strangers)


def test_without_a_service_manager_it_is_a_child_of_the_first_process() -> None:
    assert [each.pid for each in read(REAL, "", "other").daemons] == [7]
    assert [each.doubt for each in read(REAL.replace("parent 1", "parent 4"), "", "other").strangers] == [
        "it is no child of the first process"
    ]


def test_two_units_of_other_names_are_not_told_apart() -> None:
    two = REAL.replace("ssh.service", "tide-ssh.service")
    second = two.replace("pid 7", "pid 8").replace("tide-ssh", "moor-ssh")
    units = "\n\n".join(
        UNITS.replace("ssh.service", name).replace("MainPID=7", f"MainPID={pid}")
        for name, pid in (("tide-ssh.service", 7), ("moor-ssh.service", 8))
    )
    assert [each.unit for each in read(two, units).daemons] == ["tide-ssh.service"]
    assert not read(two + second, units).daemons


@pytest.mark.parametrize(
    "group, unit",
    [
        ("/system.slice/ssh.service", "ssh.service"),
        ("/system.slice/system-ssh.slice/ssh@1.service", "ssh@1.service"),
        ("/user.slice/user-1001.slice/user@1001.service/app.slice/ssh.service", "user@1001.service"),
        ("/user.slice/session-3.scope/ssh.service", ""),
        ("/", ""),
        ("/ssh.service", "ssh.service"),
        ("/odd name.service", ""),
        ("/system.slice", ""),
    ],
)
def test_the_outermost_part_that_is_no_slice(group: str, unit: str) -> None:
    assert daemons.outermost(group) == unit


def test_options_are_the_daemon_s_own() -> None:
    titled = REAL.replace("/usr/sbin/sshd -D", "/usr/sbin/sshd -D -f /etc/ssh/other -o Port=2222")
    (daemon,) = read(titled).daemons
    assert daemon.options == ("-D", "-f", "/etc/ssh/other", "-o", "Port=2222")
    assert daemons.main_file(daemon) == "/etc/ssh/other"
    (bare,) = read(REAL.replace("/usr/sbin/sshd -D ", "/usr/sbin/sshd ")).daemons
    assert bare.options == ()


def test_names_in_ss_s_words_are_nobody_s() -> None:
    """The first inode of a line is the kernel's own: what a group's name says after it is not believed."""
    row = b"tcp LISTEN 0 5 0.0.0.0:4444 0.0.0.0:* uid:1001 ino:500 sk:1 cgroup:/user.slice/x ino:1000 <->\n"
    told = Snapshot(
        "gauge",
        {},
        listings={"sockets": row, "holders": b"500 66\n1000 7\n", "programs": b'66 x",pid=1,fd=3\n'},
        facts={"init": "systemd"},
    )
    (socket,) = service_reading.read(told).sockets
    assert socket.programs == (('x",pid=1,fd=3', 66),)


def test_a_program_that_was_replaced_is_told() -> None:
    listings = {**listening(("tcp", "0.0.0.0", 22, "sshd", 7)), **sshd(7, 1000)}
    listings["daemons"] += b"replaced yes\n"
    snapshot = replace(Guest(OFF).snapshot(), listings=listings, facts={"init": "systemd", "uid": "0"})
    found = {each.check: each.text for each in guest_audit(guest_access(readings.read(snapshot), AT), AT).findings}
    assert "was replaced on the disk since" in found["service.restart-due"]
