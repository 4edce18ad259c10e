"""Our reading of sudoers against `sudo -l -U`, of keys and revocation lists against `ssh-keygen`, of a real system's root."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections import Counter
from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.formats import keys, krl
from nightlatch.formats.keys import KeyFault
from nightlatch.ops.audit import audit_target
from nightlatch.ops.evidence import write_evidence
from nightlatch.ops.survey import survey_target
from tests.guests import Guest

SEED = int(os.environ.get("NIGHTLATCH_SEED", "20261125"))
ROOT = Path(__file__).parents[2]


@pytest.mark.judge("sudo", "visudo", "unshare", root=True)
def test_who_becomes_root_by_sudo(tmp_path: Path) -> None:
    words = ["unshare", "--mount", "--propagation", "private", sys.executable, "-m", "tests.judges.sudo_driver"]
    done = subprocess.run([*words, str(tmp_path), str(SEED), "150"], capture_output=True, text=True, cwd=ROOT, timeout=300)
    assert done.returncode == 0, done.stderr[-3000:]
    results = [json.loads(line) for line in done.stdout.splitlines()]
    print(f"\nseed {SEED}: {len(results)} answers of sudo, {dict(Counter(r['real'] or 'no' for r in results))}")
    wrong = [r for r in results if r["real"] != r["ours"]]
    assert not wrong, "\n\n".join(
        f"{r['user']}: sudo {r['real']!r}, we {r['ours']!r}\n{json.dumps(r['files'], indent=1)}" for r in wrong[:4]
    )
    assert len(results) > 200


KINDS = [
    ("ed25519", "256"),
    ("ecdsa", "256"),
    ("ecdsa", "384"),
    ("ecdsa", "521"),
    ("rsa", "1024"),
    ("rsa", "2048"),
    ("rsa", "3072"),
]


@pytest.mark.judge("ssh-keygen")
@pytest.mark.parametrize("kind, bits", KINDS)
def test_keys_are_read_as_ssh_keygen_does(tmp_path: Path, kind: str, bits: str) -> None:
    path = tmp_path / "k"
    subprocess.run(["ssh-keygen", "-q", "-t", kind, "-b", bits, "-N", "", "-C", "a b", "-f", str(path)], check=True)
    listed = subprocess.run(["ssh-keygen", "-l", "-f", f"{path}.pub"], capture_output=True, text=True, check=True).stdout.split()
    key = keys.parse_public(Path(f"{path}.pub").read_bytes())
    assert [str(key.bits), key.fingerprint, f"({key.kind.upper()})", key.comment] == [
        listed[0],
        listed[1],
        listed[-1],
        "a b",
    ]
    half = keys.private_kind(path.read_bytes())
    assert half is not None
    assert (half.fingerprint, half.encrypted, half.bits) == (key.fingerprint, False, key.bits)
    for form in ("RFC4716", "PEM", "PKCS8"):
        words = ["ssh-keygen", "-e", "-m", form, "-f", f"{path}.pub"]
        made = subprocess.run(words, capture_output=True, check=False).stdout
        if form == "RFC4716":
            assert keys.parse_public(made).fingerprint == key.fingerprint
        elif made:
            with pytest.raises(KeyFault):
                keys.parse_public(made)
    locked = tmp_path / "locked"
    subprocess.run(["ssh-keygen", "-q", "-t", kind, "-b", bits, "-N", "tide-gauge", "-f", str(locked)], check=True)
    sealed = keys.private_kind(locked.read_bytes())
    assert sealed is not None
    assert sealed.encrypted is True


@pytest.mark.judge("ssh-keygen")
@pytest.mark.parametrize("spelling", ["key", "sha256", "sha1"])
def test_binary_revocation_lists_are_read(tmp_path: Path, spelling: str) -> None:
    for name in ("gone", "kept"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(tmp_path / name)], check=True)
    gone, kept = ((tmp_path / f"{name}.pub").read_text() for name in ("gone", "kept"))
    (tmp_path / "list").write_text(f"{spelling}: {gone}" if spelling != "key" else gone)
    subprocess.run(["ssh-keygen", "-q", "-k", "-f", str(tmp_path / "krl"), str(tmp_path / "list")], check=True)
    raw = (tmp_path / "krl").read_bytes()
    guest = Guest("PasswordAuthentication no\nRevokedKeys /etc/ssh/krl\n", {"mara": gone + kept}, {"/etc/ssh/krl": raw})
    access = guest.access()
    assert [t.because for t in access.ssh.rejected] == ["the key is revoked (RevokedKeys)"]
    assert {next(iter(p.need)).fingerprint for p in access.paths} == {keys.parse_public(kept.encode()).fingerprint}  # type: ignore[union-attr]
    for end in range(len(raw)):
        try:
            krl.parse(raw[:end])
        except krl.KrlFault:
            pass
    broken = Guest("PasswordAuthentication no\nRevokedKeys /etc/ssh/krl\n", {"mara": kept}, {"/etc/ssh/krl": raw[:-3]})
    assert not broken.access().paths, "sshd refuses every key when its list is damaged"


@pytest.mark.judge("sshd", root=True)
def test_the_root_of_a_real_system_reads_sensibly(tmp_path: Path) -> None:
    """This very machine has openssh-server installed and nothing set up: its audit must be quiet and certain."""
    audit = audit_target(Path("/"), datetime.now(UTC)).guests[0]
    assert audit.service.startswith("sshd")
    assert "port 22" in audit.service
    assert not audit.unread
    for finding in audit.findings:
        assert finding.proofs
    path = tmp_path / "here.evidence.tar.gz"
    write_evidence(survey_target(Path("/")), path, datetime.now(UTC))
    assert path.stat().st_size < 1 << 20
