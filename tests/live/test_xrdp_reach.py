"""xrdp on a running guest: surveyed, audited and looked at on the wire, under each of the seals; wire, evidence and grants agree."""

from __future__ import annotations

import time
from typing import Any

import pytest

from nightlatch.evidence.screen_files import MAIN
from nightlatch.lab.image import Account
from nightlatch.lab.machine import Guest
from tests.live.station import Station
from tests.live.test_xrdp import PREPARED, SCREENS, XRDP

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "openssl", "xterm", root=True, tree=SCREENS)
GRANTS = "let: mara, into: pilot, by: rdp, from: bench, with: password\nlet: mara, into: pilot, by: ssh, from: bench, with: key"
KEYS = "certificate=/etc/xrdp/keys/good.pem\nkey_file=/etc/xrdp/keys/{key}\n"
LAYERS = {
    "tls": ("security_layer=tls\n" + KEYS.format(key="good.key"), [("tls", "TLSv1.3")], None),
    "tls of an older version": (
        "security_layer=tls\nssl_protocols=TLSv1.2\n" + KEYS.format(key="good.key"),
        [("tls", "TLSv1.2")],
        None,
    ),
    "both": ("security_layer=negotiate\n" + KEYS.format(key="good.key"), [("tls", "TLSv1.3"), ("clear", None)], None),
    "neither": ("security_layer=tls\n" + KEYS.format(key="root.key"), [], "from here nothing is served"),
    "a key that is not readable": (
        "security_layer=negotiate\n" + KEYS.format(key="root.key"),
        [("clear", None), ("clear", None)],
        "from here clear is served",
    ),
    "a certificate that is none": (
        "security_layer=negotiate\ncertificate=/etc/xrdp/keys/garbage.pem\nkey_file=/etc/xrdp/keys/good.key\n",
        [("clear", None)],
        "from here clear is served (TLS was not agreed on: ",
    ),
}
INI = "[Globals]\nport=3389\n{layer}[Logging]\nLogFile=xrdp.log\n[Xorg]\nname=Xorg\nlib=libxup.so\nusername=ask\npassword=ask\nport=-1\n"


@pytest.fixture(scope="module")
def pilot(station: Station) -> Guest:
    """A running guest with xrdp and its session manager."""
    made = station.guest(
        "pilot", bare=True, unit="", more=[Account("xrdp", XRDP, shell="/usr/sbin/nologin")], programs=(SCREENS,)
    )
    made.image.write("/etc/systemd/system/xrdp.service", "[Service]\nUser=xrdp\nExecStart=/usr/sbin/xrdp\n")
    made.image.write("/etc/ssh/sshd_config.d/20-keys.conf", "PasswordAuthentication no\n")
    made.image.write("/etc/xrdp/startwm.sh", (SCREENS / "etc/xrdp/startwm.sh").read_text(), 0o755)
    made.image.link("/usr/bin/x-window-manager", "openbox")
    made.boot()
    made.until_listening()
    made.inside("sh", "-c", PREPARED.format(uid=XRDP, tape=XRDP + 1))
    made.inside("sh", "-c", "xrdp-sesman -n >/dev/null 2>&1 &")
    return made


def serve(guest: Guest, layer: str) -> None:
    """xrdp started anew on a file."""
    guest.inside("sh", "-c", f"pkill -x xrdp; rm -f /run/xrdp/xrdp.pid; cat >{MAIN}", stdin=INI.format(layer=layer))
    words = f"setpriv --reuid={XRDP} --regid={XRDP} --clear-groups xrdp -n >/dev/null 2>&1 &"
    guest.inside("sh", "-c", words)
    end = time.monotonic() + 10
    while not guest.listening(3389):
        assert time.monotonic() < end
        time.sleep(0.05)


@pytest.mark.parametrize("name", LAYERS)
def test_wire_evidence_and_grants_agree(station: Station, pilot: Guest, name: str) -> None:
    layer, seals, refused = LAYERS[name]
    serve(pilot, layer)
    station.estate(GRANTS)
    station.nightlatch("survey", "estate.yaml", "--on", "pilot", "--into", "kept")
    document: Any = station.json("reach", "estate.yaml", "--evidence", "kept", "--on", "pilot", code=None)
    [found] = document["guests"]
    assert found["services"], found
    [look] = found["services"]
    assert [(each["seal"], each["version"]) for each in look["seals"]] == seals
    assert all((each["certificate_sha256"] is not None) is (each["seal"] == "tls") for each in look["seals"])
    told = {each["check"]: each["text"] for each in found["findings"]}
    assert "reach.not-as-read" not in told, told
    if refused is None:
        assert look["grants"][0]["state"] == "offered"
        assert "reach.not-sealed" not in told
    else:
        assert look["grants"][0]["state"] == "not sealed as granted"
        assert refused in told["reach.not-sealed"]


