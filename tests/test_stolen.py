"""What a stolen key or a taken guest reaches: against a plain search of made-up worlds, and on guests that hold each other's keys."""

from __future__ import annotations

import json
import random
import subprocess
from datetime import UTC, datetime
from ipaddress import ip_address
from pathlib import Path

import pytest

from nightlatch.access.holdings import Holding
from nightlatch.audit.answers import Callers, WayIn
from nightlatch.audit.checks.registry import Identities
from nightlatch.audit.stolen import Loot, loot
from nightlatch.estate.load import load
from nightlatch.evidence.collect import collect
from nightlatch.faults import NightlatchError
from nightlatch.formats import keys
from nightlatch.formats.keys import PrivateHalf, parse_public
from nightlatch.model.powers import ADMINISTER, SHELL, Power, PowerKind
from nightlatch.model.routes import DIALLED, Seal
from nightlatch.model.secrets import Key, Password, Secret
from nightlatch.model.sources import COMMON
from nightlatch.net.addresses import single
from nightlatch.ops.stolen import stolen
from nightlatch.origin import Origin
from nightlatch.readings import guest as readings
from nightlatch.readings import private_halves
from nightlatch.readings.private_halves import PrivateKeyFile
from nightlatch.transports.folder import Folder
from tests.budget import cases
from tests.commands import COMMANDS
from tests.guests import HEAD, KEYS, Guest, pub

AT = datetime(2026, 11, 25, tzinfo=UTC)
GUESTS = ("gauge", "gate", "plotter", "buoy")
OUTSIDE = ip_address("203.0.113.77")
ADDRESSES = {name: ip_address(f"192.168.56.{number}") for number, name in enumerate(GUESTS, 21)}
GIVES = ((SHELL,), (SHELL, ADMINISTER), (Power(PowerKind.COMMAND, "/bin/true"),), (Power(PowerKind.TUNNEL, "*"),), (SHELL,))


def way(dice: random.Random) -> WayIn:
    """A way in with a key or two, a password, or nothing, from some of all addresses."""
    shown = tuple(Key(each) for each in dice.sample("abcdef", dice.choice([1, 1, 1, 1, 2])))
    asked: tuple[Secret, ...] = dice.choice([shown, shown, shown, shown, (), (*shown, Password("gauge", "mara"))])
    sources = [each for each in (OUTSIDE, *ADDRESSES.values()) if dice.random() < 0.4]
    prefixes = ((COMMON, tuple(map(str, sources))),) if sources else ()
    account = dice.choice(["mara", "joon", "root"])
    powers = dice.choice(GIVES)
    return WayIn(account, (), "ssh", DIALLED, (), asked, powers, Seal.TLS, Callers(prefixes), Callers(), ())


def half(dice: random.Random) -> PrivateKeyFile:
    readers = frozenset(dice.sample(["mara", "joon"], dice.randint(0, 1)))
    return PrivateKeyFile(dice.choice("abcdef"), dice.choice([False, False, True]), readers, Origin(f"/k/{dice.random()}"))


def plain(ways: dict[str, list[WayIn]], held: dict[str, list[PrivateKeyFile]], key: str, taken: str) -> set[tuple[str, str]]:
    """The accounts with a shell, by going round until nothing is won."""
    found = {key} - {""}
    at: set[object] = {OUTSIDE}
    known: set[object] = set()
    shells, roots = ({(taken, "root")}, {taken}) if taken else (set(), set())
    while True:
        before = (len(found), len(shells), len(roots), len(at))
        at |= {ADDRESSES[name] for name in roots} | {ADDRESSES[name] for name, _ in shells} | known
        found |= {
            each.fingerprint
            for name, those in held.items()
            for each in those
            if each.locked is False and (name in roots or any((name, reader) in shells for reader in each.readers))
        }
        for name, those in ways.items():
            for each in those:
                shown = {one.fingerprint for one in each.shown if isinstance(one, Key)}
                sources = set(each.certain.prefixes[0][1]) if each.certain.prefixes else set()
                if any(isinstance(one, Password) for one in each.shown) or not shown <= found or not sources & set(map(str, at)):
                    continue
                kinds = {power.gives for power in each.powers}
                if PowerKind.SHELL in kinds:
                    shells.add((name, each.account))
                    roots |= {name} if each.account == "root" or PowerKind.ADMINISTER in kinds else set()
                if kinds & {PowerKind.SHELL, PowerKind.TUNNEL}:
                    known.add(ADDRESSES[name])
        if before == (len(found), len(shells), len(roots), len(at)) and known <= at:
            return {(name, account) for name, account in shells if (name, account) != (taken, "root")} | {
                (name, "*") for name in roots
            }


