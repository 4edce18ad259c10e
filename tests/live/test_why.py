"""Why somebody gets into a running guest or not: every chain against a real login, and what the guest's own log says of it."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Callable
from datetime import UTC, datetime, timedelta

import pytest

from nightlatch.access.chains import chains
from nightlatch.access.grants import address_spaces
from nightlatch.access.paths import guest_access
from nightlatch.estate.load import load
from nightlatch.formats.keys import parse_public
from nightlatch.lab.image import PASSWORD
from nightlatch.lab.inside import Inside
from nightlatch.lab.machine import Guest, environment
from nightlatch.model.links import Holds
from nightlatch.model.secrets import Key
from nightlatch.model.sources import COMMON
from nightlatch.net.literal import parse_network
from nightlatch.ops.survey import survey_live
from nightlatch.readings import guest as readings
from nightlatch.services.base import Login
from nightlatch.services.table import KINDS
from tests.live.station import KEYS, Station, ssh

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", root=True)
GRANTS = """
let: mara, into: gauge, by: ssh, from: bench, with: key
let: joon, into: gauge, by: ssh, from: bench, with: key
"""
# What is changed on the guest, which account it keeps out, the symptom, and the link that breaks.
SCENES = (
    ("", "", "", ""),
    ("echo 'AllowUsers keeper mara' >/etc/ssh/sshd_config.d/20-scene.conf", "joon", "permission denied", "settings"),
    ("chmod 666 /home/joon/.ssh/authorized_keys", "joon", "asks for a password", "proof"),
    ("usermod -e 1 joon", "joon", "permission denied", "account"),
)
UNDO = "rm -f /etc/ssh/sshd_config.d/20-scene.conf; chmod 600 /home/joon/.ssh/authorized_keys; usermod -e '' joon; systemctl reload ssh"


@pytest.fixture(scope="module")
def gauge(station: Station) -> Guest:
    guest = station.guest("gauge")
    guest.boot()
    guest.until_listening()
    return guest


@pytest.mark.parametrize("scene", SCENES, ids=lambda scene: scene[3] or "nothing")
def test_chains_say_what_real_logins_show(
    scene: tuple[str, str, str, str], station: Station, gauge: Guest, tell: Callable[[str], None]
) -> None:
    change, shut, symptom, link = scene
    path = station.estate(GRANTS)
    gauge.inside("sh", "-c", f"{change or 'true'}; systemctl reload ssh")
    try:
        estate = load(path)
        access = guest_access(readings.read(survey_live(Inside(gauge))), datetime.now(UTC), address_spaces(estate))
        wrong, count = [], 0
        for account in ("keeper", "mara", "joon"):
            for key in KEYS:
                login = Login(account, frozenset([Key(parse_public(station.keys[key].encode()).fingerprint)]))
                (chain,) = chains(access, KINDS, estate, login, "ssh", {COMMON: parse_network("192.168.40.7")})
                real = station.login(gauge, account, key)
                whole = all(each.holds is Holds.YES for each in chain.links)
                count += 1
                if (chain.holds is Holds.YES, whole) != (real, real):
                    wrong.append(f"{account} with {key}: said {chain.holds}, links {whole}, really {real}")
        tell(f"chains against real logins ({link or 'nothing in the way'}): {count}, {len(wrong)} otherwise than said")
        assert not wrong, "\n".join(wrong)
        if shut:
            words = ("why", shut, "gauge", "--symptom", symptom, "--ssh-config", "ssh_config")
            told = json.loads(station.nightlatch(*words, "--format", "json", code=1))
            (broken,) = {each["link"] for chain in told["chains"] for each in chain["links"] if each["holds"] == "broken"}
            assert broken == link
            assert told["suspicions"][0]["stands"] == "confirmed"
            assert link in {each["link"] for each in told["log"]}, told["log"]
    finally:
        gauge.inside("sh", "-c", UNDO)


STACK = """\
auth requisite pam_faillock.so preauth deny=3 unlock_time=900
auth [success=1 default=bad] pam_unix.so
auth [default=die] pam_faillock.so authfail deny=3 unlock_time=900
auth sufficient pam_faillock.so authsucc deny=3 unlock_time=900
auth required pam_permit.so
account required pam_unix.so
session required pam_permit.so
"""


def by_password(station: Station, guest: Guest, account: str, password: str) -> bool:
    """One real login with a password."""
    ask = station.folder / "ask"
    ask.write_text(f"#!/bin/sh\necho '{password}'\n")
    ask.chmod(0o700)
    words = ssh("PubkeyAuthentication=no", "PreferredAuthentications=password", "NumberOfPasswordPrompts=1", "ConnectTimeout=5")
    env = environment({"SSH_ASKPASS": str(ask), "SSH_ASKPASS_REQUIRE": "force"})
    command = station.desk.words(*words, f"{account}@192.168.56.21", "echo", "in")
    done = subprocess.run(command, capture_output=True, text=True, timeout=60, stdin=subprocess.DEVNULL, env=env)
    return done.stdout == "in\n"


def test_a_lock_that_passes_by_itself_is_told_with_its_end(station: Station, gauge: Guest) -> None:
    station.estate("let: mara, into: gauge, by: ssh, from: bench, with: password")
    before = gauge.inside("cat", "/etc/pam.d/sshd")
    gauge.inside("sh", "-c", "cat >/etc/pam.d/sshd", stdin=STACK)
    words = ("why", "mara", "gauge", "--from", "bench", "--with", "password", "--ssh-config", "ssh_config")
    try:
        assert by_password(station, gauge, "mara", PASSWORD)
        assert "Not just now" not in station.nightlatch(*words, code=None)
        for _ in range(3):
            assert not by_password(station, gauge, "mara", "no such one")
        assert not by_password(station, gauge, "mara", PASSWORD)
        told = " ".join(station.nightlatch(*words, code=None).split())
        end = datetime.now(UTC) + timedelta(minutes=15)
        ends = {f"{end - timedelta(minutes=early):%Y-%m-%d %H:%M} UTC" for early in (0, 1, 2)}
        assert "Not just now: 3 wrong passwords: no password is taken until" in told
        assert any(each in told for each in ends), told
        assert "ssh as mara with the password of mara, port 22, from bench: gets in, as granted" in told  # it passes
        gauge.inside("faillock", "--user", "mara", "--reset")
        assert by_password(station, gauge, "mara", PASSWORD)
        assert "Not just now" not in station.nightlatch(*words, code=None)
    finally:
        gauge.inside("sh", "-c", "cat >/etc/pam.d/sshd; rm -f /run/faillock/*", stdin=before)


def test_the_wire_is_told_beside_the_links(station: Station, gauge: Guest) -> None:
    station.estate(GRANTS)
    told = station.nightlatch("why", "mara", "gauge", "--from", "bench", "--wire", "--ssh-config", "ssh_config", code=None)
    assert "ssh as mara with the key mara-key (mara's), port 22, from bench: gets in, as granted" in " ".join(told.split())
    assert "On the wire, from here" in told
    assert "a key may be shown, as granted" in " ".join(told.split())
