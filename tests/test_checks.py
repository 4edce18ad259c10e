"""Every check: a guest on which it speaks, and one like it on which it is silent; waivers; the catalogue."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path

import pytest

from nightlatch.audit.checks import CATALOGUE, Check
from nightlatch.audit.findings import Finding, Group
from nightlatch.audit.run import fleet, guest_audit, identities
from nightlatch.estate.load import load
from nightlatch.estate.model import Estate
from nightlatch.faults import EstateError
from tests.guests import AT, HASH, Guest, estate, lifted, pub
from tests.live.test_service import CASES as ON_LIVE_GUESTS
from tests.live.test_service import LISTENING
from tests.test_account_checks import SPOKEN as ACCOUNTS
from tests.test_addresses import SPOKEN
from tests.test_clock import SPOKEN as CLOCKS
from tests.test_filter_checks import SPOKEN as FILTERS
from tests.test_forwards import SPOKEN as FORWARDS
from tests.test_managers import SPOKEN as MANAGERS
from tests.test_perimeters import SPOKEN as PERIMETERS
from tests.test_rdp import SPOKEN as SCREENS
from tests.test_revocations import SPOKEN as REVOKED
from tests.test_stated import SPOKEN as STATED
from tests.test_vnc import SPOKEN as VNC

GRANT = "let: mara, into: gauge, by: ssh, from: bench, with: key"
OFF = "PasswordAuthentication no\nKbdInteractiveAuthentication no\n"
DESK = f'from="192.168.40.0/24" {pub("mara-desk")}\n'
GOOD = Guest(OFF, {"mara": DESK})
PRIVATE = "nightlatch: private key reduced: OpenSSH Ed25519 256 without a passphrase SHA256:x\n"
EMERGENCY = "emergency:\n  - {account: lantern, into: all guests, tested: 2026-11-02, test_every_days: 90, by: {console: {with: password}}}\n"


def short_rsa(bits: int) -> str:
    from cryptography.hazmat.primitives import serialization
    from cryptography.hazmat.primitives.asymmetric import rsa

    key = rsa.generate_private_key(65537, bits).public_key()
    return key.public_bytes(serialization.Encoding.OpenSSH, serialization.PublicFormat.OpenSSH).decode()


def found(guest: Guest, made: Estate | None) -> list[Finding]:
    return list(guest_audit(guest.access(lifted(made) if made else None), AT, made).findings)


TOKEN = (
    "sk-ssh-ed25519@openssh.com "
    "AAAAGnNrLXNzaC1lZDI1NTE5QG9wZW5zc2guY29tAAAAICn+MtGzz1rYDh7IXSNQF6xU3atkj/qGeCyTc039/U6UAAAABHNzaDo= mara-boat"
)

# Check, a guest on which it speaks, what it says, the severity.
CASES: list[tuple[str, Guest, str, str]] = [
    (
        "ssh.root-login",
        Guest("PermitRootLogin yes\n", passwords={"root": HASH}),
        "root can log in by name with a password, from anywhere.",
        "high",
    ),
    (
        "ssh.root-login",
        Guest(OFF, {"root": pub("joon-desk") + "\n"}),
        "root can log in by name with a key, from anywhere.",
        "medium",
    ),
    ("ssh.password-login", Guest("", passwords={"joon": HASH}), "A password alone opens joon, from anywhere.", "high"),
    (
        "ssh.empty-password",
        Guest("PermitEmptyPasswords yes\n", passwords={"joon": ""}),
        "joon opens with an empty password, from anywhere.",
        "critical",
    ),
    ("ssh.empty-password-set", Guest(OFF, passwords={"joon": ""}), "joon has an empty password", "medium"),
    (
        "ssh.challenge-path",
        Guest("PasswordAuthentication no\n", passwords={"joon": HASH}, pam=True),
        "keyboard-interactive asks for the same password",
        "high",
    ),
    ("ssh.weak-key", Guest(OFF, {"mara": short_rsa(1024) + "\n"}), "RSA key of 1024 bits, below 2048", "high"),
    ("ssh.weak-key", Guest(OFF, {"mara": pub("mara-token") + "\n"}), "RSA key of 2048 bits, below today's 3072", "low"),
    (
        "ssh.weak-key",
        Guest(OFF, files={"/etc/ssh/ssh_host_rsa_key.pub": short_rsa(1024)}),
        "The guest's own RSA key is an RSA key of 1024 bits",
        "high",
    ),
    (
        "ssh.key-file-refused",
        Guest(OFF, {"joon": DESK}, modes={"/home/joon": (0o777, 1002, 1002)}),
        "The keys of joon are not used: mode 0777, anyone may write it",
        "medium",
    ),
    ("ssh.key-line-skipped", Guest(OFF, {"mara": "nonsense " + pub("mara-desk") + "\n"}), "unknown option", "low"),
    (
        "ssh.key-file-writable",
        Guest(OFF + "StrictModes no\n", {"mara": DESK}, modes={"/home/mara/.ssh": (0o777, 1001, 1001)}),
        "Others may write /home/mara/.ssh",
        "high",
    ),
    (
        "ssh.drop-in-overrides",
        Guest(
            "Include sshd_config.d/*.conf\nPermitRootLogin no\n", files={"/etc/ssh/sshd_config.d/a.conf": "PermitRootLogin yes\n"}
        ),
        "PermitRootLogin no in the main file has no effect: an earlier file says yes.",
        "medium",
    ),
    (
        "ssh.below-match",
        Guest("Match User x\n    Banner none\nPermitRootLogin no\n"),
        "PermitRootLogin looks general, but stands below a Match block",
        "medium",
    ),
    (
        "ssh.setting-in-client-file",
        Guest(OFF, files={"/etc/ssh/ssh_config": "Host *\n    PermitRootLogin no\n"}),
        "PermitRootLogin is a setting of the server",
        "medium",
    ),
    (
        "latch.pending",
        Guest(
            OFF,
            files={
                "/var/lib/nightlatch/lock/id": "20261130-1-1\n",
                "/var/lib/nightlatch/lock/who": "keeper on isle, change 20261130-1-1, since uptime 5 s for 300 s\n",
            },
        ),
        "A change is on the latch, and goes back unless it is kept: nightlatch keep.",
        "high",
    ),
    ("ssh.does-not-start", Guest("Banana yes\n"), 'sshd does not start with this configuration: "banana" is no keyword', "high"),
    (
        "key.private-under-public-name",
        Guest(OFF, files={"/home/mara/.ssh/id.pub": PRIVATE}),
        "id.pub holds a private key.",
        "critical",
    ),
    ("file.not-utf8", Guest(OFF, files={"/etc/ssh/sshd_config.d/x": b"\xff\n"}), "is not UTF-8", "note"),
    ("account.weak-hash", Guest(OFF, passwords={"joon": "{md5}"}), "kept as md5", "medium"),
    (
        "ssh.token-without-touch",
        Guest(OFF, {"mara": f"no-touch-required {TOKEN}\n"}),
        "which is on hardware, opens mara without a touch.",
        "medium",
    ),
    (
        "account.stock-name",
        Guest(
            files={
                "/etc/passwd": "root:x:0:0::/root:/bin/sh\npi:x:1000:1000::/home/pi:/bin/sh\n",
                "/etc/shadow": f"root:*:20000::::::\npi:{HASH}:20000:0:99999:7:::\n",
            }
        ),
        "A password opens pi, a name that is tried first.",
        "medium",
    ),
    (
        "account.service-password",
        Guest(
            OFF,
            files={
                "/etc/passwd": "root:x:0:0::/root:/bin/sh\nmail:x:8:8::/var/mail:/bin/sh\n",
                "/etc/shadow": f"root:*:20000::::::\nmail:{HASH}:20000:0:99999:7:::\n",
            },
        ),
        "mail is one of the system's own accounts, and has a password and a shell.",
        "medium",
    ),
]


@pytest.mark.parametrize("check, guest, text, severity", CASES, ids=[f"{c[0]} {i}" for i, c in enumerate(CASES)])
def test_checks_speak_and_are_silent(check: str, guest: Guest, text: str, severity: str) -> None:
    said = [f for f in found(guest, None) if f.check == check]
    assert [f.severity.value for f in said] == [severity], [f.text for f in found(guest, None)]
    assert text in said[0].text
    assert said[0].proofs
    assert said[0].group is (Group.LATCH if check == "latch.pending" else Group.HYGIENE)
    assert check not in {f.check for f in found(GOOD, None)}


# Checks that need an estate: grants, more of the estate file, the guest, what is said.
WITH_ESTATE: list[tuple[str, str, str, Guest, str]] = [
    (
        "ssh.orphan-key",
        GRANT,
        "",
        Guest(OFF, {"joon": f'from="192.168.40.0/24" {short_rsa(3072)}\n'}),
        "belongs to nobody in the estate",
    ),
    (
        "ssh.shared-account",
        GRANT.replace("mara", "mara") + ", as: keeper\n" + GRANT.replace("mara", "joon") + ", as: keeper",
        "",
        Guest(OFF, {"keeper": DESK + f'from="192.168.40.0/24" {pub("joon-desk")}\n'}),
        "mara and joon share the account keeper",
    ),
    ("grant.anywhere", GRANT.replace("bench", "anywhere"), "", GOOD, "Grant 1 lets mara in from anywhere."),
    ("emergency.test-overdue", GRANT, EMERGENCY.replace("2026-11-02", "2026-01-02"), GOOD, "was not tested since 2026-01-02"),
    ("emergency.no-account", GRANT, EMERGENCY, GOOD, "The emergency account lantern does not exist here."),
    (
        "emergency.no-password",
        GRANT,
        EMERGENCY,
        Guest(OFF, {"mara": DESK}, accounts=("root", "mara", "lantern")),
        "has no password that opens at the console",
    ),
    ("guest.host-key", GRANT, "VIA, host_keys: ['SHA256:other']", GOOD, "which has another"),
    ("guest.system", GRANT, "VIA, system: fedora-40", GOOD, "The estate says fedora-40, the guest says debian."),
    (
        "waiver.expired",
        GRANT,
        "waivers:\n  - {finding: ssh.weak-key, on: gauge, owner: mara, because: old, until: 2026-11-24}\n",
        GOOD,
        "The waiver for ssh.weak-key ended on 2026-11-24",
    ),
]


@pytest.mark.parametrize("check, grants, more, guest, text", WITH_ESTATE, ids=[c[0] for c in WITH_ESTATE])
def test_checks_of_the_estate(tmp_path: Path, check: str, grants: str, more: str, guest: Guest, text: str) -> None:
    made = estate(tmp_path / "a", grants, more="" if more.startswith("VIA") else more)
    if more.startswith("VIA"):
        path = tmp_path / "a/estate.yaml"
        path.write_text(path.read_text().replace("labels: [loggers]", f"labels: [loggers]{more[3:]}"))
        made = load(path)
    found_here = found(guest, made)
    said = [f for f in found_here if f.check == check]
    if check == "ssh.orphan-key":
        # The hole that the key makes is told already: the check does not say it again.
        assert not said
        assert any(f.group is Group.HOLE and f.proofs[0].origin.line == 1 for f in found_here)
        return
    assert any(text in f.text for f in said), [f.text for f in found_here]
    assert check not in {f.check for f in found(GOOD, estate(tmp_path / "b", GRANT))}


def test_shared_with_a_reason_is_no_finding(tmp_path: Path) -> None:
    guest = Guest(OFF, {"keeper": DESK + f'from="192.168.40.0/24" {pub("joon-desk")}\n'})
    made = estate(tmp_path, "let: team crew, into: gauge, by: ssh, from: bench, with: key, as: keeper, shared: one console")
    assert not found(guest, made)


def test_clones_share_their_host_key(tmp_path: Path) -> None:
    key = {"/etc/ssh/ssh_host_ed25519_key.pub": pub("keeper") + "\n"}
    guests = [Guest(OFF, files=dict(key), name=name) for name in ("one", "two")]
    other = Guest(OFF, files={"/etc/ssh/ssh_host_ed25519_key.pub": pub("lantern") + "\n"}, name="three")
    seen = [identities(g.access()) for g in (*guests, other)]
    (finding,) = fleet(seen, None, AT)["one"]
    assert "one and two have the same host key (Ed25519)" in finding.text
    assert not fleet(seen[1:], None, AT)


def test_waivers_hold_until_their_last_day(tmp_path: Path) -> None:
    more = "waivers:\n  - {finding: ssh.weak-key, on: gauge, owner: mara, because: a token, until: 2026-11-25}\n"
    made = estate(tmp_path, GRANT, more=more)
    guest = Guest(OFF, {"mara": f'from="192.168.40.0/24" {pub("mara-token")}\n'})
    access = guest.access(lifted(made))
    (waived,) = [f for f in guest_audit(access, AT, made).findings if f.check == "ssh.weak-key"]
    assert waived.waived == "a token (mara, until 2026-11-25)"
    later = guest_audit(access, AT + timedelta(days=1), made).findings
    assert {f.check for f in later if not f.waived} == {"ssh.weak-key", "waiver.expired"}


def test_holes_and_people_shut_out_can_be_waived(tmp_path: Path) -> None:
    from nightlatch.audit.run import check_waivers

    which = "finding: hole, on: gauge, account: joon, person: joon, from: anywhere"
    more = f"waivers:\n  - {{{which}, owner: mara, because: known, until: 2027-01-01}}\n"
    made = estate(tmp_path, GRANT, more=more)
    check_waivers(made)
    said = found(Guest(OFF, {"mara": DESK, "joon": pub("joon-desk") + "\n"}), made)
    assert [f.waived != "" for f in said if f.check == "hole"] == [True]
    wrong = estate(tmp_path, GRANT, more=more.replace("hole", "hoel"))
    with pytest.raises(EstateError, match='Did you mean "hole"'):
        check_waivers(wrong)


def test_the_catalogue_is_whole() -> None:
    for name, check in CATALOGUE.items():
        assert name == check.id
        assert check.reason.endswith(".")
        assert check.source
    spoken = (
        {case[0] for case in CASES}
        | {case[0] for case in WITH_ESTATE}
        | {"ssh.shared-host-key", "account.second-root", "account.left", "directory.disabled", "directory.old"}
        | {case[2] for case in ON_LIVE_GUESTS}
        | {"ssh.second-opinion", "service.restart-due"}
        | SPOKEN
        | ACCOUNTS
        | REVOKED
        | CLOCKS
        | STATED
        | FILTERS
        | MANAGERS
        | PERIMETERS
        | FORWARDS
        | {case[2] for case in LISTENING}
        | SCREENS
        | VNC
    )
    silent = {n for n, c in CATALOGUE.items() if not (isinstance(c, Check) and c.body is None)} - spoken
    assert not silent, f"no test makes these speak: {silent}"


def test_an_account_of_somebody_who_left(tmp_path: Path) -> None:
    made = estate(tmp_path, GRANT)
    path = tmp_path / "estate.yaml"
    path.write_text(path.read_text().replace("keys/mara-token.pub]}", "keys/mara-token.pub], until: 2026-11-24}"))
    made = load(path)
    assert "mara left after 2026-11-24, and the account mara is not expired." in {f.text for f in found(Guest(OFF), made)}
    assert "account.left" not in {
        f.check for f in guest_audit(Guest(OFF).access(lifted(made)), AT - timedelta(days=1), made).findings
    }
    expired: dict[str, str | bytes] = {"/etc/shadow": "mara:!{yescrypt}:20000:0:99999:7::1:\n"}
    assert "account.left" not in {f.check for f in found(Guest(OFF, files=expired), made)}


def test_a_token_that_has_to_be_touched_all_the_same_is_no_finding() -> None:
    for config, line in (
        (OFF + "PubkeyAuthOptions touch-required\n", "no-touch-required "),
        (OFF, ""),
        (OFF, "verify-required "),
    ):
        assert "ssh.token-without-touch" not in {f.check for f in found(Guest(config, {"mara": f"{line}{TOKEN}\n"}), None)}


def test_a_second_root() -> None:
    guest = Guest(OFF)
    guest.files["/etc/passwd"] = b"root:x:0:0::/root:/bin/bash\ntoor:x:0:0::/root:/bin/bash\n"
    assert "account.second-root" in {f.check for f in found(guest, None)}
