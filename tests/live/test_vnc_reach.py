"""VNC on a running guest: surveyed, audited and looked at on the wire, under each kind of seal; wire, evidence and grants agree."""

from __future__ import annotations

import shlex
import subprocess
import time
from typing import Any

import pytest

from nightlatch.lab.machine import Guest
from tests.budget import sample
from tests.live.station import Station
from tests.live.test_xrdp import SCREENS

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "openssl", root=True, tree=SCREENS)
GRANTS = """let: mara, into: pilot, by: vnc, screen: 1, from: bench, with: screen password
let: mara, into: pilot, by: ssh, from: bench, with: key"""
UNIT = "[Service]\nUser=mara\nExecStart=/usr/bin/Xtigervnc {words}\n[Install]\nWantedBy=multi-user.target\n"
WORDS = ":1 -SecurityTypes {types} -rfbauth /home/mara/pw -X509Cert /etc/screen/cert.pem -X509Key /etc/screen/{key}"
PREPARED = """
mkdir -p /etc/screen /tmp/.X11-unix && chmod 1777 /tmp /tmp/.X11-unix && cd /etc/screen
openssl req -x509 -newkey rsa:2048 -nodes -days 30 -subj /CN=pilot.skerry.example -keyout key.pem -out cert.pem 2>/dev/null
cp key.pem root.pem && chown mara key.pem && chmod 600 key.pem root.pem
printf 'tide-gauge\\n' | tigervncpasswd -f >/home/mara/pw && chown mara /home/mara/pw && chmod 600 /home/mara/pw
"""
TYPES: dict[str, tuple[str, str, list[str], str | None]] = {
    "a certificate": ("X509Vnc", "key.pem", ["tls"], None),
    "a certificate and none": ("X509Vnc,TLSVnc,VncAuth", "key.pem", ["clear", "tls without a certificate", "tls"], None),
    "clear": ("VncAuth", "key.pem", ["clear"], "from here clear is served"),
    "a key that is not readable": ("X509Vnc,VncAuth", "root.pem", ["clear"], "from here clear is served"),
}


@pytest.fixture(scope="module")
def pilot(station: Station) -> Guest:
    """A running guest with a VNC server's programs."""
    made = station.guest("pilot", programs=(SCREENS,))
    made.image.write("/etc/ssh/sshd_config.d/20-keys.conf", "PasswordAuthentication no\n")
    made.boot()
    made.until_listening()
    made.inside("sh", "-c", PREPARED)
    return made


def serve(guest: Guest, types: str, key: str = "key.pem") -> None:
    """The server started anew by its unit."""
    guest.inside(
        "sh", "-c", "cat >/etc/systemd/system/screen.service", stdin=UNIT.format(words=WORDS.format(types=types, key=key))
    )
    guest.inside("sh", "-c", "systemctl daemon-reload; systemctl enable -q screen; systemctl restart screen")
    end = time.monotonic() + 10
    while not guest.listening(5901):
        assert time.monotonic() < end
        time.sleep(0.05)


@pytest.mark.parametrize("name", TYPES)
def test_wire_evidence_and_grants_agree(station: Station, pilot: Guest, name: str) -> None:
    types, key, seals, refused = TYPES[name]
    serve(pilot, types, key)
    station.estate(GRANTS)
    station.nightlatch("survey", "estate.yaml", "--on", "pilot", "--into", "kept")
    document: Any = station.json("reach", "estate.yaml", "--evidence", "kept", "--on", "pilot", code=None)
    [found] = document["guests"]
    [look] = found["services"]
    assert [each["seal"] for each in look["seals"]] == seals
    told = {each["check"]: each["text"] for each in found["findings"]}
    assert "reach.not-as-read" not in told, told
    state = look["grants"][0]["state"]
    assert state == ("offered" if refused is None else "not sealed as granted")
    assert refused is None or refused in told["reach.not-sealed"]


def test_a_look_uses_up_one_failure_of_five(station: Station, pilot: Guest) -> None:
    """The list of failures counts a look as one; a single look of each kind leaves a login its chance."""
    serve(pilot, "X509Vnc,VncAuth")
    station.estate(GRANTS)
    for _ in range(3):
        document: Any = station.json("reach", "estate.yaml", "--on", "pilot", code=None)
        assert [each["seal"] for each in document["guests"][0]["services"][0]["seals"]] == ["clear", "tls"]


