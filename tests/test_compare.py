"""Two days compared: every step of drafts is named and nothing else, what means the same is no change, and last week exists."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Callable
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

import pytest

from nightlatch.access.grants import address_spaces
from nightlatch.access.paths import guest_access
from nightlatch.audit.compared import Turn
from nightlatch.audit.facts import FactKind, changes, facts_of
from nightlatch.audit.findings import Severity
from nightlatch.demo.build import build
from nightlatch.draft.steps import AnyStep, apply_all
from nightlatch.estate.load import load
from nightlatch.estate.model import KEPT_DAYS, Estate
from nightlatch.evidence import dated
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import EstateError, NightlatchError
from nightlatch.model.steps import AddLine, AppendBlock, InsertSetting, MakeFile, MakeFolder, ReplaceLine, SetMode, SetOwner
from nightlatch.ops.audit import audit
from nightlatch.ops.baseline import read_baseline
from nightlatch.ops.compare import Compared, compare, compare_targets
from nightlatch.ops.draft import draft
from nightlatch.ops.evidence import write_evidence
from nightlatch.ops.survey import survey
from nightlatch.origin import Kind
from nightlatch.readings import guest as readings
from nightlatch.report import machine
from tests.commands import COMMANDS, Done
from tests.guests import AT as NOON
from tests.guests import NFT, Guest, pub

AT = datetime(2026, 11, 25, tzinfo=UTC)


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    place = tmp_path_factory.mktemp("compare") / "skerry"
    build(place)
    return place


@pytest.fixture
def home(made: Path, tmp_path: Path) -> Path:
    """A copy to change, with its owners, and the evidence of it as it was."""
    place = tmp_path / "skerry"
    subprocess.run(["cp", "-a", str(made), str(place)], check=True)
    keep(place, "then")
    return place


def keep(home: Path, name: str) -> Path:
    for each in survey(load(home / "estate.yaml")):
        assert each.snapshot is not None
        (home / name).mkdir(exist_ok=True)
        write_evidence(each.snapshot, home / name / f"{each.guest}.evidence.tar.gz", AT)
    return home / name


def told(home: Path) -> Compared:
    return compare(load(home / "estate.yaml"), AT, home / "then")


def named(before: Snapshot, after: Snapshot, estate: Estate | None = None) -> set[str]:
    """The paths of all facts that are others."""
    spaces = address_spaces(estate) if estate is not None else None
    then, now = (facts_of(guest_access(readings.read(each), AT, spaces)) for each in (before, after))
    found = list(changes("gauge", then, now))
    places = (each.origin for change in found for each in (change.before, change.after) if each is not None)
    return {place.path for place in places if place.kind is not Kind.DEFAULT}


def test_every_step_of_a_draft_is_named_and_nothing_else(made: Path) -> None:
    estate, count = load(made / "estate.yaml"), 0
    for each in survey(estate):
        assert each.snapshot is not None
        steps = draft(estate, each.snapshot, AT).steps
        for number, step in enumerate(steps):
            before, after = apply_all(each.snapshot, steps[:number]), apply_all(each.snapshot, steps[: number + 1])
            assert named(before, after, estate) == {step.path}, step
            count += 1
    assert count >= 4


SSHD, KEYS = "/etc/ssh/sshd_config", "/home/mara/.ssh/authorized_keys"
MATCH = ("Match User joon", "PasswordAuthentication no")
STEPS: tuple[AnyStep, ...] = (
    ReplaceLine(SSHD, "", False, "PasswordAuthentication yes", "PasswordAuthentication no"),
    ReplaceLine(KEYS, "", False, pub("mara-desk"), f'from="192.168.40.0/24" {pub("mara-desk")}'),
    ReplaceLine(KEYS, "", False, pub("mara-desk"), ""),
    InsertSetting(SSHD, "", False, "PermitRootLogin no"),
    AppendBlock(SSHD, "", False, MATCH),
    AddLine(KEYS, "", True, pub("joon-desk"), 1001, 1001),
    SetMode("/home/mara/.ssh", "", False, 0o700),
    SetOwner(KEYS, "", True, 0),
    MakeFolder("/etc/ssh/sshd_config.d", "", False, 0o755, 0, 0),
    MakeFile("/etc/sudoers.d/mara", "", False, "mara ALL=(ALL) ALL\n", 0o440, 0, 0),
)


@pytest.mark.parametrize("step", STEPS, ids=lambda step: f"{type(step).__name__} {step.path}")
def test_every_kind_of_step_is_named(step: AnyStep) -> None:
    config = "Include /etc/ssh/sshd_config.d/*.conf\nPasswordAuthentication yes\n"
    guest = Guest(
        config, {"mara": pub("mara-desk")}, {"/etc/sudoers": "@includedir /etc/sudoers.d\n", "/etc/sudoers.d/all": ""}
    ).snapshot()
    found = named(guest, apply_all(guest, (step,)))
    assert found == (set() if isinstance(step, MakeFolder) else {step.path})  # an empty folder means nothing


def rules(*those: str) -> dict[str, str | bytes]:
    wants = "/etc/systemd/system/multi-user.target.wants/nftables.service"
    return {"/etc/nftables.conf": NFT.format(rule="\n\t\t".join(those)), wants: ""}


SAME: dict[str, tuple[Guest, Guest]] = {
    "remarks and spacing": (
        Guest("PasswordAuthentication no\n", {"mara": pub("mara-desk")}),
        Guest("# closed\n\npasswordauthentication   no\n", {"mara": f"# her desk\n\n{pub('mara-desk')}\n"}),
    ),
    "the default written out": (Guest(""), Guest("Port 22\nPubkeyAuthentication yes\nPermitRootLogin prohibit-password\n")),
    "a value that does not count": (Guest("MaxAuthTries 3\n"), Guest("MaxAuthTries 3\nMaxAuthTries 6\n")),
    "the order of keys": (
        Guest("", {"mara": f"{pub('mara-desk')}\n{pub('mara-token')}\n"}),
        Guest("", {"mara": f"{pub('mara-token')}\n{pub('mara-desk')}\n"}),
    ),
    "the order of rules that do the same": (
        Guest("", files=rules("tcp dport 22 accept", "tcp dport 80 accept")),
        Guest("", files=rules("tcp dport 80 accept", "tcp dport 22 accept")),
    ),
    "the order of accounts": (Guest(accounts=("root", "mara", "joon")), Guest(accounts=("root", "joon", "mara"))),
    "another spelling of a PAM line": (
        Guest(files={"/etc/pam.d/sshd": "auth required pam_unix.so\n"}),
        Guest(
            files={
                "/etc/pam.d/sshd": "auth   [success=ok new_authtok_reqd=ok ignore=ignore default=bad]  pam_unix.so # as ever\n"
            }
        ),
    ),
}


@pytest.mark.parametrize("name", SAME)
def test_what_means_the_same_is_no_change(name: str, tmp_path: Path) -> None:
    paths = []
    for number, guest in enumerate(SAME[name]):
        paths.append(tmp_path / f"{number}.evidence.tar.gz")
        write_evidence(guest.snapshot(), paths[-1], AT)
    found = compare_targets(paths[0], paths[1], NOON)
    assert found.found.is_empty, found.found
    assert found.exit_code == 0


def edit(path: str, old: str, new: str) -> Callable[[Path], None]:
    def change(home: Path) -> None:
        text = (home / path).read_text()
        assert old in text
        (home / path).write_text(text.replace(old, new))

    return change


IMAGE = "images/gate/etc/ssh/sshd_config.d/50-image.conf"


def test_ways_in_that_opened_and_closed_are_told_with_what_did_it(home: Path) -> None:
    edit(IMAGE, "PasswordAuthentication yes", "PasswordAuthentication no")(home)
    edit("images/gauge/etc/passwd", "root:x:0:0", "tide:x:1500:1500::/home/tide:/bin/bash\nroot:x:0:0")(home)
    keys = home / "images/gauge/home/mara/.ssh/authorized_keys"
    keys.write_text(keys.read_text() + pub("nightcopy") + "\n")
    found = told(home).found
    turns = {(each.guest, each.turn, each.way.account, each.severity) for each in found.ways}
    assert ("gate", Turn.CLOSED, "keeper", Severity.NOTE) in turns
    assert ("gauge", Turn.OPENED, "mara", Severity.HIGH) in turns
    assert {each.guest for each in found.ways} == {"gate", "gauge"}
    facts = {(each.guest, each.fact.kind, each.fact.name.split()[0]) for each in found.facts}
    assert ("gate", FactKind.SETTING, "PasswordAuthentication") in facts
    assert ("gauge", FactKind.ACCOUNT, "tide") in facts
    assert {kind for guest, kind, _ in facts if guest == "gauge"} == {FactKind.ACCOUNT, FactKind.KEY}
    assert [each.check for each in found.new if each.group.value == "hole"] == ["hole"]


def test_a_change_of_ours_is_told_by_its_id_and_a_hand_s_is_not(home: Path) -> None:
    done = run(home, "enact", "--on", "plotter", "--yes")
    assert done.returncode == 0
    kept = list((home / "images/plotter/var/lib/nightlatch/changes").iterdir())
    found = told(home).found
    (fact,) = [each for each in found.facts if each.guest == "plotter"]
    assert found.changes == (("plotter", fact.change),)
    assert [each.name for each in kept] == [fact.change]
    (home / "images/plotter/home/joon/.ssh/authorized_keys").chmod(0o640)
    (again,) = [each for each in told(home).found.facts if each.guest == "plotter"]
    assert (again.change, again.fact.kind) == ("", FactKind.MODE)


def test_a_guest_that_came_or_went_or_can_t_be_read_is_told(home: Path) -> None:
    (home / "then/gauge.evidence.tar.gz").unlink()
    (home / "then/gate.evidence.tar.gz").write_bytes(b"torn")
    (home / "then/buoy.evidence.tar.gz").write_bytes((home / "then/plotter.evidence.tar.gz").read_bytes())
    found = told(home)
    assert (found.found.came, found.found.went) == (("gauge",), ("buoy",))
    assert [name for name, _ in found.found.unread] == ["gate"]
    assert found.exit_code == 3


def run(home: Path, *words: str) -> Done:
    env = {"PATH": "/usr/bin:/bin", "LC_ALL": "C.UTF-8"}
    return COMMANDS.run(*words, cwd=home, env=env)


def test_last_week_exists_once_survey_has_kept_it(home: Path) -> None:
    assert run(home, "survey").returncode == 0
    today = datetime.now(UTC).date()
    folder = home / "evidence"
    assert (folder / today.isoformat() / "gauge.evidence.tar.gz").samefile(folder / "gauge.evidence.tar.gz")
    week = today - timedelta(days=7)
    (folder / today.isoformat()).rename(folder / week.isoformat())
    edit(IMAGE, "PasswordAuthentication yes", "PasswordAuthentication no")(home)
    assert run(home, "survey").returncode == 0
    assert {day for day, _ in dated.days_in(folder)} == {week, today}
    between = run(home, "compare", (today - timedelta(days=2)).isoformat(), "--as-of", "2026-11-25")
    assert between.returncode == 1
    assert "closed     as keeper with password of keeper: a root shell, from anywhere" in between.stdout
    assert "setting    PasswordAuthentication: yes before, no now" in between.stdout
    assert "gauge, plotter, chartbox: nothing changed." in between.stdout
    assert run(home, "compare", today.isoformat(), "--as-of", "2026-11-25").returncode == 0
    program = run(home, "compare", f"evidence/{week}", "evidence", "--format", "json", "--as-of", "2026-11-25")
    document = json.loads(program.stdout)
    assert document["format"] == "nightlatch/compared/1"
    assert {each["turn"] for each in document["ways_in"]} == {"closed"}
    assert [each["name"] for each in document["facts"]] == ["PasswordAuthentication"]
    early = run(home, "compare", "2020-01-01")
    assert (early.returncode, "has no evidence of 2020-01-01 or before" in early.stderr) == (3, True)
    assert "is no day" in run(home, "compare", "2026-13-41").stderr
    assert "there is no such folder" in run(home, "compare", "nowhere").stderr


def test_evidence_is_kept_for_as_long_as_the_estate_says(home: Path, tmp_path: Path) -> None:
    assert load(home / "estate.yaml").evidence_days == KEPT_DAYS
    edit("estate.yaml", "time_zone:", "evidence_days: 3\ntime_zone:")(home)
    assert load(home / "estate.yaml").evidence_days == 3
    today = datetime.now(UTC).date()
    for days in (1, 3, 4, 40):
        place = home / "evidence" / (today - timedelta(days=days)).isoformat()
        place.mkdir(parents=True)
        (place / "gauge.evidence.tar.gz").write_bytes(b"")
    (home / "evidence" / (today - timedelta(days=40)).isoformat() / "notes.txt").write_text("mine")
    done = run(home, "survey", "--on", "gauge")
    assert "evidence of 2 days" in done.stderr
    left = {(today - day).days for day, _ in dated.days_in(home / "evidence")}
    assert left == {0, 1, 3, 40}, "a folder with something else in it stays"
    assert [each.name for each in (home / "evidence" / (today - timedelta(days=40)).isoformat()).iterdir()] == ["notes.txt"]
    edit("estate.yaml", "evidence_days: 3", "evidence_days: 0")(home)
    with pytest.raises(EstateError, match="a number from 1 to 3650"):
        load(home / "estate.yaml")
    assert dated.of_day(tmp_path / "nothing", date(2026, 1, 1)) is None


def test_only_what_is_new_since_a_baseline_counts(home: Path) -> None:
    base = home / "base.json"
    base.write_text(machine.dumps(machine.audit(audit(load(home / "estate.yaml"), AT))))
    assert run(home, "audit", "--as-of", "2026-11-25").returncode == 1
    same = run(home, "audit", "--as-of", "2026-11-25", "--baseline", "base.json")
    assert (same.returncode, "Nothing is new since base.json." in same.stdout) == (0, True)
    passwd = home / "images/gauge/etc/passwd"
    passwd.write_text(passwd.read_text() + "tide:x:0:0::/root:/bin/bash\n")
    edit(IMAGE, "PasswordAuthentication yes", "PasswordAuthentication no")(home)
    more = run(home, "audit", "--as-of", "2026-11-25", "--baseline", "base.json")
    assert more.returncode == 1
    assert "new        gauge: tide is root under another name." in more.stdout
    assert "of its findings are gone." in more.stdout
    assert run(home, "audit", "--as-of", "2026-11-25", "--baseline", "base.json", "--fail-at", "critical").returncode == 0
    for text, says in (
        ("{}", "does not say what it is"),
        ("[", "is no JSON"),
        ('{"format": "nightlatch/audit/2"}', "lacks what"),
    ):
        base.write_text(text)
        with pytest.raises(NightlatchError, match=says):
            read_baseline(base)


def test_a_rebuilt_guest_is_told_with_what_to_do(tmp_path: Path) -> None:
    for number, key in enumerate(("mara-desk", "joon-desk")):
        files: dict[str, str | bytes] = {
            "/etc/ssh/ssh_host_ed25519_key.pub": pub(key),
            "/etc/machine-id": f"{number}" * 32 + "\n",
        }
        write_evidence(Guest("", files=files).snapshot(), tmp_path / f"{number}.evidence.tar.gz", AT)
    done = run(tmp_path, "compare", "0.evidence.tar.gz", "1.evidence.tar.gz")
    told_ = " ".join(done.stdout.split())
    assert "It has other host keys and another machine id." in told_
    assert "nightlatch meet 1" in told_
