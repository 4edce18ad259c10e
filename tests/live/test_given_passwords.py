"""Passwords that a change gives: by the guest's own chpasswd, used and changed in real logins, taken back, cut off, seen nowhere."""

from __future__ import annotations

import re
import subprocess
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.estate.load import load
from nightlatch.faults import PutBackError, RefusedError, UnreadableError
from nightlatch.lab.image import PASSWORD
from nightlatch.lab.inside import Inside
from nightlatch.lab.machine import Guest, environment
from nightlatch.latch import live
from nightlatch.latch.folder import new_change_id
from nightlatch.latch.planned_change import planned
from nightlatch.latch.transaction import Transaction
from nightlatch.ops import undo as ops_undo
from nightlatch.ops.enact import enact, terms
from nightlatch.ops.giving import GivenPassword
from nightlatch.ops.undo import undo
from nightlatch.passwords.made import ALPHABET, LENGTH
from tests.live.latching import KILL, at_its_door, leftovers, proved, settled
from tests.live.station import DEBIAN_13, Station, ssh
from tests.live.test_accounts import ALL, KINDS, NEXT, databases, made
from tests.live.test_canaries import watched

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", "useradd", "chage", "chpasswd", root=True)
GRANTS = """
let: joon, into: all guests, by: ssh, from: bench, with: password
let: mara, into: all guests, by: ssh, from: bench, with: password, as: tove
"""


@pytest.fixture(scope="module")
def guests(station: Station) -> dict[str, Guest]:
    out = {name: made(station, name) for name in KINDS | (NEXT if DEBIAN_13.exists() else {})}
    for guest in out.values():
        guest.inside("rm", "/etc/sudoers.d/boats")
        shadow = guest.root / "etc/shadow"
        shadow.write_text(re.sub(r"(?m)^joon:[^:]*:[0-9]*:", "joon:*:20000:", shadow.read_text()))
        for account in ("mara", "joon"):
            (guest.root / f"home/{account}/.ssh/authorized_keys").write_text("")
    return out


def typed(station: Station, guest: Guest, account: str, present: str) -> bool:
    """One real login with a password."""
    return login(station, guest, account, present, "echo", "in").endswith("in\n")


def set_own(station: Station, guest: Guest, account: str, present: str, new: str) -> str:
    """What sshd asks for before anything else: the present password and another one, typed at a terminal."""
    return login(station, guest, account, present, "-tt", answers=(present, new, new))


def login(station: Station, guest: Guest, account: str, present: str, *more: str, answers: tuple[str, ...] = ()) -> str:
    script = station.folder / "answers"
    script.write_text('#!/bin/sh\necho "$PRESENT"\n')
    script.chmod(0o755)
    options = ssh("PubkeyAuthentication=no", "NumberOfPasswordPrompts=1", "LogLevel=ERROR", "ConnectTimeout=20")
    env = environment({"SSH_ASKPASS": str(script), "SSH_ASKPASS_REQUIRE": "force", "DISPLAY": ":0", "PRESENT": present})
    flags = [word for word in more if word.startswith("-")]
    words = station.desk.words(
        *options, *flags, f"{account}@{(KINDS | NEXT)[guest.name][0]}", *(w for w in more if w not in flags)
    )
    with subprocess.Popen(
        words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, env=env
    ) as run:
        assert run.stdin is not None
        for each in answers:
            time.sleep(1.5)  # what is typed ahead of a question for a password is thrown away
            run.stdin.write(f"{each}\n")
            run.stdin.flush()
        return run.communicate(timeout=60)[0]


def anywhere(guest: Guest, station: Station, word: str) -> list[str]:
    """The files of the guest's own layer and of the administrator's folder that hold a text."""
    tops = [guest.image.folder, station.folder]
    return [
        str(p) for top in tops for p in top.rglob("*") if p.is_file() and not p.is_symlink() and word.encode() in p.read_bytes()
    ]


