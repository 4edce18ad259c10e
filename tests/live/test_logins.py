"""Predicted logins on live guests against real ones over the lab's network: who gets in, from which machine, with what."""

from __future__ import annotations

import subprocess
import time
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import UTC, datetime

import pytest

from nightlatch.access.paths import guest_access
from nightlatch.formats.keys import decode
from nightlatch.lab.image import PASSWORD, Account
from nightlatch.lab.inside import Inside
from nightlatch.lab.machine import Guest, Node, environment
from nightlatch.model.secrets import Key, Password, Secret
from nightlatch.ops.survey import survey_live
from nightlatch.readings import guest as readings
from nightlatch.services.ssh.opinion import disagreements
from tests.describing import described
from tests.judges.login_driver import predicted
from tests.live.station import Station, ssh

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", root=True)
SOURCES = {"bench": "192.168.40.7", "bench six": "2001:db8:40::7", "field": "203.0.113.20", "isle": "192.168.56.9"}
SHOWN = [
    ("mara", "key mara"),
    ("mara", "key other"),
    ("mara", "password"),
    ("joon", "key joon"),
    ("joon", "password"),
    ("joon", "key joon+password"),
    ("root", "key desk"),
]


@dataclass
class Scene:
    """What is changed on a guest: sshd's settings, mara's key line, and commands before and after."""

    name: str
    config: str = ""
    line: str = "{mara}"
    act: str = "true"
    back: str = "true"
    tries: list[tuple[str, str]] = field(default_factory=lambda: list(SHOWN))


SCENES = [
    Scene("nothing special"),
    Scene("keys only", "PasswordAuthentication no\n"),
    Scene(
        "passwords from the bench",
        "PasswordAuthentication no\nMatch Address 192.168.40.0/24,2001:db8:40::/64\n  PasswordAuthentication yes\n",
    ),
    Scene("all but the bench", "Match Address *,!192.168.40.0/24\n  PubkeyAuthentication no\n"),
    Scene("users by source", "AllowUsers mara@192.168.40.* joon@203.0.113.20 root@192.168.56.* keeper\n"),
    Scene("users denied by source", "DenyUsers joon@192.168.40.7 mara@2001:db8:40::7 root\n"),
    Scene("root by source", "PermitRootLogin no\nMatch Address 192.168.56.0/24\n  PermitRootLogin prohibit-password\n"),
    Scene("a group", "AllowGroups crew\n"),
    Scene("both proofs", "AuthenticationMethods publickey,password\n"),
    Scene("both proofs outside", "Match Address 203.0.113.0/24\n  AuthenticationMethods publickey,password\n"),
    Scene("where it was called at", "Match LocalAddress 2001:db8:56::/64\n  PubkeyAuthentication no\n"),
    Scene("a key bound to places", "", 'from="192.168.40.0/24,!192.168.40.9,2001:db8:40::/64" {mara}'),
    Scene("a key for the field only", "", 'from="203.0.113.20" {mara}\n{other}'),
    Scene("a home that anyone may write", act="chmod 777 /home/mara", back="chmod 755 /home/mara"),
    Scene("an account that has ended", act="usermod -e 2020-01-01 joon", back="usermod -e '' joon"),
    Scene("a password that is locked", act="usermod -L joon", back="usermod -U joon"),
    Scene("no logins today", act="echo closed >/etc/nologin", back="rm /etc/nologin"),
]
GUESTS = {"gauge": {}, "socket": {"unit": "ssh.socket"}, "bare": {"bare": True, "pam": False}}


@pytest.fixture(scope="module")
def callers(station: Station) -> dict[str, Node]:
    """The machines that try."""
    field_, isle = (station.lab.node(n, {w: [f"{SOURCES[n]}/24"]}) for n, w in (("field", "field"), ("isle", "isle")))
    ask = station.folder / "askpass"
    ask.write_text(f"#!/bin/sh\necho {PASSWORD}\n")
    ask.chmod(0o755)
    return {"bench": station.desk, "bench six": station.desk, "field": field_, "isle": isle}


def made(station: Station, name: str, last: int) -> Guest:
    """One guest; joon has a password, too."""
    guest = station.guest(name, f"192.168.56.{last}", **GUESTS[name])  # type: ignore[arg-type]
    guest.image.accounts(
        [
            Account("keeper", 1000, PASSWORD, groups=("sudo",), keys=station.keys["desk"] + "\n"),
            Account("mara", 1001, PASSWORD, keys=station.keys["mara"] + "\n"),
            Account("joon", 1002, PASSWORD, groups=("crew",), keys=station.keys["joon"] + "\n"),
        ],
        root_keys=station.keys["desk"] + "\n",
    )
    guest.boot()
    guest.until_listening()
    return guest


