"""Accounts made, disabled, enabled and given root's rights: drafted, proved, applied to folders, taken back, cut off anywhere."""

from __future__ import annotations

import contextlib
import os
import re
import subprocess
from datetime import date
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nightlatch.draft import account_changes, rotation
from nightlatch.draft.plan import ProvedDraft
from nightlatch.estate.load import load
from nightlatch.estate.model import Estate
from nightlatch.faults import EstateError, RefusedError
from nightlatch.formats.account_fields import FieldFault
from nightlatch.model import account_steps
from nightlatch.model.account_steps import (
    DATABASES,
    GROUP,
    PASSWD,
    SHADOW,
    AccountStep,
    AddAccount,
    AddMember,
    DropAccount,
    DropMember,
    GivePassword,
    LockPassword,
    SetExpiry,
    TakePassword,
    UnlockPassword,
)
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.enact import enact
from nightlatch.ops.giving import GivenPassword
from nightlatch.ops.survey import survey_target
from nightlatch.ops.undo import undo
from tests.guests import AT, HASH, Guest, estate, pub
from tests.test_draft import OFF, weight
from tests.test_enact import broken_off, outside_var

GRANT = "let: mara, into: gauge, by: ssh, from: bench, with: key"
DESK = f'from="192.168.40.0/24" {pub("mara-desk")}\n'
ADMIN = f"{GRANT}, may: administer, after: nothing"
LEFT = "people: {mara: {keys: [keys/mara-desk.pub], until: 2026-10-31}}\n"
SUDO: dict[str, str | bytes] = {
    "/etc/sudoers": "root ALL=(ALL) ALL\n@includedir /etc/sudoers.d\n",
    "/etc/sudoers.d/README": "# rules of this guest\n",
}
ROOT = ("root", "keeper")


def made(folder: Path, guest: Guest, grants: str, more: str = "", proof: str = "key") -> tuple[Estate, ProvedDraft]:
    found = estate(folder, grants)
    if more:
        path = folder / "estate.yaml"
        text = path.read_text()
        path.write_text(
            text.replace("  mara: {keys: [keys/mara-desk.pub, keys/mara-token.pub]}\n", more).replace(
                "with: key", f"with: {proof}"
            )
        )
        found = load(path)
    snapshot = guest.snapshot()
    return found, prove(found, draft(found, snapshot, AT), snapshot, AT)


