"""What if: every sentence against the audit of files that were really changed that way."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.audit.compared import Turn
from nightlatch.audit.findings import identified
from nightlatch.demo.build import build
from nightlatch.estate.load import load
from nightlatch.faults import NightlatchError
from nightlatch.formats.keys import parse_public
from nightlatch.ops.audit import Audit, audit
from nightlatch.ops.suppose import suppose, suppose_target
from tests.commands import COMMANDS, Done
from tests.guests import AT as NOON
from tests.guests import KEYS, Guest, listening, pub, sshd

AT = datetime(2026, 11, 25, tzinfo=UTC)
DESK = parse_public(pub("mara-desk").encode()).fingerprint
Change = Callable[[Path], None]


@pytest.fixture(scope="module")
def home(tmp_path_factory: pytest.TempPathFactory) -> Path:
    place = tmp_path_factory.mktemp("suppose") / "skerry"
    build(place)
    return place


def estate(*edits: tuple[str, str]) -> Change:
    """Edits of the estate file; what stands behind a mark of its own goes with the whole line where `new` is a line's end."""

    def change(home: Path) -> None:
        path = home / "estate.yaml"
        text = path.read_text()
        for old, new in edits:
            assert old in text, old
            text = text.replace(old, new) if new != "\n" else "".join(each for each in text.splitlines(True) if old not in each)
        path.write_text(text)

    return change


def line(path: str, *marks: str) -> Change:
    """Lines that hold a mark are taken out of a file, or of all that a pattern names."""

    def change(home: Path) -> None:
        found = list(home.glob(path))
        assert found
        for each in found:
            kept = [one for one in each.read_text().splitlines(True) if not any(mark in one for mark in marks)]
            each.write_text("".join(kept))

    return change


def row(home: Path) -> None:
    path = home / "outer/isle.json"
    table = json.loads(path.read_text())
    rows = table if isinstance(table, list) else next(each for each in table.values() if isinstance(each, list))
    del rows[0]
    path.write_text(json.dumps(table))


JOON = estate(("  joon: ", "\n"), ("[mara, joon]", "[mara]"))
TOVE = estate(("  tove: ", "\n"), ("let: tove", "\n"))
MARA_DESK = (estate(("keys/mara-desk.pub, ", "")), line("images/*/home/*/.ssh/authorized_keys", pub("mara-desk").split()[1]))
NFT_RULE = "tcp dport 22 ip saddr @desks accept"
UFW_RULE = "-A ufw-user-input -p tcp --dport 22 -s 192.168.40.0/24 -j ACCEPT"
IPTABLES_RULE = "-A INPUT -s 192.168.40.128/25 -j REJECT"
CASES: dict[str, tuple[tuple[str, ...], tuple[Change, ...]]] = {
    "a person leaves": (("person joon leaves",), (JOON,)),
    "somebody with a certificate leaves": (("person tove leaves",), (TOVE,)),
    "a robot leaves": (("robot nightcopy leaves",), (estate(("nightcopy:", "\n"), ("let: nightcopy", "\n"), ("robots:", "\n")),)),
    "a key is gone": ((f"key {DESK} is gone",), MARA_DESK),
    "a line of sshd": (
        ("line /etc/ssh/sshd_config.d/50-image.conf:2 of gate is gone",),
        (line("images/gate/etc/ssh/sshd_config.d/50-image.conf", "PasswordAuthentication"),),
    ),
    "a line of sudoers": (("line /etc/sudoers:3 of gauge is gone",), (line("images/gauge/etc/sudoers", "%sudo"),)),
    "a key line": (
        ("line /home/joon/.ssh/authorized_keys:2 of gate is gone",),
        (line("images/gate/home/joon/.ssh/authorized_keys", pub("joon-desk").split()[1]),),
    ),
    "an account": (("line /etc/passwd:6 of gauge is gone",), (line("images/gauge/etc/passwd", "joon:"),)),
    "a rule of nftables": ((f"rule {NFT_RULE} of gauge is gone",), (line("images/gauge/etc/nftables.conf", "saddr @desks"),)),
    "a rule by its place": (
        ("rule /etc/nftables.conf:14 of gauge is gone",),
        (line("images/gauge/etc/nftables.conf", "saddr @desks"),),
    ),
    "a rule of ufw": ((f"rule {UFW_RULE} is gone",), (line("images/plotter/etc/ufw/user.rules", f"{UFW_RULE}\n"),)),
    "a rule of iptables": (
        (f"rule {IPTABLES_RULE} is gone",),
        (line("images/chartbox/etc/iptables/rules.v4", "192.168.40.128/25"),),
    ),
    "a row outside": (("rule row 1: from any, port 22, over tcp, does allow is gone",), (row,)),
    "a place is lost": (("place field is lost",), (estate(("  field: ", "\n"), ("from: field", "\n")),)),
    "a guest is down": (("guest gate is down",), (estate(("  gate: ", "\n")),)),
    "several": (
        ("person joon leaves", f"key {DESK} is gone", f"rule {UFW_RULE} is gone"),
        (JOON, *MARA_DESK, line("images/plotter/etc/ufw/user.rules", f"{UFW_RULE}\n")),
    ),
}


