"""The estate's list of revoked keys: read, drafted for each guest, checked; its keys are granted nothing any more."""

from __future__ import annotations

from pathlib import Path

import pytest

from nightlatch.access.paths import guest_access
from nightlatch.audit.run import guest_audit
from nightlatch.draft import diff
from nightlatch.draft.plan import ProvedDraft
from nightlatch.estate.load import load
from nightlatch.estate.model import Estate
from nightlatch.faults import EstateError, RefusedError
from nightlatch.formats import krl
from nightlatch.formats.keys import parse_public
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.enact import enact
from nightlatch.ops.survey import survey_target
from nightlatch.ops.undo import undo
from nightlatch.readings import guest as readings
from tests.guests import AT, Guest, estate, lifted, pub
from tests.test_enact import outside_var

SPOKEN = {"ssh.not-revoked"}
OFF = "PasswordAuthentication no\n"
GRANT = "let: mara, into: gauge, by: ssh, from: bench, with: key"
BOUND = 'from="192.168.40.0/24" '
DESK, TOKEN = (f"{BOUND}{pub(name)}\n" for name in ("mara-desk", "mara-token"))
LIST = krl.extended(krl.EMPTY, [parse_public(pub("mara-token").encode())], [], AT)
MORE = krl.extended(krl.parse(LIST), [parse_public(pub("joon-desk").encode())], [], AT)
TEXT = f"# lost\n{pub('mara-token')}\n".encode()
OURS = "RevokedKeys /etc/ssh/nightlatch_revoked\n"


def made(folder: Path, raw: bytes = LIST, more: str = "") -> Estate:
    folder.mkdir(exist_ok=True)
    (folder / "revoked.krl").write_bytes(raw)
    return estate(folder, GRANT, more=f"{more}revoked: revoked.krl\n")


def drafted(found: Estate, guest: Guest) -> ProvedDraft:
    snapshot = guest.snapshot()
    return prove(found, draft(found, snapshot, AT), snapshot, AT)


def with_list(raw: bytes, config: str = OURS, path: str = "/etc/ssh/nightlatch_revoked", after: str = "") -> Guest:
    return Guest(config + OFF + after, {"mara": DESK}, {path: raw})


OWN = "/etc/ssh/revoked"
CASES: list[tuple[str, Guest, list[str], str, str]] = [
    (
        "none yet",
        Guest(OFF, {"mara": DESK}),
        [
            "make /etc/ssh/nightlatch_revoked, mode 0644",
            "in /etc/ssh/sshd_config: put RevokedKeys /etc/ssh/nightlatch_revoked first",
        ],
        "",
        "reads no list of revoked keys",
    ),
    ("there", with_list(LIST), [], "", ""),
    (
        "an older one",
        with_list(MORE),
        ["in /etc/ssh/nightlatch_revoked: the estate's list of revoked keys"],
        "",
        "is not the estate's list",
    ),
    (
        "a file without a setting",
        with_list(MORE, ""),
        [
            "in /etc/ssh/nightlatch_revoked: the estate's list of revoked keys",
            "in /etc/ssh/sshd_config: put RevokedKeys /etc/ssh/nightlatch_revoked first",
        ],
        "",
        "reads no list of revoked keys",
    ),
    ("one of its own with more", with_list(MORE, f"RevokedKeys {OWN}\n", OWN), [], "", ""),
    ("one of its own in text", with_list(TEXT, f"RevokedKeys {OWN}\n", OWN), [], "", ""),
    (
        "another one for some",
        with_list(LIST, OURS, after="Match User mara\n    RevokedKeys none\n"),
        [],
        "take RevokedKeys none out of its Match block (/etc/ssh/sshd_config:5:5), where it counts in place of the other",
        "A Match block names another list",
    ),
    (
        "one of its own without it",
        with_list(f"{pub('joon-desk')}\n".encode(), f"RevokedKeys {OWN}\n", OWN),
        [],
        "put them on /etc/ssh/revoked, this guest's own list, by nightlatch key revoke",
        "lacks what the estate revokes",
    ),
]