def shells(found: Loot, taken: str) -> set[tuple[str, str]]:
    """The same of an answer; of a guest whose root is had, that alone."""
    told = [(each.guest, each.way.account, {power.gives for power in each.powers}) for each in found.reached]
    rooted = {
        g for g, account, kinds in told if PowerKind.SHELL in kinds and (account == "root" or PowerKind.ADMINISTER in kinds)
    }
    rooted |= {taken} if taken else set()
    return {(g, a) for g, a, kinds in told if PowerKind.SHELL in kinds} | {(g, "*") for g in rooted}


def test_every_world_is_searched_to_its_end() -> None:
    dice, far = random.Random(18), 0
    for _ in range(cases(400, 4000)):
        ways = {name: [way(dice) for _ in range(dice.randint(0, 4))] for name in GUESTS}
        held = {name: [half(dice) for _ in range(dice.randint(0, 2))] for name in GUESTS}
        facts = [
            Identities(name, addresses=(Holding(name, ADDRESSES[name], stated=Origin("x")),), halves=tuple(held[name]))
            for name in GUESTS
        ]
        key, taken = (dice.choice("abcdef"), "") if dice.random() < 0.7 else ("", dice.choice(GUESTS))
        found = loot(ways, facts, {}, {COMMON: single(OUTSIDE)}, key=key, taken=taken)
        wanted, told = plain(ways, held, key, taken), shells(found, taken)
        rooted = {name for name, account in wanted if account == "*"}
        assert {name for name, account in told if account == "*"} == rooted
        # Where root is had, whether an account is told beside it hangs on the order in which they were reached.
        assert {each for each in told if each[0] not in rooted} == {each for each in wanted if each[0] not in rooted}
        steps = [each.step for each in found.reached]
        assert steps == sorted(steps)
        assert set(steps) == set(range(1, max(steps, default=0) + 1))
        far += max(steps, default=0) > 1
    assert far > 20


ESTATE = (
    HEAD
    + """\
guests:
  gauge: {via: {folder: gauge}, addresses: {eth0: [192.168.56.21/24]}}
  gate: {via: {folder: gate}, addresses: {eth0: [192.168.56.22/24]}}
  plotter: {via: {folder: plotter}, addresses: {eth0: [192.168.56.23/24]}}
"""
)


@pytest.fixture
def home(tmp_path: Path) -> Path:
    """Three guests: mara-desk opens gauge, a key in gauge opens gate from there, and one in gate has a passphrase."""
    made = {}
    for name, phrase in (("plain", ""), ("locked", "tide")):
        command = ["ssh-keygen", "-q", "-t", "ed25519", "-N", phrase, "-C", name, "-f", str(tmp_path / name)]
        subprocess.run(command, check=True)
        made[name] = ((tmp_path / name).read_bytes(), (tmp_path / f"{name}.pub").read_text().strip())
    mine = {"/home/mara/.ssh/id_ed25519": (0o600, 1001, 1001)}
    guests = {
        "gauge": Guest("", {"mara": pub("mara-desk")}, {"/home/mara/.ssh/id_ed25519": made["plain"][0]}, mine),
        "gate": Guest(
            "",
            {"keeper": f'from="192.168.56.21" {made["plain"][1]}'},
            {"/home/keeper/.ssh/id_ed25519": made["locked"][0], "/home/joon/.ssh/id_ed25519": made["plain"][0]},
            {"/home/keeper/.ssh/id_ed25519": (0o600, 1000, 1000), "/home/joon/.ssh/id_ed25519": (0o600, 1002, 1002)},
        ),
        "plotter": Guest(
            "", {"joon": f'from="192.168.56.22" {made["locked"][1]}', "keeper": f'from="192.168.40.9" {pub("mara-desk")}'}
        ),
    }
    for name, guest in guests.items():
        guest.name = name
        guest.write(tmp_path / name)
    (tmp_path / "keys").symlink_to(KEYS)
    (tmp_path / "estate.yaml").write_text(ESTATE)
    return tmp_path