def told(found: Audit) -> dict[str, object]:
    """An audit without the numbers of lines, which move where a line is taken out."""
    return {
        each.guest: (
            sorted((id, one.severity, one.waived) for id, one in identified(each.findings)),
            sorted(repr((w.account, w.held_by, w.shown, w.powers, w.certain, w.possible)) for w in each.answers),
        )
        for each in found.guests
    }


@pytest.mark.parametrize("name", CASES)
def test_what_is_supposed_is_what_files_changed_that_way_say(name: str, home: Path, tmp_path: Path) -> None:
    sentences, acts = CASES[name]
    found = suppose(load(home / "estate.yaml"), AT, sentences)
    changed = tmp_path / "skerry"
    subprocess.run(["cp", "-a", str(home), str(changed)], check=True)  # with its owners
    for act in acts:
        act(changed)
    really = audit(load(changed / "estate.yaml"), AT)
    assert told(found.after) == told(really)
    assert told(found.before) == told(audit(load(home / "estate.yaml"), AT))
    assert not found.changes.is_empty


def test_what_opens_and_closes_is_told_with_whom_it_touches(home: Path) -> None:
    of_file = suppose(load(home / "estate.yaml"), AT, [f"key {DESK} is gone"]).changes
    assert {each.turn for each in of_file.ways} == {Turn.CLOSED}
    assert {each.guest for each in of_file.ways} == {"gauge", "gate", "plotter", "chartbox"}
    left = suppose(load(home / "estate.yaml"), AT, ["person tove leaves"]).changes
    assert [(each.turn, each.guest, each.held) for each in left.ways] == [(Turn.HELD, "plotter", ("tove",))]
    assert [each.check for each in left.new] == ["hole"]
    opened = suppose(load(home / "estate.yaml"), AT, [f"rule {IPTABLES_RULE} of chartbox is gone"]).changes
    assert {each.turn for each in opened.ways} == {Turn.OPENED}


@pytest.mark.parametrize(
    "sentence, says",
    [
        ("tove goes", "person NAME leaves"),
        ("person tvoe leaves", 'did you mean "tove"'),
        ("place bensh is lost", 'did you mean "bench"'),
        ("guest gaet is down", 'did you mean "gate"'),
        ("line /etc/passwd:1 is gone", "of which guest?"),
        ("line /etc/passwd:999 of gauge is gone", "no line 999"),
        ("line /etc/nothing:1 of gauge is gone", "nothing was read of a file"),
        ("rule tcp dport 2 accept of gauge is gone", "no rule says"),
        ("rule tcp dport 2 accept is gone", "no rule of any guest or perimeter"),
        ("key SHA256:abc is gone", "The sentences are"),
    ],
)
def test_what_is_not_there_can_not_be_gone(sentence: str, says: str, home: Path) -> None:
    with pytest.raises(NightlatchError) as told_:
        suppose(load(home / "estate.yaml"), AT, [sentence])
    assert says in str(told_.value)


