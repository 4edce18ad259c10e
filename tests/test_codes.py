"""One-time codes: who is asked for one, who gets by without, and grants that ask for them."""

from __future__ import annotations

from pathlib import Path

import pytest

from nightlatch.access.differences import find_holes, find_shut_out
from nightlatch.access.grants import expand
from nightlatch.audit.run import guest_audit
from nightlatch.faults import EstateError
from nightlatch.model.links import LinkKind
from nightlatch.model.steps import InsertAbove
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.why import WhyQuestion, why_of
from tests.guests import AT, HASH, Guest, estate, lifted, pub

BOTH = "let: mara, into: gauge, by: ssh, from: bench, with: key + code"
DESK = f'from="192.168.40.0/24" {pub("mara-desk")}\n'
CODES = "pam_google_authenticator.so"
REST = "account required pam_unix.so\n"
ASKED = "PasswordAuthentication no\nMatch User mara\n    AuthenticationMethods publickey,keyboard-interactive\n"
SECRET: dict[str, str | bytes] = {"/home/mara/.google_authenticator": "not read"}
OWN = {"/home/mara/.google_authenticator": (0o400, 1001, 1001)}


def guest(stack: str, config: str = ASKED, *, secret: bool = True, mode: tuple[int, int, int] = (0o400, 1001, 1001)) -> Guest:
    files: dict[str, str | bytes] = {"/etc/pam.d/sshd": stack + REST, **(SECRET if secret else {})}
    hashes = {"mara": HASH, "joon": HASH}
    return Guest(config, {"mara": DESK}, files, {"/home/mara/.google_authenticator": mode}, hashes, pam=True)


def certain(folder: Path, grants: str, of: Guest) -> tuple[set[str], set[str]]:
    """The accounts with holes, and with somebody shut out, both for certain."""
    made = estate(folder, grants)
    access = of.access(lifted(made))
    granted = expand(made, "gauge", AT)
    holes = {hole.path.account for hole in find_holes(access.paths, granted) if hole.certain}
    return holes, {out.grant.account for out in find_shut_out(access.paths, granted, access.reading.accounts) if out.certain}


@pytest.mark.parametrize(
    "stack, secret, mode, holes, out",
    [
        (f"auth required {CODES}\n", True, (0o400, 1001, 1001), set(), set()),
        (f"auth required {CODES}\n", True, (0o600, 1001, 1001), set(), set()),
        (
            f"auth required {CODES}\n",
            True,
            (0o644, 1001, 1001),
            set(),
            {"mara"},
        ),  # the module refuses a secret that others may read
        (f"auth required {CODES}\n", True, (0o400, 0, 0), set(), {"mara"}),
        (f"auth required {CODES}\n", False, (0o400, 1001, 1001), set(), {"mara"}),
        # Who has no secret gets by with the key alone, and joon with nothing at all.
        (
            f"auth required {CODES} nullok\nauth required pam_permit.so\n",
            False,
            (0o400, 1001, 1001),
            {"mara", "joon", "keeper"},
            set(),
        ),
        (f"auth required pam_unix.so\nauth required {CODES}\n", True, (0o400, 1001, 1001), set(), {"mara"}),  # more is asked
    ],
)
def test_key_and_code(
    tmp_path: Path, stack: str, secret: bool, mode: tuple[int, int, int], holes: set[str], out: set[str]
) -> None:
    assert certain(tmp_path, BOTH, guest(stack, secret=secret, mode=mode)) == (holes, out)


def test_password_and_code(tmp_path: Path) -> None:
    stack = f"auth required pam_unix.so\nauth required {CODES} nullok\n"
    grants = BOTH.replace("key + code", "password + code").replace("bench", "anywhere")
    of = guest(stack, "PubkeyAuthentication no\n")
    holes, out = certain(tmp_path, grants, of)
    assert (holes, out) == ({"joon"}, set()), "joon has no secret, and gets by with a password"
    by_one_text = guest(stack, "PubkeyAuthentication no\nKbdInteractiveAuthentication no\n")
    assert certain(tmp_path, grants, by_one_text)[1] == {"mara"}, "one text can't be a password and a code"