@pytest.mark.parametrize("name", ALL)
def test_a_password_is_given_used_changed_and_taken_back(station: Station, guests: dict[str, Guest], name: str) -> None:
    guest, path = guests[name], station.estate(GRANTS)
    before, given = databases(guest), list[GivenPassword]()
    found = proved(station, path, name)
    assert [str(step).partition(",")[0] for step in found.accounts] == [
        "give joon a password",
        "make the account tove: uid 1003",
        "give tove a password",
    ]
    with (
        station.client() as client,
        pytest.raises(RefusedError, match="a password would be made for joon, tove, and nobody takes it"),
    ):
        enact(load(path), name, datetime.now(UTC), client=client)
    assert databases(guest) == before
    with station.client() as client, watched(guest) as seen:
        done = enact(load(path), name, datetime.now(UTC), client=client, hand_over=given.append)
    assert done.outcome == "kept"
    assert len(seen) > 20
    assert not [words for words in seen for each in given if each.password.encode() in words], "in a program's arguments"
    settled(guest)
    words = {each.account: each.password for each in given}
    assert words.keys() == {"joon", "tove"}
    assert all(len(word) == LENGTH and set(word) <= set(ALPHABET) for word in words.values())
    shadow = dict(line.split(":", 1) for line in (guest.root / "etc/shadow").read_text().splitlines())
    assert all(re.match(r"\$(y|6)\$.*:0:", shadow[account]) for account in words), shadow
    assert not proved(station, path, name).does, "the second run changes nothing"
    assert not typed(station, guest, "joon", "not-it")
    after = databases(guest)
    with station.client() as client:
        assert undo(load(path), name, datetime.now(UTC), client=client, decide=lambda _: False).outcome == "kept"
    settled(guest)
    assert databases(guest) == after, "an undo that was not kept leaves both passwords"
    with station.client() as client:
        assert undo(load(path), name, datetime.now(UTC), client=client).outcome == "put back"
    settled(guest)
    assert databases(guest) == before
    assert not typed(station, guest, "joon", words["joon"])
    assert not leftovers(guest)
    assert not [file for word in words.values() for file in anywhere(guest, station, word)]


@pytest.mark.parametrize("name", KINDS)
def test_who_has_set_one_of_their_own_keeps_it(station: Station, guests: dict[str, Guest], name: str) -> None:
    guest, path = guests[name], station.estate(GRANTS.splitlines()[1])
    shadow = guest.root / "etc/shadow"
    before, given = shadow.read_bytes(), list[GivenPassword]()
    with station.client() as client:
        assert enact(load(path), name, datetime.now(UTC), client=client, hand_over=given.append).outcome == "kept"
    settled(guest)
    own = PASSWORD[::-1] + "-of-joon"
    assert "password updated" in set_own(station, guest, "joon", given[0].password, own)
    assert typed(station, guest, "joon", own)
    assert not typed(station, guest, "joon", given[0].password)
    with station.client() as client, pytest.raises(RefusedError, match="has changed the password since it was given; lock it"):
        undo(load(path), name, datetime.now(UTC), client=client)
    assert typed(station, guest, "joon", own)
    shadow.write_bytes(before)
    for folder in (guest.root / "var/lib/nightlatch/changes").iterdir():
        guest.inside("rm", "-rf", f"/var/lib/nightlatch/changes/{folder.name}")
    guest.inside("sh", "-c", "grep -lr Nightlatch /etc/ssh | xargs -r sed -i '/^Match User joon/,$d'")


@pytest.mark.parametrize("name", KINDS)
def test_what_is_not_kept_leaves_no_password(
    station: Station, guests: dict[str, Guest], name: str, tell: Callable[[str], None]
) -> None:
    """Taken back at once, by the timer, by a restart while the password is there, and where chpasswd refuses it."""
    guest, path = guests[name], station.estate(GRANTS.splitlines()[1])
    before, tried = databases(guest), 0

    def left_alone(how: str) -> None:
        settled(guest)
        assert databases(guest) == before, how
        assert not leftovers(guest), how

    with station.client() as client:
        done = enact(load(path), name, datetime.now(UTC), client=client, hand_over=lambda _: None, decide=lambda _: False)
    assert done.outcome == "put back"
    left_alone("taken back")
    for how in ("timer", "restart"):
        given = list[GivenPassword]()
        with station.client() as client:
            enact(
                load(path),
                name,
                datetime.now(UTC),
                client=client,
                hand_over=given.append,
                decide=lambda _: None,
                seconds=12 if how == "timer" else 90,
                unguarded=guest.bare,
            )
        assert (guest.root / "etc/shadow").read_text().count("joon:$") == 1
        if how == "restart" and not guest.bare:
            guest.power_cut()
            guest.boot()
            guest.until_listening()
        elif how == "restart":
            with station.client() as client:
                undo(load(path), name, datetime.now(UTC), client=client)
        left_alone(how)
        now = datetime.now(UTC)
        with pytest.raises(Exception, match="could not be given a password: it is not on the latch"):
            live.give(Inside(guest), new_change_id(now), "joon", given[0].password)
        tried += 1
    tool = guest.root / "usr/local/sbin/chpasswd"
    tool.write_text("#!/bin/sh\ncat >&2\nexit 1\n")
    tool.chmod(0o755)
    given = []
    with (
        station.client() as client,
        pytest.raises(PutBackError, match="could not be given a password: chpasswd refuses it") as caught,
    ):
        enact(load(path), name, datetime.now(UTC), client=client, hand_over=given.append)
    assert given[0].password not in str(caught.value)
    tool.unlink()
    left_alone("chpasswd refuses")
    tell(f"passwords not kept, {name}: {tried + 2} ways, nothing left")


