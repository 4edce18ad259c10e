"""A guest is hostile until shown otherwise: whatever its files hold, the audit and the draft come to an end in time."""

from __future__ import annotations

import random
import time
from dataclasses import replace
from pathlib import Path

import pytest

from nightlatch.access.grants import address_spaces
from nightlatch.access.paths import guest_access
from nightlatch.audit.run import guest_audit
from nightlatch.demo.build import build
from nightlatch.estate.load import load as load_estate
from nightlatch.estate.model import Estate
from nightlatch.evidence.snapshot import Entry, EntryKind, Snapshot
from nightlatch.faults import EstateError, RefusedError
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.survey import survey
from nightlatch.readings import guest as readings
from tests.guests import AT

PIECES = [
    b"Match ",
    b"Include *",
    b"all\n",
    b"user ",
    b"!",
    b",",
    b"*",
    b"?",
    b'"',
    b"'",
    b"\\",
    b"#",
    b"=",
    b"\0",
    b"\xff",
    b"\n",
    b"\r\n",
    b"AuthenticationMethods publickey,",
    b"AllowUsers a@b,",
    b"from=",
    b"restrict,",
    b'command="',
    b"ssh-ed25519 AAAA",
    b":x:0:0::/:",
    b"@include sshd",
    b"[success=1",
    b" ALL=(ALL) ALL",
    b"%",
    b"/" * 50,
    b"../",
    b"A" * 3000,
    b"1" * 60,
    b"-1",
    b"*" * 200,
    b"User_Alias A = A\n",
    b"LocalAddress ",
]


@pytest.fixture(scope="module")
def skerry(tmp_path_factory: pytest.TempPathFactory) -> tuple[Estate, list[Snapshot]]:
    made = load_estate(build(tmp_path_factory.mktemp("h") / "skerry"))
    return made, [s.snapshot for s in survey(made) if s.snapshot is not None]


def spoiled(r: random.Random, snapshot: Snapshot) -> Snapshot:
    """The guest with some files, modes and links made odd."""
    entries = dict(snapshot.entries)
    files = [p for p, e in entries.items() if e.kind is EntryKind.FILE and e.content is not None]
    for path in r.sample(files, r.randint(1, 6)):
        content = bytearray(entries[path].content or b"")
        for _ in range(r.randint(1, 8)):
            at = r.randint(0, len(content))
            content[at : at + r.choice((0, 0, 1, 5, 40))] = r.choice(PIECES)
        entries[path] = replace(entries[path], content=bytes(content), size=len(content))
    for path in r.sample(list(entries), r.randint(0, 4)):
        entry = entries[path]
        odd = (
            replace(entry, mode=r.choice((0, 0o777, 0o4755, 0o600)), uid=r.choice((0, 1001, 4294967294))),
            Entry(EntryKind.LINK, 0o777, target=r.choice((path, "..", "/", "/etc/shadow", "a" * 300, ""))),
            Entry(EntryKind.OTHER, note="is a device, socket or pipe"),
            Entry(EntryKind.ABSENT),
            replace(entry, content=None, note="is too large") if entry.kind is EntryKind.FILE else entry,
        )
        if path != "/":
            entries[path] = r.choice(odd)
    return Snapshot(snapshot.guest, entries, snapshot.listed, snapshot.notes)


@pytest.mark.parametrize("seed", range(12))
def test_spoiled_guests_are_audited_and_drafted(skerry: tuple[Estate, list[Snapshot]], seed: int) -> None:
    made, snapshots = skerry
    for number in range(20):
        r = random.Random(seed * 1000 + number)
        snapshot = spoiled(r, r.choice(snapshots))
        started = time.process_time()
        access = guest_access(readings.read(snapshot), AT, address_spaces(made))
        audit = guest_audit(access, AT, made)
        for finding in audit.findings:
            assert finding.text
            assert finding.proofs, finding
        for path in access.paths:
            for space, surely in path.callers.surely.items():
                assert surely <= path.callers.perhaps[space], "surely is within perhaps"
            assert path.callers.surely == path.callers.perhaps or path.callers.because, "what is undecided says why"
        if number % 10 == 0:
            try:
                prove(made, draft(made, snapshot, AT), snapshot, AT)
            except RefusedError:
                pass
        assert time.process_time() - started < 20, f"seed {seed}, guest {number}"


