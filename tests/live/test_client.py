"""What the SSH client lets by and carries over, tried against real guests with a user's configuration that asks for it all."""

from __future__ import annotations

import os
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from nightlatch.faults import UnreachableError
from nightlatch.lab.image import PASSWORD
from nightlatch.lab.machine import environment
from nightlatch.ops.survey import survey_live
from nightlatch.transports.client_options import OPTIONS, OptionUse
from nightlatch.transports.ssh import Address, Client, Ssh
from tests.live.station import Station, ssh
from tests.live.terminal import at_a_terminal
from tests.test_client import THEIRS, asked

pytestmark = pytest.mark.judge("sshd", "ssh", "unshare", "nsenter", "ip", "systemctl", root=True)
GAUGE, GATE, FAR = "192.168.56.21", "192.168.56.22", "192.168.56.23"
OPEN_TO_ALL = "AcceptEnv *\nAllowAgentForwarding yes\nX11Forwarding yes\nPermitTunnel yes\n"
DONE = b"touch /root/nightlatch-was-here\n"


@pytest.fixture(scope="module")
def net(station: Station) -> Station:
    """Three guests: one whose sudo asks and whose sshd takes everything, a gate, and one that is reached through it."""
    taps = '#!/bin/sh\nexec tee -a /var/tmp/tapped | /usr/bin/sudo "$@"\n'
    for guest in (
        station.guest("gauge", GAUGE, config=OPEN_TO_ALL, sudo="keeper ALL=(ALL) ALL\n"),
        station.guest("gate", GATE, config="AllowTcpForwarding yes\n", sudo="keeper ALL=(ALL) ALL\n"),
        station.guest("far", FAR, sudo="keeper ALL=(ALL) NOPASSWD: SETENV: ALL\n", config=OPEN_TO_ALL),
    ):
        if guest.name == "gate":
            guest.image.write("/usr/local/bin/sudo", taps, 0o755)
        guest.boot()
    for guest in station.lab.guests.values():
        guest.until_listening()
    known = [
        f"{address} {station.lab.guests[name].image.path('/etc/ssh/ssh_host_ed25519_key.pub').read_text()}"
        for name, address in (("gauge", GAUGE), ("gate", GATE), ("far", FAR))
    ]
    (station.folder / "known").write_text("".join(known))
    return station


@contextmanager
def client(net: Station, text: str, ask: Callable[[str], str] | None = None) -> Iterator[Client]:
    """The desk's client with this user configuration."""
    own = net.folder / "their configuration"
    own.write_text(
        f"{text}\nHost *\n  IdentitiesOnly yes\n  IdentityFile {net.folder}/desk\n  UserKnownHostsFile {net.folder}/known\n"
    )
    made = net.client(ask=ask)
    made.config = own
    with made:
        yield made


@contextmanager
def forward(net: Station, to: str) -> Iterator[int]:
    """A forward on the desk's loopback that ends at another guest than the one in mind."""
    words = [*ssh(), "-N", "-i", str(net.folder / "desk"), "-L", f"127.0.0.1:2222:{to}:22", f"keeper@{GATE}"]
    process = subprocess.Popen(net.desk.words(*words), stdin=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=environment({}))
    try:
        end = time.monotonic() + 10
        while ":2222 " not in net.desk.run("ss", "-Hltn", check=False) and time.monotonic() < end:
            time.sleep(0.05)
        yield 2222
    finally:
        process.terminate()
        process.wait(10)


