"""Guests added to an estate file that is there, and people in a table: nothing else changes, and all of it holds."""

from __future__ import annotations

import subprocess
from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.audit.findings import Group
from nightlatch.demo.build import build
from nightlatch.estate.load import load
from nightlatch.faults import EstateError, NightlatchError, RefusedError
from nightlatch.ops.adopt import add_guests
from nightlatch.ops.audit import audit
from tests.commands import COMMANDS
from tests.guests import AT, HEAD, KEYS, Guest, pub

DAY = datetime(2026, 11, 25, tzinfo=UTC)
OTHER = 'gate:     {system: debian-12, via: {folder: gate}, host_keys: ["SHA256:%s"]}\n'


@pytest.fixture
def home(tmp_path: Path) -> Path:
    place = tmp_path / "skerry"
    build(place)
    path = place / "estate.yaml"
    path.write_text("".join(each for each in path.read_text().splitlines(True) if not each.startswith("  chartbox:")))
    return place


def added(before: str, after: str) -> list[str]:
    """The lines that came; every line that was there still is, in its order."""
    left = iter(after.splitlines())
    came: list[str] = []
    for line in before.splitlines():
        for each in left:
            if each == line:
                break
            came.append(each)
        else:
            raise AssertionError(f"this line is gone: {line}")
    return [*came, *left]


def test_a_guest_is_added_with_what_the_file_does_not_say_of_it(home: Path) -> None:
    path = home / "estate.yaml"
    before = path.read_text()
    done = add_guests(path, [str(home / "images/chartbox")], DAY)
    came = added(before, path.read_text())
    assert done.guests == ("chartbox",)
    assert done.people == ("root", "lantern")  # mara and joon are in it, and keeper is its management access
    assert [each for each in came if "chartbox: {via" in each and "as: " in each]
    assert sum("into: chartbox" in each for each in came) == done.grants
    assert (home / "keys/root.pub").exists()
    now = audit(load(path), DAY)
    told = {f"{each.guest}: {f.text}" for each in now.guests for f in each.findings if f.group in (Group.HOLE, Group.SHUT_OUT)}
    assert set(done.left) == {each for each in told if each.startswith("chartbox: ")}


def test_a_second_time_nothing_is_added(home: Path) -> None:
    path = home / "estate.yaml"
    add_guests(path, [str(home / "images/chartbox")], DAY)
    before = path.read_text()
    done = add_guests(path, [str(home / "images/chartbox"), str(home / "images/gate")], DAY)
    assert path.read_text() == before
    assert [(each.guest, each.rebuilt) for each in done.known] == [("chartbox", False), ("gate", False)]


@pytest.mark.parametrize(
    "sections",
    [
        "guests: {}\n",
        "guests: {gauge: {via: {folder: gauge}}}\n",
        "guests:\n  gauge: {via: {folder: gauge}}   # the first\n\ngrants: []\n",
        "guests:\n  gauge:\n    via: {folder: gauge}\ngrants:\n  - let: mara\n    into: gauge\n    by: ssh\n    from: bench\n    with: key\n# the end\n",
        "guests_from: guests.csv\ngrants: [{let: mara, into: all guests, by: ssh, from: bench, with: key}]\n",
    ],
)
@pytest.mark.parametrize("end", ["\n", "\r\n"], ids=["lf", "crlf"])
def test_however_the_file_is_written(sections: str, end: str, tmp_path: Path) -> None:
    (tmp_path / "keys").symlink_to(KEYS)
    (tmp_path / "guests.csv").write_text("name,via,at\ngauge,folder,gauge\n")
    path = tmp_path / "estate.yaml"
    path.write_bytes((HEAD + sections).replace("\n", end).encode())
    Guest("PasswordAuthentication no\n", {"joon": f'from="192.168.40.0/24" {pub("joon-desk")}'}, name="gate").write(
        tmp_path / "gate"
    )
    done = add_guests(path, [str(tmp_path / "gate")], AT)
    assert done.guests == ("gate",)
    assert (done.people, done.grants) == ((), 1)
    assert [each for each in done.left if "mara can't get a shell" not in each] == []  # all guests are hers by the table
    assert "gate" in load(path).guests
    assert path.read_bytes().count(end.encode()) == path.read_bytes().count(b"\n")
    assert "from: bench" in path.read_text().replace(sections, "")  # by the name that the file has for these addresses


