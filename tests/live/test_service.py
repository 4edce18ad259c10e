"""Stored, loaded, at boot: each state of a live guest's SSH service is told by its finding, and only there."""

from __future__ import annotations

import time
from dataclasses import replace
from datetime import UTC, datetime

import pytest

from nightlatch.access.paths import guest_access
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.lab.inside import Inside
from nightlatch.lab.machine import Guest
from nightlatch.ops.audit import audit_target
from nightlatch.ops.survey import survey_live
from nightlatch.readings import guest as readings
from nightlatch.services.ssh.opinion import disagreements
from tests.live.station import Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", root=True)
CONFIG = "Match Address 192.168.40.0/24\n    PasswordAuthentication no\nMatch User joon\n    PermitTTY no\n"


@pytest.fixture(scope="module")
def guest(station: Station) -> Guest:
    """A guest with the plain service."""
    made = station.guest("gauge", config=CONFIG)
    made.boot()
    made.until_listening()
    return made


def told(guest: Guest) -> dict[str, str]:
    """The findings about the service, by check."""
    snapshot = survey_live(Inside(guest))
    found = audit_target(snapshot, datetime.now(UTC)).guests[0].findings
    return {f.check: f.text for f in found if f.check.startswith("service.") or f.check == "ssh.second-opinion"}


CASES = [
    ("sleep 1.1; touch /etc/ssh/sshd_config", "systemctl reload ssh", "service.older-than-its-files", "sshd_config was changed"),
    ("systemctl disable ssh 2>/dev/null", "systemctl enable ssh 2>/dev/null", "service.not-at-boot", "nothing starts it at boot"),
    (
        "mkdir -p /run/sshd; /usr/sbin/sshd -p 2222",
        "kill $(ss -Hltnp sport = 2222 | grep -o 'pid=[0-9]*' | head -n 1 | cut -d= -f2)",
        "service.second-server",
        "on port 2222",
    ),
    (
        "echo 'SSHD_OPTS=-oPermitRootLogin=no' > /etc/default/ssh",
        "echo > /etc/default/ssh",
        "service.options-differ",
        "other options",
    ),
    (
        "cp /lib/systemd/system/ssh.service /etc/systemd/system/ && systemctl daemon-reload; sleep 1.1; touch /etc/systemd/system/ssh.service",
        "rm /etc/systemd/system/ssh.service; systemctl daemon-reload",
        "service.unit-changed",
        "daemon-reload is due",
    ),
    (
        "echo Port 2022 > /etc/ssh/sshd_config.d/90-port.conf",
        "rm /etc/ssh/sshd_config.d/90-port.conf; systemctl reload ssh",
        "service.listener-differs",
        "listens on port 22; its files say 2022",
    ),
    ("systemctl stop ssh", "systemctl start ssh", "service.stopped", "nobody gets in over SSH now"),
]


def test_a_quiet_service_has_no_finding_and_every_case_has_its_own(guest: Guest) -> None:
    assert told(guest) == {}
    for act, back, check, words in CASES:
        guest.inside("sh", "-c", act)
        time.sleep(0.2)
        found = told(guest)
        guest.inside("sh", "-c", back)
        time.sleep(0.3)
        assert words in found.get(check, ""), (act, found)
        extra = set(found) - {check, "service.older-than-its-files"}
        assert not extra, (act, found)
    assert told(guest) == {}


