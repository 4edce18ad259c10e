"""Key files at the command line: nothing is written over, nothing of a private half is shown, and what is wrong is told."""

from __future__ import annotations

import contextlib
import json
import os
import pty
import select
import stat
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as some

from nightlatch.cli.key import FORMS
from nightlatch.formats.keys import KeyFault
from nightlatch.formats.krl import EMPTY, KrlFault, RevokedCertificate, extended
from nightlatch.formats.krl import parse as read_list
from nightlatch.keys.forms import Form, read_private, read_public, written_private, written_public
from nightlatch.keys.halves import PrivateKey
from nightlatch.keys.made import make
from nightlatch.keys.told import told
from tests.canaries import windows
from tests.commands import COMMANDS, Done
from tests.guests import AT

WORD = "under the fourth plank"
KEYS = [make("ed25519", None, "mara"), make("ecdsa", 256, "joon of the boats"), make("rsa", None, "")]
PRIVATE = [Form.OPENSSH, Form.PPK, Form.PKCS8, Form.PKCS1]


def run(place: Path, *words: str) -> Done:
    return COMMANDS.run("key", *words, cwd=place, env={"PATH": "/usr/bin:/bin", "LC_ALL": "C.UTF-8"})


@pytest.fixture
def place(tmp_path: Path) -> Iterator[Path]:
    word = tmp_path / "word"
    word.touch(0o600)
    word.write_text(WORD + "\n")
    yield tmp_path
    # Whatever a test did: nothing but the files that are meant for it holds the passphrase.
    assert [each.name for each in tmp_path.rglob("*") if each.is_file() and WORD.encode() in each.read_bytes()] == ["word"]


def at_a_terminal(place: Path, words: list[str], answers: list[str]) -> tuple[int, str]:
    """Run the command at a terminal of its own; each time it asks with a colon at the end, the next answer is typed."""
    ours, theirs = pty.openpty()
    process = subprocess.Popen(
        [sys.executable, "-m", "nightlatch.cli", "key", *words],
        cwd=place, stdin=theirs, stdout=theirs, stderr=theirs, start_new_session=True, env={**os.environ, "TERM": "dumb"},
    )  # fmt: skip
    os.close(theirs)
    said, new, end = "", "", time.monotonic() + 60
    with contextlib.suppress(OSError):  # the other end is closed when it has ended
        while time.monotonic() < end:
            if select.select([ours], [], [], 1)[0]:
                part = os.read(ours, 4096).decode()
                said, new = said + part, new + part
                if not part:
                    break
            if answers and new.endswith(": "):
                time.sleep(0.2)  # what is typed before the question stands is thrown away
                os.write(ours, answers.pop(0).encode() + b"\n")
                new = ""
    os.close(ours)
    return process.wait(20), said


def test_the_command_knows_all_forms() -> None:
    """Its `--help` loads none of them."""
    assert tuple(Form) == FORMS


def test_a_key_is_made_once(place: Path) -> None:
    done = run(place, "make", "mara", "--passphrase-file", "word", "--comment", "mara at the desk")
    assert done.returncode == 0, done.stderr
    assert [stat.S_IMODE((place / each).stat().st_mode) for each in ("mara", "mara.pub")] == [0o600, 0o644]
    before = (place / "mara").read_bytes()
    for there in ("mara", "mara.pub"):
        again = run(place, "make", "mara", "--no-passphrase")
        assert (again.returncode, f"{there} is there already" in again.stderr) == (4, True)
        (place / there).rename(place / f"{there}-kept")
    assert (place / "mara-kept").read_bytes() == before
    for there in ("mara", "mara.pub"):
        (place / f"{there}-kept").rename(place / there)
    assert not any(piece in (done.stdout + done.stderr).encode() for piece in windows(before))
    seen = run(place, "inspect", "mara", "mara.pub")
    assert seen.returncode == 0
    assert seen.stdout.count("SHA256:") == 2
    assert "a passphrase is on it" in seen.stdout
    assert not any(piece in seen.stdout.encode() for piece in windows(before))


