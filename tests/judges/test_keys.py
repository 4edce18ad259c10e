"""Key files against ssh-keygen, puttygen and openssl: what they wrote is read alike, and what is written here they read."""

from __future__ import annotations

import itertools
import os
import subprocess
from collections import Counter
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from nightlatch.faults import NightlatchError, RefusedError
from nightlatch.formats.keys import KeyFault
from nightlatch.formats.krl import KrlFault, RevocationList, parse
from nightlatch.formats.ssh_wire import string
from nightlatch.keys.forms import Form, read_private, read_public, written_private
from nightlatch.keys.halves import PassphraseFault, seed_of
from nightlatch.keys.made import make
from nightlatch.keys.told import Half, certificate_of
from nightlatch.ops import key as ops
from nightlatch.ops.key import convert_key, inspect_key
from nightlatch.ops.revoke import revoke_keys
from tests.budget import sample

pytestmark = pytest.mark.judge("ssh-keygen", "puttygen", "openssl")
WORD = "under the fourth plank"
AT = datetime(2026, 12, 1, tzinfo=UTC)
COMMENT = "mara at the tide gauge"
KINDS = {
    "ed25519": (("-t", "ed25519"), ("-t", "ed25519")),
    "rsa": (("-t", "rsa", "-b", "2048"), ("-t", "rsa", "-b", "2048")),
    "ecdsa-256": (("-t", "ecdsa", "-b", "256"), ("-t", "ecdsa", "-b", "256")),
    "ecdsa-384": (("-t", "ecdsa", "-b", "384"), ("-t", "ecdsa", "-b", "384")),
    "ecdsa-521": (("-t", "ecdsa", "-b", "521"), ("-t", "ecdsa", "-b", "521")),
}
# How the programs write a private half: ssh-keygen's ciphers and forms, puttygen's versions and ways to stretch a passphrase.
SSH_FORMS = {
    "default": (),
    "ctr": ("-Z", "aes128-ctr"),
    "cbc": ("-Z", "aes192-cbc"),
    "gcm": ("-Z", "aes256-gcm@openssh.com"),
    "rounds": ("-a", "3"),
    "pem": ("-m", "PEM"),
    "pkcs8": ("-m", "PKCS8"),
}
PUTTY_FORMS = ("version=2", "version=3,kdf=argon2id", "version=3,kdf=argon2i,passes=2", "version=3,kdf=argon2d,parallelism=2")
PRIVATE = tuple(form for form in Form if form.is_private)


@dataclass(frozen=True)
class Written:
    """A file that a program wrote, with what it says of its public half."""

    path: Path
    locked: bool
    line: tuple[str, str]
    writer: str


def called(*words: str, check: bool = True) -> str:
    done = subprocess.run(words, capture_output=True, text=True, timeout=120, stdin=subprocess.DEVNULL, umask=0o077)
    assert not check or done.returncode == 0, (words, done.stdout, done.stderr)
    return done.stdout


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Path:
    place = tmp_path_factory.mktemp("keys")
    (place / "word").write_text(WORD + "\n")
    (place / "empty").write_text("\n")
    return place


def by_ssh_keygen(place: Path, kind: str, form: str, *, locked: bool) -> Written:
    path = place / f"ssh-{kind}-{form}-{locked}"
    called("ssh-keygen", "-q", *KINDS[kind][0], *SSH_FORMS[form], "-N", WORD if locked else "", "-C", COMMENT, "-f", str(path))
    algorithm, text, _ = path.with_name(f"{path.name}.pub").read_text().split(" ", 2)
    return Written(path, locked, (algorithm, text), f"ssh-keygen {form}")


def by_puttygen(place: Path, kind: str, form: str, *, locked: bool) -> Written:
    path = place / f"putty-{kind}-{form.replace(',', '-')}-{locked}"
    word = str(place / ("word" if locked else "empty"))
    made = ("--new-passphrase", word, "--ppk-param", form, "-C", COMMENT, "-o", str(path))
    called("puttygen", "-q", *KINDS[kind][1], *made, "--random-device", "/dev/urandom")
    algorithm, text = called("puttygen", str(path), "-L", "--old-passphrase", word).split(" ")[:2]
    return Written(path, locked, (algorithm, text), f"puttygen {form}")


@pytest.fixture(scope="module")
def files(place: Path) -> list[Written]:
    """Every kind in every form, locked and not."""
    out = []
    for kind, locked in itertools.product(KINDS, (False, True)):
        for form in SSH_FORMS:
            if (form == "rounds" or "-Z" in SSH_FORMS[form]) and not locked:
                continue
            out.append(by_ssh_keygen(place, kind, form, locked=locked))
        out += [by_puttygen(place, kind, form, locked=locked) for form in PUTTY_FORMS]
    return out