GONE = "  mara: {keys: [keys/mara-desk.pub, keys/mara-token.pub], until: 2026-10-31}\n"
# Name, guest, grants, how mara stands under people, the steps, how many differences stay.
CASES: list[tuple[str, Guest, str, str, list[str], int]] = [
    (
        "a colleague joins",
        Guest(OFF, accounts=ROOT),
        GRANT,
        "",
        [
            "make the account mara: uid 1001, home /home/mara, shell /bin/bash, no password",
            "make /home/mara, mode 0700",
            "make /home/mara/.ssh, mode 0700",
            "in /home/mara/.ssh/authorized_keys: add a line",
        ],
        0,
    ),
    ("a name that no tool takes", Guest(OFF, accounts=ROOT), f"{GRANT}, as: Mara.Desk", "", [], 1),
    ("a folder that is there already", Guest(OFF, accounts=ROOT, files={"/home/mara/notes": ""}), GRANT, "", [], 1),
    ("a group that lists the name", Guest(OFF, accounts=ROOT, groups="sudo:x:27:keeper,mara\n"), GRANT, "", [], 1),
    ("a group of that name", Guest(OFF, accounts=ROOT, groups="mara:x:1700:\n"), GRANT, "", [], 1),
    (
        "files of somebody who is gone keep their number",
        Guest(OFF, accounts=ROOT, files={"/home/gone/.profile": ""}, modes={"/home/gone": (0o700, 1006, 1006)}),
        GRANT,
        "",
        [
            "make the account mara: uid 1007, home /home/mara, shell /bin/bash, no password",
            "make /home/mara, mode 0700",
            "make /home/mara/.ssh, mode 0700",
            "in /home/mara/.ssh/authorized_keys: add a line",
        ],
        0,
    ),
    (
        "a list of users names her, too",
        Guest(OFF + "AllowUsers keeper\n", accounts=ROOT),
        GRANT,
        "",
        [
            "make the account mara: uid 1001, home /home/mara, shell /bin/bash, no password",
            "make /home/mara, mode 0700",
            "make /home/mara/.ssh, mode 0700",
            "in /home/mara/.ssh/authorized_keys: add a line",
            "in /etc/ssh/sshd_config: change a line",
        ],
        0,
    ),
    (
        "a password for an account without one",
        Guest(OFF),
        GRANT.replace("key", "password"),
        "",
        [
            "give mara a password, made when this is enacted, to be changed at the first login",
            "in /etc/ssh/sshd_config: add a block, Match User mara Address 192.168.40.0/24",
        ],
        0,
    ),
    (
        "one that is locked is unlocked",
        Guest(OFF, files={"/etc/shadow": "mara:!{yescrypt}:20000:0:99999:7:::\n"}),
        GRANT.replace("key", "password"),
        "",
        ["in /etc/ssh/sshd_config: add a block, Match User mara Address 192.168.40.0/24", "unlock the password of mara"],
        0,
    ),
    (
        "a key without a password would wait for that password",
        Guest(OFF, {"mara": DESK}),
        f"{GRANT}\n{GRANT.replace('key', 'password')}",
        "",
        [],
        1,
    ),
    ("an administrator", Guest(OFF, {"mara": DESK}, SUDO), ADMIN, "", ["make /etc/sudoers.d/mara, mode 0440"], 0),
    (
        "an administrator by the guest's own group",
        Guest(OFF, {"mara": DESK}, {"/etc/sudoers": "%boats ALL=(ALL) NOPASSWD: ALL\n"}, groups="boats:x:1500:\n"),
        ADMIN,
        "",
        ["put mara into the group boats"],
        0,
    ),
    (
        "root's rights that nobody granted",
        Guest(OFF, {"mara": DESK}, {**SUDO, "/etc/sudoers.d/x": "mara ALL=(ALL) NOPASSWD: ALL\n"}),
        GRANT,
        "",
        ["in /etc/sudoers.d/x: take away a line"],
        0,
    ),
    (
        "root's rights by a group",
        Guest(OFF, {"mara": DESK}, {"/etc/sudoers": "%boats ALL=(ALL) NOPASSWD: ALL\n"}, groups="boats:x:1500:keeper,mara\n"),
        GRANT,
        "",
        ["take mara out of the group boats"],
        0,
    ),
    (
        "a colleague leaves",
        Guest(OFF, {"mara": DESK + "# mine\n" + pub("mara-token") + "\n"}, passwords={"mara": HASH}),
        GRANT,
        GONE,
        [
            "in /home/mara/.ssh/authorized_keys: take away a line",
            "in /home/mara/.ssh/authorized_keys: take away a line",
            "lock the password of mara",
            "expire the account mara",
        ],
        0,
    ),
    (
        "one who left and is disabled",
        Guest(OFF, files={"/etc/shadow": "mara:!{yescrypt}:20000:0:99999:7::1:\n"}),
        GRANT,
        GONE,
        [],
        0,
    ),
    (
        "one who left, with the name of one of the system's own",
        Guest(OFF, files={"/etc/passwd": "mara:x:8:8::/var/mail:/bin/sh\n", "/etc/shadow": f"mara:{HASH}:20000:0:99999:7:::\n"}),
        GRANT,
        GONE,
        [],
        0,
    ),
    (
        "one who left, and whose account others have",
        Guest(OFF, {"mara": f'from="192.168.40.0/24" {pub("joon-desk")}\n'}),
        f"{GRANT}\nlet: joon, into: gauge, by: ssh, from: bench, with: key, as: mara",
        GONE,
        [],
        0,
    ),
    (
        "one who came back",
        Guest(OFF, {"mara": DESK}, {"/etc/shadow": "mara:!{yescrypt}:20000:0:99999:7::1:\n"}),
        GRANT,
        "",
        ["let the account mara expire no more", "unlock the password of mara"],  # without PAM sshd refuses a locked one
        0,
    ),
    (
        "one who came back, and whose keys are gone",
        Guest(OFF, files={"/etc/shadow": "mara:!{yescrypt}:20000:0:99999:7::1:\n"}, pam=True),
        GRANT,
        "",
        [
            "make /home/mara/.ssh, mode 0700",
            "in /home/mara/.ssh/authorized_keys: add a line",
            "let the account mara expire no more",
        ],
        0,
    ),
]


