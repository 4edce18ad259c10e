"""Every shut-out names the line that shuts out, also where the same person gets in from elsewhere."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from nightlatch.access.grants import address_spaces
from nightlatch.audit.findings import Finding, Group
from nightlatch.audit.run import guest_audit
from tests.guests import AT, NFT, Guest, estate, pub

OFF = "PasswordAuthentication no\nKbdInteractiveAuthentication no\n"
KEYS = {"mara": pub("mara-desk"), "joon": pub("joon-desk")}
BENCH = "let: mara, into: all guests, by: ssh, from: bench, with: key\n"
WIDE = "let: mara, into: all guests, by: ssh, from: [bench, field, 198.51.100.0/24], with: key\n"
HALF = "192.168.40.0/25"
OTHER = "192.168.40.128/25"


def shut_out(folder: Path, guest: Guest, grants: str) -> list[Finding]:
    made = estate(folder, grants)
    return [each for each in guest_audit(guest.access(address_spaces(made)), AT, made).findings if each.group is Group.SHUT_OUT]


def at(found: Finding) -> str:
    """Path and line of the first evidence."""
    origin = found.proofs[0].origin
    return f"{origin.path}:{origin.line}"


CASES = [
    (
        "keys off in a block",
        f"Match Address {HALF}\nPubkeyAuthentication no\n",
        {},
        "keys are switched off there",
        "/etc/ssh/sshd_config:5",
        HALF,
    ),
    (
        "a list of groups in a block",
        f"Match Address {HALF}\nAllowGroups crew\n",
        {},
        "AllowGroups names none of its groups",
        "/etc/ssh/sshd_config:5",
        HALF,
    ),
    ("denied from somewhere", f"DenyUsers mara@{HALF}\n", {}, "may not log in there: DenyUsers", "/etc/ssh/sshd_config:4", HALF),
    (
        "allowed from elsewhere",
        f"AllowUsers mara@{OTHER} mara@2001:db8::/32\n",
        {},
        "AllowUsers names it for other addresses",
        "/etc/ssh/sshd_config:4",
        HALF,
    ),
    (
        "the key line",
        "",
        {"mara": f'from="{OTHER},2001:db8::/32" {pub("mara-desk")}'},
        "the key line lets it in from elsewhere only",
        "/home/mara/.ssh/authorized_keys:1",
        HALF,
    ),
    (
        "other key files in a block",
        f"Match Address {HALF}\nAuthorizedKeysFile /etc/keys/%u\n",
        {},
        "other keys count there",
        "/etc/ssh/sshd_config:5",
        HALF,
    ),
    (
        "two proofs in a block",
        f"Match Address {HALF}\nAuthenticationMethods publickey,password\nPasswordAuthentication yes\n",
        {},
        "more is asked there than the grant says",
        "/etc/ssh/sshd_config:5",
        HALF,
    ),
]


@pytest.mark.parametrize("name, config, keys, says, place, where", CASES, ids=[case[0] for case in CASES])
def test_the_line_is_named(
    tmp_path: Path, name: str, config: str, keys: dict[str, str], says: str, place: str, where: str
) -> None:
    guest = Guest(OFF + config, {**KEYS, **keys}, passwords={"mara": "{yescrypt}"}, pam=False)
    (found,) = shut_out(tmp_path, guest, BENCH)
    assert says in found.text
    assert where in found.text
    assert at(found) == place


def test_each_part_has_its_own(tmp_path: Path) -> None:
    """One person, three reasons: a block for some, a key line for others, a rule of the filter for the rest."""
    nft = NFT.format(
        rule="ip saddr 192.168.40.0/24 tcp dport 22 accept\n\t\tip saddr 203.0.113.20 tcp dport 22 accept\n\t\tip6 saddr ::/0 tcp dport 22 accept"
    )
    guest = Guest(
        OFF + f"Match Address {HALF}\nPubkeyAuthentication no\n",
        {"mara": f'from="192.168.40.0/24,198.51.100.0/24" {pub("mara-desk")}'},
        {
            "/etc/nftables.conf": nft,
            "/lib/systemd/system/nftables.service": "",
            "/etc/systemd/system/sysinit.target.wants/nftables.service": "",
        },
    )
    found = shut_out(tmp_path, guest, WIDE)
    told = {at(each): each.text for each in found}
    assert "keys are switched off there" in told.pop("/etc/ssh/sshd_config:5")
    assert "the key line lets it in from elsewhere only" in told.pop("/home/mara/.ssh/authorized_keys:1")
    ((place, text),) = told.items()
    assert place.startswith("/etc/nftables.conf:")
    assert "the packet filter drops it on its way to port 22" in text


def test_a_family_that_nothing_listens_for(tmp_path: Path) -> None:
    grant = BENCH.replace("bench", '[bench, "2001:db8:40::/64"]')
    (found,) = shut_out(tmp_path, Guest(OFF + "ListenAddress 0.0.0.0\n", KEYS), grant)
    assert "no socket of sshd takes callers of their family" in found.text
    assert at(found) == "/etc/ssh/sshd_config:4"


def test_nobody_s_shut_out_is_left_without_a_cause(tmp_path: Path) -> None:
    for case in CASES:
        guest = Guest(OFF + case[1], {**KEYS, **case[2]}, passwords={"mara": "{yescrypt}"})
        for found in shut_out(tmp_path, replace(guest), BENCH + WIDE):
            assert "narrower than the grant" not in found.text, case[0]