def read_back(path: Path, form: Form, place: Path, *, locked: bool) -> tuple[str, str, str]:
    """Algorithm, base64 and comment of a private half, as the program says whose form it is."""
    if form is Form.PPK:
        word = str(place / ("word" if locked else "empty"))
        line = called("puttygen", str(path), "-O", "public-openssh", "--old-passphrase", word)
    elif form is Form.PKCS8:
        public = called("openssl", "pkey", "-in", str(path), "-passin", f"pass:{WORD}", "-pubout")
        (place / "spki.pem").write_text(public)
        if "ED25519" in called("openssl", "pkey", "-pubin", "-in", str(place / "spki.pem"), "-noout", "-text_pub"):
            return "", "", ""  # ssh-keygen reads no PEM of this kind; openssl did
        line = called("ssh-keygen", "-i", "-m", "PKCS8", "-f", str(place / "spki.pem"))
    else:
        line = called("ssh-keygen", "-y", "-P", WORD if locked else "", "-f", str(path))
    algorithm, text, *comment = line.strip().split(" ", 2)
    return algorithm, text, comment[0] if comment else ""


def has_none(written: Written, form: Form) -> bool:
    """PKCS#1 and SEC 1 have no Ed25519, and no lock that is worth the name."""
    return form is Form.PKCS1 and (written.locked or written.line[0] == "ssh-ed25519")


def test_private_halves_go_through_every_form(files: list[Written], place: Path) -> None:
    tried: Counter[str] = Counter()
    for number, (written, form) in enumerate(sample([*itertools.product(files, PRIVATE)], 7)):
        out = place / f"out-{number}-{form}"
        if has_none(written, form):
            with pytest.raises(NightlatchError, match="MD5" if written.line[0] != "ssh-ed25519" else "no Ed25519"):
                convert_key(written.path, form, out, lambda path, number: WORD)
            assert not out.exists()
            continue
        convert_key(written.path, form, out, lambda path, number: WORD)
        assert out.stat().st_mode & 0o777 == 0o600
        algorithm, text, comment = read_back(out, form, place, locked=written.locked)
        assert (algorithm, text) in (written.line, ("", "")), (written, form)
        carried = "pem" not in written.writer and "pkcs8" not in written.writer and form in (Form.OPENSSH, Form.PPK)
        assert comment == COMMENT or not carried, (written, form, comment)
        tried[form] += 1
    assert len(tried) == len(PRIVATE)
    print(dict(tried))


def test_a_wrong_passphrase_opens_nothing_and_nothing_is_written_over(files: list[Written], place: Path) -> None:
    for written in sample(files, 4):
        if written.locked:
            with pytest.raises(NightlatchError, match="passphrase is wrong"):
                convert_key(written.path, Form.OPENSSH, place / "never", lambda path, number: "another")
        with pytest.raises(RefusedError, match="there already"):
            convert_key(written.path, Form.OPENSSH, place / "word", lambda path, number: WORD)
    assert not (place / "never").exists()


def test_files_are_told_as_the_programs_tell_them(files: list[Written]) -> None:
    hidden = 0
    for written in files:
        found = inspect_key(written.path, AT)
        (key,) = found.keys
        assert key.half is Half.PRIVATE
        assert key.locked is written.locked, written
        if not key.sha256:
            assert written.locked
            assert "pem" in written.writer or "pkcs8" in written.writer
            hidden += 1
            (key,) = inspect_key(written.path, AT, lambda path, number: WORD).keys
        public = written.path.with_name(f"{written.path.name}.line")
        public.write_text(" ".join(written.line) + "\n")
        for style, print_ in (("sha256", key.sha256), ("md5", key.md5)):
            bits, theirs, *_, kind = called("ssh-keygen", "-l", "-E", style, "-f", str(public)).split()
            assert (str(key.bits), print_, f"({key.kind.upper()})") == (bits, theirs, kind), written
    assert hidden == 2 * (len(KINDS) - 1)  # Ed25519 is written in OpenSSH's form all the same