@pytest.mark.parametrize("name, guest, grants, mara, steps, left", CASES, ids=[case[0] for case in CASES])
def test_drafts(tmp_path: Path, name: str, guest: Guest, grants: str, mara: str, steps: list[str], left: int) -> None:
    found, proved = made(tmp_path, guest, grants, mara)
    assert sorted(map(str, proved.draft.steps)) == sorted(steps)
    assert weight(found, proved.after) == left
    assert not draft(found, proved.after, AT).steps, "done twice it changes nothing"
    for step in proved.accounts:
        assert account_changes.holds(proved.after, step)
        assert not account_changes.holds(proved.before, step)


ENDS = "  mara: {{keys: [{{key: keys/mara-desk.pub, until: {day}, then: keys/olav-desk.pub}}, keys/mara-token.pub]}}\n"
BOTH = DESK + f'from="192.168.40.0/24" {pub("olav-desk")}\n'


@pytest.mark.parametrize(
    "day, held, steps, left",
    [
        ("2026-12-31", DESK, ["in /home/mara/.ssh/authorized_keys: add a line"], 0),  # both count meanwhile
        ("2026-12-31", BOTH, [], 0),
        ("2026-11-24", DESK, ["in /home/mara/.ssh/authorized_keys: add a line"], 1),  # nothing goes before it is there
        ("2026-11-24", BOTH, ["in /home/mara/.ssh/authorized_keys: take away a line"], 0),
    ],
)
def test_a_key_takes_the_place_of_another(tmp_path: Path, day: str, held: str, steps: list[str], left: int) -> None:
    found, proved = made(tmp_path, Guest(OFF, {"mara": held}), GRANT, ENDS.format(day=day))
    assert list(map(str, proved.draft.steps)) == steps
    assert bool(weight(found, proved.after)) == bool(left)
    assert [entry.hand == rotation.HAND for entry in proved.draft.left] == [True] * left
    again = draft(found, proved.after, AT)
    assert len(again.steps) == left, "what is left is for the next draft"


@pytest.mark.parametrize(
    "key, words",
    [
        ("{key: keys/mara-desk.pub}", "a key lacks until"),
        ("{key: keys/mara-desk.pub, until: soon}", "is no day"),
        ("{key: keys/mara-desk.pub, until: 2026-12-31, then: keys/mara-desk.pub}", "a key can't take its own place"),
        ("{key: keys/nobody.pub, until: 2026-12-31}", "keys/nobody.pub"),
        ("{key: keys/mara-desk.pub, until: 2026-12-31, next: keys/joon-desk.pub}", 'a key has no "next"'),
    ],
)
def test_a_key_that_ends_says_what_is_wrong_with_it(tmp_path: Path, key: str, words: str) -> None:
    with pytest.raises(EstateError) as found:
        made(tmp_path, Guest(OFF), GRANT, f"  mara: {{keys: [{key}]}}\n")
    assert words in str(found.value)


TOKEN = "sk-ssh-ed25519@openssh.com AAAAGnNrLXNzaC1lZDI1NTE5QG9wZW5zc2guY29tAAAAICn+MtGzz1rYDh7IXSNQF6xU3atkj/qGeCyTc039/U6UAAAABHNzaDo= mara-boat"
BENCH = 'from="192.168.40.0/24"'


def test_a_grant_may_ask_for_a_key_on_hardware(tmp_path: Path) -> None:
    """Of a person's keys only those within a token count then: the others are holes."""
    token = tmp_path / "token.pub"
    token.write_text(f"{TOKEN}\n")
    keys = "  mara: {keys: [keys/mara-desk.pub, token.pub]}\n"
    found, proved = made(tmp_path, Guest(OFF, {"mara": DESK}), GRANT, keys, "hardware key")
    assert list(map(str, proved.draft.steps)) == [
        "in /home/mara/.ssh/authorized_keys: add a line",
        "in /home/mara/.ssh/authorized_keys: take away a line",
    ]
    assert proved.after.content("/home/mara/.ssh/authorized_keys") == f"{BENCH} {TOKEN}\n".encode()
    assert not weight(found, proved.after)
    with pytest.raises(EstateError, match="mara has no key on hardware"):
        made(tmp_path, Guest(OFF), GRANT, "  mara: {keys: [keys/mara-desk.pub]}\n", "hardware key")


