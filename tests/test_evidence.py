"""Evidence: folders are read without ever leaving them, archives without unpacking; both bounded, secrets reduced."""

from __future__ import annotations

import gzip
import io
import json
import os
import tarfile
from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.evidence import archive
from nightlatch.evidence.extra_paths import ExtraPaths
from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.faults import NightlatchError, UnreadableError
from nightlatch.ops.audit import audit_target
from nightlatch.ops.evidence import read_evidence, write_evidence
from nightlatch.ops.survey import survey_target
from tests.guests import AT, Guest, pub

GUEST = Guest("PasswordAuthentication no\n", {"mara": pub("mara-desk") + "\n"}, passwords={"mara": "$6$salt$verysecrethash"})


def collected(root: Path) -> Snapshot:
    return survey_target(root, "gauge")


def test_hashes_and_private_keys_never_enter_evidence(tmp_path: Path) -> None:
    from cryptography.hazmat.primitives import serialization
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    root = GUEST.write(tmp_path / "g")
    private = Ed25519PrivateKey.generate().private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.OpenSSH, serialization.NoEncryption()
    )
    for name in ("etc/ssh/ssh_host_ed25519_key", "home/mara/.ssh/id_x.pub", "home/mara/.ssh/authorized_keys2"):
        (root / name).write_bytes(private)
    snapshot = collected(root)
    path = tmp_path / "gauge.evidence.tar.gz"
    write_evidence(snapshot, path, AT)
    raw = gzip.decompress(path.read_bytes())
    for secret in (b"verysecrethash", *[line for line in private.split(b"\n") if len(line) > 40]):
        assert secret not in raw
        assert secret not in repr(snapshot).encode()
    found = audit_target(path, AT).guests[0].findings
    assert "key.private-under-public-name" in {f.check for f in found}


def test_an_archive_gives_back_what_went_in_and_the_same_bytes(tmp_path: Path) -> None:
    snapshot = collected(GUEST.write(tmp_path / "g"))
    path = tmp_path / "gauge.evidence.tar.gz"
    write_evidence(snapshot, path, AT)
    again = read_evidence(path)
    assert dict(again.entries) == dict(snapshot.entries)
    assert again.listed == snapshot.listed
    first = path.read_bytes()
    write_evidence(snapshot, path, AT)
    assert path.read_bytes() == first
    with tarfile.open(path) as tar:
        member = tar.getmember("root/home/mara/.ssh/authorized_keys")
        assert (member.mode, member.uid) == (0o644, 1001)
        assert json.load(tar.extractfile("meta.json"))["transport"] == "folder"  # type: ignore[arg-type]


def test_the_audit_from_an_archive_is_that_from_the_folder(tmp_path: Path) -> None:
    root = GUEST.write(tmp_path / "gauge")
    path = tmp_path / "gauge.evidence.tar.gz"
    write_evidence(collected(root), path, AT)
    assert audit_target(path, AT) == audit_target(root, AT)


def links(root: Path) -> None:
    (root / "etc/ssh/sshd_config").unlink()
    os.symlink("/../../../../../../etc/ssh/elsewhere", root / "etc/ssh/sshd_config")
    (root / "etc/ssh/elsewhere").write_text("PasswordAuthentication no\n")


def test_links_are_resolved_inside_the_root(tmp_path: Path) -> None:
    root = GUEST.write(tmp_path / "g")
    links(root)
    assert collected(root).resolve("/etc/ssh/sshd_config").path == "/etc/ssh/elsewhere"
    (root / "etc/ssh/elsewhere").unlink()
    os.symlink(tmp_path / "outside", root / "etc/ssh/elsewhere")
    (tmp_path / "outside").write_text("secret of the host\n")
    snapshot = collected(root)
    assert snapshot.content("/etc/ssh/sshd_config") is None
    assert b"secret of the host" not in repr(snapshot).encode()


def loop(root: Path) -> None:
    os.symlink("b.conf", root / "etc/ssh/a.conf")
    os.symlink("a.conf", root / "etc/ssh/b.conf")
    (root / "etc/ssh/sshd_config").write_text("Include /etc/ssh/a.conf\n")


def fat(root: Path) -> None:
    with (root / "etc/ssh/sshd_config").open("wb") as stream:
        stream.truncate(100 << 20)


def device(root: Path) -> None:
    (root / "etc/ssh/sshd_config").unlink()
    os.mkfifo(root / "etc/ssh/sshd_config")


def own_include(root: Path) -> None:
    (root / "etc/ssh/sshd_config").write_text("Include /etc/ssh/sshd_config\nPasswordAuthentication no\n")


def long_line(root: Path) -> None:
    (root / "home/mara/.ssh/authorized_keys").write_text("ssh-ed25519 " + "A" * (1 << 20) + "\n")


def long_key_line(root: Path) -> None:
    (root / "home/mara/.ssh/authorized_keys").write_text("ssh-ed25519 " + "A" * 200_000 + "\n")


def binary(root: Path) -> None:
    (root / "etc/ssh/sshd_config").write_bytes(b"Banner /etc/\xff\xfe\nPasswordAuthentication no\n")


def no_passwd(root: Path) -> None:
    (root / "etc/passwd").unlink()


