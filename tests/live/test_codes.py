"""One-time codes asked by a real PAM module: what a stack is said to ask, against real logins with each of the secrets."""

from __future__ import annotations

import base64
import hashlib
import hmac
import struct
import subprocess
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from itertools import product, repeat
from pathlib import Path

import pytest

from nightlatch.access.paths import guest_access
from nightlatch.estate.load import load
from nightlatch.lab.image import PASSWORD, Account
from nightlatch.lab.inside import Inside
from nightlatch.lab.machine import Guest, environment
from nightlatch.model.secrets import Code, Password, UnknownSecret
from nightlatch.ops.survey import survey_live
from nightlatch.ops.undo import undo
from nightlatch.readings import guest as readings
from tests.live.latching import enact, own, proved, settled
from tests.live.station import Station, ssh

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", "google-authenticator", root=True)
SECRET = base64.b32encode(hashlib.sha256(b"skerry point").digest()[:16]).decode().rstrip("=")
UNIX, CODES = "pam_unix.so nodelay", "pam_google_authenticator.so"
STACKS = {
    "both": f"auth required {UNIX}\nauth required {CODES}\n",
    "a code first, for those who have one": f"auth required {CODES} nullok\nauth required {UNIX}\n",
    "a code alone": f"auth required {CODES}\n",
    "nobody without one is stopped": f"auth required {CODES} nullok\nauth required pam_permit.so\n",
    "either": f"auth sufficient {CODES}\nauth required {UNIX}\n",
    "a code where the password was right": (
        f"auth [success=1 default=ignore] {UNIX}\nauth requisite pam_deny.so\nauth required {CODES} nullok\n"
    ),
    "a code that may be wrong": f"auth required {UNIX}\nauth optional {CODES}\n",
}
REST = "account required pam_unix.so\nsession required pam_unix.so\n"
PEOPLE = ("mara", "joon", "tove")  # with a secret; without one; with one that others may read