def test_public_halves_both_ways(files: list[Written], place: Path) -> None:
    for written in [each for each in files if not each.locked]:
        line = place / "public.pub"
        line.write_text(" ".join(written.line) + f" {COMMENT}\n")
        for form, words in ((Form.RFC4716, ("-m", "RFC4716")), (Form.SPKI, ("-m", "PKCS8"))):
            ours = convert_key(line, form, None, lambda path, number: None).content
            (place / "ours").write_bytes(ours)
            back = convert_key(place / "ours", Form.LINE, None, lambda path, number: None).content.decode().split()
            assert tuple(back[:2]) == written.line
            if form is Form.SPKI and written.line[0] == "ssh-ed25519":
                called("openssl", "pkey", "-pubin", "-in", str(place / "ours"), "-noout")
                continue
            assert tuple(called("ssh-keygen", "-i", *words, "-f", str(place / "ours")).split()[:2]) == written.line
            theirs = called("ssh-keygen", "-e", *words, "-f", str(line))
            (place / "theirs").write_text(theirs)
            assert inspect_key(place / "theirs", AT).keys[0].sha256 == inspect_key(line, AT).keys[0].sha256


def test_certificates_are_told_as_ssh_keygen_tells_them(place: Path) -> None:
    called("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(place / "authority"))
    cases = [
        ("user", ["-n", "mara,joon", "-z", "7", "-V", "20261101000000Z:20270101000000Z", "-O", "source-address=192.0.2.0/24"]),
        (
            "limited",
            ["-n", "mara", "-O", "clear", "-O", "force-command=/usr/bin/tide", "-O", "permit-pty", "-V", "always:forever"],
        ),
        ("host", ["-h", "-n", "gauge.skerry.example", "-z", "18446744073709551615", "-V", "20240101000000Z:20250101000000Z"]),
        ("anybody", ["-V", "20301101000000Z:20310101000000Z"]),
    ]
    for name, words in cases:
        path = place / name
        called("ssh-keygen", "-q", *KINDS["rsa" if name == "limited" else "ecdsa-256"][0], "-N", "", "-f", str(path))
        called("ssh-keygen", "-q", "-s", str(place / "authority"), "-I", f"{name} of skerry", *words, f"{path}.pub")
        (key,) = inspect_key(place / f"{name}-cert.pub", AT).keys
        text = subprocess.run(
            ["ssh-keygen", "-L", "-f", f"{path}-cert.pub"],
            capture_output=True,
            text=True,
            check=True,
            env={"TZ": "UTC", "PATH": os.environ["PATH"]},
        ).stdout
        signed = key.signed
        assert signed is not None
        assert f"{signed.kind} certificate" in text
        assert f'Key ID: "{signed.key_id}"' in text
        assert f"Serial: {signed.serial}\n" in text
        assert f" {signed.authority} " in text
        assert f" {key.sha256}\n" in text
        lines = [line.strip() for line in text.splitlines()]
        at = lines.index(next(line for line in lines if line.startswith("Principals:")))
        theirs = lines[at + 1 : at + 1 + len(signed.principals)]
        assert tuple(theirs) == signed.principals
        since = f"{signed.since:%Y-%m-%dT%H:%M:%S}" if signed.since else "always"
        until = f"{signed.until:%Y-%m-%dT%H:%M:%S}" if signed.until else "forever"
        assert ("Valid: forever" in text) if (since, until) == ("always", "forever") else (f"from {since} to {until}" in text)
        assert all(option in lines for option in signed.extensions)
        assert all(
            any(line.startswith(option) and value.strip("\0") in line for line in lines) for option, value in signed.critical
        )
        assert ("ended" in {f.value for f in key.faults}) is (name == "host")
        assert ("not yet" in {f.value for f in key.faults}) is (name == "anybody")


@pytest.mark.parametrize("kind, bits", [("ed25519", None), ("rsa", 3072), ("ecdsa", 384)])
@pytest.mark.parametrize("word", [None, WORD])
def test_new_keys_are_keys_for_ssh(place: Path, kind: str, bits: int | None, word: str | None) -> None:
    path = place / f"new-{kind}-{bool(word)}"
    new = ops.make_key(path, kind, bits, COMMENT, word)
    line = called("ssh-keygen", "-y", "-P", word or "", "-f", str(path))
    assert line == new.public_path.read_text()
    if word:
        assert called("ssh-keygen", "-y", "-P", "another", "-f", str(path), check=False) == ""
    assert (path.stat().st_mode & 0o777, new.public_path.stat().st_mode & 0o777) == (0o600, 0o644)


def test_an_ed25519_key_whose_last_byte_is_nothing(place: Path) -> None:
    """puttygen writes the number without the zeros at its end: one key of 256."""
    for _ in range(3000):
        key = make("ed25519", None, "short")
        assert isinstance(key.secret, Ed25519PrivateKey)
        if seed_of(key.secret)[-1] == 0:
            break
    path = place / "short.ppk"
    path.write_bytes(written_private(key, Form.PPK, None, os.urandom))
    called("puttygen", str(path), "--reencrypt", "--new-passphrase", str(place / "empty"), "-o", str(place / "again.ppk"))
    assert read_private((place / "again.ppk").read_bytes()).public == key.public
    with pytest.raises(PassphraseFault):
        read_private(written_private(key, Form.PPK, b"x", os.urandom), b"y")
    with pytest.raises(KeyFault):
        read_private(path.read_bytes().replace(b"Comment: short", b"Comment: shorn"))


def test_lists_of_revoked_keys(place: Path) -> None:
    """Lists that ssh-keygen made, put on by us, and asked by ssh-keygen of every key and certificate."""
    called("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(place / "signer"))
    called("ssh-keygen", "-q", "-t", "ecdsa", "-N", "", "-f", str(place / "signer2"))
    subjects: list[Path] = []
    for number in range(14):
        path = place / f"r{number}"
        called("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", f"key {number}", "-f", str(path))
        serial = (0, 5, 6, 7, 40, 41, 43, 2**63 + 1)[number % 8]
        by = str(place / ("signer" if number % 3 else "signer2"))
        called("ssh-keygen", "-q", "-s", by, "-I", f"id {number}", "-n", "mara", "-z", str(serial), f"{path}.pub")
        subjects += [path.with_name(f"r{number}.pub"), path.with_name(f"r{number}-cert.pub")]
    rules = ("serial: 5-6", "serial: 40\nserial: 41\nserial: 43\nserial: 45", "id: id 8", "", "serial: 9223372036854775809")
    asked = revoked = 0
    for number, rule in enumerate(rules):
        path = place / f"list{number}"
        if rule:
            (place / "rules").write_text(rule + "\n")
            ca = ("-s", str(place / "signer.pub")) if number % 2 == 0 else ("-s", "none")
            called("ssh-keygen", "-q", "-k", "-f", str(path), *ca, "-z", "6", str(place / "rules"))
            (place / "hashes").write_text("hash: " + read_public((place / "r3.pub").read_bytes()).fingerprint + "\n")
            called("ssh-keygen", "-q", "-k", "-u", "-f", str(path), *ca, "-z", "7", str(place / "hashes"))
        before = {each for each in subjects if is_revoked(path, each)} if rule else set()
        for step in (subjects[number::7], subjects[number + 1 :: 9]):
            found = revoke_keys(path, step, AT)
            for each in found.files:
                assert each.was_there is (each.path in before), (rule, each)
            for subject in subjects:
                theirs = is_revoked(path, subject)
                ours = on_list(found.list, subject)
                assert theirs is ours, (rule, subject, found.list)
                asked, revoked = asked + 1, revoked + theirs
                assert theirs or (subject not in step and subject not in before)
            before = {each for each in subjects if is_revoked(path, each)}
        again = revoke_keys(path, step, AT)
        assert (again.list.number, all(each.was_there for each in again.files)) == (found.list.number, True)
    assert asked > 2 * revoked > 100, (asked, revoked)
    print(f"lists of revoked keys: {asked} asked, {revoked} on them")


def test_lists_that_sshd_does_not_take(place: Path) -> None:
    """Another form, an unknown section, a cut: where the list is refused so is every key, and both say so."""
    called("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(place / "other"))
    called("ssh-keygen", "-q", "-k", "-f", str(place / "whole"), str(place / "other.pub"))
    whole = (place / "whole").read_bytes()
    changed = [whole, whole[:8] + bytes(4) + whole[12:], whole[:11] + b"\2" + whole[12:]]
    changed += [whole + bytes([kind]) + string(b"") for kind in (0, 6, 9, 254)]
    changed += [whole[:end] for end in range(1, len(whole), 7)]
    for raw in changed:
        (place / "changed").write_bytes(raw)
        done = subprocess.run(["ssh-keygen", "-Q", "-f", place / "changed", place / "other.pub"], capture_output=True, text=True)
        theirs = "Invalid KRL file" in done.stderr
        try:
            parse(raw)
            ours = False
        except KrlFault:
            ours = True
        assert ours is theirs, (raw, done.stderr)


def is_revoked(path: Path, subject: Path) -> bool:
    return "REVOKED" in called("ssh-keygen", "-Q", "-f", str(path), str(subject), check=False)


def on_list(found: RevocationList, subject: Path) -> bool:
    """What sshd takes as on a list: the certificate, the key in it, or the key that signed it."""
    signed = certificate_of(subject.read_bytes())
    return found.has(signed) if signed is not None else found.has_key(read_public(subject.read_bytes()))
