"""Accounts from elsewhere than files: a real module for nsswitch.conf(5) on a running guest, and real logins."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.draft.plan import ProvedDraft
from nightlatch.estate.load import load
from nightlatch.lab.inside import Inside
from nightlatch.lab.machine import Guest
from nightlatch.ops.audit import audit
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.enact import enact
from nightlatch.ops.survey import more_of, survey_live
from tests.live.station import Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", "getent", "id", root=True)
BOUND = 'from="192.168.40.0/24,2001:db8:40::/64"'
GRANTS = """
let: mara, into: all guests, by: ssh, from: bench, with: key
let: joon, into: all guests, by: ssh, from: bench, with: key, as: tove, shared: a test
let: joon, into: all guests, by: ssh, from: bench, with: key, as: runa, shared: a test
"""


@pytest.fixture(scope="module")
def guest(station: Station) -> Guest:
    """A guest whose nsswitch.conf names a second source, with tove and ragna; runa is in none."""
    made = station.guest("gauge", config="PasswordAuthentication no\nAllowGroups sudo mara boats\n")
    made.image.write(
        "/etc/nsswitch.conf", "passwd: files extrausers\ngroup: files extrausers\nshadow: files extrausers\nhosts: files\n"
    )
    extra = "/var/lib/extrausers"
    made.image.write(f"{extra}/passwd", "tove:x:5001:5001:Tove:/home/tove:/bin/bash\nragna:x:5002:5001::/home/ragna:/bin/bash\n")
    made.image.write(f"{extra}/group", "crew:x:5001:\nboats:x:5003:tove\n")
    made.image.write(f"{extra}/shadow", "tove:*:20000:0:99999:7:::\nragna:*:20000:0:99999:7:::\n", 0o600)
    for uid, account, key in ((1000, "keeper", "desk"), (1001, "mara", "mara"), (5001, "tove", "joon")):
        made.image.own(f"/home/{account}", 0o755, uid, uid)
        made.image.own(f"/home/{account}/.ssh", 0o700, uid, uid)
        made.image.write(f"/home/{account}/.ssh/authorized_keys", f"{BOUND} {station.keys[key]}\n", 0o600, uid, uid)
    (made.image.folder / "home/joon/.ssh/authorized_keys").unlink()
    made.boot()
    made.until_listening()
    return made


def test_an_account_of_a_directory_is_known_by_what_the_guest_says_of_it(station: Station, guest: Guest) -> None:
    path = station.estate(GRANTS)
    estate = load(path)
    snapshot = survey_live(Inside(guest), more_of(estate, estate.guests["gauge"]))
    told = snapshot.listings["directory"].decode().splitlines()
    assert "account tove:x:5001:5001::/home/tove:/bin/bash" in told
    assert {line for line in told if line.startswith("asked")} == {"asked runa", "asked tove"}, "mara is in the guest's own files"
    assert not any("ragna" in line for line in told), "nobody asked for her"
    with station.client() as client:
        result = audit(estate, datetime.now(UTC), client=client)
    findings = {(f.check, f.text) for f in result.guests[0].findings if f.check.startswith(("hole", "shut-out"))}
    assert station.login(guest, "tove", "joon")
    assert not [text for _, text in findings if "tove" in text], "she gets in, as granted: AllowGroups knows her group by id(1)"
    assert [check for check, text in findings if "runa" in text] == ["shut-out"], (
        "who was asked for and is not there is not there"
    )


def test_with_a_list_of_the_directory_nothing_is_left_undecided(station: Station, guest: Guest) -> None:
    path = station.estate(GRANTS)
    (station.folder / "harbour.csv").write_text("account,disabled\ntove,no\nragna,no\n")
    path.write_text(path.read_text() + "directories: {harbour: {accounts: harbour.csv, taken: 2026-11-20}}\n")
    with station.client() as client:
        for text, undecided in ((path.read_text(), False), (path.read_text().split("directories:")[0], True)):
            path.write_text(text)
            found = audit(load(path), datetime.now(UTC), client=client).guests[0].undecided
            assert any("accounts also come from" in proof.text for proof in found) is undecided, found


def test_an_account_of_a_directory_is_never_made_again(station: Station, guest: Guest) -> None:
    path = station.estate(GRANTS)
    with station.client() as client:
        made = proved(path, guest)
        assert not made.accounts, "runa may come from the directory one day: a person decides"
        assert any("runa" in entry.text for entry in made.draft.left)
        guest.inside("rm", "/home/tove/.ssh/authorized_keys")
        assert not station.login(guest, "tove", "joon")
        done = enact(load(path), "gauge", datetime.now(UTC), client=client, seconds=60)
    assert done.outcome == "kept"
    assert station.login(guest, "tove", "joon"), "her key was put into the home that the directory names"


def proved(path: Path, guest: Guest) -> ProvedDraft:
    estate, at = load(path), datetime.now(UTC)
    snapshot = survey_live(Inside(guest), more_of(estate, estate.guests["gauge"]))
    return prove(estate, draft(estate, snapshot, at), snapshot, at)