# ---- databases -------------------------------------------------------------------------------------------------------

names = st.sampled_from(["mara", "joon", "keeper", "Tove.B", "root"])
groups = st.sampled_from(["boats", "sudo", "mara", "keeper"])
days = st.one_of(st.none(), st.integers(0, 99999))
numbers = st.integers(1000, 60000)
homes = st.sampled_from(["/home/mara", "/srv/x-1", "/var/lib/a.b"])
steps: st.SearchStrategy[AccountStep] = st.one_of(
    st.builds(AddAccount, st.just(PASSWD), st.just(""), st.just(True), names, numbers, numbers, homes, st.just("/bin/sh")),
    st.builds(DropAccount, st.just(PASSWD), st.just(""), st.just(False), names, numbers, numbers, homes, st.just("/bin/sh")),
    st.builds(AddMember, st.just(GROUP), st.just(""), st.just(True), names, groups),
    st.builds(DropMember, st.just(GROUP), st.just(""), st.just(False), names, groups),
    st.builds(LockPassword, st.just(SHADOW), st.just(""), st.just(False), names),
    st.builds(UnlockPassword, st.just(SHADOW), st.just(""), st.just(True), names),
    st.builds(lambda n: GivePassword(SHADOW, "", True, n, "*", 20000), names),
    st.builds(lambda n, d: TakePassword(SHADOW, "", False, n, "!", d), names, days),
    st.builds(lambda n, d, w: SetExpiry(SHADOW, "", d is None, n, d, w), names, days, days),
)
lines = st.sampled_from(
    [
        "mara:x:1001:1001::/home/mara:/bin/sh",
        "keeper:x:1000:1000:Keeper,,,:/home/keeper:/bin/bash",
        "mara:$y$j9T$abc$hash:20000:0:99999:7:::",
        "keeper:!:20000:0:99999:7::1:",
        "joon:*:20000:0:99999:7:::extra",
        "mara:$y$j9T$abc$hash:0:0:99999:7:::",
        "boats:x:1500:keeper,mara",
        "mara:x:1001:",
        "sudo:x:27:",
        "boats:!::keeper,mara",
        "+::::::",
        "",
        "# a remark",
        "no record at all",
        "mara:x",
    ]
)
files = st.lists(lines, max_size=8).map("\n".join).flatmap(lambda t: st.sampled_from([t.encode(), t.encode() + b"\n"]))
databases = st.fixed_dictionaries(dict.fromkeys(DATABASES[:3], files), optional={DATABASES[3]: files})


@given(steps)
def test_words_carry_a_step_whole(step: AccountStep) -> None:
    assert account_steps.parse(account_steps.words(step)) == step
    assert account_steps.inverse(account_steps.inverse(step)) == step


@pytest.mark.parametrize(
    "words",
    [
        ("account-add", "mara", "1001:1001:/home/mara;reboot:/bin/sh"),
        ("account-add", "-x", "1001:1001:/home/mara:/bin/sh"),
        ("account-add", "mara", "1001:1001:/home/mara"),
        ("account-join", "mara", "a b"),
        ("account-expire", "mara", "1"),
        ("account-lock", "$(reboot)"),
        ("account-give", "mara", "$y$j9T$hash:0"),
        ("account-give", "mara", "!"),
        ("account-take", "mara", "*:-1"),
        ("account-lock",),
        ("reboot", "mara"),
        (),
    ],
)
def test_words_of_a_hostile_record_are_refused(words: tuple[str, ...]) -> None:
    with pytest.raises(ValueError):
        account_steps.parse(words)


@given(databases, steps)
def test_a_step_taken_back_leaves_every_byte(held: dict[str, bytes], step: AccountStep) -> None:
    try:
        changed = account_changes.changed(held, step, date(2026, 11, 25))
    except FieldFault:
        return
    whole = {path: raw if raw.endswith(b"\n") or not raw else raw + b"\n" for path, raw in held.items()}
    for done in range(len(changed) + 1):  # cut off behind each database
        so_far = held | dict(list(changed.items())[:done])
        try:
            back = so_far | account_changes.undone(so_far, step)
        except FieldFault:
            assert isinstance(step, DropAccount | TakePassword), "its inverse needs all of it, or a password that nobody keeps"
            continue
        if isinstance(step, AddMember | DropMember):  # members come back at the end of the list
            assert back.keys() == held.keys()
        elif not isinstance(step, DropAccount):
            assert {p: raw if back[p] != held[p] else held[p] for p, raw in whole.items()} == back