@pytest.mark.parametrize(
    "theirs",
    [
        "NoHostAuthenticationForLocalhost yes",
        "StrictHostKeyChecking no",
        "VerifyHostKeyDNS yes",
        "GSSAPIKeyExchange yes",
        "FingerprintHash md5",
        "KnownHostsCommand /bin/cat /dev/null",
    ],
)
def test_a_wrong_pin_is_never_passed_by(theirs: str, net: Station) -> None:
    with client(net, theirs) as using, forward(net, FAR) as port:
        for host in ("127.0.0.1", "localhost"):
            shell = Ssh("gauge", Address(host, "keeper", port), using, pins=(net.host_keys["gauge"],))
            with pytest.raises(UnreachableError, match="not pinned in the estate file"):
                shell.run(DONE)
        right = Ssh("far", Address("127.0.0.1", "keeper", port), using, pins=(net.host_keys["far"],))
        assert right.run(b"id -u\n").out == b"0\n"
    assert not (net.lab.guests["far"].root / "root/nightlatch-was-here").exists()


def test_an_unpinned_stranger_behind_a_forward_is_unknown(net: Station) -> None:
    with (
        client(net, "NoHostAuthenticationForLocalhost yes\nStrictHostKeyChecking accept-new") as using,
        forward(net, FAR) as port,
        pytest.raises(UnreachableError, match="host key is not known"),
    ):
        Ssh("far", Address("127.0.0.1", "keeper", port), using).run(DONE)
    assert not (net.lab.guests["far"].root / "root/nightlatch-was-here").exists()
    assert "127.0.0.1" not in (net.folder / "known").read_text(), "nothing is written into a user's known_hosts"


