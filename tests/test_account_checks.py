"""Checks of accounts that need more than a line each: automatic logins, last logins, ageing, owners."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from nightlatch.access.paths import guest_access
from nightlatch.audit.run import guest_audit
from nightlatch.readings import automatic_logins, last_logins
from nightlatch.readings import guest as readings
from tests.guests import AT, HASH, Guest, estate, lifted, pub

OFF = "PasswordAuthentication no\nKbdInteractiveAuthentication no\n"
GRANT = "let: mara, into: gauge, by: ssh, from: bench, with: key"
DESK = f'from="192.168.40.0/24" {pub("mara-desk")}\n'
DROP_IN = "[Service]\nExecStart=\nExecStart=-/sbin/agetty --autologin mara --noclear %I $TERM\n"
FOLDER = "/etc/systemd/system/getty@tty1.service.d"
SPOKEN = {"account.automatic-login", "account.unused", "account.password-age", "account.no-owner"}


def said(guest: Guest, check: str, folder: Path | None = None, grants: str = GRANT, more: str = "") -> list[str]:
    made = estate(folder, grants, more=more) if folder is not None else None
    access = guest.access(lifted(made) if made is not None else None)
    return [f.text for f in guest_audit(access, AT, made).findings if f.check == check]


AUTOMATIC: list[tuple[str, dict[str, str | bytes], list[tuple[str, str]]]] = [
    ("a drop-in", {f"{FOLDER}/auto.conf": DROP_IN}, [("mara", f"{FOLDER}/auto.conf:3")]),
    ("two words", {f"{FOLDER}/auto.conf": DROP_IN.replace("gin mara", "gin=mara")}, [("mara", f"{FOLDER}/auto.conf:3")]),
    ("the short form", {f"{FOLDER}/auto.conf": DROP_IN.replace("--autologin", "-a")}, [("mara", f"{FOLDER}/auto.conf:3")]),
    (
        "a later one without",
        {f"{FOLDER}/a.conf": DROP_IN, f"{FOLDER}/b.conf": "[Service]\nExecStart=\nExecStart=-/sbin/agetty %I\n"},
        [],
    ),
    ("another section", {f"{FOLDER}/a.conf": DROP_IN.replace("Service", "Unit")}, []),
    ("no drop-in's name", {f"{FOLDER}/a.off": DROP_IN}, []),
    (
        "all serial consoles",
        {"/etc/systemd/system/serial-getty@.service": DROP_IN.replace("mara", "root")},
        [("root", "/etc/systemd/system/serial-getty@.service:3")],
    ),
    (
        "inittab",
        {
            "/etc/inittab": "# tty1::respawn:/sbin/getty --autologin joon\ntty2::respawn:/sbin/agetty --autologin mara 38400 tty2\n"
        },
        [("mara", "/etc/inittab:2")],
    ),
    (
        "GDM",
        {"/etc/gdm3/custom.conf": "[daemon]\nAutomaticLoginEnable=True\nAutomaticLogin=mara\n"},
        [("mara", "/etc/gdm3/custom.conf:3")],
    ),
    ("GDM, switched off", {"/etc/gdm3/custom.conf": "[daemon]\nAutomaticLoginEnable=false\nAutomaticLogin=mara\n"}, []),
    ("GDM, a remark", {"/etc/gdm3/custom.conf": "[daemon]\nAutomaticLoginEnable=true\n# AutomaticLogin=mara\n"}, []),
    (
        "LightDM, the main file last",
        {
            "/etc/lightdm/lightdm.conf": "[Seat:*]\nautologin-user=joon\n",
            "/etc/lightdm/lightdm.conf.d/50.conf": "[Seat:*]\nautologin-user=mara\n",
        },
        [("joon", "/etc/lightdm/lightdm.conf:2")],
    ),
    (
        "SDDM",
        {"/etc/sddm.conf.d/auto.conf": "[Autologin]\nUser=mara\nSession=plasma\n"},
        [("mara", "/etc/sddm.conf.d/auto.conf:2")],
    ),
    ("no name", {"/etc/sddm.conf": "[Autologin]\nUser=\n"}, []),
]


@pytest.mark.parametrize("name, files, logins", AUTOMATIC, ids=[case[0] for case in AUTOMATIC])
def test_who_is_logged_in_without_being_asked(
    tmp_path: Path, name: str, files: dict[str, str | bytes], logins: list[tuple[str, str]]
) -> None:
    guest = Guest(OFF, {"mara": DESK}, files)
    found = automatic_logins.read(guest.snapshot())
    assert [(each.account, str(each.origin)) for each in found] == logins
    assert len(said(guest, "account.automatic-login")) == len(logins)
    from nightlatch.ops.survey import survey_target

    read = automatic_logins.read(survey_target(guest.write(tmp_path / "gauge"), "gauge"))
    assert [str(each.origin) for each in read] == [where for _, where in logins], "a survey reads these files"


LASTLOG = b"""\
root             tty1                      Mon Nov 23 09:00:00 +0000 2026
mara             pts/0    192.168.40.7     Tue May  5 07:08:09 +0000 2026
joon                                       Wed Nov 25 10:00:00 +0000 2026
odd line
keeper           pts/1    2001:db8::1      Xxx Nov 99 10:00:00 +0000 2026
"""


def test_accounts_that_nobody_uses(tmp_path: Path) -> None:
    guest = Guest(OFF, {name: pub("mara-desk") + "\n" for name in ("mara", "joon", "keeper")})
    snapshot = replace(guest.snapshot(), listings={"lastlog": LASTLOG})
    assert {name: day.isoformat() for name, day in last_logins.read(snapshot).items()} == {
        "root": "2026-11-23T09:00:00+00:00",
        "mara": "2026-05-05T07:08:09+00:00",
        "joon": "2026-11-25T10:00:00+00:00",
    }

    def told(shadow: str) -> list[str]:
        seen = replace(Guest(OFF, guest.keys, {"/etc/shadow": shadow}).snapshot(), listings={"lastlog": LASTLOG})
        access = guest_access(readings.read(seen), AT)
        return [f.text for f in guest_audit(access, AT, None).findings if f.check == "account.unused"]

    old = "".join(f"{name}:*:20000:0:99999:7:::\n" for name in ("mara", "joon", "keeper"))
    assert told(old) == [
        "Nobody has had a terminal as keeper since it was made or given a password on 2024-10-04, and it can be logged in to.",
        "Nobody has had a terminal as mara since 2026-05-05, and it can be logged in to.",
    ]
    assert len(told(old.replace("keeper:*:20000", "keeper:*:20700"))) == 1, "it is new"
    assert not said(guest, "account.unused"), "a guest in a folder tells nothing of it"


def test_passwords_that_stay_longer_than_the_estate_has_it(tmp_path: Path) -> None:
    def shadow(longest: str) -> Guest:
        return Guest(OFF, {"mara": DESK}, {"/etc/shadow": f"mara:{HASH}:20000:0:{longest}:7:::\njoon:*:20000:0:99999:7:::\n"})

    asked = "password_days: 90\n"
    told = {longest: said(shadow(longest), "account.password-age", tmp_path, more=asked) for longest in ("", "99999", "91", "90")}
    sentence = "mara may keep a password {}, and the estate has it changed every 90 days."
    for_ever = sentence.format("for ever")
    assert told == {"": [for_ever], "99999": [for_ever], "91": [sentence.format("for 91 days")], "90": []}
    assert not said(shadow("99999"), "account.password-age", tmp_path)


def test_accounts_that_belong_to_nobody(tmp_path: Path) -> None:
    text = "joon has a password, and the estate file names nobody whose account it is."
    passwords = {"joon": HASH, "mara": HASH}
    assert said(Guest(OFF, {"mara": DESK}, passwords=passwords), "account.no-owner", tmp_path) == []
    without = tmp_path / "b"
    estate(without, GRANT)
    path = without / "estate.yaml"
    path.write_text(path.read_text().replace("  joon: {keys: [keys/joon-desk.pub]}\n", "").replace("[mara, joon]", "[mara]"))
    from nightlatch.estate.load import load

    made = load(path)
    guest = Guest(OFF, {"mara": DESK}, passwords=passwords)
    found = guest_audit(guest.access(lifted(made)), AT, made).findings
    assert [f.text for f in found if f.check == "account.no-owner"] == [text]
    no_shell = Guest(OFF, {"mara": DESK}, passwords=passwords)
    raw = no_shell.snapshot().content("/etc/passwd") or b""
    lines = [line.rsplit(b":", 1)[0] + b":/usr/sbin/nologin" if line.startswith(b"joon") else line for line in raw.split(b"\n")]
    no_shell.files["/etc/passwd"] = b"\n".join(lines)
    found = guest_audit(no_shell.access(lifted(made)), AT, made).findings
    assert not [f.text for f in found if f.check == "account.no-owner"]
