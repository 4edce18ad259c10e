"""Accounts on running guests: made, given root's rights, disabled and enabled, with the system's tools and without; cut off anywhere."""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.estate.load import load
from nightlatch.faults import PutBackError, RefusedError
from nightlatch.lab.inside import Inside
from nightlatch.lab.machine import Guest
from nightlatch.latch import live
from nightlatch.latch.folder import new_change_id
from nightlatch.latch.planned_change import planned
from nightlatch.latch.transaction import Transaction
from nightlatch.model.account_steps import DATABASES
from nightlatch.ops.enact import terms
from nightlatch.ops.undo import undo
from tests.live.latching import Subject, at_its_door, cut_off, enact, leftovers, proved, settled
from tests.live.station import DEBIAN_13, Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", "useradd", "chage", "visudo", root=True)
TOOLS = ("useradd", "userdel", "usermod", "groupadd", "groupdel")
GRANTS = """
let: joon, into: all guests, by: ssh, from: bench, with: key
let: joon, into: all guests, by: ssh, from: bench, with: key, as: tove, may: administer, after: nothing, shared: a test
let: mara, into: all guests, by: ssh, from: bench, with: key
"""
LEFT = "mara: {keys: [mara.pub], until: 2026-10-31}"
BOUND = 'from="192.168.40.0/24,2001:db8:40::/64"'
KINDS = {"gauge": ("192.168.56.21", False, False), "mole": ("192.168.56.22", True, True)}  # address, bare, without the tools
NEXT = {"pier": ("192.168.56.23", False, False)}  # of the next release of Debian
ALL = [*KINDS, pytest.param("pier", marks=pytest.mark.judge(tree=DEBIAN_13))]


def made(station: Station, name: str) -> Guest:
    address, bare, without = (KINDS | NEXT)[name]
    unit, lower = "" if bare else "ssh.service", DEBIAN_13 if name in NEXT else Path("/")
    guest = station.guest(name, address, bare=bare, unit=unit, config="PasswordAuthentication no\n", lower=lower)
    for uid, account, key in ((1000, "keeper", "desk"), (1001, "mara", "mara"), (1002, "joon", "joon")):
        guest.image.write(f"/home/{account}/.ssh/authorized_keys", f"{BOUND} {station.keys[key]}\n", 0o600, uid, uid)
    etc = guest.image.folder / "etc"
    (etc / "group").write_text((etc / "group").read_text() + "boats:x:1500:joon\n")
    guest.image.write("/etc/sudoers.d/boats", "%boats ALL=(ALL) NOPASSWD: ALL\n", 0o440)
    if without:
        for each in (*(f"/usr/sbin/{tool}" for tool in TOOLS), "/usr/bin/gpasswd", "/usr/bin/chage"):
            hidden = guest.image.folder / each.lstrip("/")
            hidden.parent.mkdir(parents=True, exist_ok=True)
            os.mknod(hidden, stat.S_IFCHR, os.makedev(0, 0))  # as overlayfs hides a file of the layer below
    guest.boot()
    guest.until_listening()
    guest.inside("grpconv")  # a group without a record in gshadow gets one from gpasswd(1), which is no part of these tests
    return guest


@pytest.fixture(scope="module")
def guests(station: Station) -> dict[str, Guest]:
    kinds = KINDS | (NEXT if DEBIAN_13.exists() else {})
    return {name: made(station, name) for name in kinds}


def stated(station: Station, *, gone: bool, plain: bool = False) -> Path:
    """The estate; where tove is `plain`, joon's rights go in the same change as she comes."""
    path = station.estate(GRANTS.replace("may: administer, after: nothing, ", "") if plain else GRANTS)
    if gone:
        path.write_text(path.read_text().replace("mara: {keys: [mara.pub]}", LEFT))
    return path


def databases(guest: Guest) -> dict[str, tuple[bytes, int]]:
    """The four databases as they are, with their modes; the day of a last change of a password is no part of it."""
    out = {}
    for path in DATABASES:
        held = guest.root / path.lstrip("/")
        if held.exists():
            out[path] = (held.read_bytes(), held.stat().st_mode)
    return out


def complaints(guest: Guest) -> str:
    """What the system's own checkers say of its databases (pwck(8), grpck(8))."""
    return guest.inside("sh", "-c", "pwck -r; grpck -r; true")