@pytest.mark.parametrize("name, guest, steps, hand, told", CASES, ids=[case[0] for case in CASES])
def test_the_list_comes_to_each_guest(tmp_path: Path, name: str, guest: Guest, steps: list[str], hand: str, told: str) -> None:
    found = made(tmp_path)
    proved = drafted(found, guest)
    assert sorted(map(str, proved.draft.steps)) == sorted(steps)
    assert [each.hand.partition(";")[0] for each in proved.draft.left] == ([hand] if hand else [])
    said = [f.text for f in guest_audit(guest.access(lifted(found)), AT, found).findings if f.check == "ssh.not-revoked"]
    assert len(said) == bool(told)
    said_after = guest_audit(guest_access(readings.read(proved.after), AT), AT, found).findings
    assert "file.not-utf8" not in {f.check for f in said_after}, "the list is no text, and need not be"
    assert all(told in text for text in said)
    snapshot = proved.after
    assert not draft(found, snapshot, AT).steps, "the second run changes nothing"


def test_a_revoked_key_is_granted_nothing_and_its_line_goes(tmp_path: Path) -> None:
    found = made(tmp_path)
    proved = drafted(found, Guest(OFF, {"mara": DESK + TOKEN}))
    assert "in /home/mara/.ssh/authorized_keys: take away a line" in map(str, proved.draft.steps)
    assert not proved.draft.left
    (line,) = [step for step in proved.draft.steps if step.path.endswith("authorized_keys")]
    assert line.why.startswith("The key mara-token (mara's, revoked) gets a shell as mara")
    found = made(tmp_path / "b", krl.extended(krl.parse(LIST), [parse_public(pub("mara-desk").encode())], [], AT))
    proved = drafted(found, Guest(OFF, {"mara": DESK}))
    assert "in /home/mara/.ssh/authorized_keys: take away a line" in map(str, proved.draft.steps)
    (left,) = proved.draft.left
    assert "can't get a shell from bench: no key of theirs in the estate file counts any more" in left.text
    assert left.hand == "give them another key in the estate file, or end the grant there"
    (shown,) = [each.lines for each in diff.of(proved) if each.path == "/etc/ssh/nightlatch_revoked"]
    assert shown[-1] == "+(a list of revoked keys, number 2, keys: 2, certificates: 0)"


def test_in_a_folder_every_byte_of_it_comes_and_goes(tmp_path: Path) -> None:
    found = made(tmp_path)
    root = Guest(OFF, {"mara": DESK}).write(tmp_path / "images/gauge")
    before = outside_var(root, times=False)
    assert len(enact(found, "gauge", AT).changed.paths) == 2
    assert (root / "etc/ssh/nightlatch_revoked").read_bytes() == LIST
    snapshot = survey_target(root, "gauge")
    assert snapshot.content("/etc/ssh/nightlatch_revoked") == LIST
    (tmp_path / "revoked.krl").write_bytes(MORE)
    found = load(tmp_path / "estate.yaml")
    assert len(enact(found, "gauge", AT).changed.paths) == 1
    for _ in range(2):
        undo(found, "gauge", AT)
    assert outside_var(root, times=False) == before


@pytest.mark.parametrize(
    "raw, words",
    [
        (b"SSHKRL\n\0\0\0\0\x07", "form 7"),
        (b"nothing\n", "holds no key"),
        (b"", "holds no key"),
    ],
)
def test_a_list_that_is_none_is_told(tmp_path: Path, raw: bytes, words: str) -> None:
    with pytest.raises(EstateError, match=words):
        made(tmp_path, raw)


def test_a_list_that_is_not_there_is_told(tmp_path: Path) -> None:
    made(tmp_path)
    (tmp_path / "revoked.krl").unlink()
    with pytest.raises(EstateError, match=r"revoked.krl can't be read: No such file"):
        load(tmp_path / "estate.yaml")


def test_a_list_that_would_shut_an_emergency_account_is_refused(tmp_path: Path) -> None:
    by = "{ssh: {from: bench, with: key, keys: [keys/lantern.pub]}}"
    more = f"emergency:\n  - {{account: lantern, into: gauge, tested: 2026-11-02, test_every_days: 90, by: {by}}}\n"
    found = made(tmp_path, krl.extended(krl.EMPTY, [parse_public(pub("lantern").encode())], [], AT), more)
    guest = Guest(OFF, {"mara": DESK, "lantern": f"{BOUND}{pub('lantern')}\n"}, accounts=("root", "mara", "lantern"))
    snapshot = guest.snapshot()
    with pytest.raises(RefusedError, match="would shut management access or an emergency account"):
        prove(found, draft(found, snapshot, AT), snapshot, AT)
