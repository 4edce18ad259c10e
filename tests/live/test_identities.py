"""Guests that are copies of another one get host keys and a machine id of their own: proven, taken back, cut off anywhere, kept."""

from __future__ import annotations

import re
import shutil
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.estate.load import load
from nightlatch.faults import PutBackError, RefusedError, UnreadableError
from nightlatch.lab.machine import Guest
from nightlatch.ops import identity
from nightlatch.ops.enact import Consent
from nightlatch.ops.keep import keep
from nightlatch.ops.undo import undo
from tests.live.latching import Subject, cut_off, enact, leftovers, proved, settled
from tests.live.station import Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", "ssh-keygen", root=True)
COPIES = {"gauge": ("192.168.56.21", False), "mole": ("192.168.56.22", True)}  # address, bare
GRANTS = "let: mara, into: all guests, by: ssh, from: bench, with: key"
CONFIG = "PasswordAuthentication no\nHostKey /etc/ssh/ssh_host_ed25519_key\nHostKey /etc/ssh/ssh_host_ecdsa_key\n"
BOUND = 'from="192.168.40.0/24,2001:db8:40::/64"'
FILES = ("etc/ssh", "etc/machine-id", "var/lib/dbus/machine-id")
OWN = {Consent.IDENTITY}
Tell = Callable[[str], None]


def made(station: Station, name: str, address: str, *, bare: bool) -> Guest:
    guest = station.guest(name, address, bare=bare, unit="" if bare else "ssh.service", config=CONFIG)
    for uid, account, key in ((1000, "keeper", "desk"), (1001, "mara", "mara")):
        guest.image.write(f"/home/{account}/.ssh/authorized_keys", f"{BOUND} {station.keys[key]}\n", 0o600, uid, uid)
    guest.image.write("/home/joon/.ssh/authorized_keys", "", 0o600, 1002, 1002)
    return guest


@pytest.fixture(scope="module")
def guests(station: Station) -> dict[str, Guest]:
    """An original and its copies, which have its host keys and machine id."""
    first = made(station, "first", "192.168.56.20", bare=False)
    first.image.host_key("ecdsa")
    out = {"first": first}
    for name, (address, bare) in COPIES.items():
        copy = out[name] = made(station, name, address, bare=bare)
        for file in Path(first.image.path("/etc/ssh")).glob("ssh_host_*"):
            shutil.copy2(file, copy.image.path(f"/etc/ssh/{file.name}"))
        word = first.image.path("/etc/machine-id").read_text()
        for path in ("/etc/machine-id", "/var/lib/dbus/machine-id"):
            copy.image.path(path).unlink(missing_ok=True)
            copy.image.write(path, word, 0o444)
        station.host_keys[name] = station.host_keys["first"]
    for guest in out.values():
        guest.boot()
        guest.until_listening()
    return out


def held(guest: Guest) -> dict[str, tuple[object, ...]]:
    """What makes a guest's identity: bytes, mode and owner of each file."""
    paths = (p for name in FILES for p in ([guest.root / name, *(guest.root / name).rglob("ssh_host_*")]) if p.is_file())
    return {str(p): (p.read_bytes(), p.stat().st_mode, p.stat().st_uid, p.stat().st_gid) for p in paths}


def refuses(*_: object) -> None:
    raise UnreadableError("it is read only")


def pins(path: Path, name: str) -> tuple[str, ...]:
    return load(path).guests[name].host_keys


def shown(station: Station, guest: Guest) -> set[str]:
    """The host keys that a real client is shown, by fingerprint."""
    said = station.desk.run("ssh-keyscan", COPIES[guest.name][0])
    keys = [line.split(" ", 1)[1] for line in said.splitlines() if not line.startswith("#")]
    return {guest.run("ssh-keygen", "-l", "-f", "-", stdin=key).split()[1] for key in keys}


@pytest.mark.parametrize("name", COPIES)
def test_what_is_not_kept_brings_the_old_ones_back(station: Station, guests: dict[str, Guest], name: str) -> None:
    guest, path = guests[name], station.estate(GRANTS)
    before, file = held(guest), path.read_bytes()
    old = shown(station, guest)
    found = proved(station, path, name)
    assert found.draft.left == ()
    assert [str(act) for act in found.draft.acts] == [
        "make new host keys (ecdsa, ed25519) and another machine id (can't be taken back once it is kept)"
    ]
    assert not proved(station, path, "first").does, "the first keeps what it has"
    with pytest.raises(RefusedError, match="--new-host-keys agrees to that"):
        enact(station, path, name)
    assert enact(station, path, name, agreed=OWN, decide=lambda _: False).outcome == "put back"
    settled(guest)
    assert held(guest) == before
    assert pins(path, name) == load_pins(file, path, name)
    assert shown(station, guest) == old
    assert not leftovers(guest)


def load_pins(text: bytes, path: Path, name: str) -> tuple[str, ...]:
    now = path.read_bytes()
    path.write_bytes(text)
    found = pins(path, name)
    path.write_bytes(now)
    return found