def test_it_is_audited_with_its_unit_and_shut_in_the_filter(station: Station, pilot: Guest) -> None:
    serve(pilot, "X509Vnc")
    station.estate(GRANTS)
    station.nightlatch("survey", "estate.yaml", "--on", "pilot", "--into", "kept")
    document: Any = station.json("audit", "kept/pilot.evidence.tar.gz", code=None)
    [found] = document["guests"]
    assert ("vnc", "serves") in [(each["by"], each["state"]) for each in found["services"]]
    assert "vnc.short-password" in {each["check"] for each in found["findings"]}
    assert {each["account"] for each in found["ways_in"] if each["by"] == "vnc"} == {"mara"}
    told = station.nightlatch("enact", "estate.yaml", "--on", "pilot", "--yes", "--no-boot-guard", code=None)
    assert "kept" in told, told
    after: Any = station.json("audit", "estate.yaml", "--on", "pilot", code=None)
    assert not [each for each in after["guests"][0]["findings"] if each["check"] == "hole" and "by vnc" in each["text"]]


def test_a_server_that_is_started_by_hand_is_told_as_not_known(station: Station, pilot: Guest) -> None:
    serve(pilot, "X509Vnc")
    pilot.inside("sh", "-c", "runuser -u joon -- /usr/bin/Xtigervnc :3 -SecurityTypes VncAuth >/dev/null 2>&1 & sleep 1")
    station.estate(GRANTS)
    document: Any = station.json("audit", "estate.yaml", "--on", "pilot", code=None)
    texts = [each["text"] for each in document["guests"][0]["findings"] if each["check"] == "vnc.unknown-start"]
    assert len(texts) == 1
    assert texts[0].startswith("A VNC server of joon listens on port 5903")
    pilot.inside("pkill", "-u", "joon")


THROUGH = "let: mara, into: pilot, by: vnc, screen: 1, from: bench, with: screen password, through: {ssh: pilot, with: key}"
FORWARDING = {
    "AllowTcpForwarding yes": True,
    "AllowTcpForwarding local": True,
    "AllowTcpForwarding remote": False,
    "AllowTcpForwarding no": False,
    "DisableForwarding yes": False,
    "PermitOpen localhost:5901": True,
    "PermitOpen 127.0.0.1:5901": True,
    "PermitOpen [::1]:5901": True,
    "PermitOpen localhost:*": True,
    "PermitOpen localhost:5900 192.0.2.1:5901": False,
    "PermitOpen none": False,
    "Match User mara\n    AllowTcpForwarding no": False,
}
TARGETS = ("localhost:5901", "127.0.0.1:5901", "[::1]:5901")


def greeted(station: Station, target: str) -> bool:
    """Whether a tunnel of mara's leads to a server of VNC."""
    words = [
        "ssh",
        "-F",
        str(station.folder / "ssh_config"),
        "-i",
        str(station.folder / "mara"),
        "-o",
        "StrictHostKeyChecking=no",
    ]
    line = f"sleep 0.3 | {shlex.join([*words, '-W', target, 'mara@192.168.56.21'])}"
    done = subprocess.run([*station.desk.words(), "sh", "-c", line], capture_output=True, timeout=20)
    return done.stdout.startswith(b"RFB ")


def test_tunnels_open_where_they_are_said_to(station: Station, pilot: Guest) -> None:
    """The real client and server: by some spelling of the loopback address, or by none."""
    serve(pilot, "VncAuth -localhost")
    station.estate(THROUGH)
    for setting, opens in sample(list(FORWARDING.items()), 2):
        pilot.inside(
            "sh", "-c", "cat >/etc/ssh/sshd_config.d/30-tunnels.conf; systemctl reload ssh; sleep 0.2", stdin=f"{setting}\n"
        )
        assert any(greeted(station, target) for target in TARGETS) is opens, setting
        document: Any = station.json("audit", "estate.yaml", "--on", "pilot", code=None)
        shut = [each["text"] for each in document["guests"][0]["findings"] if each["check"] == "shut-out"]
        assert bool(shut) is not opens, f"{setting}: {shut}"


def test_a_tunnel_that_is_drafted_is_kept_and_leads_there(station: Station, pilot: Guest) -> None:
    serve(pilot, "VncAuth -localhost")
    pilot.inside("sh", "-c", "cat >/etc/ssh/sshd_config.d/30-tunnels.conf; systemctl reload ssh", stdin="AllowTcpForwarding no\n")
    station.estate(THROUGH)
    assert not greeted(station, TARGETS[0])
    station.nightlatch("enact", "estate.yaml", "--on", "pilot", "--yes", "--no-boot-guard", code=None)
    assert greeted(station, TARGETS[0])
    station.nightlatch("undo", "estate.yaml", "--on", "pilot", "--yes", code=None)
    assert not greeted(station, TARGETS[0])
    pilot.inside("rm", "/etc/ssh/sshd_config.d/30-tunnels.conf")