def test_one_guest_without_an_estate(home: Path) -> None:
    found = suppose_target(home / "images/gate", AT, ["line /etc/ssh/sshd_config.d/50-image.conf:2 is gone"])
    assert found.changes.is_empty or {each.turn for each in found.changes.ways}
    with pytest.raises(NightlatchError, match="without an estate file"):
        suppose_target(home / "images/gate", AT, ["person mara leaves"])


LISTED = b"""\
table inet f {
\tchain i {
\t\ttype filter hook input priority filter; policy drop;
\t\tct state established,related accept
\t\ttcp dport 22 ip saddr 192.168.40.0/24 accept
\t\ttcp dport 22 ip saddr 10.0.0.0/8 counter packets 3 bytes 180 accept # handle 4
\t}
}
"""
TABLES = b"""\
*filter
:INPUT DROP [0:0]
-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
-A INPUT -s 192.168.40.0/24 -p tcp -m tcp --dport 22 -j ACCEPT
COMMIT
"""


@pytest.mark.parametrize(
    "listings, rule, closed",
    [
        ({"rules": LISTED}, "tcp dport 22 ip saddr 192.168.40.0/24 accept", "192.168.40.0/24"),
        ({"rules": LISTED}, "nft list ruleset:6", "10.0.0.0/8"),
        ({"rules": LISTED}, "ct state established, related accept", ""),  # what follows matches the others, too
        (
            {"rules": b"table ip filter {\n}\n", "tables": TABLES},
            "-A INPUT -s 192.168.40.0/24 -p tcp -m tcp --dport 22 -j ACCEPT",
            "192.168.40.0/24",
        ),
    ],
)
def test_a_loaded_rule_of_a_running_guest(listings: dict[str, bytes], rule: str, closed: str) -> None:
    held = {**listings, **listening(("tcp", "0.0.0.0", 22, "sshd", 7)), **sshd(7, 1000)}
    guest = replace(Guest("", {"mara": pub("mara-desk")}).snapshot(), listings=held, facts={"nft": "there", "uid": "0"})
    found = suppose_target(guest, NOON, [f"rule {rule} is gone"])
    told_ = {(each.turn, each.way.account, each.callers.text) for each in found.changes.ways}
    assert told_ == ({(Turn.CLOSED, "mara", closed)} if closed else set())


def run(home: Path, *words: str) -> Done:
    return COMMANDS.run(*words, "--as-of", "2026-11-25", cwd=home, env={"PATH": "/usr/bin", "LC_ALL": "C.UTF-8"})


def test_the_commands_tell_what_would_be_another(home: Path) -> None:
    before = {path: path.read_bytes() for path in home.rglob("*") if path.is_file()}
    leaves = run(home, "audit", "--suppose", "person tove leaves")
    assert leaves.returncode == 1
    assert "new        plotter: A certificate of skerry-users for tove gets files" in leaves.stdout
    assert "1 new hole" in leaves.stdout
    one = run(home, "access", "--who", "joon", "--suppose", "person mara leaves")
    assert (one.returncode, "Nothing would change." in one.stdout) == (0, True)
    program = json.loads(run(home, "access", "--suppose", f"key {DESK} is gone", "--format", "json").stdout)
    assert program["format"] == "nightlatch/supposed/1"
    assert {each["turn"] for each in program["ways_in"]} == {"closed"}
    why = run(home, "why", "mara", "gauge", "--suppose", f"rule {NFT_RULE} of gauge is gone")
    assert why.returncode == 1
    assert "now        mara gets into gauge as mara from bench, as granted." in why.stdout
    assert "shut out from bench (IPv4)." in why.stdout
    down = run(home, "why", "mara", "gauge", "--suppose", "guest gauge is down")
    assert "Nobody gets into gauge while it is down." in down.stdout
    stays = run(home, "why", "tove", "plotter", "--suppose", "person tove leaves")
    assert "then       tove gets into plotter as charts from field, and no grant says so." in stays.stdout
    for words in (("audit", "--format", "csv"), ("access", "--format", "csv")):
        assert run(home, *words, "--suppose", "person tove leaves").returncode == 2
    assert "place NAME is lost" in run(home, "audit", "--suppose", "what is there?").stderr
    assert {path: path.read_bytes() for path in home.rglob("*") if path.is_file()} == before
    assert KEYS.exists()