@pytest.mark.parametrize(
    "words, told",
    [
        (["make", "x", "--no-passphrase", "--kind", "rsa", "--bits", "2048"], "3072 to 16384 bits, not with 2048"),
        (["make", "x", "--no-passphrase", "--kind", "ecdsa", "--bits", "255"], "256, 384, 521 bits, not 255"),
        (["make", "x", "--no-passphrase", "--bits", "512"], "256 bits and no other size"),
        (["make", "x.pub", "--no-passphrase"], "a name that says public"),
        (["make", "nowhere/x", "--no-passphrase"], "nowhere/x can't be written: No such file"),
        (["make", "x"], "nobody is at a terminal to type a passphrase: say --passphrase-file FILE, or --no-passphrase"),
        (["make", "x", "--no-passphrase", "--passphrase-file", "word"], "one or the other"),
        (["make", "x", "--passphrase-file", "open"], "may be read by others"),
        (["make", "x", "--no-passphrase", "--comment", "a\x1b[2Jb"], "characters that can't be shown"),
        (["make", "x", "--passphrase-file", "endless"], "more than 1000 characters"),
        (["inspect", "nothing"], "nothing can't be read: No such file"),
        (["inspect", "word"], "word: the file holds no key"),
        (["inspect", "."], "can't be read: Is a directory"),
        (["convert", "key.pub", "--to", "openssh", "--out", "x"], "the file holds no private half"),
        (["convert", "key", "--to", "pkcs8"], "name the file to write with --out"),
        (["convert", "key", "--to", "ppk", "--out", "x"], "a passphrase is on the file; type it at a terminal"),
        (["convert", "key", "--to", "ppk", "--out", "x", "--passphrase-file", "wrong"], "key: the passphrase is wrong"),
        (["convert", "key", "--to", "ppk", "--out", "open", "--passphrase-file", "word"], "open is there already"),
        (["convert", "key", "--to", "pkcs1", "--out", "x", "--passphrase-file", "word"], "one round of MD5"),
    ],
)  # fmt: skip
def test_what_is_refused_is_said_and_nothing_is_written(place: Path, words: list[str], told: str) -> None:
    (place / "open").write_text("a word\n")
    (place / "open").chmod(0o644)
    (place / "wrong").touch(0o600)
    (place / "endless").touch(0o600)
    (place / "endless").write_text("plank " * 1000)
    (place / "wrong").write_text("another\n")
    key = make("ecdsa", 256, "joon")
    (place / "key").write_bytes(written_private(key, Form.OPENSSH, WORD.encode(), os.urandom))
    (place / "key.pub").write_bytes(written_public(key.public, Form.LINE))
    before = {each: each.read_bytes() for each in place.iterdir()}
    done = run(place, *words)
    assert done.returncode in (2, 3, 4)
    assert told in done.stderr, done.stderr
    assert {each: each.read_bytes() for each in place.iterdir()} == before


def test_a_passphrase_is_typed_at_a_terminal_and_not_shown(place: Path) -> None:
    code, said = at_a_terminal(place, ["make", "gate"], [WORD, WORD])
    assert code == 0, said
    assert WORD not in said
    code, said = at_a_terminal(place, ["make", "other"], [WORD, "another"])
    assert (code, "the two are not the same" in said, (place / "other").exists()) == (2, True, False)
    code, said = at_a_terminal(place, ["convert", "gate", "--to", "ppk", "--out", "gate.ppk"], ["another", WORD])
    assert code == 0, said
    assert read_private((place / "gate.ppk").read_bytes(), WORD.encode()).locked


def test_what_is_wrong_with_a_file_is_told(place: Path) -> None:
    key, other = KEYS[0], KEYS[1]
    (place / "public-key").write_bytes(written_private(key, Form.OPENSSH, None, os.urandom))
    (place / "public-key").chmod(0o640)
    (place / "public-key.pub").write_bytes(written_public(other.public, Form.LINE))
    subprocess.run(["ssh-keygen", "-q", "-t", "rsa", "-b", "1024", "-N", "", "-f", "short"], cwd=place, check=True)
    done = run(place, "inspect", "public-key", "short", "--format", "json")
    assert done.returncode == 1
    first, second = json.loads(done.stdout)["files"]
    assert set(first["keys"][0]["faults"]) == {
        "open to others", "named like a public half", "another public half beside it", "no passphrase",
    }  # fmt: skip
    assert set(second["keys"][0]["faults"]) == {"short rsa", "no passphrase"}
    text = run(place, "inspect", "public-key").stdout
    assert "chmod 600 public-key" in text
    assert "public half of another key" in text


def test_a_comment_is_no_command_for_a_terminal(place: Path) -> None:
    key = replace(KEYS[0], comment="mara\x1b]0;gone\x07\ndesk")
    (place / "odd").write_bytes(written_private(key, Form.OPENSSH, None, os.urandom))
    for form in ("line", "rfc4716"):
        shown = run(place, "convert", "odd", "--to", form).stdout
        assert "mara?]0;gone? desk" in shown
        assert shown.replace("\n", "").isprintable()
    assert run(place, "inspect", "odd").stdout.replace("\n", "").isprintable()


