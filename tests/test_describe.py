"""From what is to what is meant: the file that describes guests is held against the guests that it describes."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from click.testing import CliRunner
from hypothesis import given
from hypothesis import strategies as st
from ruamel.yaml import YAML

from nightlatch.cli.main import cli
from nightlatch.demo.build import HERE, build
from nightlatch.describe.text import quoted
from nightlatch.estate import load as load_keys
from nightlatch.estate import sentences
from nightlatch.estate.load import load
from nightlatch.estate.schema import schema
from nightlatch.ops.audit import audit
from nightlatch.ops.new import new_estate
from tests.describing import complain, described
from tests.guests import AT, HASH, Guest, pub
from tests.test_reason import CASES

SUDO: dict[str, str | bytes] = {"/etc/sudoers": "root ALL=(ALL) ALL\nmara ALL=(ALL) ALL\nkeeper ALL=(ALL) NOPASSWD: ALL\n"}
NO_PASSWORDS = "PasswordAuthentication no\n"
DESK, TOKEN, JOON = pub("mara-desk"), pub("mara-token"), pub("joon-desk")
AWKWARD = {
    "two keys from two places": Guest(NO_PASSWORDS, {"mara": f'from="192.168.40.0/24" {DESK}\nfrom="203.0.113.20" {TOKEN}\n'}),
    "a key that opens two accounts": Guest(NO_PASSWORDS, {"mara": DESK, "joon": f"{DESK}\n{JOON}\n"}),
    "a key that opens root, too": Guest(NO_PASSWORDS, {"mara": DESK, "root": DESK}),
    "both proofs": Guest("AuthenticationMethods publickey,password\n", {"mara": DESK}, passwords={"mara": HASH}),
    "either proof": Guest("", {"mara": DESK}, passwords={"mara": HASH}),
    "sudo with and without a password": Guest("", {"mara": DESK, "keeper": TOKEN}, SUDO, passwords={"mara": HASH}),
    "a command": Guest(NO_PASSWORDS, {"mara": f'restrict,command="/bin/out \\"now\\"" {DESK}\n'}),
    "all but some places": Guest(NO_PASSWORDS + "DenyUsers mara@192.168.40.* mara@203.0.113.20\n", {"mara": DESK}),
    "places by group": Guest(NO_PASSWORDS + "AllowUsers mara@192.168.40.0/24 joon\n", {"mara": DESK, "joon": JOON}),
    "only one family": Guest(NO_PASSWORDS + "AddressFamily inet\n", {"mara": DESK}),
    "nobody": Guest(NO_PASSWORDS),
    "a hostile comment": Guest(NO_PASSWORDS, {"mara": f"{DESK} \x1b[2J', x: [*a]\u202e # {{\n"}),
    "a command that is YAML": Guest(NO_PASSWORDS, {"mara": f'restrict,command="a: [b]\', # \u00e9 {{" {DESK}\n'}),
    "an authority": Guest(
        NO_PASSWORDS
        + "TrustedUserCAKeys /etc/ssh/ca.pub\nMatch User charts\n  ForceCommand internal-sftp\n  AllowTcpForwarding no\n"
        "  DisableForwarding yes\n",
        files={"/etc/ssh/ca.pub": pub("skerry-users") + "\n"},
        accounts=("root", "mara", "charts"),
    ),
}
ALL = {**AWKWARD, **{name: guest for name, guest, *_ in CASES}}


@pytest.mark.parametrize("name", ALL)
def test_nothing_is_left_open_and_nobody_shut_out(tmp_path: Path, name: str) -> None:
    done = described(tmp_path, ALL[name].access(), AT)
    assert not complain(done), (done.path.read_text(), done.left)
    if name in AWKWARD:
        assert not done.unsaid
        assert not done.left
    fits(done.path)


def test_a_comment_that_is_no_text_is_written_as_one(tmp_path: Path) -> None:
    line = DESK.rsplit(" ", 1)[0].encode() + b" \xff\x1b]0;x\x07\n"
    guest = Guest(NO_PASSWORDS, files={"/home/mara/.ssh/authorized_keys": line})
    done = described(tmp_path, guest.access(), AT)
    assert not done.left
    assert done.keys[0].read_bytes().isascii()
    assert b"\x1b" not in done.keys[0].read_bytes() + done.path.read_bytes()


def test_what_no_sentence_can_say_is_told(tmp_path: Path) -> None:
    open_door = Guest("PermitEmptyPasswords yes\n", {"mara": f'command="/bin/out" {DESK}\n'}, passwords={"joon": ""})
    done = described(tmp_path, open_door.access(), AT)
    assert any("joon: it opens without anything being shown" in text for text in done.unsaid), done.unsaid
    assert any("mara: " in text and "tunnels" in text for text in done.unsaid), done.unsaid
    assert "# Open as well, and no sentence can say it" in done.path.read_text()
    assert done.left


def test_people_are_guessed_from_keys_that_recur(tmp_path: Path) -> None:
    guest = Guest(NO_PASSWORDS, {"mara": f"{DESK}\n{TOKEN}\n", "joon": f"{JOON}\n{TOKEN}\n", "root": DESK})
    done = described(tmp_path, guest.access(), AT)
    made = load(done.path)
    assert {name: len(person.keys) for name, person in made.principals.items()} == {
        "mara": 1,
        "mara-token": 1,
        "joon": 1,
    }
    assert "one key opens mara, joon" in done.path.read_text()


def test_the_demo_described_and_audited_as_users_do(tmp_path: Path) -> None:
    demo = build(tmp_path / "skerry")
    images = sorted((demo.parent / "images").iterdir())
    words = [word for image in images for word in ("--from", str(image))]
    target = tmp_path / "mine.yaml"
    done = CliRunner().invoke(cli, ["new", str(target), *words, "--as-of", AT.isoformat()])
    assert done.exit_code == 0, done.output
    assert "nothing open that it does not say, nobody shut out" in " ".join(done.output.split())
    text = target.read_text()
    assert "# gate, gauge, plotter: /home/keeper/.ssh/authorized_keys:1" in text
    assert "into: [gate, gauge, plotter]" in text or "into: [gauge, gate, plotter]" in text
    result = audit(load(target), AT)
    assert not [f for g in result.guests for f in g.findings if f.check in ("hole", "shut-out")]
    again = CliRunner().invoke(cli, ["new", str(target), *words])
    assert again.exit_code == 4
    assert "is there already" in again.output
    assert target.read_text() == text
    fits(target)
    # Each sentence counts: without it there is a hole.
    sentences = [line for line in text.splitlines() if line.startswith("  - {let: ")]
    for sentence in sentences:
        target.write_text(text.replace(sentence, "", 1))
        less = audit(load(target), AT)
        assert [f for g in less.guests for f in g.findings if f.check == "hole"], sentence


def test_one_that_can_not_be_read_does_not_stop_the_rest(tmp_path: Path) -> None:
    demo = build(tmp_path / "skerry")
    target = tmp_path / "mine.yaml"
    words = ["new", str(target), "--from", str(demo.parent / "images/gate"), "--from", str(tmp_path / "none")]
    done = CliRunner().invoke(cli, words)
    assert done.exit_code == 3
    assert "there is no such folder" in " ".join(done.output.split())
    assert "".join(done.output.split()).count(str(tmp_path / "none")) == 1
    assert list(load(target).guests) == ["gate"]
    nothing = CliRunner().invoke(cli, ["new", str(tmp_path / "other.yaml"), "--from", str(tmp_path / "none")])
    assert nothing.exit_code == 3
    assert not (tmp_path / "other.yaml").exists()


@given(st.text(max_size=60))
def test_any_text_stays_one_value(text: str) -> None:
    assert YAML(typ="safe", pure=True).load(f"a: {{b: {quoted(text)}}}\n") == {"a": {"b": text}}


def plain(value: Any) -> Any:
    """YAML as an editor hands it to the schema: days are texts there."""
    if isinstance(value, dict):
        return {key: plain(each) for key, each in value.items()}
    if isinstance(value, list):
        return [plain(each) for each in value]
    return value if isinstance(value, (str, int, float, bool)) or value is None else str(value)


def fits(path: Path) -> None:
    """Whether the file fits the schema; raises ValidationError."""
    jsonschema.validate(plain(YAML(typ="safe", pure=True).load(path.read_text())), schema())


def test_every_file_that_loads_fits_the_schema(tmp_path: Path) -> None:
    made = schema()
    jsonschema.Draft202012Validator.check_schema(made)
    guest = made["properties"]["guests"]["additionalProperties"]
    assert set(made["properties"]) == set(load_keys.SECTIONS)
    assert set(made["properties"]["grants"]["items"]["properties"]) == set(sentences.GRANT_KEYS)
    assert set(guest["properties"]) == set(load_keys.GUEST)
    fits(HERE / "estate.yaml")
    new_estate(tmp_path / "new.yaml")
    fits(tmp_path / "new.yaml")
    printed = CliRunner().invoke(cli, ["schema"])
    assert json.loads(printed.output) == schema()


@pytest.mark.parametrize(
    "wrong",
    [
        "guests: {g: {via: {folder: x, host: y}}}",
        "guests: {g: {labels: [a]}}",
        "guests: {G: {via: here}}",
        "grants: [{let: a}]",
        "guests: {g: {via: here, host_keys: [MD5:00]}}",
        "places: {bench: {inside: 10.0.0.0/8}}",
        "extra: 1",
        "grants: [{let: a, into: g, by: rdp, from: b, with: key}]",
        "grants: [{let: a, into: g, by: rdp, from: b, with: password, only: {command: ls}}]",
        "grants: [{let: a, into: g, by: rdp, from: b, with: password, seal: none}]",
        "grants: [{let: a, into: g, by: ssh, from: b, with: key, seal: clear}]",
        "grants: [{let: a, into: g, by: ssh, from: b, with: keys}]",
        "grants: [{let: a, into: g, by: ssh, from: b, with: key, may: administer}]",
    ],
)
def test_what_does_not_load_does_not_fit(tmp_path: Path, wrong: str) -> None:
    path = tmp_path / "estate.yaml"
    guests = "" if wrong.startswith("guests") else "guests: {g: {via: here}}\n"
    path.write_text(f"nightlatch: 1\nestate: x\n{guests}{wrong}\n")
    with pytest.raises(jsonschema.ValidationError):
        fits(path)
    with pytest.raises(Exception, match=r"estate\.yaml"):
        load(path)
