"""The command line as users drive it, on the demo: exit codes, messages, JSON, the second run, hostile text."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import click
import pytest

from nightlatch.cli.main import Commands
from nightlatch.demo.build import build
from nightlatch.demo.live import CALLING
from tests.commands import COMMANDS

AS_OF = ("--as-of", "2026-11-25")


@pytest.fixture(scope="module")
def skerry(tmp_path_factory: pytest.TempPathFactory) -> Path:
    home = tmp_path_factory.mktemp("demo") / "skerry"
    build(home)
    return home


@pytest.fixture
def fresh(skerry: Path, tmp_path: Path) -> Iterator[Path]:
    subprocess.run(["cp", "-a", str(skerry), str(tmp_path / "skerry")], check=True)
    yield tmp_path / "skerry"
    shutil.rmtree(tmp_path / "skerry")


def run(*words: str, cwd: Path, code: int = 0, stdin: str = "") -> str:
    done = COMMANDS.run(*words, cwd=cwd, stdin=stdin, env={**os.environ, "NO_COLOR": "1"})
    assert done.returncode == code, f"{words}: {done.returncode}\n{done.stdout}\n{done.stderr}"
    assert "Traceback" not in done.stderr
    return done.stdout + done.stderr


def test_the_whole_loop(fresh: Path) -> None:
    first = run("audit", *AS_OF, cwd=fresh, code=1)
    for part in (
        "chartbox   2 holes, 1 shut out",
        "gate   2 holes",
        "plotter   1 shut out",
        "gauge: open as granted.",
        "Next: nightlatch draft estate.yaml",
    ):
        assert part in first
    words = " ".join(first.replace(" high\n", "\n").split())
    assert "The key mara-token (mara's) also gets a shell as mara, and with the password of mara a root shell, from" in words
    assert "4 holes, 2 shut out, 12 findings of hygiene, nothing undecided." in first
    assert all(len(line) <= 100 for line in first.splitlines())
    shown = run("draft", *AS_OF, cwd=fresh)
    assert "-PasswordAuthentication yes" in shown
    assert "mode 0664 becomes 0644" in shown
    assert "+-A nightlatch -s 192.168.40.0/24 -j ACCEPT" in shown
    assert '+  <rule priority="-4140"><port port="22" protocol="tcp"/><drop/></rule>' in shown
    assert run("enact", "--dry-run", *AS_OF, cwd=fresh).splitlines()[0] == shown.splitlines()[0]
    refused = run("enact", *AS_OF, cwd=fresh, code=4)
    assert "Say --yes to have it applied, and kept once it is proved" in " ".join(refused.split())
    assert "4 paths, change" in run("enact", "--yes", *AS_OF, cwd=fresh)
    second = run("audit", "--fail-at", "critical", *AS_OF, cwd=fresh)
    assert "no holes, nobody shut out" in second
    assert "Nothing to change." in run("enact", "--yes", *AS_OF, cwd=fresh)
    listed = run("undo", cwd=fresh, code=4)
    assert "the newest, was made on gate, plotter, chartbox." in " ".join(listed.split())
    assert "Take it back on all of them? Say --yes to have it taken back." in " ".join(listed.split())
    undone = run("undo", "--yes", cwd=fresh)
    assert undone.count("taken back") == 3
    assert "as it was" in undone
    assert run("audit", *AS_OF, cwd=fresh, code=1) == first
    assert "no change is kept" in run("undo", cwd=fresh, code=4)


def test_survey_and_look_at_archives(fresh: Path) -> None:
    text = run("survey", cwd=fresh)
    assert "gauge:" in text
    assert text.endswith("Next: nightlatch audit estate.yaml --evidence evidence\n")
    look = run("audit", "evidence/chartbox.evidence.tar.gz", *AS_OF, cwd=fresh, code=1)
    assert "the key old-laptop gives a root shell, from anywhere but 192.168.40.0/24" in " ".join(look.split())
    assert "Next: nightlatch new estate.yaml" in look
    assert "Next: nightlatch audit one/gate.evidence.tar.gz" in run("survey", "images/gate", "--into", "one", cwd=fresh)
    assert (fresh / "one/gate.evidence.tar.gz").exists()
    # What was kept stands for the guests, who may be gone.
    for words, code in (
        (("audit", *AS_OF), 1),
        (("draft", *AS_OF), 0),
        (("draft", "--check", *AS_OF), 1),
        (("exposure", *AS_OF), 0),
    ):
        told = run(*words, cwd=fresh, code=code)
        shutil.move(fresh / "images", fresh / "away")
        assert run(*words, "--evidence", "evidence", cwd=fresh, code=code) == told
        shutil.move(fresh / "away", fresh / "images")
    assert "there is no such folder" in run("audit", "--evidence", "nowhere", cwd=fresh, code=3)
    assert "no evidence of it is kept in one" in " ".join(run("audit", "--evidence", "one", *AS_OF, cwd=fresh, code=3).split())
    assert "stands for the guests of an estate file" in run("audit", "images/gate", "--evidence", "one", cwd=fresh, code=2)


def test_nothing_to_draft_checks_out(fresh: Path) -> None:
    run("enact", "--yes", *AS_OF, cwd=fresh)
    assert "nothing to do" in run("draft", "--check", "--on", "gate", *AS_OF, cwd=fresh)
    shutil.rmtree(fresh / "images/gate")
    told = run("enact", "--yes", "--on", "gate", *AS_OF, cwd=fresh, code=4)
    assert "Nothing was changed." in told
    assert "Nothing to change" not in told


def test_json(skerry: Path) -> None:
    document = json.loads(run("audit", "--format", "json", *AS_OF, cwd=skerry, code=1))
    assert document["format"] == "nightlatch/audit/2"
    gate = next(g for g in document["guests"] if g["guest"] == "gate")
    hole = next(f for f in gate["findings"] if f["check"] == "hole")
    assert hole["evidence"][0]["origin"] == {
        "kind": "file",
        "path": "/etc/ssh/sshd_config.d/50-image.conf",
        "line": 2,
        "column": 1,
    }
    draft = json.loads(run("draft", "--format", "json", *AS_OF, cwd=skerry))
    assert {g["guest"] for g in draft["guests"]} == {"gauge", "gate", "plotter", "chartbox"}
    checks = json.loads(run("checks", "--format", "json", cwd=skerry))
    assert {"hole", "ssh.root-login", "ssh.shared-host-key"} <= {c["id"] for c in checks["checks"]}


MISTAKES = [
    (("audit", "none.yaml"), 2, "there is no such file; nightlatch new none.yaml"),
    (("audit", "images/none"), 2, "no such folder, evidence archive or estate file"),
    (("audit", "--on", "gouge"), 2, 'there is no guest "gouge"'),
    (("audit", "--fail-at", "loud"), 2, "is not one of"),
    (("audit", "--as-of", "soon"), 2, "is no day or time"),
    (("audit", "keys/keeper.pub"), 3, "is no evidence archive"),
    (("audit", "images"), 3, "holds no system"),
    (("draft", "images"), 2, "is a folder, an estate file is expected here"),
    (("draft", "."), 2, "did you mean estate.yaml?"),
    (("new", "estate.yaml"), 4, "is there already"),
    (("undo", "--on", "gate", "--change", "20260101-000000-000000"), 4, "there is no change"),
    (("demo", "--leave", "--folder", "images"), 4, "is there already"),
    (("nonsense",), 2, 'there is no command "nonsense"'),
    (("audti",), 2, 'did you mean "audit"?'),
    (("survey", "none"), 3, "no such folder, evidence archive or text carried over by hand"),
    (("survey", "keeper@"), 2, "is no target: write ACCOUNT@HOST"),
    (("survey", "--script", "images/gauge"), 2, "--script ESTATE --on GUEST"),
    (("audit", "--host-key", "md5:aa", "images/gate"), 2, "is no fingerprint"),
    (("audit", "--host-key", "SHA256:" + "A" * 43, "images/gate"), 2, "is for a live guest named here"),
    (("enact", "--for", "3"), 2, "from 5 s to 24 hours, not 3 s"),
    (("keep", "--on", "gate"), 4, "is not a live guest"),
]


@pytest.mark.parametrize("words, code, told", MISTAKES, ids=[" ".join(m[0]) for m in MISTAKES])
def test_mistakes_get_one_clear_message(skerry: Path, words: tuple[str, ...], code: int, told: str) -> None:
    assert told in run(*words, cwd=skerry, code=code)


def test_one_bad_guest_does_not_stop_the_rest(fresh: Path) -> None:
    shutil.rmtree(fresh / "images/gate")
    text = run("audit", *AS_OF, cwd=fresh, code=3)
    assert "gate   could not be read" in text
    assert "chartbox   2 holes" in text
    assert "1 guest not read" in text
    assert "gate: not read" in run("survey", cwd=fresh, code=3)


def test_waivers_are_shown_and_must_name_a_finding(fresh: Path) -> None:
    path = fresh / "estate.yaml"
    path.write_text(path.read_text().replace("finding: ssh.weak-key", "finding: ssh.weak-kez"))
    assert 'Did you mean "ssh.weak-key"?' in run("audit", cwd=fresh, code=2)
    path.write_text(path.read_text().replace("ssh.weak-kez", "ssh.weak-key").replace("2027-01-31", "2026-01-31"))
    text = run("audit", *AS_OF, cwd=fresh, code=1)
    assert "waiver.expired" in text
    assert "ssh.weak-key" in text


def test_new_then_audit(tmp_path: Path) -> None:
    assert "nightlatch audit estate.yaml" in run("new", cwd=tmp_path)
    assert "images/first" in run("audit", cwd=tmp_path, code=3)


def test_hostile_guest_text_does_nothing_on_the_screen(fresh: Path) -> None:
    keys = fresh / "images/gate/home/mara/.ssh/authorized_keys"
    old = (fresh / "images/chartbox/root/.ssh/authorized_keys").read_text().split()
    comment = "\x1b]0;owned\x07\x1b[2J\u202e[red]evil[/red]"
    keys.write_text(f"{old[0]} {old[1]} {comment}\n")
    text = run("audit", "images/gate", *AS_OF, cwd=fresh, code=1)
    assert "\x1b" not in text
    assert "\u202e" not in text
    assert "\\x1b]0;owned" in text
    assert "[red]evil[/red]" in text
    json.loads(run("audit", "images/gate", "--format", "json", *AS_OF, cwd=fresh, code=1))


def test_every_command_has_help(skerry: Path) -> None:
    listing = run("--help", cwd=skerry)
    for command in ("new", "survey", "audit", "draft", "enact", "undo", "checks", "demo"):
        assert command in listing
        assert "Usage: nightlatch" in run(command, "--help", cwd=skerry)
    assert "nightlatch 0.1.0" in run("--version", cwd=skerry)


def test_the_prompt_of_the_demo_gives_its_configuration_to_every_command_that_takes_one() -> None:
    group = Commands()
    context = click.Context(group)
    taking = set()
    for name in group.list_commands(context):
        command = group.get_command(context, name)
        assert command is not None
        if any("--ssh-config" in parameter.opts for parameter in command.params):
            taking.add(name)
    assert set(CALLING.split()) == taking


def test_the_address_book_of_the_station(fresh: Path) -> None:
    told = run("addresses", cwd=fresh, code=1)
    for part in (
        "isle   192.168.56.0/24   host 192.168.56.1   gateway 192.168.56.254   leases 192.168.56.100-192.168.56.199",
        "192.168.56.22  chartbox  enp0s8  fixed  stays, 2 guests have it",
        "149 addresses are free for fixed ones; the next is 192.168.56.2",
        "gate and chartbox both have 192.168.56.22",
        "2 default routes for IPv4",
        "by lease: another machine may have it tomorrow",
        "On plotter the name chartbox leads to 192.168.56.24",
        "have the same machine id",
        "It touches gauge, plotter.",
        "4 addresses, 6 findings.",
        "under addresses: in estate.yaml, then nightlatch draft",
    ):
        assert part in " ".join(told.split("\n             ")), part
    assert run("addresses", cwd=fresh, code=1) == told, "the second run says the same"
    near = run("addresses", "--from", "192.168.56.9", "--propose", cwd=fresh, code=1)
    assert "gate      192.168.56.22  private  fixed  stays  also chartbox has it" in near
    assert "the place lies in the same network" in near
    document = json.loads(run("addresses", "--format", "json", "--from", "bench", cwd=fresh, code=1))
    assert document["format"] == "nightlatch/addresses/1"
    assert [d["dial"] for d in document["dial"]] == ["192.168.56.21", "192.168.56.22", "192.168.56.23", "192.168.56.22"]
    rows = run("addresses", "--format", "csv", "--fail-at", "critical", cwd=fresh).splitlines()
    assert rows[1] == "isle,192.168.56.21,24,gauge,enp0s8,fixed,stays,/etc/network/interfaces:7:13"
    alone = run("addresses", "images/plotter", cwd=fresh)
    assert "netplan    IPv4 leased, IPv6 announced, at boot" in alone
    assert json.loads(run("addresses", "images/gate", "--format", "json", cwd=fresh))["format"] == "nightlatch/interfaces/1"
    assert 'there is no place "benc"' in run("addresses", "--from", "benc", cwd=fresh, code=2)
    assert "are for an estate file" in run("addresses", "images/gate", "--propose", cwd=fresh, code=2)
    assert "there is no such folder" in run("addresses", "images/none", cwd=fresh, code=3)


def test_a_guest_gets_the_address_that_the_estate_gives_it(fresh: Path) -> None:
    path = fresh / "estate.yaml"
    text = path.read_text()
    path.write_text(text.replace("gauge:    {", 'gauge:    {addresses: {enp0s8: [192.168.56.26/24, "2001:db8:56::26/64"]}, '))
    settings = fresh / "images/gauge/etc/network/interfaces"
    before = settings.read_text()
    shown = run("draft", "--on", "gauge", cwd=fresh)
    for line in ("-    address 192.168.56.21/24", "+    address 192.168.56.26/24", "+iface enp0s8 inet6 static"):
        assert line in shown
    assert "gateway 192.168.56.254" in shown, "what fits stays"
    run("enact", "--yes", "--on", "gauge", cwd=fresh)
    assert (
        settings.read_text()
        == before.replace(".21/24", ".26/24") + "\niface enp0s8 inet6 static\n    address 2001:db8:56::26/64\n"
    )
    assert "nothing to do" in run("draft", "--on", "gauge", cwd=fresh)
    assert "192.168.56.26" in run("addresses", "--on", "gauge", cwd=fresh)
    run("undo", "--on", "gauge", cwd=fresh)
    assert settings.read_text() == before
    path.write_text(text.replace("gauge:    {", "gauge:    {addresses: {enp0s9: [10.9.0.4/24]}, "))
    left = run("draft", "--on", "gauge", cwd=fresh)
    assert "enp0s9 should have 10.9.0.4/24, fixed." in left
    assert "not known which system" in " ".join(left.split())


def test_an_address_for_a_guest_that_has_none(fresh: Path) -> None:
    path = fresh / "images/gauge/etc/network/interfaces"
    path.write_text("auto enp0s8\niface enp0s8 inet dhcp\n")
    told = run("addresses", "--propose", "--on", "gauge", "--fail-at", "high", cwd=fresh)
    assert "addresses: {enp0s8: [192.168.56.2/24]}" in told
    assert "No address is known of gauge." in told


def test_the_demo_tells_its_story_in_time_and_leaves_nothing(tmp_path: Path) -> None:
    started = time.perf_counter()
    text = run("demo", cwd=tmp_path)
    assert time.perf_counter() - started < 15
    for part in (
        "1. audit",
        "2. draft",
        "3. enact",
        "4. audit again",
        "6. people",
        "7. screens",
        "8. undo",
        "That was the whole loop",
    ):
        assert part in text
    assert "nothing undecided" in text
    told = text.partition("7. screens")[2]
    for step in ("+AllowTcpForwarding local", '+$localhost = "yes";'):
        assert step in told
    if os.geteuid() == 0:  # an ordinary user can't give the key to the group that may read it
        assert "put xrdp into the group ssl-cert" in told
        assert "1 hole, 1 shut out" in told
    left = run("demo", "--leave", "--folder", "kept", cwd=tmp_path)
    assert "Try next" in left
    assert (tmp_path / "kept/estate.yaml").exists()


def test_the_host_is_untouched_by_the_readers_locale(skerry: Path) -> None:
    env = {**os.environ, "LC_ALL": "C", "PYTHONUTF8": "0"}
    done = subprocess.run([sys.executable, "-m", "nightlatch.cli", "audit"], capture_output=True, cwd=skerry, env=env, timeout=60)
    assert done.returncode == 1
    assert b"Traceback" not in done.stderr


def test_the_documented_keys_are_there(skerry: Path) -> None:
    page = (Path(__file__).parent.parent / "docs/json.md").read_text()
    document = json.loads(run("audit", "--format", "json", *AS_OF, cwd=skerry, code=1))
    guest = document["guests"][0]
    for key in (
        *document,
        *guest,
        *guest["ways_in"][0],
        *guest["kept_access"][0],
        *(k for g in document["guests"] for f in g["findings"] for k in f),
    ):
        assert f"`{key}`" in page or key in ("format", "guests"), key


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_shells_complete_commands(shell: str) -> None:
    env = {
        **os.environ,
        "COMP_WORDS": "nightlatch pen",
        "COMP_CWORD": "pen" if shell == "fish" else "1",
        "_NIGHTLATCH_COMPLETE": f"{shell}_complete",
    }
    words = [sys.executable, "-m", "nightlatch.cli"]
    done = subprocess.run(words, capture_output=True, text=True, env=env, timeout=60, check=False)
    assert "pending" in done.stdout
    assert "enact" not in done.stdout
    env["_NIGHTLATCH_COMPLETE"] = f"{shell}_source"
    done = subprocess.run(words, capture_output=True, text=True, env=env, timeout=60, check=False)
    assert "_NIGHTLATCH_COMPLETE" in done.stdout


# The streams are as Python sets them up for the encoding; each command has to end as it does by itself.
ONE_AFTER_THE_OTHER = """
import json, sys
from nightlatch.cli.main import main
for words in json.loads(sys.argv[1]):
    sys.argv[1:] = words
    try:
        main()
    except SystemExit as done:
        if done.code not in (0, 1, 4):
            raise