def folder(tmp_path: Path) -> tuple[Estate, Path]:
    guest = Guest(OFF, accounts=ROOT, files={**SUDO, "/etc/gshadow": "root:*::\nkeeper:!::\n"}, groups="boats:x:1500:\n")
    found = estate(tmp_path, ADMIN)
    return found, guest.write(tmp_path / "images/gauge")


def test_a_folder_has_the_account_and_gives_it_back(tmp_path: Path) -> None:
    found, root = folder(tmp_path)
    shadow = root / "etc/shadow"
    shadow.write_text("root:$y$j9T$secret$of.root:20000:0:99999:7:::\nkeeper:*:20000:0:99999:7:::\n")
    os.chmod(shadow, 0o640)
    before = outside_var(root, times=False)
    done = enact(found, "gauge", AT)
    assert done.changed.acts[0].startswith("make the account mara")
    assert "$y$j9T$secret$of.root" in shadow.read_text()
    assert shadow.stat().st_mode & 0o777 == 0o640
    assert "mara:*:20782:0:99999:7:::" in shadow.read_text()
    assert "mara:!::" in (root / "etc/gshadow").read_text()
    assert b"secret" not in b"".join(path.read_bytes() for path in (root / "var/lib/nightlatch").rglob("*") if path.is_file())
    assert not draft(found, survey_target(root, "gauge"), AT).steps
    undo(found, "gauge", AT)
    assert outside_var(root, times=False) == before


def test_what_runs_for_a_leaver_by_itself_is_named(tmp_path: Path) -> None:
    jobs: dict[str, str | bytes] = {f"/var/{p}/mara": "secret of hers" for p in ("spool/cron/crontabs", "lib/systemd/linger")}
    tables: dict[str, str | bytes] = {
        "/etc/crontab": "SHELL=/bin/sh\n# m h dom mon dow user command\n17 * * * * root run-parts /etc/cron.hourly\n",
        "/etc/cron.d/copy-out": "MAILTO = mara\n#5 4 * * * mara old\n\t@reboot mara\tx11vnc -passwd gull\r\n*/5 0-3 1,2 * mon-fri mara x",
        "/etc/cron.d/copy.off": "5 4 * * * mara x\n",
        "/etc/cron.d/lines": "@daily joon echo mara\n1 2 3 4 5 mara\n1 2 3 4 mara x y\n",
    }
    guest = Guest(OFF, {"mara": DESK}, {**jobs, **tables, "/var/spool/cron/crontabs/joon": ""})
    estate(tmp_path, GRANT)
    path = tmp_path / "estate.yaml"
    path.write_text(path.read_text().replace("keys/mara-token.pub]}", "keys/mara-token.pub], until: 2026-10-31}"))
    snapshot = survey_target(guest.write(tmp_path / "images/gauge"), "gauge")
    assert all(b"secret" not in (snapshot.content(job) or b"") for job in jobs), "what does not run at a boot is not carried"
    (left,) = draft(load(path), snapshot, AT).left
    assert b"gull" not in (snapshot.content("/etc/cron.d/copy-out") or b"gull")
    folders = "/var/spool/cron/crontabs/mara and /var/lib/systemd/linger/mara"
    named = f"{folders} and /etc/cron.d/copy-out:3 and /etc/cron.d/copy-out:4"
    assert left.text == f"mara stays with its files and its number, and with what runs for it by itself: {named}."
    assert "crontab -lu mara" in left.hand


