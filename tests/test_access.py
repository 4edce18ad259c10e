"""Who gets in, as a list that can be asked: every answer against the access paths themselves, and the command as people use it."""

from __future__ import annotations

import csv
import io
import json
import random
from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.access.grants import address_spaces
from nightlatch.access.paths import guest_access
from nightlatch.audit.answers import holders
from nightlatch.demo.build import build
from nightlatch.estate.load import load
from nightlatch.estate.model import Estate
from nightlatch.faults import NightlatchError
from nightlatch.formats.keys import parse_public
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import PowerKind, implied
from nightlatch.model.secrets import Key
from nightlatch.ops.access import AccessQuestion, access, access_target
from nightlatch.ops.survey import survey
from nightlatch.readings import guest as readings
from tests.budget import cases
from tests.commands import COMMANDS, Done

AT = datetime(2026, 11, 25, tzinfo=UTC)
# One address in each part that the sample's rules tell apart, with the places that hold it.
CALLERS = {
    "192.168.40.7": {"bench"},
    "2001:db8:40::5": {"bench"},
    "198.51.100.9": {"field"},
    "192.168.56.109": set(),
    "203.0.113.77": set(),
    "127.0.0.1": set(),
}


@pytest.fixture(scope="module")
def home(tmp_path_factory: pytest.TempPathFactory) -> Path:
    place = tmp_path_factory.mktemp("access") / "skerry"
    build(place)
    return place


@pytest.fixture(scope="module")
def estate(home: Path) -> Estate:
    return load(home / "estate.yaml")


@pytest.fixture(scope="module")
def paths(estate: Estate) -> list[AccessPath]:
    spaces = address_spaces(estate)
    found = [each.snapshot for each in survey(estate) if each.snapshot is not None]
    return [path for each in found for path in guest_access(readings.read(each), AT, spaces).paths]


def _asked(dice: random.Random, paths: list[AccessPath], estate: Estate) -> AccessQuestion:
    """A question with one or two parts."""
    keys = sorted({each.fingerprint for path in paths for each in path.need if isinstance(each, Key)})
    parts = {
        "who": tuple(dice.sample([*estate.principals, "charts", "lantern", "root"], dice.randint(1, 2))),
        "keys": tuple(dice.sample([*keys, "SHA256:" + "A" * 43], 1)),
        "places": (dice.choice(list(CALLERS)),),
        "services": ("ssh",),
        "powers": tuple(dice.sample(list(PowerKind), dice.randint(1, 3))),
    }
    return AccessQuestion(**{name: parts[name] for name in dice.sample(list(parts), dice.randint(1, 3))})  # type: ignore[arg-type]


def _is_one(path: AccessPath, asked: AccessQuestion, estate: Estate, powers: frozenset[PowerKind]) -> bool:
    """The same question, asked of one access path by its sets of addresses."""
    held = holders(estate, path.guest, path.need)
    if asked.who and not any(
        (name in held or not path.need) if name in estate.principals else name == path.account for name in asked.who
    ):
        return False
    if asked.keys and not any(Key(each) in path.need for each in asked.keys):
        return False
    if asked.places and not any(place in path.callers.perhaps.get("", ()) for place in asked.places):
        return False
    return not asked.powers or bool(powers & set(asked.powers))


def test_every_answer_is_what_the_access_paths_say(paths: list[AccessPath], estate: Estate) -> None:
    dice, found_some = random.Random(18), 0
    by_way: dict[tuple[object, ...], set[PowerKind]] = {}
    for path in paths:
        gives = by_way.setdefault((path.guest, path.account, path.need), set())
        gives |= {power.gives for power in implied(frozenset([path.power]))}
    for _ in range(cases(60, 600)):
        asked = _asked(dice, paths, estate)
        told = {(each.guest, each.way.account, frozenset(each.way.shown)) for each in access(estate, AT, asked).entries}
        wanted = {
            (path.guest, path.account, path.need)
            for path in paths
            if _is_one(path, asked, estate, frozenset(by_way[path.guest, path.account, path.need]))
        }
        assert told == wanted, asked
        found_some += bool(wanted)
    assert found_some > 10