@pytest.mark.parametrize("option", ["forward_pass", "secret=/var/codes", "user=codes", "no_strict_owner"])
def test_what_the_module_does_otherwise_stays_undecided(tmp_path: Path, option: str) -> None:
    assert certain(tmp_path, BOTH, guest(f"auth required {CODES} {option}\n")) == (set(), set())


def test_the_chain_tells_of_the_code(tmp_path: Path) -> None:
    made = estate(tmp_path, BOTH)
    for stack, serves in ((f"auth required {CODES}\n", True), ("auth required pam_deny.so\n", False)):
        found = why_of(made, guest(stack).snapshot(), AT, WhyQuestion("mara", "gauge", (), "", None, (("key", "code"),), ()))
        proofs = [link for _, chain in found.answer.chains for link in chain.links if link.kind is LinkKind.PROOF]
        assert proofs
        assert any(link.admits.surely for link in proofs) is serves, "by the one of her keys that is there"


def test_a_hole_by_a_code_is_told_by_its_name(tmp_path: Path) -> None:
    made = estate(tmp_path, BOTH)
    told = guest_audit(guest(f"auth required {CODES}\n", "PasswordAuthentication no\n").access(lifted(made)), AT, made).findings
    assert [f.text for f in told if f.check == "hole" and "code" in f.text] == [
        "A one-time code of mara gets a shell as mara, from anywhere."
    ]


def test_a_code_alone_is_refused_in_a_sentence(tmp_path: Path) -> None:
    with pytest.raises(EstateError, match="a code alone is too little"):
        estate(tmp_path, BOTH.replace("key + code", "code"))


MODULE: dict[str, str | bytes] = {f"/lib/x86_64-linux-gnu/security/{CODES}": ""}
UNIX = "auth required pam_unix.so\n"
BY_PASSWORD = "let: joon, into: gauge, by: ssh, from: bench, with: password"
OFF = "PasswordAuthentication no\nKbdInteractiveAuthentication no\n"


@pytest.mark.parametrize(
    "grants, files, config, line",
    [
        (BOTH, MODULE, OFF, f"auth [success=done default=die] {CODES}"),
        (BOTH.replace("key", "password"), MODULE, OFF, f"auth required {CODES}"),
        # Who has no secret goes on with their password.
        (f"{BOTH.replace('key', 'password')}\n{BY_PASSWORD}", MODULE, "", f"auth required {CODES} nullok"),
        (BOTH, {}, OFF, ""),  # not installed, or evidence that does not tell
        (BOTH, MODULE | {"/home/mara/.google_authenticator": ""}, OFF, "mode"),
    ],
    ids=["key and code", "password and code", "beside a password", "not installed", "a secret that others may read"],
)
def test_the_module_is_put_into_the_stack(
    tmp_path: Path, grants: str, files: dict[str, str | bytes], config: str, line: str
) -> None:
    of = guest(f"# as packaged\n{UNIX}", config, mode=(0o444 if line == "mode" else 0o400, 1001, 1001))
    of.files |= files
    found, snapshot = estate(tmp_path, grants), of.snapshot()
    proved = prove(found, draft(found, snapshot, AT), snapshot, AT)
    told = [step.text for step in proved.draft.steps if isinstance(step, InsertAbove)]
    if not line or line == "mode":
        assert not told
        hand = "run google-authenticator as mara" if line else f"install the PAM module {CODES}"
        assert [hand in each.hand for each in proved.draft.left] == [True]
        return
    assert told == [line]
    assert proved.after.content("/etc/pam.d/sshd") == f"# as packaged\n{line}\n{UNIX}{REST}".encode()
    assert not proved.draft.left
    assert not prove(found, draft(found, proved.after, AT), proved.after, AT).does, "the second run changes nothing"