BAD = [
    (loop, "a.conf is a loop of links", "can't be opened"),
    (fat, "is too large: 104857600 bytes", "too large"),
    (device, "", "no regular file"),
    (own_include, "", "includes itself"),
    (long_line, "is too large", "too large"),
    (long_key_line, "", "longer than"),
    (binary, "", "not UTF-8"),
    (no_passwd, "", "/etc/passwd"),
]


@pytest.mark.parametrize("spoil, note, told", BAD, ids=[b[0].__name__ for b in BAD])
def test_bad_guests_get_one_clear_message_and_the_rest_goes_on(tmp_path: Path, spoil, note: str, told: str) -> None:  # type: ignore[no-untyped-def]
    root = GUEST.write(tmp_path / "g")
    spoil(root)
    before = sorted(str(p) for p in root.rglob("*"))
    audit = audit_target(root, AT).guests[0]
    said = [f.text for f in audit.findings] + [p.text + str(p.origin) for f in audit.findings for p in f.proofs]
    said += [p.text + str(p.origin) for p in audit.undecided] + list(audit.notes)
    assert any(told in each for each in said), said
    assert not note or any(note in each for each in audit.notes)
    assert sorted(str(p) for p in root.rglob("*")) == before


def test_no_folder_and_no_archive(tmp_path: Path) -> None:
    with pytest.raises(UnreadableError, match="no such folder, evidence archive or text"):
        survey_target(tmp_path / "none")
    (tmp_path / "odd.tar.gz").write_bytes(b"\x1f\x8b no archive")
    with pytest.raises(UnreadableError, match="no evidence archive"):
        survey_target(tmp_path / "odd.tar.gz")


def tampered(tmp_path: Path, change) -> Path:  # type: ignore[no-untyped-def]
    path = tmp_path / "x.evidence.tar.gz"
    write_evidence(collected(GUEST.write(tmp_path / "g")), path, AT)
    out = io.BytesIO()
    with tarfile.open(path) as tar, tarfile.open(fileobj=out, mode="w:gz") as made:
        for member in tar:
            stream = tar.extractfile(member)
            raw = stream.read() if stream else b""
            name, raw = change(member.name, raw)
            member.name, member.size = name, len(raw) if member.isreg() else 0
            made.addfile(member, io.BytesIO(raw) if member.isreg() else None)
    path.write_bytes(out.getvalue())
    return path


def meta(edit) -> object:  # type: ignore[no-untyped-def]
    def change(name: str, raw: bytes) -> tuple[str, bytes]:
        if name != "meta.json":
            return name, raw
        document = json.loads(raw)
        edit(document)
        return name, json.dumps(document).encode()

    return change


HOSTILE = [
    (lambda n, r: (n, r + b"x" if n.endswith("passwd") else r), "was changed after it was made"),
    (lambda n, r: ("other.json" if n == "meta.json" else n, r), "does not begin with meta.json"),
    (meta(lambda d: d.update(format="nightlatch/evidence/9")), "it is version 9 of the evidence archive"),
    (meta(lambda d: d.update(surprise=1)), "meta.json that can't be read: surprise"),
    (meta(lambda d: d["entries"].update({"/../etc": {"kind": "folder"}})), "names something that is no path"),
    (meta(lambda d: d["entries"]["/"].update(mode="99999")), "meta.json that can't be read"),
    (lambda n, r: (n, b"\0" * (5 << 20) if n.endswith("passwd") else r), "holds more than is read"),
]


@pytest.mark.parametrize("change, told", HOSTILE, ids=[h[1] + str(i) for i, h in enumerate(HOSTILE)])
def test_hostile_archives_are_refused(tmp_path: Path, change, told: str) -> None:  # type: ignore[no-untyped-def]
    with pytest.raises(UnreadableError, match=told):
        read_evidence(tampered(tmp_path, change))


def test_a_cut_archive_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "x.evidence.tar.gz"
    write_evidence(collected(GUEST.write(tmp_path / "g")), path, AT)
    raw = path.read_bytes()
    for end in (0, 10, len(raw) // 2, len(raw) * 9 // 10):
        path.write_bytes(raw[:end])
        with pytest.raises(NightlatchError):
            read_evidence(path)


def test_a_write_that_is_cut_short_leaves_no_half_archive(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    snapshot = collected(GUEST.write(tmp_path / "g"))

    def stopped(*_: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr("os.fsync", stopped)
    (tmp_path / "out").mkdir()
    with pytest.raises(KeyboardInterrupt):
        archive.write(snapshot, tmp_path / "out/x", tool="t", taken=datetime.now(UTC), transport="folder")
    assert list((tmp_path / "out").iterdir()) == []


def test_resolving_in_a_snapshot_is_the_kernels(tmp_path: Path) -> None:
    root = GUEST.write(tmp_path / "g")
    os.symlink("../etc/ssh", root / "home/way")
    snapshot = survey_target(root, more=ExtraPaths(("/home/way/sshd_config", "/home/way/../nothing")))
    assert snapshot.resolve("/home/way/sshd_config").path == "/etc/ssh/sshd_config"
    assert snapshot.resolve("/home/way/sshd_config/x").problem == "not a folder"
    nothing = snapshot.resolve("/home/way/../nothing").entry
    assert nothing is not None
    assert nothing.kind is EntryKind.ABSENT
    assert snapshot.resolve("/never/looked").entry is None