TIDE = """\
#!/usr/bin/perl
use IO::Socket::INET;
my ($protocol, $address, $port) = @ARGV;
my $socket = IO::Socket::INET->new(Proto => $protocol, LocalAddr => $address, LocalPort => $port, ReuseAddr => 1,
    $protocol eq "tcp" ? (Listen => 5) : ()) or die $!;
sleep;
"""
UNIT = "[Service]\nExecStart=/usr/local/bin/tide tcp 0.0.0.0 8081\n[Install]\nWantedBy=multi-user.target\n"
RUN = "systemd-run -q --unit=tide-run tide"
# What is done on the guest, what takes it back, the check, what it says.
LISTENING = [
    (
        f"{RUN} tcp 0.0.0.0 8080",
        "systemctl stop tide-run",
        "service.exposed-listener",
        "tide (tide-run.service) listens on tcp port 8080 at 0.0.0.0, and nothing in the estate asks for it.",
    ),
    (f"{RUN} tcp 192.168.56.21 5901", "systemctl stop tide-run", "service.exposed-listener", "where a screen is usual"),
    (f"{RUN} udp 0.0.0.0 6000", "systemctl stop tide-run", "service.exposed-listener", "listens on udp port 6000"),
    (
        "systemctl start tide-gauge",
        "systemctl stop tide-gauge",
        "service.lost-at-boot",
        "tide-gauge.service listens on port 8081 now",
    ),
    (
        "systemctl enable -q --now tide-gauge; sleep 1.1; touch /etc/systemd/system/tide-gauge.service",
        "systemctl daemon-reload; systemctl disable -q --now tide-gauge",
        "service.unit-file-changed",
        "tide-gauge.service was changed and not loaded",
    ),
    (
        "systemd-run -q --unit=tide-run sh -c 'tide tcp 127.0.0.2 8083 & exec ebb tcp 127.0.0.3 8083'",
        "systemctl stop tide-run",
        "service.shared-port",
        "listen on tcp port 8083",
    ),
]


def test_whatever_listens_is_told(guest: Guest) -> None:
    (guest.root / "etc/systemd/system/tide-gauge.service").write_text(UNIT)
    for name in ("tide", "ebb"):
        (guest.root / "usr/local/bin" / name).write_text(TIDE)
        (guest.root / "usr/local/bin" / name).chmod(0o755)
    guest.inside("systemctl", "daemon-reload")
    assert told(guest) == {}
    for act, back, check, words in LISTENING:
        guest.inside("sh", "-c", act)
        time.sleep(0.4)
        found = told(guest)
        guest.inside("sh", "-c", back)
        time.sleep(0.3)
        assert words in found.get(check, ""), (act, found)
    guest.inside("sh", "-c", f"{RUN} tcp 127.0.0.1 8082")
    time.sleep(0.3)
    assert told(guest) == {}, "on the loopback it is nobody's business"
    guest.inside("sh", "-c", "systemctl stop tide-run; rm /etc/systemd/system/tide-gauge.service; systemctl daemon-reload")


def test_a_guest_activated_by_a_socket_listens_where_the_socket_does(station: Station) -> None:
    made = station.guest("socket", "192.168.56.22", unit="ssh.socket", config="Port 2222\n")
    made.boot()
    made.until_listening()
    found = told(made)
    assert list(found) == ["service.listener-differs"]
    assert "Port 2222 in sshd's files has no effect" in found["service.listener-differs"]
    access = guest_access(readings.read(survey_live(Inside(made))), datetime.now(UTC))
    assert {socket.port for socket in access.ssh.listeners} == {22}
    assert station.login(made)


def test_the_second_opinion_is_asked_of_every_class_and_a_difference_is_told(guest: Guest) -> None:
    snapshot = survey_live(Inside(guest))
    access = guest_access(readings.read(snapshot), datetime.now(UTC))
    asked = snapshot.listings["opinions"].decode()
    for account in ("keeper", "mara", "joon"):
        assert asked.count(f"question user={account},") >= 2
    assert not list(disagreements(access.ssh, access.accounts))
    other = snapshot.listings["opinions"].replace(b"+permitrootlogin without-password", b"+permitrootlogin yes")
    changed: Snapshot = replace(snapshot, listings={**snapshot.listings, "opinions": other})
    found = audit_target(changed, datetime.now(UTC)).guests[0].findings
    opinion = next(f for f in found if f.check == "ssh.second-opinion")
    assert "PermitRootLogin" in opinion.text
    assert "sshd says yes" in opinion.text
    assert "reasons without-password" in opinion.text


def test_options_of_the_running_daemon_count(guest: Guest) -> None:
    guest.inside("sh", "-c", "echo 'SSHD_OPTS=-oPasswordAuthentication=no' > /etc/default/ssh; systemctl restart ssh; sleep 0.2")
    snapshot = survey_live(Inside(guest))
    access = guest_access(readings.read(snapshot), datetime.now(UTC))
    assert access.ssh.effective.top["passwordauthentication"].word == "no"
    assert not list(disagreements(access.ssh, access.accounts))
    guest.inside("sh", "-c", "echo > /etc/default/ssh; systemctl restart ssh")