def test_places_are_asked_by_name_as_by_address(estate: Estate) -> None:
    for address, places in CALLERS.items():
        by_address = access(estate, AT, AccessQuestion(places=(address,))).entries
        for place in places:
            assert set(by_address) <= set(access(estate, AT, AccessQuestion(places=(place,))).entries)
    everything = access(estate, AT)
    assert {each.guest for each in everything.entries} == set(estate.guests)
    assert everything.exit_code == 0


def test_what_the_estate_keeps_for_itself_is_called_so(estate: Estate) -> None:
    kept = {(each.way.account, each.kept) for each in access(estate, AT).entries if each.kept}
    assert kept == {("keeper", "management access"), ("lantern", "emergency")}


def test_without_an_estate_nobody_is_known_to_hold_anything(home: Path) -> None:
    found = access_target(home / "images/gate", AT, AccessQuestion(powers=(PowerKind.ADMINISTER,)))
    assert {each.way.account for each in found.entries} == {"keeper", "mara"}
    assert not any(each.way.held_by for each in found.entries)


@pytest.mark.parametrize(
    "asked, says",
    [
        (AccessQuestion(places=("fiedl",)), 'did you mean "field"'),
        (AccessQuestion(places=("192.168.40.0/33",)), "is no place of the estate and no address"),
        (AccessQuestion(places=("",)), "is no place of the estate and no address"),
        (AccessQuestion(services=("telnet",)), 'there is no service "telnet"; known are: ssh'),
    ],
)
def test_what_is_not_there_can_not_be_asked_for(asked: AccessQuestion, says: str, estate: Estate) -> None:
    with pytest.raises(NightlatchError, match=says.replace("?", r"\?")):
        access(estate, AT, asked)


def run(home: Path, *words: str) -> Done:
    return COMMANDS.run("access", *words, "--as-of", "2026-11-25", cwd=home, env={"PATH": "/usr/bin", "LC_ALL": "C.UTF-8"})


def test_the_command_lists_people_with_their_ways_in(home: Path) -> None:
    done = run(home, "--who", "joon")
    assert done.returncode == 0
    lines = "\n".join(line.rstrip() for line in done.stdout.split("\n"))
    assert lines.split("\n\n") == [
        "joon\n  gauge, gate\n    as joon  key joon-desk  a shell\n        from bench   /home/joon/.ssh/authorized_keys:2\n"
        "  chartbox\n    as joon  key joon-desk     a shell\n"
        "        from bench (IPv6) and 192.168.40.0/25   /home/joon/.ssh/authorized_keys:2\n"
        "    as joon  password of joon  a shell\n        from 192.168.40.0/25   /etc/ssh/sshd_config.d/20-crew.conf:3:5",
        "4 ways in on 3 guests, held by 1 person or robot.   Next: nightlatch audit\nestate.yaml\n",
    ]


def test_a_key_is_asked_for_by_its_file_or_its_fingerprint(home: Path) -> None:
    fingerprint = parse_public((home / "keys/nightcopy.pub").read_bytes()).fingerprint
    by_file, by_name = run(home, "--key", "keys/nightcopy.pub"), run(home, "--key", fingerprint)
    assert by_file.stdout == by_name.stdout
    assert "runs /usr/local/bin/copy-out" in by_file.stdout
    for wrong, says in (
        ("nowhere.pub", "can't be read"),
        ("estate.yaml", "holds no public key"),
        ("SHA256:abc", "is no fingerprint"),
    ):
        done = run(home, "--key", wrong)
        assert done.returncode == 2
        assert says in done.stderr


