"""Certificates that are made of grants: real logins get in with them where, when and as what the grants say, and not otherwise."""

from __future__ import annotations

import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from nightlatch.lab.machine import Guest, Node, environment
from nightlatch.lab.tools import run
from tests.live.station import Station, ssh

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", root=True)
WORD = "under the fourth plank"
MARA = "mara: {keys: [mara.pub]}"
CERTIFIED = "authorities: {crew: crew.pub}\n"


@pytest.fixture(scope="module")
def gauge(station: Station) -> Guest:
    """A guest that trusts the authority `crew`, with a list of revoked keys."""
    word = station.folder / "word"
    word.touch(0o600)
    word.write_text(WORD + "\n")
    station.nightlatch("key", "make", "crew", "--passphrase-file", "word")
    run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(station.folder / "nothing"))
    station.nightlatch("key", "revoke", "nothing.pub", "--list", "revoked.krl")
    guest = station.guest("gauge", config="TrustedUserCAKeys /etc/ssh/crew.pub\nRevokedKeys /etc/ssh/revoked.krl\n")
    guest.image.write("/etc/ssh/revoked.krl", (station.folder / "revoked.krl").read_bytes())
    guest.image.write("/etc/ssh/crew.pub", (station.folder / "crew.pub").read_text())
    guest.boot()
    guest.until_listening()
    return guest


@pytest.fixture(scope="module")
def boat(station: Station) -> Node:
    """Somebody out in the field."""
    return station.lab.node("boat", {"field": ["203.0.113.20/24"]})


def estate(station: Station, grants: str, principals: str = "mara") -> Path:
    path = station.estate(grants)
    right = f"mara: {{certificate: {{authority: crew, principals: [{principals}]}}}}"
    path.write_text(path.read_text().replace(MARA, right).replace("places:", CERTIFIED + "places:", 1))
    return path


def gets_in(station: Station, guest: Guest, account: str, node: Node, kind: str) -> str:
    """What a login with the certificate prints; empty where none is let in."""
    words = ssh("BatchMode=yes", "IdentitiesOnly=yes", "ConnectTimeout=5", "LogLevel=ERROR")
    words += ["-i", str(station.folder / f"held-{kind}"), f"{account}@192.168.56.21", "echo", "in"]
    done = subprocess.run(
        node.words(*words), capture_output=True, text=True, timeout=60, stdin=subprocess.DEVNULL, env=environment({})
    )
    return done.stdout.strip()


# Grants, principals, when and for how long it is made; then account, from where, and what a login prints.
SCENES = (
    ("let: mara, into: gauge, by: ssh, from: bench, with: certificate", "mara", (), "mara", "desk", "in"),
    ("let: mara, into: gauge, by: ssh, from: bench, with: certificate", "mara", (), "mara", "boat", ""),
    ("let: mara, into: gauge, by: ssh, from: bench, with: certificate", "mara", (), "joon", "desk", ""),
    ("let: mara, into: gauge, by: ssh, from: bench, with: certificate", "mara, joon", (), "joon", "desk", "in"),
    ("let: mara, into: gauge, by: ssh, from: [bench, field], with: certificate", "mara", (), "mara", "boat", "in"),
    ("let: mara, into: gauge, by: ssh, from: anywhere, with: certificate", "mara", (), "mara", "boat", "in"),
    ("let: mara, into: gauge, by: ssh, from: bench, with: certificate, until: 2026-11-30", "mara", ("--as-of", "2026-11-29"), "mara", "desk", ""),
    ("let: mara, into: gauge, by: ssh, from: bench, with: certificate", "mara", ("--as-of", "2026-01-01"), "mara", "desk", ""),
    (
        "let: mara, into: gauge, by: ssh, from: bench, with: certificate, only: {command: /bin/echo the tide}",
        "mara", (), "mara", "desk", "the tide",
    ),
    ("let: mara, into: gauge, by: ssh, from: bench, with: certificate, only: {files: /srv}", "mara", (), "mara", "desk", "This service allows sftp connections only."),
)  # fmt: skip


def test_logins_with_certificates(station: Station, gauge: Guest, boat: Node, tell: Callable[[str], None]) -> None:
    nodes = {"desk": station.desk, "boat": boat}
    tried, wrong = 0, []
    for kind in (("ed25519",), ("rsa", "-b", "2048"), ("ecdsa", "-b", "256")):
        run("ssh-keygen", "-q", "-t", *kind, "-N", "", "-f", str(station.folder / f"held-{kind[0]}"))
        for grants, principals, when, account, node, wanted in SCENES if kind[0] == "ed25519" else SCENES[:3]:
            path = estate(station, grants, principals)
            held = f"held-{kind[0]}.pub"
            (station.folder / f"held-{kind[0]}-cert.pub").unlink(missing_ok=True)
            words = ("key", "sign", "mara", held, "--by", "crew", "--passphrase-file", "word", "--estate", path.name)
            said = station.nightlatch(*words, *when)
            assert "guests     gauge" in said, said
            found = gets_in(station, gauge, account, nodes[node], kind[0])
            tried += 1
            if found != wanted:
                wrong.append(f"{kind[0]}, {account} from {node}: {grants}: {found!r} where {wanted!r} was meant\n{said}")
    tell(f"logins with certificates: {tried}, {len(wrong)} otherwise than meant")
    assert not wrong, "\n".join(wrong)