SLOW = [
    ("many stars", "/etc/ssh/sshd_config", b"Match User " + b"*a" * 4000 + b"\nBanner none\n"),
    (
        "many patterns",
        "/etc/ssh/sshd_config",
        b"Match Address " + b",".join(b"10.%d.%d.*" % (i % 256, i // 256) for i in range(4000)) + b"\nBanner none\n",
    ),
    (
        "many blocks",
        "/etc/ssh/sshd_config",
        b"".join(b"Match Address 10.%d.0.0/16\nBanner none\n" % (i % 256) for i in range(600)),
    ),
    ("scattered wildcards", "/etc/ssh/sshd_config", b"".join(b"Match Address *.%d\nBanner none\n" % i for i in range(30))),
    ("long spaces", "/etc/nftables.conf", b" " * 900_000 + b"x"),
    ("long rule", "/etc/sudoers", b"mara ALL = " + b"a, " * 100_000 + b"\n"),
    ("long spaces in a rule", "/etc/sudoers", b"mara" + b" " * 500_000 + b"x\n"),
    ("aliases in a ring", "/etc/sudoers", b"User_Alias A = B, B\nUser_Alias B = A, A\nA ALL = ALL\n"),
    ("many keys", "/home/mara/.ssh/authorized_keys", b"ssh-ed25519 AAAA x\n" * 40_000),
    ("one long option", "/home/mara/.ssh/authorized_keys", b'from="' + b"*," * 30_000 + b'x" ssh-ed25519 AAAA\n'),
    ("many groups", "/etc/group", b"".join(b"g%d:x:%d:mara\n" % (i, i) for i in range(20_000))),
    ("many accounts", "/etc/passwd", b"".join(b"u%d:x:%d:1::/home/u%d:/bin/bash\n" % (i, i, i) for i in range(3000))),
    ("a PAM stack that includes itself", "/etc/pam.d/sshd", b"@include sshd\n" * 50),
]


@pytest.mark.parametrize("name, path, content", SLOW, ids=[s[0] for s in SLOW])
def test_nothing_takes_for_ever(skerry: tuple[Estate, list[Snapshot]], name: str, path: str, content: bytes) -> None:
    made, snapshots = skerry
    entries = {
        **snapshots[0].entries,
        path: Entry(EntryKind.FILE, 0o440 if "sudoers" in path else 0o644, size=len(content), content=content),
    }
    started = time.process_time()
    access = guest_access(readings.read(Snapshot("gauge", entries, snapshots[0].listed)), AT, address_spaces(made))
    guest_audit(access, AT, made)
    assert time.process_time() - started < 20


def test_an_estate_of_odd_bytes_ends_in_one_message(tmp_path: Path) -> None:
    text = (build(tmp_path / "skerry")).read_bytes()
    for seed in range(60):
        r = random.Random(seed)
        content = bytearray(text)
        for _ in range(r.randint(1, 6)):
            at = r.randint(0, len(content))
            content[at : at + r.choice((0, 1, 3))] = r.choice(
                [
                    b"{",
                    b"}",
                    b"[",
                    b":",
                    b"- ",
                    b"\n",
                    b"\t",
                    b"'",
                    b"&a ",
                    b"*a",
                    b"!!x ",
                    b"\x00",
                    b"\xff",
                    b"? ",
                    b"|",
                    b"<<: ",
                    b"---\n",
                ]
            )
        (tmp_path / "skerry/estate.yaml").write_bytes(bytes(content))
        message = ""
        try:
            load_estate(tmp_path / "skerry/estate.yaml")
        except EstateError as error:
            message = str(error)
        assert not message or message.startswith(str(tmp_path))