@pytest.mark.parametrize("name", COPIES)
def test_cut_off_anywhere_it_is_what_it_was(station: Station, guests: dict[str, Guest], name: str, tell: Tell) -> None:
    """The script is killed, and at some points the whole guest: nothing of new keys stays, and sshd shows the old ones."""
    guest, path = guests[name], station.estate(GRANTS)
    before, old, proof = held(guest), shown(station, guest), proved(station, path, name)
    subject = Subject(station, guest, load(path), proof, {}, "")
    halves = ["laid by ecdsa", "half ecdsa", "made ecdsa", "half ed25519"]
    points = ["acting 1", *halves, "half machine", "made machine", "looked"]
    wrong: list[str] = []
    for point in points:
        for cut in ("script", *(["power"] if not guest.bare and point in ("half ed25519", "made machine") else [])):
            told = cut_off(subject, point, power=cut == "power", seconds=8, fault=(PutBackError, RefusedError))
            if held(guest) != before or shown(station, guest) != old or leftovers(guest):
                wrong.append(f"{cut} at {point}: {told} {leftovers(guest)}")
    tell(f"new host keys cut off, {name}: {len(points)} points, {len(wrong)} wrong")
    assert not wrong, "\n".join(wrong)


def test_left_on_the_latch_it_is_kept_later(station: Station, guests: dict[str, Guest]) -> None:
    guest, path = guests["gauge"], station.estate(GRANTS)
    before, was = held(guest), pins(path, "gauge")
    for end in ("undo", "keep"):
        assert enact(station, path, "gauge", agreed=OWN, decide=lambda _: None).outcome == "on the latch"
        new = shown(station, guest)
        assert {*pins(path, "gauge")} == new | {*was}, "both are pinned until it is decided"
        with station.client() as client:
            if end == "undo":
                assert undo(load(path), "gauge", datetime.now(UTC), client=client).outcome == "put back"
                settled(guest)
                assert held(guest) == before
                station.estate(GRANTS)
            else:
                assert keep(load(path), "gauge", datetime.now(UTC), client=client).host_keys
    settled(guest)
    assert {*pins(path, "gauge")} == new
    with station.client() as client, pytest.raises(RefusedError, match="can't be taken back once it is kept"):
        undo(load(path), "gauge", datetime.now(UTC), client=client)
    assert not proved(station, path, "gauge").does, "the second run changes nothing"
    station.host_keys["gauge"] = pins(path, "gauge")[0]


def test_the_pins_follow_and_the_wire_shows_the_new_ones(station: Station, guests: dict[str, Guest]) -> None:
    """As a person has it at the desk, with what is dialled from there."""
    guest, path = guests["mole"], station.estate(GRANTS)
    before, was = held(guest), pins(path, "mole")
    words = ("enact", "--yes", "--on", "mole", "--ssh-config", "ssh_config", "--no-boot-guard")
    assert "--new-host-keys agrees" in " ".join(station.nightlatch(*words, code=4).split())
    out = " ".join(station.nightlatch(*words, "--new-host-keys").split())
    new = shown(station, guest)
    settled(guest)
    assert len(new) == 2
    assert {*pins(path, "mole")} == new
    assert not new & {*was}
    assert all(each in out for each in new)
    assert "tell their people these fingerprints" in out
    assert "To take it back" not in out
    after = held(guest)
    assert after.keys() == before.keys()
    keyless = [each for each in before if "rsa" in each]  # a kind that holds no key is no host key
    assert [each for each in after if (after[each][0] == before[each][0]) != (each in keyless)] == []
    assert [each for each in after if after[each][1:] != before[each][1:]] == []
    word = (guest.root / "etc/machine-id").read_bytes()
    assert re.fullmatch(rb"[0-9a-f]{32}\n", word)
    assert (guest.root / "var/lib/dbus/machine-id").read_bytes() == word
    private = [raw for name, (raw, *_) in before.items() if raw and name.endswith("_key")]
    everywhere = [p for p in guest.image.folder.rglob("*") if p.is_file() and not p.is_symlink()]
    assert not [p for p in everywhere for raw in private if isinstance(raw, bytes) and raw in p.read_bytes()], (
        "the old ones are gone"
    )
    assert "nothing to do" in station.nightlatch("draft", "--on", "mole", "--ssh-config", "ssh_config").lower()


def test_where_the_pins_can_not_follow_nothing_is_kept(
    station: Station, guests: dict[str, Guest], monkeypatch: pytest.MonkeyPatch
) -> None:
    """A guest that nobody could come into any more stays as it was."""
    guest = guests["first"]
    (file,) = (key for key in held(guest) if key.endswith("ssh_host_ed25519_key.pub"))
    mine = guest.run("ssh-keygen", "-l", "-f", file).split()[1]
    station.host_keys |= {"first": mine, "gauge": mine}
    path = station.estate(GRANTS)
    path.write_text(re.sub(r"(?m)^(  first: .*\n)((?:  [a-z]+: .*\n)+)", r"\2\1", path.read_text()))  # it is the copy now
    monkeypatch.setattr(identity, "_pin", refuses)
    before = held(guest)
    with pytest.raises(PutBackError, match="the new host keys can't be pinned: it is read only"):
        enact(station, path, "first", agreed=OWN)
    settled(guest)
    assert held(guest) == before