def attempt(station: Station, node: Node, guest: Guest, account: str, how: str, source: str) -> bool:
    """A real login."""
    number = guest.run("ip", "-o", "-4", "addr", "show", "eth0").split()[3].split("/")[0].rsplit(".", 1)[1]
    address = f"2001:db8:56::{number}" if "six" in source else f"192.168.56.{number}"
    parts = how.split("+")
    keys = [f"-i{station.folder}/{part[4:]}" for part in parts if part.startswith("key ")]
    methods = ",".join(["publickey"] * bool(keys) + ["password"] * ("password" in parts))
    asked = (f"PreferredAuthentications={methods}", *([] if keys else ["PubkeyAuthentication=no"]))
    words = ssh("IdentitiesOnly=yes", "ConnectTimeout=8", "LogLevel=ERROR", "NumberOfPasswordPrompts=1", *asked)
    words += [*keys, f"{account}@{address}", "echo in"]
    env = environment({"SSH_ASKPASS": f"{station.folder}/askpass", "SSH_ASKPASS_REQUIRE": "force"})
    done = subprocess.run(node.words(*words), capture_output=True, text=True, timeout=40, stdin=subprocess.DEVNULL, env=env)
    return done.stdout == "in\n"


def set_up(station: Station, guest: Guest, scene: Scene) -> None:
    """Write the scene and let the running daemon read it."""
    place = guest.root / "etc/ssh/sshd_config.d/10-scene.conf"
    place.write_text(scene.config)
    keys = guest.root / "home/mara/.ssh/authorized_keys"
    keys.write_text(scene.line.format(**station.keys) + "\n")
    guest.inside("sh", "-c", scene.act)
    if guest.bare:
        guest.inside("pkill", "-HUP", "-x", "-o", "sshd")
    else:
        guest.inside("systemctl", "reload" if guest.name == "gauge" else "try-restart", "ssh.service")
    time.sleep(0.4)  # a reload is not over when it returns
    guest.until_listening()


def held(station: Station, guest: str, account: str, how: str) -> frozenset[Secret]:
    """What a caller can show."""
    out: set[Secret] = {Password(guest, account)} if "password" in how else set()
    for part in how.split("+"):
        if part.startswith("key "):
            out.add(Key(decode(*station.keys[part[4:]].split()[:2]).fingerprint))
    return frozenset(out)


def results(station: Station, callers: dict[str, Node], guest: Guest) -> Iterator[tuple[str, str, bool]]:
    """Every attempt on one guest: where, what was said, what happened."""
    scenes = SCENES if guest.name == "gauge" else SCENES[:: 5 if guest.bare else 4]
    for scene in scenes:
        set_up(station, guest, scene)
        access = guest_access(readings.read(survey_live(Inside(guest))), datetime.now(UTC))
        assert not list(disagreements(access.ssh, access.accounts)), scene.name
        # The estate file that describes this guest leaves nothing open and nobody shut out.
        done = described(station.folder / f"described-{guest.name}", access, datetime.now(UTC), scene.name)
        assert not done.left, (scene.name, done.left)
        assert not done.unsaid, (scene.name, done.unsaid)
        tries = [(account, how, source) for account, how in scene.tries for source in SOURCES]
        with ThreadPoolExecutor(6) as pool:  # fewer than sshd lets wait at once (MaxStartups)
            real = list(pool.map(lambda t: attempt(station, callers[t[2]], guest, *t), tries))
        for (account, how, source), was in zip(tries, real, strict=True):
            shown = held(station, guest.name, account, how)
            yield (
                f"{guest.name}, {scene.name}: {account} {how} from {source}",
                predicted(access, account, shown, SOURCES[source], how),
                was,
            )
        guest.inside("sh", "-c", scene.back)


def test_predicted_logins_are_the_real_ones(station: Station, callers: dict[str, Node], tell: Callable[[str], None]) -> None:
    guests = [made(station, name, 21 + number) for number, name in enumerate(GUESTS)]
    with ThreadPoolExecutor(len(guests)) as pool:
        found = [one for some in pool.map(lambda g: list(results(station, callers, g)), guests) for one in some]
    count = Counter("let in" if was else "rejected" for _, _, was in found)
    undecided = [what for what, said, _ in found if said == "undecided"]
    wrong = [f"{what}: said {said}, was {was}" for what, said, was in found if said not in ("undecided", "yes" if was else "no")]
    tell(
        f"live logins: {len(found)} real attempts, {count['let in']} let in, {count['rejected']} rejected, "
        f"{len(undecided)} undecided, {len(wrong)} wrong"
    )
    assert not wrong, "\n".join(wrong[:40])
    # A daemon that listens on every address: which of them is called can't be known from its files.
    assert all("where it was called at" in what for what in undecided), undecided
    assert len(found) >= 300
    assert min(count.values()) > 60