@pytest.mark.parametrize("name", KINDS)
def test_an_undo_that_is_cut_off(
    station: Station,
    guests: dict[str, Guest],
    name: str,
    monkeypatch: pytest.MonkeyPatch,
    tell: Callable[[str], None],
) -> None:
    """Before it is decided both passwords stay, from whatever act; once it is kept, the timer ends what was cut, and who asked
    hears of it or not, as the script that answers was there to hear."""
    guest, path = guests[name], station.estate(GRANTS)
    before = databases(guest)
    with station.client() as client:
        enact(load(path), name, datetime.now(UTC), client=client, hand_over=lambda _: None)
    settled(guest)
    after = databases(guest)
    points = [f"{word} {number}" for number in (1, 2, 3) for word in ("acting", "acted")]
    points += [f"written {each}" for each in ("passwd", "gshadow", "group")]
    for point in (*points, "keeping"):
        guest.inside("rm", "-f", "/run/killed")
        seam = KILL.format(point=point, flag="/run/killed")
        monkeypatch.setattr(ops_undo, "terms", lambda *a, seam=seam, **k: terms(*a, **k, seam=seam, unguarded=guest.bare))
        with station.client() as client:
            if point == "keeping":
                heard, unheard = "put back", "Unless it heard that, the guest takes it back by itself"
                try:
                    said = str(undo(load(path), name, datetime.now(UTC), client=client, seconds=12).outcome)
                except PutBackError as error:
                    said = str(error)
                assert said == heard or unheard in said
            else:
                with pytest.raises((PutBackError, UnreadableError)):
                    undo(load(path), name, datetime.now(UTC), client=client, seconds=12)
        settled(guest)
        assert guest.inside("ls", "/run/killed"), f"{point} was not reached"
        assert databases(guest) == (before if point == "keeping" else after), point
        assert not leftovers(guest), point
    tell(f"undo of given passwords cut off, {name}: {len(points) + 1} points, 0 wrong")


def test_what_changed_since_it_was_read_is_refused(station: Station, guests: dict[str, Guest]) -> None:
    guest, path = guests["gauge"], station.estate(GRANTS.splitlines()[1])
    proof, now = proved(station, path, "gauge"), datetime.now(UTC)
    shadow = guest.root / "etc/shadow"
    was = shadow.read_text()
    shadow.write_text(was.replace("joon:*", "joon:!"))
    change = at_its_door(guest, Transaction(planned(load(path), proof), terms(now, new_change_id(now), 60)))
    with pytest.raises(RefusedError, match="the password of joon was changed since it was read"):
        live.begin(Inside(guest), change)
    shadow.write_text(was)
    settled(guest)


def test_in_a_file_that_only_its_maker_reads(station: Station, guests: dict[str, Guest]) -> None:
    guest = guests["gauge"]
    station.estate(GRANTS.splitlines()[1])
    before = databases(guest)
    file = station.folder / "given.txt"
    words = ("enact", "--yes", "--on", "gauge", "--ssh-config", "ssh_config")
    assert "nobody takes it" in station.nightlatch(*words, code=4)
    out = station.nightlatch(*words, "--passwords", str(file))
    guest_name, account, password = file.read_text().rstrip("\n").split("\t")
    assert (guest_name, account, file.stat().st_mode & 0o777) == ("gauge", "joon", 0o600)
    assert password not in out
    assert "is there already" in station.nightlatch(*words, "--passwords", str(file), code=None)
    file.unlink()
    station.nightlatch("undo", "--on", "gauge", "--ssh-config", "ssh_config")
    settled(guest)
    assert databases(guest) == before


def test_at_the_console_the_person_types_it(station: Station, guests: dict[str, Guest]) -> None:
    guest = guests["mole"]
    station.estate(GRANTS.splitlines()[1])
    before = databases(guest)
    text = station.nightlatch("draft", "--script", "--for", "2m", "--ssh-config", "ssh_config", "--on", "mole")
    (guest.root / "root/change.sh").write_text(text)

    def at_console(word: str) -> str:
        return guest.inside("sh", "-c", f'sh /root/change.sh {word} 2>&1; echo "code $?"', timeout=120)

    assert "Give joon a password now: passwd joon\n" in at_console("")
    assert "joon has no password yet: run  passwd joon  first\ncode 4" in at_console("keep")
    guest.inside("chpasswd", stdin="joon:of-the-console-7421\n")
    assert at_console("back").endswith("code 0\n")
    settled(guest)
    assert databases(guest) == before
    Path(guest.root / "root/change.sh").unlink()