def test_many_keys_in_one_file(place: Path) -> None:
    line = written_public(KEYS[0].public, Form.LINE).decode()
    times = []
    for count in (10_000, 100_000):
        (place / "many").write_text("# keys of the station\n" + f'from="192.0.2.0/24" {line}' * count)
        start = time.monotonic()
        keys = told((place / "many").read_bytes(), AT)
        times.append(time.monotonic() - start)
        assert len(keys) == count
        assert (keys[-1].line, keys[-1].before, keys[-1].comment) == (count + 1, 'from="192.0.2.0/24"', "mara")
    assert times[1] < 10 * times[0] * 2.5
    done = run(place, "inspect", "many")
    assert "100000 keys" in done.stdout
    assert "... and 99960 more" in done.stdout


def test_a_key_of_a_megabyte_is_no_key_and_takes_no_time(place: Path) -> None:
    (place / "large").write_text("ssh-rsa AAAA" + "A" * (1 << 20) + " mara\n")
    start = time.monotonic()
    assert "holds no key" in run(place, "inspect", "large").stderr
    assert time.monotonic() - start < 5


@settings(max_examples=30, deadline=None)
@given(some.sampled_from(KEYS), some.sampled_from(PRIVATE), some.text(max_size=40), some.booleans())
def test_private_halves_come_back(key: PrivateKey, form: Form, comment: str, locked: bool) -> None:
    made = replace(key, comment=comment)
    word = WORD.encode() if locked and form in (Form.OPENSSH, Form.PPK) else None
    if form is Form.PKCS1 and made.public.kind == "Ed25519":
        return
    raw = written_private(made, form, word, os.urandom)
    back = read_private(raw, word)
    assert back.public.blob == made.public.blob
    if form in (Form.OPENSSH, Form.PPK):
        assert back.comment == (comment if form is Form.OPENSSH else " ".join(comment.split()))
    line = written_public(made.public, Form.LINE)
    assert line.count(b"\n") == 1
    for public in (Form.LINE, Form.RFC4716, Form.SPKI):
        assert read_public(written_public(made.public, public)).blob == made.public.blob


@settings(max_examples=300, deadline=None)
@given(some.sampled_from(KEYS), some.sampled_from(PRIVATE), some.data())
def test_broken_files_are_told_and_nothing_else(key: PrivateKey, form: Form, data: some.DataObject) -> None:
    if form is Form.PKCS1 and key is KEYS[0]:
        return
    raw = bytearray(written_private(key, form, None, os.urandom))
    for _ in range(data.draw(some.integers(1, 3))):
        at = data.draw(some.integers(0, len(raw) - 1))
        raw[at : at + data.draw(some.integers(0, 3))] = data.draw(some.binary(max_size=4))
    for reading in (read_private, read_public, lambda raw: told(raw, AT)):
        with contextlib.suppress(KeyFault):
            reading(bytes(raw))


@settings(max_examples=200, deadline=None)
@given(some.data())
def test_a_broken_list_is_told_and_nothing_else(data: some.DataObject) -> None:
    whole = extended(replace(EMPTY, comment="station"), [KEYS[0].public], [RevokedCertificate(KEYS[1].public.blob, 7, "x")], AT)
    whole = extended(read_list(whole), [], [RevokedCertificate(KEYS[1].public.blob, 0, "by name")], AT)
    assert read_list(whole).number == 2
    raw = bytearray(whole)
    for _ in range(data.draw(some.integers(1, 3))):
        at = data.draw(some.integers(0, len(raw) - 1))
        raw[at : at + data.draw(some.integers(0, 3))] = data.draw(some.binary(max_size=4))
    with contextlib.suppress(KrlFault):
        read_list(bytes(raw))


def test_what_is_not_put_on_a_list(place: Path) -> None:
    (place / "text").write_bytes(written_public(KEYS[0].public, Form.LINE))
    for words, said in (
        (["text", "--list", "text"], "no list of revoked keys in OpenSSH's binary form"),
        (["word", "--list", "new"], "word: "),
        (["--list", "new"], "there is no such list"),
        (["text", "--list", "nowhere/new"], "can't be written"),
    ):
        done = run(place, "revoke", *words)
        assert done.returncode in (2, 3)
        assert said in done.stderr
    assert sorted(each.name for each in place.iterdir()) == ["text", "word"]
    assert run(place, "revoke", "text", "--list", "new").returncode == 0
    assert "key revoke --list FILE" in run(place, "inspect", "new").stderr
    first = (place / "new").read_bytes()
    assert "was there" in run(place, "revoke", "text", "--list", "new").stdout
    assert (place / "new").read_bytes() == first
    shown = run(place, "revoke", "--list", "new").stdout
    assert KEYS[0].public.fingerprint in shown