"""
ODD = "chart \x1b]0;ours\x07\u202e ünï \udcff"


def test_what_a_pipe_cannot_show_gets_a_sign_and_never_a_traceback(fresh: Path) -> None:
    folder = os.fsencode(fresh / "images/plotter/etc/ssh/sshd_config.d")
    odd = ODD.encode("utf-8", "surrogateescape") + b".conf"
    Path(os.fsdecode(folder + b"/" + odd)).write_text("PermitRootLogin yes\nPermitEmptyPasswords yes\n")
    commands = (
        ("audit", *AS_OF),
        ("audit", *AS_OF, "--format", "csv"),
        ("audit", *AS_OF, "--format", "json"),
        ("draft", *AS_OF),
    )
    for encoding in ("ascii", "latin-1", "utf-8", "utf-16"):
        done = subprocess.run(
            [sys.executable, "-c", ONE_AFTER_THE_OTHER, json.dumps(commands)],
            capture_output=True,
            cwd=fresh,
            timeout=60,
            env={**os.environ, "PYTHONIOENCODING": encoding, "PYTHONUTF8": "0", "LC_ALL": "C"},
        )
        assert done.returncode == 0, (encoding, done.stderr)
        assert b"Traceback" not in done.stderr, encoding
        assert b"\x1b" not in done.stdout + done.stderr
        assert len(done.stdout) > 10_000


def test_a_printed_script_holds_nothing_that_moves_a_cursor(fresh: Path) -> None:
    root = fresh / "images/plotter"
    passwd = root / "etc/passwd"
    passwd.write_text(passwd.read_text().replace("/home/joon", "/home/joon\x1b[2Jx"))
    (root / "home/joon").rename(root / "home/joon\x1b[2Jx")
    text = run("draft", "--script", "--on", "plotter", *AS_OF, cwd=fresh)
    assert "\x1b" not in text
    assert all(char.isprintable() or char in "\n\t" for char in text)
    rows = "rows=" + text.partition("\n    rows=")[2].partition("\n    acts=")[0] + '\nprintf %s "$rows"\n'
    said = subprocess.run(["sh"], input=rows, capture_output=True, text=True).stdout
    assert "/home/joon\x1b[2Jx/.ssh/authorized_keys" in said, "the shell gets the very name"


@pytest.mark.parametrize(
    "words, option",
    [(("enact", *AS_OF), "--yes"), (("enact", "--leave", *AS_OF), "--yes"), (("enact", "--install", *AS_OF), "--yes")],
)
def test_where_nobody_sits_no_question_is_asked(words: tuple[str, ...], option: str, fresh: Path) -> None:
    said = run(*words, cwd=fresh, code=4, stdin="y\ny\n")
    assert "nobody is at a terminal to answer: Apply this to" in said
    assert option in said.splitlines()[-1]
    assert not list(fresh.glob("images/*/var/lib/nightlatch"))
