"""What waits for another draft on a running guest: a password for its account's key, an administrator for another one."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from nightlatch.draft.plan import ProvedDraft
from nightlatch.estate.load import load
from nightlatch.model.paths import AccessPath
from nightlatch.ops.draft import draft, prove
from tests.guests import AT, HASH, Guest, estate, pub

ON = "PasswordAuthentication yes\n"
OFF = "PasswordAuthentication no\n"
GRANT = "let: mara, into: gauge, by: ssh, from: bench, with: key"
ADMIN = f"{GRANT}, may: administer, after: nothing"
DESK = f'from="192.168.40.0/24" {pub("mara-desk")}\n'
JOON = f'from="192.168.40.0/24" {pub("joon-desk")}\n'
KEY_FIRST = "enact this draft, which brings mara a key, and try that key; the next draft closes the password"
OTHER_FIRST = "enact this draft, which makes mara an administrator, and try that; the next draft goes on"
RIGHTS = {"/etc/sudoers": "@includedir /etc/sudoers.d\n", "/etc/sudoers.d/x": "joon ALL=(ALL) NOPASSWD: ALL\n"}


def two(folder: Path, guest: Guest, grants: str, *, live: bool = True, joon: str = "") -> list[ProvedDraft]:
    """Two drafts, one after the other."""
    found = estate(folder, grants)
    if joon:
        path = folder / "estate.yaml"
        path.write_text(
            path.read_text().replace("joon: {keys: [keys/joon-desk.pub]}", f"joon: {{keys: [keys/joon-desk.pub], {joon}}}")
        )
        found = load(path)
    snapshot, out = guest.snapshot(), []
    if live:
        snapshot = replace(snapshot, listings={"lastlog": b"root tty1\n"})  # as of a running guest
    for _ in range(2):
        out.append(prove(found, draft(found, snapshot, AT), snapshot, AT))
        snapshot = out[-1].after
    return out


def words(proved: ProvedDraft) -> list[str]:
    return [f"{step.path.rpartition('/')[2]}: {'opens' if step.opens else 'closes'}" for step in proved.draft.steps]


def hands(proved: ProvedDraft) -> set[str]:
    return {each.hand for each in proved.draft.left}


def test_a_password_stays_while_its_account_gets_a_key(tmp_path: Path) -> None:
    first, second = two(tmp_path, Guest(ON, passwords={"mara": HASH}), GRANT)
    assert words(first) == [".ssh: opens", "authorized_keys: opens"]
    assert hands(first) == {KEY_FIRST}
    assert words(second) == ["sshd_config: closes"]
    assert not second.draft.left


def test_others_passwords_go_only_where_that_leaves_it_open(tmp_path: Path) -> None:
    first, second = two(tmp_path, Guest(ON, passwords={"mara": HASH, "joon": HASH}), GRANT)
    assert hands(first) == {KEY_FIRST}
    assert {(path.account, path.power.gives.value) for path in _paths(first)} >= {("mara", "shell")}
    assert not second.draft.left


def _paths(proved: ProvedDraft) -> list[AccessPath]:
    from nightlatch.access.paths import guest_access
    from nightlatch.readings import guest as readings

    return list(guest_access(readings.read(proved.after), AT).paths)


@pytest.mark.parametrize(
    "guest, live",
    [
        (Guest(ON, passwords={"mara": HASH}), False),  # nobody comes in meanwhile
        (Guest(ON, {"mara": DESK}, passwords={"mara": HASH}), True),  # the key is there already
    ],
    ids=["in a folder", "with its key"],
)
def test_else_it_goes_at_once(tmp_path: Path, guest: Guest, live: bool) -> None:
    first, second = two(tmp_path, guest, GRANT, live=live)
    assert "sshd_config: closes" in words(first)
    assert not first.draft.left
    assert not second.does


def test_an_administrator_stays_while_another_is_made(tmp_path: Path) -> None:
    guest = Guest(OFF, {"mara": DESK, "joon": JOON}, dict(RIGHTS))
    first, second = two(tmp_path, guest, f"{ADMIN}\n{GRANT.replace('mara', 'joon')}")
    assert words(first) == ["mara: opens"]
    assert hands(first) == {OTHER_FIRST}
    assert words(second) == ["x: closes"]
    assert not second.draft.left


def test_a_leaver_who_was_administrator_stays_while_another_is_made(tmp_path: Path) -> None:
    guest = Guest(OFF, {"mara": DESK, "joon": JOON}, dict(RIGHTS))
    first, second = two(tmp_path, guest, ADMIN, joon="until: 2026-10-31")
    assert words(first) == ["mara: opens"]
    assert OTHER_FIRST in hands(first)
    assert words(second) == ["authorized_keys: closes", "shadow: closes"]
    assert OTHER_FIRST not in hands(second)