@pytest.mark.parametrize(
    "words, told",
    [
        (("mara", "other.pub", "--by", "other"), "is not the key of authority crew"),
        (("mara", "other.pub", "--by", "bare"), "bare has no passphrase: anybody with that file could sign certificates"),
        (("joon", "joon.pub", "--by", "crew"), "joon has no certificate"),
        (("maro", "other.pub", "--by", "crew"), 'did you mean "mara"'),
        (("mara", "other.pub", "--by", "crew", "--as-of", "2099-01-02"), "no grant that counts on 2099-01-02"),
        (("mara", "other.pub", "--by", "crew", "--days", "0"), "for 1 to 3650 days"),
        (("mara", "word", "--by", "crew"), "word: "),
    ],
)
def test_what_is_not_signed(station: Station, gauge: Guest, words: tuple[str, ...], told: str) -> None:
    path = estate(station, "let: mara, into: gauge, by: ssh, from: bench, with: certificate, until: 2099-01-01")
    if "bare" in words:
        run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(station.folder / "bare"))
        path.write_text(path.read_text().replace("crew: crew.pub", "crew: bare.pub"))
    said = station.nightlatch("key", "sign", *words, "--passphrase-file", "word", "--estate", path.name, code=None)
    assert told in said
    assert not (station.folder / "other-cert.pub").exists()


def test_a_revoked_certificate_opens_nothing(station: Station, gauge: Guest) -> None:
    """One of two certificates, then the key of both."""
    path = estate(station, "let: mara, into: gauge, by: ssh, from: bench, with: certificate")
    for kind in ("one", "two"):
        run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(station.folder / f"held-{kind}"))
        words = ("key", "sign", "mara", f"held-{kind}.pub", "--by", "crew", "--passphrase-file", "word", "--estate", path.name)
        station.nightlatch(*words)
    for number, (revoked, one, two) in enumerate((("", "in", "in"), ("held-one-cert.pub", "", "in"), ("held-two.pub", "", ""))):
        said = station.nightlatch("key", "revoke", *([revoked] if revoked else []), "--list", "revoked.krl")
        assert f"number {number + 1} " in said
        (gauge.root / "etc/ssh/revoked.krl").write_bytes((station.folder / "revoked.krl").read_bytes())
        found = [gets_in(station, gauge, "mara", station.desk, kind) for kind in ("one", "two")]
        assert found == [one, two], (revoked, said)


def test_a_host_s_certificate_is_taken_for_every_name_that_it_is_dialled_by(station: Station, gauge: Guest) -> None:
    path = estate(station, "let: mara, into: gauge, by: ssh, from: bench, with: certificate")
    path.write_text(path.read_text().replace("labels: [lab]}", "labels: [lab], dial: Gauge.skerry.example}"))
    public = gauge.root / "etc/ssh/ssh_host_ed25519_key.pub"
    (station.folder / "host.pub").write_text(public.read_text())
    words = ("key", "sign", "gauge", "host.pub", "--host", "--by", "crew", "--passphrase-file", "word", "--estate", str(path))
    said = station.nightlatch(*words, "--out", "host-cert.pub")
    assert "gauge.skerry.example, 192.168.56.21" in " ".join(said.split())
    assert f"@cert-authority * {(station.folder / 'crew.pub').read_text().strip()}" in " ".join(said.split())
    assert "valid" in run("ssh-keygen", "-L", "-f", str(station.folder / "host-cert.pub")).lower()
    (gauge.root / "etc/ssh/ssh_host_ed25519_key-cert.pub").write_text((station.folder / "host-cert.pub").read_text())
    (gauge.root / "etc/ssh/sshd_config.d/20-host.conf").write_text("HostCertificate /etc/ssh/ssh_host_ed25519_key-cert.pub\n")
    gauge.inside("systemctl", "reload", "ssh.service")
    gauge.until_listening()
    (station.folder / "known").write_text(f"@cert-authority * {(station.folder / 'crew.pub').read_text()}")
    for name, trusted in (("192.168.56.21", True), ("gauge.skerry.example", True), ("other.skerry.example", False)):
        options = (
            "StrictHostKeyChecking=yes",
            f"UserKnownHostsFile={station.folder}/known",
            "BatchMode=yes",
            f"HostKeyAlias={name}",
        )
        login = ["ssh", "-F", "none", *(word for each in options for word in ("-o", each)), "-i", str(station.folder / "desk")]
        done = subprocess.run(
            station.desk.words(*login, "keeper@192.168.56.21", "echo", "in"),
            capture_output=True,
            text=True,
            timeout=60,
            env=environment({}),
        )
        assert (done.stdout == "in\n") is trusted, done.stderr
    (station.folder / "host-cert.pub").unlink()
    for change, why in (
        (("host.pub", "mara.pub"), "which is not pinned for gauge (another is pinned): nightlatch meet gauge"),
        (("gauge", "gouge"), 'did you mean "gauge"?'),
    ):
        refused = station.nightlatch(
            *(change[1] if word == change[0] else word for word in words), "--out", "host-cert.pub", code=None
        )
        assert why in " ".join(refused.split()), refused
    assert not (station.folder / "host-cert.pub").exists()