def root_by_sudo(guest: Guest, account: str) -> bool:
    said = guest.inside(
        "setpriv", f"--reuid={account}", "--init-groups", f"--regid={account}", "sudo", "-n", "id", "-u", check=False
    )
    return said.strip() == "0"


@pytest.mark.parametrize("name", ALL)
def test_a_colleague_joins_one_leaves_and_comes_back(station: Station, guests: dict[str, Guest], name: str) -> None:
    guest, path = guests[name], stated(station, gone=True)
    before, complained = databases(guest), complaints(guest)
    assert root_by_sudo(guest, "joon")
    found = proved(station, path, name)
    assert sorted(map(str, found.accounts)) == [
        "expire the account mara",
        "lock the password of mara",
        "make the account tove: uid 1003, home /home/tove, shell /bin/bash, no password",
    ]
    assert {each.hand.partition(";")[0] for each in found.draft.left} >= {
        "enact this draft, which makes joon an administrator, and try that"
    }
    assert enact(station, path, name).outcome == "kept"
    assert root_by_sudo(guest, "joon"), "an administrator stays until another one is there"
    assert list(map(str, proved(station, path, name).accounts)) == ["take joon out of the group boats"]
    settled(guest)
    assert enact(station, path, name).outcome == "kept"
    assert station.login(guest, "tove", "joon")
    assert root_by_sudo(guest, "tove")
    assert not root_by_sudo(guest, "joon")
    assert station.login(guest, "joon", "joon")
    assert not station.login(guest, "mara", "mara")
    shadow = dict(line.split(":", 1) for line in (guest.root / "etc/shadow").read_text().splitlines())
    assert re.fullmatch(r"\*:[0-9]+:0:99999:7:::", shadow["tove"])
    assert re.fullmatch(r"!\$.*:1:", shadow["mara"])
    assert guest.inside("id", "tove").strip() == "uid=1003(tove) gid=1003(tove) groups=1003(tove)"
    assert complaints(guest) == complained
    assert not proved(station, path, name).does, "the second run changes nothing"
    back = stated(station, gone=False)
    assert list(map(str, proved(station, back, name).accounts)) == ["let the account mara expire no more"], "a key needs no more"
    second = enact(station, back, name)
    assert second.outcome == "kept"
    assert station.login(guest, "mara", "mara")
    for _ in range(3):
        with station.client() as client:
            assert undo(load(path), name, datetime.now(UTC), client=client).outcome == "put back"
    settled(guest)
    assert databases(guest) == before
    assert not (guest.root / "home/tove").exists()
    assert not leftovers(guest)


@pytest.mark.parametrize("name", ALL)
def test_who_has_come_in_is_put_out_with_the_account(station: Station, guests: dict[str, Guest], name: str) -> None:
    guest, path = guests[name], stated(station, gone=True)
    before = databases(guest)
    seen = []

    def decide(_: object) -> bool:
        assert station.login(guest, "tove", "joon")
        guest.inside(
            "setpriv", "--reuid=1003", "--regid=1003", "--clear-groups", "sh", "-c", "sleep 300 </dev/null >/dev/null 2>&1 &"
        )
        seen.append(guest.inside("sh", "-c", "grep -ls '^Uid:.1003' /proc/[0-9]*/status; true"))
        return False

    assert enact(station, path, name, decide=decide).outcome == "put back"
    settled(guest)
    assert seen[0]
    assert guest.inside("sh", "-c", "grep -ls '^Uid:.1003' /proc/[0-9]*/status; true") == ""
    assert databases(guest) == before
    assert station.login(guest, "mara", "mara")


@pytest.mark.parametrize("name", ALL)
def test_what_changed_since_it_was_read_is_refused(station: Station, guests: dict[str, Guest], name: str) -> None:
    guest, path = guests[name], stated(station, gone=True)
    proof, now = proved(station, path, name), datetime.now(UTC)
    passwd = guest.root / "etc/passwd"
    was = passwd.read_bytes()
    passwd.write_bytes(was + b"olav:x:1003:1003::/home/olav:/bin/sh\n")
    change = at_its_door(guest, Transaction(planned(load(path), proof), terms(now, new_change_id(now), 60)))
    with pytest.raises(RefusedError, match="uid 1003 is somebody's already"):
        live.begin(Inside(guest), change)
    passwd.write_bytes(was)
    settled(guest)