def test_what_runs_otherwise_than_it_was_read_is_told(station: Station, pilot: Guest) -> None:
    serve(pilot, LAYERS["tls"][0])
    station.estate(GRANTS)
    station.nightlatch("survey", "estate.yaml", "--on", "pilot", "--into", "kept")
    serve(pilot, LAYERS["both"][0])
    document: Any = station.json("reach", "estate.yaml", "--evidence", "kept", "--on", "pilot", code=None)
    [told] = [each["text"] for each in document["guests"][0]["findings"] if each["check"] == "reach.not-as-read"]
    assert told == "The wire shows clear and tls by rdp; by the evidence it would be tls. What runs is not what was read."


def test_a_running_guest_without_an_estate_is_told_with_its_desktop(station: Station, pilot: Guest) -> None:
    serve(pilot, LAYERS["both"][0])
    station.estate(GRANTS)
    station.nightlatch("survey", "estate.yaml", "--on", "pilot", "--into", "kept")
    document: Any = station.json("audit", "kept/pilot.evidence.tar.gz", code=None)
    [found] = document["guests"]
    assert [(each["by"], each["state"]) for each in found["services"]] == [
        ("ssh", "serves"),
        ("rdp", "serves"),
        ("vnc", "does not run"),
    ]
    checks = {each["check"] for each in found["findings"]}
    assert {"rdp.falls-back", "rdp.no-limits"} <= checks
    assert not [each for each in found["findings"] if each["check"] == "service.exposed-listener" and "3389" in each["text"]]
    desktops = {each["account"] for each in found["ways_in"] if each["by"] == "rdp"}
    assert desktops == {"keeper", "mara"}


def test_a_change_of_the_seal_is_proved_on_the_wire(station: Station, pilot: Guest) -> None:
    """Each connection reads the seal anew, so nothing is started again; the fresh look decides, and undo gives it back."""
    serve(pilot, LAYERS["both"][0])
    station.estate(GRANTS)
    told = station.nightlatch("enact", "estate.yaml", "--on", "pilot", "--yes", "--no-boot-guard", code=None)
    assert "On the wire rdp on port 3389 is served over tls, as was proved." in " ".join(told.split()), told
    assert "security_layer=tls\n" in pilot.inside("cat", MAIN)
    document: Any = station.json("reach", "estate.yaml", "--on", "pilot", code=None)
    assert [each["seal"] for each in document["guests"][0]["services"][0]["seals"]] == ["tls"]
    station.nightlatch("undo", "estate.yaml", "--on", "pilot", "--yes", code=None)
    assert "security_layer=negotiate\n" in pilot.inside("cat", MAIN)


def test_a_change_that_the_wire_does_not_show_is_taken_back(station: Station, pilot: Guest) -> None:
    """Another program than the one that was read serves the port, and keeps to its own file."""
    serve(pilot, LAYERS["both"][0])
    pilot.inside("sh", "-c", "mkdir -p /etc/other && cp -a /etc/xrdp/. /etc/other/ && pkill -x xrdp; rm -f /run/xrdp/xrdp.pid")
    words = f"setpriv --reuid={XRDP} --regid={XRDP} --clear-groups xrdp -n -c /etc/other/xrdp.ini >/dev/null 2>&1 & sleep 1"
    pilot.inside("sh", "-c", words)
    station.estate(GRANTS)
    told = station.nightlatch("enact", "estate.yaml", "--on", "pilot", "--yes", "--no-boot-guard", code=5)
    assert "rdp on port 3389 is served over clear and tls, and was to be served over tls" in " ".join(told.split()), told
    assert "security_layer=negotiate\n" in pilot.inside("cat", MAIN)


def test_what_was_left_on_the_latch_is_kept_by_the_same_proof(station: Station, pilot: Guest) -> None:
    serve(pilot, LAYERS["both"][0])
    station.estate(GRANTS)
    station.nightlatch("enact", "estate.yaml", "--on", "pilot", "--yes", "--no-boot-guard", "--leave", code=None)
    told = station.nightlatch("keep", "estate.yaml", "--on", "pilot", code=None)
    assert "On the wire rdp on port 3389 is served over tls, as was proved." in " ".join(told.split()), told
    assert "security_layer=tls\n" in pilot.inside("cat", MAIN)