def test_nothing_of_this_machine_is_carried_over(net: Station, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("SKERRY_TOKEN", "canary-of-the-environment")
    monkeypatch.setenv("LC_SKERRY", "canary-of-the-locale")
    agent = subprocess.run(["ssh-agent", "-s"], capture_output=True, text=True, check=True).stdout
    words = dict(part.split("=", 1) for part in agent.replace("\n", ";").split(";") if "=" in part)
    monkeypatch.setenv("SSH_AUTH_SOCK", words["SSH_AUTH_SOCK"])
    asks_for = "SendEnv *\nSetEnv SKERRY_SET=canary-of-the-file\nForwardAgent yes\nForwardX11 yes\nRequestTTY force\nTunnel point-to-point\n"
    asks_for += "RemoteCommand /bin/false\nSessionType none\nAddKeysToAgent yes\nPermitLocalCommand yes\nLocalCommand touch /tmp/local-canary\n"
    script = b"cat /proc/$PPID/environ /proc/*/environ 2>/dev/null | tr '\\0' '\\n'; tty; ls /tmp\n"
    try:
        with client(net, f"Host *\n{asks_for}Match final all\n{asks_for}") as using:
            said = Ssh("far", Address(FAR, "keeper"), using).run(script).out.decode()
        held = subprocess.run(["ssh-add", "-l"], capture_output=True, text=True).stdout
    finally:
        os.kill(int(words["SSH_AGENT_PID"]), 15)
    assert "SSH_CONNECTION=" in said, "the account's own environment was looked at"
    assert "canary" not in said
    assert not [word for word in ("SSH_AUTH_SOCK", "DISPLAY=", "SSH_TTY", "agent.") if word in said]
    assert "not a tty" in said
    assert not Path("/tmp/local-canary").exists()
    assert "no identities" in held, "a survey puts nothing into the agent"


def test_what_is_allowed_and_irrelevant_does_not_stand_in_the_way(net: Station) -> None:
    """All of it at once, but for what chooses another way, proof or algorithm than this lab has."""
    elsewhere = {
        "Hostname",
        "Port",
        "BindAddress",
        "BindInterface",
        "ProxyCommand",
        "ProxyUseFdpass",
        "User",
        "IdentityAgent",
        "CertificateFile",
        "IdentityFile",
        "PubkeyAuthentication",
        "HostKeyAlias",
        "RefuseConnection",
        "Version",
        "CanonicalDomains",
    }
    lines = [
        f"{each.name} {THEIRS[each.name]}"
        for each in OPTIONS
        if each.name in THEIRS
        and each.use is not OptionUse.PINNED
        and each.name not in elsewhere
        and (asked(f"{each.name} {THEIRS[each.name]}") or asked(f"{each.name} {THEIRS[each.name]}", command=("true",)))
    ]
    assert len(lines) > 70
    with client(net, "\n".join(["Host *", *lines])) as using:
        assert Ssh("far", Address(FAR, "keeper"), using, pins=(net.host_keys["far"],)).run(b"id -u\n").out == b"0\n"


def test_a_jump_is_gone_through_by_the_same_rules(net: Station) -> None:
    jump = f"Host {FAR}\n  ProxyJump keeper@{GATE}\nHost {GATE}\n  StrictHostKeyChecking no\n  ForwardAgent yes\n"
    with client(net, jump) as using:
        shell = Ssh("far", Address(FAR, "keeper"), using, pins=(net.host_keys["far"],))
        assert shell.through() == [GATE]
        snapshot = survey_live(shell)
        assert snapshot.facts["came_from"] == GATE
        assert snapshot.facts["came_with"].startswith("SHA256:")
    (net.folder / "known").write_text(
        "\n".join(each for each in (net.folder / "known").read_text().splitlines() if GATE not in each) + "\n"
    )
    with (
        client(net, jump) as using,
        pytest.raises(UnreachableError, match=r"on the way there, at a jump host: .*host key is not known"),
    ):
        Ssh("far", Address(FAR, "keeper"), using, pins=(net.host_keys["far"],)).run(DONE)


@pytest.mark.parametrize("name", ["key of the desk", "100%h", "%d %%", "ünï"])
def test_a_key_in_an_odd_place(name: str, net: Station) -> None:
    folder = net.folder / name
    folder.mkdir()
    for half in ("desk", "desk.pub"):
        (folder / half).write_bytes((net.folder / half).read_bytes())
        (folder / half).chmod(0o600)
    made = net.client()
    made.config = Path("/dev/null")
    with made as using:
        shell = Ssh("far", Address(FAR, "keeper"), using, pins=(net.host_keys["far"],), key=folder / "desk")
        assert shell.run(b"echo in\n").door.key.startswith("SHA256:")


def test_a_person_is_asked_guest_by_guest(net: Station) -> None:
    """At a terminal: the second question names the first guest, and Enter means the same password there."""
    net.estate("let: mara, into: all guests, by: ssh, from: bench, with: key")
    asked = [
        ("sudo password of keeper on gauge: ", f"{PASSWORD}\n"),
        ("sudo password of keeper on gate (Enter: the same as on gauge): ", "\n"),
    ]
    words = [
        "survey",
        "estate.yaml",
        "--on",
        "gauge",
        "--on",
        "gate",
        "--at-once",
        "1",
        "--into",
        "asked",
        "--ssh-config",
        "ssh_config",
    ]
    code, said = at_a_terminal(net, words, list(asked))
    assert code == 0, said
    assert PASSWORD not in said
    assert len(list((net.folder / "asked").glob("*.gz"))) == 2


def test_a_sudo_password_goes_to_the_guest_that_asked_and_no_other(net: Station) -> None:
    questions: list[str] = []

    def ask(question: str) -> str:
        questions.append(question)
        return PASSWORD if len(questions) == 1 else "another word"

    gate = net.lab.guests["gate"]
    (gate.root / "var/tmp/tapped").unlink(missing_ok=True)
    with client(net, "", ask) as using:
        assert Ssh("gauge", Address(GAUGE, "keeper"), using, pins=(net.host_keys["gauge"],)).run(b"id -u\n").out == b"0\n"
        with pytest.raises(UnreachableError, match="sudo"):
            Ssh("gate", Address(GATE, "keeper"), using, pins=(net.host_keys["gate"],)).run(b"id -u\n")
    assert questions[0] == "sudo password of keeper on gauge: "
    assert questions[1] == "sudo password of keeper on gate (Enter: the same as on gauge): "
    tapped = (gate.root / "var/tmp/tapped").read_text()
    assert "another word" in tapped
    assert PASSWORD not in tapped, "what was given for one guest went to another"