@pytest.mark.parametrize("name", ALL)
def test_a_guest_s_script_dies_at_every_act(
    station: Station, guests: dict[str, Guest], name: str, tell: Callable[[str], None]
) -> None:
    guest, path = guests[name], stated(station, gone=True, plain=True)
    before, proof = databases(guest), proved(station, path, name)
    points = [f"{word} {number}" for number in range(1, len(proof.accounts) + 1) for word in ("acting", "acted")]
    points += [f"written {each}" for each in ("passwd", "shadow", "group", "gshadow")] if guest.bare else []
    subject = Subject(station, guest, load(path), proof, {}, "")
    wrong = []
    for number, point in enumerate(points):
        told = cut_off(subject, point, power=not (number % 2 or guest.bare), seconds=10)
        if databases(guest) != before or leftovers(guest) or (guest.root / "home/tove").exists():
            wrong.append(f"{point}: {told} {leftovers(guest)}")
    tell(f"accounts cut off, {name}: {len(points)} points, {len(wrong)} wrong")
    assert not wrong, "\n".join(wrong)


def test_the_tools_own_cut_leaves_no_half_made_account(
    station: Station, guests: dict[str, Guest], tell: Callable[[str], None]
) -> None:
    """useradd itself is killed between the databases that it writes: the way back takes whatever is there."""
    guest, path = guests["gauge"], stated(station, gone=True)
    before, proof = databases(guest), proved(station, path, "gauge")
    tool = guest.root / "usr/local/sbin/useradd"
    for number, half in enumerate(("groupadd-only", "passwd-only")):
        line = "" if not number else "echo 'tove:x:1003:1003::/home/tove:/bin/bash' >>/etc/passwd\n"
        tool.write_text(f"#!/bin/sh\n{line}kill -9 $PPID\n")
        tool.chmod(0o755)
        now = datetime.now(UTC)
        change = at_its_door(guest, Transaction(planned(load(path), proof), terms(now, new_change_id(now), 12)))
        with pytest.raises(PutBackError):
            live.begin(Inside(guest), change)
        settled(guest)
        tool.unlink()
        assert databases(guest) == before, half
        assert not leftovers(guest)


def test_a_rule_that_sudo_can_t_read_is_refused(station: Station, guests: dict[str, Guest]) -> None:
    guest, path = guests["gauge"], stated(station, gone=True)
    proof, now = proved(station, path, "gauge"), datetime.now(UTC)
    change = at_its_door(guest, Transaction(planned(load(path), proof), terms(now, new_change_id(now), 60)))
    torn = guest.root / "usr/local/sbin/visudo"
    torn.write_text("#!/bin/sh\necho 'syntax error'\nexit 1\n")
    torn.chmod(0o755)
    with pytest.raises(RefusedError, match=r"visudo refuses the new /etc/sudoers\.d/tove: syntax error"):
        live.begin(Inside(guest), change)
    torn.unlink()
    settled(guest)


@pytest.mark.parametrize("name", ALL)
def test_at_the_console_the_same_change_is_one_script(station: Station, guests: dict[str, Guest], name: str) -> None:
    guest = guests[name]
    stated(station, gone=True, plain=True)
    before = databases(guest)

    def fresh() -> str:
        text = station.nightlatch("draft", "--script", "--for", "2m", "--ssh-config", "ssh_config", "--on", name)
        (guest.root / "root/change.sh").write_text(text)
        return text

    def at_console(*words: str, script: str = "change.sh") -> str:
        out = guest.inside("sh", "-c", f'sh /root/{script} {" ".join(words)} 2>&1; echo "code $?"', timeout=120)
        assert out.rstrip().endswith("code 0"), out
        return out

    assert "#   make the account tove: uid 1003" in fresh()
    assert "4 acts beside them" in at_console()
    assert station.login(guest, "tove", "joon")
    at_console("back")
    settled(guest)
    assert databases(guest) == before
    text = fresh()
    at_console()
    at_console("keep")
    settled(guest)
    assert "this change was kept already" in at_console()
    number = re.sub(r"(?s).*?change (\d{8}-\d{6}-\d{6}).*", r"\1", text)
    (guest.root / "root/again.sh").write_text(text.replace(number, "20260101-000000-000000"))
    assert "everything is as this change makes it already; nothing to do" in at_console(script="again.sh")
    with station.client() as client:
        assert undo(load(station.folder / "estate.yaml"), name, datetime.now(UTC), client=client).outcome == "put back"
    settled(guest)
    assert databases(guest) == before
