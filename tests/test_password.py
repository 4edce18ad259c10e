"""Passwords judged: what is wrong with one, how many guesses find it, and how long they take at a guest's own limits."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from click.testing import CliRunner
from hypothesis import given
from hypothesis import strategies as st

from nightlatch.cli.main import cli
from nightlatch.faults import NightlatchError
from nightlatch.ops.password import judge_password
from nightlatch.passwords.judged import Flaw, Way, judged
from nightlatch.services.ssh.guessing import LimitKind
from tests.guests import AT, HASH, Guest, pub

LONG = "Kelp-trombone-4411"
CASES: list[tuple[str, str, set[Flaw], Way]] = [
    ("", "mara", {Flaw.EMPTY}, Way.NOTHING),
    ("password", "mara", {Flaw.STOCK, Flaw.SHORT}, Way.STOCK),
    ("P@ssw0rd2026", "mara", {Flaw.STOCK, Flaw.SHORT}, Way.STOCK),
    ("drowssap", "", {Flaw.STOCK, Flaw.SHORT}, Way.STOCK),
    ("mara", "mara", {Flaw.NAME, Flaw.SHORT}, Way.NAME),
    ("Aram!1", "mara", {Flaw.NAME, Flaw.SHORT}, Way.NAME),
    ("desk99", "mara.desk", {Flaw.NAME, Flaw.SHORT}, Way.NAME),
    ("qwertyuiopasdfgh", "", {Flaw.RUN}, Way.RUN),
    ("9876543210", "", {Flaw.RUN, Flaw.SHORT}, Way.RUN),
    ("tidetidetidetide", "", {Flaw.REPEATED}, Way.REPEATED),
    ("aaaaaaaaaaaaaaaaaa", "", {Flaw.REPEATED}, Way.REPEATED),
    ("gT7#kQ2v", "mara", {Flaw.SHORT}, Way.ALL),
    (LONG, "mara", set(), Way.ALL),
    ("Blåskjell-og-tare", "mara", {Flaw.LAYOUT}, Way.ALL),
]


@pytest.mark.parametrize("password, account, flaws, way", CASES)
def test_what_is_wrong_with_a_password(password: str, account: str, flaws: set[Flaw], way: Way) -> None:
    found = judged(password, account)
    assert set(found.flaws) == flaws
    assert found.way is way
    assert found.is_good is not bool(flaws - {Flaw.LAYOUT})


def test_beside_another_proof_it_may_be_shorter_and_a_screen_s_is_cut() -> None:
    assert judged("gT7#kQ2v", beside=True).is_good
    found = judged(LONG, screen=True)
    assert (found.length, found.counting, found.flaws) == (18, 8, (Flaw.CUT,))
    assert judged("Kelp-tro", screen=True).guesses == found.guesses
    assert Flaw.STOCK in judged("password-of-nobody", screen=True).flaws, "what is cut off does not help"
    assert judged("æøåæøåæøå", screen=True).counting == 4, "it is bytes that are cut"


@given(st.text(max_size=40), st.text(max_size=12))
def test_a_judgement_never_says_more_than_all_texts_of_its_length(password: str, account: str) -> None:
    found, longer = judged(password, account), judged(password + "x", account)
    assert 0 <= found.guesses <= 223 ** len(password)
    if found.way is longer.way is Way.ALL:
        assert found.guesses <= longer.guesses
    if account and account.casefold().isascii() and account.isalpha():
        assert judged(account + "7", account).guesses <= judged(account + "7").guesses, "a name is no harder where it is known"


@given(st.text("abcdefghijklmnopqrstuvwxyzABCDEF0123456789", min_size=12, max_size=30))
def test_the_password_is_no_part_of_its_judgement(password: str) -> None:
    assert password not in repr(judged(password))


PAM = "auth required pam_faillock.so {}\nauth required pam_unix.so {}\naccount required pam_unix.so\n"
UNIX = "auth required pam_unix.so\naccount required pam_unix.so\n"
LIMITS = [
    ("UsePAM no\n", "", LimitKind.NOTHING, None, None),
    ("PasswordAuthentication no\nKbdInteractiveAuthentication no\n", UNIX, LimitKind.NOT_ASKED, None, 0),
    ("", UNIX, LimitKind.DELAY, 240_000, None),
    ("MaxStartups 5:30:10\n", UNIX, LimitKind.DELAY, 24_000, None),
    ("", UNIX.replace("auth required pam_unix.so", "auth required pam_unix.so nodelay"), LimitKind.NOTHING, None, None),
    ("", PAM.format("deny=3 unlock_time=600", "nodelay"), LimitKind.LOCK, 18, None),
    ("", PAM.format("deny=5 unlock_time=never", ""), LimitKind.LOCK, None, 5),
    ("", PAM.format("deny=0", ""), LimitKind.DELAY, 240_000, None),
]


@pytest.mark.parametrize("config, pam, kind, an_hour, ever", LIMITS)
def test_a_guest_s_own_limits(
    tmp_path: Path, config: str, pam: str, kind: LimitKind, an_hour: int | None, ever: int | None
) -> None:
    files: dict[str, str | bytes] = {"/etc/pam.d/sshd": pam} if pam else {}
    guest = Guest(config, passwords={"mara": HASH}, files=files, pam=bool(pam))
    root = guest.write(tmp_path / "gauge")
    found = judge_password(LONG, AT, "mara", guest=str(root))
    assert found.limit is not None
    assert (found.limit.kind, found.limit.an_hour, found.limit.ever) == (kind, an_hour, ever)
    assert (found.hours is None) is (an_hour is None)


def test_what_sudo_asks_behind_a_login_is_no_password_of_ssh(tmp_path: Path) -> None:
    sudo: dict[str, str | bytes] = {"/etc/sudoers": "mara ALL=(ALL) ALL\n"}
    guest = Guest("PasswordAuthentication no\n", {"mara": pub("mara-desk") + "\n"}, sudo, passwords={"mara": HASH})
    found = judge_password(LONG, AT, "mara", guest=str(guest.write(tmp_path / "gauge")))
    assert found.limit is not None
    assert found.limit.kind is LimitKind.NOT_ASKED


def test_the_guest_is_read_before_anybody_is_asked(tmp_path: Path) -> None:
    def asked() -> str:
        raise AssertionError("asked for a password before the question was known to have an answer")

    root = str(Guest().write(tmp_path / "gauge"))
    for account, guest, screen in (("mora", root, False), ("", root, False), ("mara", root, True)):
        with pytest.raises(NightlatchError):
            judge_password(asked, AT, account, guest=guest, screen=screen)


def test_root_is_locked_only_where_that_is_said(tmp_path: Path) -> None:
    for number, (more, kind) in enumerate((("", LimitKind.DELAY), ("even_deny_root", LimitKind.LOCK))):
        stack: dict[str, str | bytes] = {"/etc/pam.d/sshd": PAM.format(f"deny=3 {more}", "")}
        guest = Guest("PermitRootLogin yes\n", passwords={"root": HASH}, files=stack, pam=True)
        found = judge_password(LONG, AT, "root", guest=str(guest.write(tmp_path / str(number))))
        assert found.limit is not None
        assert found.limit.kind is kind


def test_questions_that_have_no_answer_say_why(tmp_path: Path) -> None:
    root = str(Guest().write(tmp_path / "gauge"))
    with pytest.raises(NightlatchError, match='has no account "mora"; did you mean "mara"'):
        judge_password(LONG, AT, "mora", guest=root)
    with pytest.raises(NightlatchError, match="say --for ACCOUNT"):
        judge_password(LONG, AT, guest=root)


def test_the_command_keeps_nothing_of_it(tmp_path: Path) -> None:
    root = str(Guest(passwords={"mara": HASH}, pam=True).write(tmp_path / "gauge"))
    word = tmp_path / "word"
    word.write_text(f"{LONG}\n")
    word.chmod(0o640)
    run = CliRunner()
    refused = run.invoke(cli, ["password", "judge", "--password-file", str(word)])
    assert refused.exit_code == 2
    assert f"chmod 600 {word}" in refused.output
    word.chmod(0o600)
    for more in ([root], [root, "--format", "json"], ["--screen"], [root, "--beside"]):
        said = run.invoke(cli, ["password", "judge", "--for", "mara", "--password-file", str(word), *more])
        assert said.exit_code == (1 if "--screen" in more else 0), said.output
        assert "Kelp" not in said.output
    assert json.loads(run.invoke(cli, ["password", "judge", "--password-file", str(word), "--format", "json"]).output)["good"]
    nobody = run.invoke(cli, ["password", "judge"], input="typed-into-a-pipe\n")
    assert nobody.exit_code == 4
    assert "say --password-file FILE" in nobody.output