@pytest.mark.parametrize(
    "files, prefix",
    [
        ({"/etc/login.defs": "ENCRYPT_METHOD SHA512\n"}, "$6$"),
        ({"/etc/login.defs": "# ENCRYPT_METHOD SHA512\nENCRYPT_METHOD YESCRYPT\n"}, "$y$"),
        ({"/etc/login.defs": "ENCRYPT_METHOD DES\n"}, "$6$"),
        (
            {
                "/etc/login.defs": "ENCRYPT_METHOD SHA512\n",
                "/etc/pam.d/common-password": "password required pam_unix.so yescrypt\n",
            },
            "$y$",
        ),
        ({}, "$6$"),
    ],
)
def test_a_folder_has_a_password_and_gives_it_back(tmp_path: Path, files: dict[str, str | bytes], prefix: str) -> None:
    found = estate(tmp_path, GRANT.replace("with: key", "with: password"))
    root = Guest(OFF, accounts=ROOT, files=files).write(tmp_path / "images/gauge")
    before, given = outside_var(root, times=False), list[GivenPassword]()
    with pytest.raises(RefusedError, match="nobody takes it"):
        enact(found, "gauge", AT)
    assert outside_var(root, times=False) == before
    done = enact(found, "gauge", AT, hand_over=given.append)
    assert [act.partition(",")[0] for act in done.changed.acts] == ["make the account mara: uid 1001", "give mara a password"]
    shadow = (root / "etc/shadow").read_text()
    (hashed,) = re.findall(r"(?m)^mara:(.*):0:0:99999:7:::$", shadow)
    assert hashed.startswith(prefix)
    assert opens(given[0].password, hashed)
    secrets = (given[0].password.encode(), hashed.encode())
    assert not [
        p for p in tmp_path.rglob("*") if p.is_file() and p.name != "shadow" and any(s in p.read_bytes() for s in secrets)
    ]
    assert given[0].password not in repr(given)
    assert not draft(found, survey_target(root, "gauge"), AT).steps
    undo(found, "gauge", AT)
    assert outside_var(root, times=False) == before
    enact(found, "gauge", AT, hand_over=given.append)
    (root / "etc/shadow").write_text((root / "etc/shadow").read_text().replace(":0:0:99999", ":20800:0:99999"))
    with pytest.raises(RefusedError, match="mara has changed the password since it was given"):
        undo(found, "gauge", AT)


def opens(password: str, hashed: str) -> bool:
    """Whether the machine's own crypt(3) says so, by way of perl."""
    words = ["perl", "-e", "print crypt($ARGV[0], $ARGV[1]) eq $ARGV[1] ? 1 : 0", password, hashed]
    return subprocess.run(words, capture_output=True, text=True, check=True).stdout == "1"


def test_an_account_that_is_somebodys_by_now_is_not_taken_away(tmp_path: Path) -> None:
    found, root = folder(tmp_path)
    enact(found, "gauge", AT)
    shadow = root / "etc/shadow"
    shadow.write_text(shadow.read_text().replace("mara:*", "mara:$y$hers"))
    before = outside_var(root)
    with pytest.raises(RefusedError, match="has a password by now; retire it"):
        undo(found, "gauge", AT)
    assert outside_var(root) == before


def test_databases_that_somebody_changed_are_left_alone(tmp_path: Path) -> None:
    found, root = folder(tmp_path)
    snapshot = survey_target(root, "gauge")
    proved = prove(found, draft(found, snapshot, AT), snapshot, AT)
    with (root / "etc/passwd").open("a") as stream:
        stream.write("olav:x:1001:1001::/home/olav:/bin/sh\n")
    from nightlatch.ops.enact import apply

    with pytest.raises(RefusedError, match="/etc/passwd was changed since it was read"):
        apply(proved, root, AT)


def test_killed_at_every_call_no_half_made_account_stays(tmp_path: Path) -> None:
    """As by kill -9 or a power cut: nothing is put back by the process itself."""
    found, root = folder(tmp_path / "count")
    with broken_off(0, lambda: KeyboardInterrupt()) as count:
        enact(found, "gauge", AT)
    assert count[0] > 40
    for at in range(1, count[0] + 1):
        found, root = folder(tmp_path / str(at))
        before = outside_var(root, times=False)
        child = os.fork()
        if not child:
            with broken_off(at, lambda: os._exit(9)):
                enact(found, "gauge", AT)
            os._exit(0)
        os.waitpid(child, 0)
        for lock in root.glob("var/lib/nightlatch/lock"):
            lock.rmdir()
        with contextlib.suppress(RefusedError):  # killed before there was a record: nothing had been touched yet
            undo(found, "gauge", AT)
        assert outside_var(root, times=False) == before, f"killed at call {at}"