def test_a_stolen_key_goes_from_guest_to_guest(home: Path) -> None:
    fingerprint = parse_public(pub("mara-desk").encode()).fingerprint
    found = stolen(load(home / "estate.yaml"), AT, fingerprint).loot
    assert [(e.step, e.guest, e.way.account, e.calling) for e in found.reached] == [
        (1, "gauge", "mara", "outside"),
        (2, "gate", "keeper", "gauge"),
    ]
    assert str(found.reached[1].by[0].found and found.reached[1].by[0].found.origin) == "/home/mara/.ssh/id_ed25519"
    assert [(guest, each.account) for guest, each in found.beyond] == [("plotter", "keeper")]
    assert [(each.guest, each.found.locked) for each in found.locked] == [("gate", True)]  # joon's is not keeper's to read


def test_a_taken_guest_has_all_that_lies_there(home: Path) -> None:
    found = stolen(load(home / "estate.yaml"), AT, "gate").loot
    assert [(each.step, each.guest) for each in found.reached] == []
    assert [(guest, each.account) for guest, each in found.beyond] == []  # the plain key opens gate itself, which is had
    assert {str(each.found.origin) for each in found.locked} == {"/home/keeper/.ssh/id_ed25519"}
    with pytest.raises(NightlatchError, match='did you mean "gate"'):
        stolen(load(home / "estate.yaml"), AT, "gaet")


def test_the_command_tells_the_steps(home: Path) -> None:
    def run(*words: str) -> tuple[int, str, str]:
        done = COMMANDS.run("access", *words, "--as-of", "2026-11-25", cwd=home, env={"PATH": "/usr/bin", "LC_ALL": "C.UTF-8"})
        return done.returncode, done.stdout, done.stderr

    code, out, _ = run("--stolen", "keys/mara-desk.pub")
    assert code == 0
    assert "step 1     gauge: as mara: a shell, from outside, with the key mara-desk" in out
    assert "found in gauge:/home/mara/.ssh/id_ed25519" in " ".join(out.split())
    assert "2 accounts on 2 guests reached." in out
    assert "gate:/home/keeper/.ssh/id_ed25519 has a passphrase" in " ".join(out.split())
    assert "Nothing is reached." in run("--stolen", "keys/joon-desk.pub")[1]
    told = json.loads(run("--stolen", "keys/mara-desk.pub", "--format", "json")[1])
    assert (told["format"], [each["step"] for each in told["reached"]]) == ("nightlatch/stolen/1", [1, 2])
    for words in (("--who", "mara"), ("--format", "csv"), ("--suppose", "guest gate is down")):
        code, _, error = run("--stolen", "gate", *words)
        assert code == 2
        assert "only --from goes with it" in error


@pytest.mark.parametrize("locked", [True, False, None])
def test_what_a_survey_says_of_a_private_key_is_read_back(locked: bool | None) -> None:
    for form, kind, bits, fingerprint in (
        ("OpenSSH", "Ed25519", 256, "SHA256:" + "a" * 43),
        ("PEM", "RSA", 3072, ""),
        ("PPK", "", 0, ""),
        ("OpenSSH", "ECDSA-SK", 256, "SHA256:" + "B+/" * 14 + "x"),
    ):
        half = PrivateHalf(form, locked, fingerprint, kind, bits)
        assert keys.parse_reduced(keys.REDUCED + half.text.encode() + b"\n") == half
    assert keys.parse_reduced(keys.REDUCED + b"something else\n") is None


def test_a_locked_key_of_an_old_kind_is_known_by_the_file_beside_it(tmp_path: Path) -> None:
    for name in ("id_rsa", "other"):
        words = ["ssh-keygen", "-q", "-t", "rsa", "-b", "2048", "-m", "PEM", "-N", "tide-gauge", "-f", str(tmp_path / name)]
        subprocess.run(words, check=True)
    files: dict[str, str | bytes] = {
        f"/home/mara/.ssh/{e.name}": e.read_bytes() for e in tmp_path.iterdir() if e.name != "other.pub"
    }
    guest = Guest("", files=files).write(tmp_path / "gauge")
    with Folder(guest, hold=True) as source:
        reading = readings.read(collect(source, "gauge"))
    found = private_halves.read(reading.snapshot, reading.accounts)
    assert [(str(each.origin), each.locked) for each in found] == [("/home/mara/.ssh/id_rsa", True)]
    assert found[0].fingerprint == parse_public((tmp_path / "id_rsa.pub").read_bytes()).fingerprint