def test_a_rebuilt_guest_is_told_and_left_alone(tmp_path: Path) -> None:
    (tmp_path / "keys").symlink_to(KEYS)
    path = tmp_path / "estate.yaml"
    path.write_text(HEAD + "guests:\n  " + OTHER % ("A" * 43))
    Guest("", name="gate", files={"/etc/ssh/ssh_host_ed25519_key.pub": pub("keeper")}).write(tmp_path / "gate")
    before = path.read_text()
    done = COMMANDS.run(
        "new", "--from", "gate", "--into", "estate.yaml", cwd=tmp_path, env={"PATH": "/usr/bin", "LC_ALL": "C.UTF-8"}
    )
    assert path.read_text() == before
    told = " ".join(done.stdout.split())
    assert "is in it as gate, with other host keys: it was rebuilt, or another guest has its name." in told
    assert "nightlatch meet gate estate.yaml compares them with its console" in told


def test_what_can_t_be_added_changes_nothing(home: Path, tmp_path: Path) -> None:
    path = home / "estate.yaml"
    before = path.read_text()
    (home / "keys/root.pub").write_text("another key\n")
    with pytest.raises(RefusedError, match="is there already, with another key"):
        add_guests(path, [str(home / "images/chartbox")], DAY)
    with pytest.raises(NightlatchError, match="there is no such folder"):
        add_guests(path, [str(home / "images/nowhere")], DAY)
    assert path.read_text() == before
    assert not list(home.glob(".estate.yaml*"))
    with pytest.raises(EstateError, match="there is no such file"):
        add_guests(tmp_path / "none.yaml", [str(home / "images/chartbox")], DAY)


PEOPLE = """\
name,robot,keys,authority,principals,accounts,until
mara,,keys/mara-desk.pub keys/mara-token.pub,,,,
joon,no,keys/joon-desk.pub,,,gate=joonas,
tove,,,skerry-users,tove,,2027-03-31
nightcopy,yes,keys/nightcopy.pub,,,,
"""


def tabled(home: Path, people: str) -> Path:
    """The sample with its people in a table."""
    path = home / "estate.yaml"
    head, rest = path.read_text().split("people:\n")
    _, rest = rest.split("teams:")
    rest = rest.replace("robots:\n", "").replace("  nightcopy: {keys: [keys/nightcopy.pub]}\n", "")
    path.write_text(f"{head}people_from: people.csv\nteams:{rest}")
    (home / "people.csv").write_text(people)
    return path


def test_people_in_a_table_are_the_same_people(tmp_path: Path) -> None:
    build(tmp_path / "skerry")
    written = load(tmp_path / "skerry/estate.yaml").principals
    read = load(tabled(tmp_path / "skerry", PEOPLE.replace("gate=joonas", ""))).principals
    assert list(read) == list(written)
    for name, person in written.items():
        other = read[name]
        same = ("name", "is_robot", "keys", "accounts", "certificate", "until")
        assert [getattr(other, each) for each in same] == [getattr(person, each) for each in same]
        assert str(other.origin).startswith(str(tmp_path / "skerry/people.csv"))
    assert load(tabled_again(tmp_path / "skerry", PEOPLE)).principals["joon"].accounts == {"gate": "joonas"}


def tabled_again(home: Path, people: str) -> Path:
    (home / "people.csv").write_text(people)
    return home / "estate.yaml"


@pytest.mark.parametrize(
    "old, new, says",
    [
        ("skerry-users,tove", "skery-users,tove", 'people.csv:4:8: the authority "skery-users"'),
        ("gate=joonas", "gaet=joonas", 'Did you mean "gate"?'),
        ("nightcopy,yes", "nightcopy,maybe", '"maybe" is neither yes nor no'),
        ("name,robot", "name,robots", 'there is no column "robots"'),
        ("name,robot", "who,robot", "there is no column"),
        ("joon,no", "mara,no", '"mara" is a person already'),
        ("2027-03-31", "2027-02-30", "people.csv:4:"),
        ("keys/joon-desk.pub", "keys/nobody.pub", "people.csv:3:"),
        ("joon,no,keys/joon-desk.pub,,,gate=joonas,", "joon,no", "2 fields where the heading has 7"),
    ],
)
def test_faults_of_a_table_have_their_place(old: str, new: str, says: str, tmp_path: Path) -> None:
    build(tmp_path / "skerry")
    assert old in PEOPLE
    path = tabled(tmp_path / "skerry", PEOPLE.replace(old, new))
    with pytest.raises(EstateError) as told:
        load(path)
    assert says in str(told.value)


def test_keys_of_a_file_that_is_not_taken_do_not_stay(home: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = home / "estate.yaml"

    def changed(*_: object) -> None:
        raise RefusedError("changed meanwhile")

    monkeypatch.setattr("nightlatch.ops.adopt.rewrite", changed)
    with pytest.raises(RefusedError, match="changed meanwhile"):
        add_guests(path, [str(home / "images/chartbox")], DAY)
    assert not (home / "keys/root.pub").exists()
    assert (
        subprocess.run(["ls", "-A", str(home / "keys")], capture_output=True, text=True, check=True).stdout.count("lantern") == 1
    )
