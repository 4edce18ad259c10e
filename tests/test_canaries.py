"""No secret of any format leaves a guest that is a folder: not into evidence, nor into anything that is printed."""

from __future__ import annotations

import gzip
import os
from pathlib import Path

import pytest

from nightlatch.evidence.selection import NOT_CARRIED
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.formats import keys
from nightlatch.ops.audit import audit_target
from nightlatch.ops.evidence import read_evidence, write_evidence
from nightlatch.ops.survey import survey_target
from tests import canaries
from tests.canaries import Canary
from tests.commands import COMMANDS
from tests.guests import AT, Guest, estate, pub

pytestmark = pytest.mark.judge("puttygen", "ssh-keygen")
GUEST = Guest("PasswordAuthentication yes\n", {"mara": pub("mara-desk") + "\n"})


@pytest.fixture(scope="module")
def held(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, list[Canary]]:
    home = tmp_path_factory.mktemp("estate")
    estate(home, "let: mara, into: gauge, by: ssh, from: bench, with: key")
    root = GUEST.write(home / "images/gauge")
    return home, canaries.place(root)


def test_nothing_of_it_is_in_an_archive(held: tuple[Path, list[Canary]], tmp_path: Path) -> None:
    home, made = held
    snapshot = survey_target(home / "images/gauge")
    write_evidence(snapshot, tmp_path / "x.evidence.tar.gz", AT)
    raw = gzip.decompress((tmp_path / "x.evidence.tar.gz").read_bytes())
    assert canaries.found(made, raw) == []
    assert read_evidence(tmp_path / "x.evidence.tar.gz") == Snapshot(
        snapshot.guest,
        snapshot.entries,
        snapshot.listed,
        snapshot.notes,
        read_evidence(tmp_path / "x.evidence.tar.gz").facts,
        {},
    )


def test_name_mode_and_fingerprint_are_told(held: tuple[Path, list[Canary]]) -> None:
    home, made = held
    snapshot = survey_target(home / "images/gauge")
    told = 0
    for each in made:
        entry = snapshot.entries[f"/home/mara/.ssh/{each.name}"]
        assert entry.mode == 0o600
        assert entry.content is None or entry.content.startswith(keys.REDUCED), each.name
        assert entry.content is not None or entry.note == NOT_CARRIED
        if each.derivable:
            assert each.fingerprint.encode() in (entry.content or b""), each.name
            told += 1
    assert told > 15
    assert snapshot.content("/home/mara/.ssh/notes.pub") == b"{not carried}\n"
    assert snapshot.content("/home/mara/.ssh/good.pub") == f"{canaries.KEY} token={{secret}}\n".encode()
    assert canaries.KEY.encode() in (snapshot.content("/home/mara/.ssh/authorized_keys2") or b""), "keys are kept"
    assert not [note for note in snapshot.notes if ".ssh/" in note], "what is not needed is no gap"


def test_nothing_of_it_is_printed(held: tuple[Path, list[Canary]]) -> None:
    home, made = held
    for words in (
        ("audit", "images/gauge"),
        ("audit", "--format", "json"),
        ("audit", "--format", "csv"),
        ("audit", "--format", "sarif"),
        ("draft",),
        ("draft", "--format", "json"),
        ("draft", "--script", "--on", "gauge"),
        ("exposure",),
        ("addresses",),
        ("survey", "estate.yaml", "--into", "kept"),
    ):
        done = COMMANDS.run(*words, cwd=home, env={**os.environ})
        assert done.returncode in (0, 1, 3, 4), done.stderr
        assert canaries.found(made, done.stdout.encode(), done.stderr.encode()) == [], words
    assert canaries.found(made, *(gzip.decompress(path.read_bytes()) for path in (home / "kept").rglob("*.gz"))) == []


def test_a_private_key_under_a_public_name_is_still_found(held: tuple[Path, list[Canary]]) -> None:
    home, _ = held
    found = [
        f
        for f in audit_target(survey_target(home / "images/gauge"), AT).guests[0].findings
        if f.check == "key.private-under-public-name"
    ]
    assert len(found) > 20


def test_what_a_canary_test_would_miss_is_not_nothing(held: tuple[Path, list[Canary]]) -> None:
    """The search itself finds every one of them in the guest's own tree."""
    home, made = held
    whole = b"".join(path.read_bytes() for path in (home / "images/gauge").rglob("*") if path.is_file())
    assert set(canaries.found(made, whole)) == {each.name for each in made} | {"text"}