def code_now() -> str:
    """The code of this half minute (RFC 6238)."""
    key = base64.b32decode(SECRET + "=" * (-len(SECRET) % 8))
    digest = hmac.new(key, struct.pack(">Q", int(time.time()) // 30), hashlib.sha1).digest()
    at = digest[-1] & 15
    return f"{(struct.unpack('>I', digest[at : at + 4])[0] & 0x7FFFFFFF) % 10**6:06}"


@pytest.fixture(scope="module")
def guest(station: Station) -> Guest:
    made = station.guest(
        "gauge",
        config="KbdInteractiveAuthentication yes\nPasswordAuthentication yes\nMaxStartups 100\n",
        more=[Account("tove", 1003, PASSWORD)],
    )
    made.image.write("/home/joon/.ssh/authorized_keys", "", 0o600, 1002, 1002)
    shadow = made.image.folder / "etc/shadow"
    lines = dict(line.split(":", 1) for line in shadow.read_text().splitlines())
    lines["joon"] = lines["mara"]
    shadow.write_text("".join(f"{name}:{rest}\n" for name, rest in lines.items()))
    text = f'{SECRET}\n" TOTP_AUTH\n'
    made.image.write("/home/mara/.google_authenticator", text, 0o400, 1001, 1001)
    made.image.write("/home/tove/.google_authenticator", text, 0o644, 1003, 1003)
    made.boot()
    made.until_listening()
    return made


def asker(station: Station) -> Path:
    """The program that types a password or a code for the client."""
    script = station.folder / "askpass"
    if not script.exists():
        script.write_text('#!/bin/sh\ncase "$1" in *[Pp]assword*) echo "$SHOWN_PASSWORD" ;; *) echo "$SHOWN_CODE" ;; esac\n')
        script.chmod(0o755)
    return script


def typed(station: Station, account: str, method: str, shown: dict[str, str]) -> bool:
    """One real login by a method: the password, and the code, as they are shown; what is not shown is typed wrong."""
    script = asker(station)
    options = ssh(
        f"PreferredAuthentications={method}",
        "PubkeyAuthentication=no",
        "NumberOfPasswordPrompts=1",
        "LogLevel=ERROR",
        "ConnectTimeout=20",
    )
    told = {"SHOWN_PASSWORD": shown.get("password", "not-it"), "SHOWN_CODE": shown.get("code", "000000")}
    env = environment({"SSH_ASKPASS": str(script), "SSH_ASKPASS_REQUIRE": "force", "DISPLAY": ":0", **told})
    done = subprocess.run(
        station.desk.words(*options, f"{account}@192.168.56.21", "echo", "in"),
        capture_output=True,
        text=True,
        timeout=90,
        stdin=subprocess.DEVNULL,
        env=env,
    )
    return done.stdout == "in\n"


def test_what_a_stack_asks_for_is_what_it_takes(station: Station, guest: Guest, tell: Callable[[str], None]) -> None:
    wrong, count, undecided = [], 0, 0
    tried = list(product(PEOPLE, ("keyboard-interactive", "password"), ((), ("password",), ("code",), ("password", "code"))))
    for name, stack in STACKS.items():
        (guest.root / "etc/pam.d/sshd").write_text(stack + REST)
        access = guest_access(readings.read(survey_live(Inside(guest))), datetime.now(UTC))
        values = {"password": PASSWORD, "code": code_now()}
        with ThreadPoolExecutor(6) as pool:
            shown = [{word: values[word] for word in words} for _, _, words in tried]
            taken = list(pool.map(typed, repeat(station), (a for a, _, _ in tried), (m for _, m, _ in tried), shown))
        for (account, method, words), real in zip(tried, taken, strict=True):
            secrets = {{"password": Password, "code": Code}[word]("gauge", account) for word in words}
            mine = [path for path in access.paths if path.account == account and any(path.callers.perhaps.values())]
            needs = [path.need for path in mine if method != "password" or not any(isinstance(s, Code) for s in path.need)]
            if any(isinstance(secret, UnknownSecret) for need in needs for secret in need):
                undecided += 1
                continue
            count += 1
            if real is not any(need <= secrets for need in needs):
                said = sorted({" and ".join(sorted(type(secret).__name__ for secret in need)) for need in needs})
                wrong.append(f"{name}: {account} by {method} with {words}: {real}, said {said}")
    tell(f"codes: {count} real logins, {undecided} undecided, {len(wrong)} otherwise than said")
    assert not wrong, "\n".join(wrong)
    assert count > 150
    assert not undecided


BESIDE = """
let: mara, into: gauge, by: ssh, from: bench, with: {proof}
"""
ALONE = "let: joon, into: gauge, by: ssh, from: bench, with: password\n"


def both(station: Station, account: str, methods: str, shown: dict[str, str]) -> bool:
    """One real login by a key of mara's and what is typed beside it, by these methods in this order."""
    options = ssh(f"PreferredAuthentications={methods}", "IdentitiesOnly=yes", "NumberOfPasswordPrompts=1", "LogLevel=ERROR")
    told = {"SHOWN_PASSWORD": shown.get("password", "not-it"), "SHOWN_CODE": shown.get("code", "000000")}
    env = environment({"SSH_ASKPASS": str(asker(station)), "SSH_ASKPASS_REQUIRE": "force", "DISPLAY": ":0", **told})
    done = subprocess.run(
        station.desk.words(*options, "-i", str(station.folder / "mara"), f"{account}@192.168.56.21", "echo", "in"),
        capture_output=True,
        text=True,
        timeout=90,
        stdin=subprocess.DEVNULL,
        env=env,
    )
    return done.stdout == "in\n"


@pytest.mark.parametrize("proof", ["key + code", "password + code"])
def test_a_code_is_drafted_asked_and_taken_back(station: Station, guest: Guest, proof: str) -> None:
    """The module is installed and mara has a secret: it is put into sshd's stack, and what is granted is what gets in."""
    stack = guest.root / "etc/pam.d/sshd"
    stack.write_text(f"auth required {UNIX}\n{REST}")
    bound = 'from="192.168.40.0/24,2001:db8:40::/64"'
    (guest.root / "home/mara/.ssh/authorized_keys").write_text(f"{bound} {station.keys['mara']}\n")
    before = guest.files("/etc", "/home")
    by_key = proof.startswith("key")
    path = station.estate(BESIDE.format(proof=proof) + ("" if by_key else ALONE))
    assert enact(station, path, "gauge").outcome == "kept"
    settled(guest)
    assert CODES in stack.read_text()
    shown = {"password": PASSWORD, "code": code_now()}
    methods = "publickey,keyboard-interactive" if by_key else "keyboard-interactive"
    assert both(station, "mara", methods, shown if not by_key else {"code": shown["code"]})
    for less in ({}, {"password": PASSWORD}) if by_key else ({}, {"password": PASSWORD}, {"code": shown["code"]}):
        assert not both(station, "mara", methods, less), less
    assert not both(station, "mara", "keyboard-interactive" if by_key else "publickey", shown)
    assert not both(station, "mara", "password", shown)
    assert typed(station, "joon", "password", {"password": PASSWORD}) is not by_key, "who is granted a password has no code"
    assert not proved(station, path, "gauge").does, "the second run changes nothing"
    with station.client() as client:
        undo(load(path), "gauge", datetime.now(UTC), client=client)
    settled(guest)
    now = guest.files("/etc", "/home")
    assert [p for p in {**before, **now} if before.get(p) != now.get(p) and not own(p)] == []