def test_the_matrix_says_the_most_that_each_gets(home: Path) -> None:
    done = run(home, "--matrix")
    cells = {line.split()[0]: line.split()[1:] for line in done.stdout.split("\n\n")[0].splitlines()[1:]}
    assert cells["gauge"] == ["root", "shell", "-", "command", "root", "shell"]
    assert cells["plotter"] == ["root", "-", "files", "command", "root", "shell"]
    assert all(len(line) <= 80 for line in done.stdout.splitlines())


def test_nobody_and_a_name_with_a_slip(home: Path) -> None:
    done = run(home, "--who", "maar")
    assert "Nobody gets in that way." in done.stdout
    assert 'did you mean "mara"?' in " ".join(done.stdout.split())


def test_programs_get_the_same(home: Path) -> None:
    told = json.loads(run(home, "--can", "administer", "--format", "json").stdout)
    table = list(csv.DictReader(io.StringIO(run(home, "--can", "administer", "--format", "csv").stdout)))
    assert told["format"] == "nightlatch/access/1"
    assert told["asked"]["can"] == ["administer"]
    assert [(each["guest"], each["account"]) for each in told["ways_in"]] == [(row["guest"], row["account"]) for row in table]
    assert all("root's rights" in row["powers"] for row in table)
    assert all(row["place"].startswith("/") for row in table)


def test_what_could_not_be_read_is_told(home: Path, tmp_path: Path) -> None:
    (home / "half.yaml").write_text((home / "estate.yaml").read_text().replace("images/chartbox", "images/nowhere"))
    done = run(home, "half.yaml", "--who", "joon")
    assert done.returncode == 3
    assert "there is no such folder" in done.stdout
    assert "gauge, gate\n" in done.stdout


def test_what_goes_back_with_a_change_is_told_first(tmp_path: Path) -> None:
    build(tmp_path / "skerry")
    lock = tmp_path / "skerry/images/gauge/var/lib/nightlatch/lock"
    lock.mkdir(parents=True)
    (lock / "id").write_text("20261130-1-1\n")
    (lock / "who").write_text("keeper on isle, change 20261130-1-1, since uptime 5 s for 300 s\n")
    for more in ([], ["--matrix"]):
        done = run(tmp_path / "skerry", "--on", "gauge", "--who", "mara", *more)
        assert done.stdout.startswith("gauge      ")
        assert "on the latch" in done.stdout.split("\n\n")[0]
    told = json.loads(run(tmp_path / "skerry", "--on", "gauge", "--format", "json").stdout)
    assert [each["guest"] for each in told["on_the_latch"]] == ["gauge"]


def test_one_guest_has_neither_places_nor_guests_to_pick(home: Path) -> None:
    for words, says in (
        (("images/gate", "--on", "gate"), "--on picks guests of an estate file"),
        (("images/gate", "--from", "bench"), '"bench" is no address, and places stand in an estate file'),
    ):
        done = run(home, *words)
        assert (done.returncode, done.stdout) == (2, "")
        assert says in done.stderr


def test_a_guest_names_the_keys_of_its_own_lines_only(tmp_path: Path) -> None:
    """What one guest calls a key is nothing that another guest's answer repeats."""
    build(tmp_path / "skerry")
    stranger = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAgeFhRvbuBDTKMYsQTR5b4mUmVtqZzMd4NqFu9bVcqc"
    for guest, comment in (("gauge", "mara-spare"), ("gate", "")):
        keys = tmp_path / f"skerry/images/{guest}/home/joon/.ssh/authorized_keys"
        keys.write_text(f"{keys.read_text()}{stranger} {comment}\n")
    fingerprint = parse_public(f"{stranger}\n".encode()).fingerprint
    for guest, name in (("gauge", "key mara-spare"), ("gate", f"key {fingerprint}")):
        told = run(tmp_path / "skerry", "--key", fingerprint, "--on", guest).stdout
        assert told.startswith("nobody in the estate file\n")
        assert name in told
