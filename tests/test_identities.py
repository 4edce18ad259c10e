"""Which copy of a guest gets an identity of its own, what is left to a person, and what comes first."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from nightlatch.draft import acts, reversal
from nightlatch.draft.acts import NewIdentity
from nightlatch.draft.plan import Draft
from nightlatch.estate.load import load
from nightlatch.formats import keys
from nightlatch.ops.draft import draft, prove
from tests.guests import AT, Guest, estate, pub

GRANT = "let: mara, into: gauge, by: ssh, from: bench, with: key"
KEY = {"mara": f'from="192.168.40.0/24" {pub("mara-desk")}\n'}
HOST = "/etc/ssh/ssh_host_ed25519_key.pub"
ID = "6c1f8a52e0b94d7d8f00c2a19be5d022\n"
FIXED = "auto eth0\niface eth0 inet static\n  address 192.168.56.21/24\n"
BOOT = "/etc/systemd/system/multi-user.target.wants/networking.service"
LEASED = "auto eth0\niface eth0 inet dhcp\n"
FILES = {HOST: pub("keeper") + "\n", "/etc/machine-id": ID, "/etc/network/interfaces": FIXED, BOOT: "", "/sbin/ifup": ""}
PIN = keys.parse_public(pub("keeper").encode()).fingerprint
OTHER = "SHA256:" + "A" * 43
MADE = NewIdentity(("ed25519",), True)
WHY = "gauge has host keys of pier, as a copy has: each can pose as the other."


def drafted(
    folder: Path,
    files: dict[str, str],
    *,
    config: str = "",
    pin: str = PIN,
    first: bool = False,
    live: bool = True,
    more: str = "",
) -> Draft:
    """The draft of gauge, beside another guest that comes before or after it in the estate file."""
    path = estate(folder, GRANT, more=more).path
    pier = f'  pier: {{via: {{folder: images/pier}}, host_keys: ["{pin}"]}}\n'
    text = path.read_text()
    line = next(each for each in text.splitlines(True) if each.startswith("  gauge:"))
    path.write_text(text.replace(line, line + pier if first else pier + line))
    snapshot = Guest("PasswordAuthentication no\n" + config, KEY, dict(files)).snapshot()
    if live:
        snapshot = replace(snapshot, listings={"lastlog": b"root tty1\n"})  # as of a running guest
    found = load(path)
    return prove(found, draft(found, snapshot, AT), snapshot, AT).draft


@pytest.mark.parametrize(
    "more, made, left",
    [
        ({}, (MADE,), ""),
        ({"pin": OTHER}, (), ""),
        ({"first": True}, (), ""),
        ({"live": False}, (), "ssh-keygen -A -f FOLDER"),
        ({"files": FILES | {"/etc/network/interfaces": LEASED}}, (NewIdentity(("ed25519",)),), "give eth0 a fixed address first"),
        ({"files": {HOST: FILES[HOST]}}, (NewIdentity(("ed25519",)),), ""),
        ({"files": FILES | {"/etc/ssh/ssh_host_tide_key.pub": FILES[HOST]}}, (), "lie elsewhere than ssh-keygen -A puts them"),
        ({"config": "HostCertificate /etc/ssh/own-cert.pub\n"}, (), "have them signed"),
        ({"config": "HostCertificate none\n"}, (MADE,), ""),
    ],
    ids=["a copy", "another's pin", "the first", "in a folder", "by lease", "no id", "another name", "signed", "none signed"],
)
def test_a_copy_gets_an_identity_of_its_own(tmp_path: Path, more: dict[str, object], made: tuple[object, ...], left: str) -> None:
    found = drafted(tmp_path, **{"files": FILES, **more})  # type: ignore[arg-type]
    assert found.acts == made
    assert [each.hand for each in found.left if left and left in each.hand] == [each.hand for each in found.left]
    assert bool(found.left) == bool(left)
    assert {each.why for each in found.acts} <= {WHY}


def test_a_move_comes_first(tmp_path: Path) -> None:
    """A guest that goes to another port is known there by the keys that are pinned."""
    found = drafted(tmp_path, FILES, more="services: [{run: ssh, on: gauge, at: 2222}]\n")
    assert any("2222" in str(step) for step in found.steps)
    assert not [act for act in found.acts if isinstance(act, NewIdentity)]
    assert ("enact this draft first", WHY) in {(each.hand, each.text) for each in found.left}


def test_a_record_carries_it_and_nothing_takes_it_back() -> None:
    assert acts.parse(acts.words(MADE)) == MADE
    assert acts.inverse(MADE) is None
    for wrong in (("identity", "dsa", "-"), ("identity", "ed25519;reboot", "machine"), ("identity", "ed25519", "yes")):
        with pytest.raises(ValueError, match="is no act"):
            acts.parse(wrong)
    back = reversal.draft(Guest().snapshot(), "20261201-120000-000000", [], [MADE])
    assert not back.does
