"""Accounts from elsewhere than files, as far as a guest told: what was not asked for stays undecided, and nothing is made twice."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nightlatch.access.differences import find_shut_out
from nightlatch.access.grants import expand
from nightlatch.access.paths import guest_access
from nightlatch.audit.run import guest_audit
from nightlatch.estate.load import load
from nightlatch.estate.model import Estate
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import EstateError
from nightlatch.formats import directory_listing
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.survey import more_of
from nightlatch.readings import guest as readings
from nightlatch.readings import sssd
from tests.guests import AT, Guest, estate, lifted, listening, pub, sshd

GRANT = "let: mara, into: gauge, by: ssh, from: bench, with: key"
SSS: dict[str, str | bytes] = {"/etc/nsswitch.conf": "passwd: files sss [NOTFOUND=return]  # the harbour's\n"}
ROOT = ("root", "keeper")


def told(guest: Guest, directory: str) -> Snapshot:
    """The guest as a running one that was asked for these."""
    rows = listening(("tcp", "0.0.0.0", 22, "sshd", 7))
    return replace(guest.snapshot(), listings={**rows, **sshd(7, 1000), "directory": directory.encode()})


def test_who_may_come_from_a_directory_is_not_said_to_be_missing(tmp_path: Path) -> None:
    made = estate(tmp_path, GRANT)
    guest = Guest(accounts=ROOT, files=SSS)
    for snapshot, certain in ((guest.snapshot(), False), (told(guest, ""), False), (told(guest, "asked mara\n"), True)):
        access = guest_access(readings.read(snapshot), AT, lifted(made))
        (found,) = find_shut_out(access.paths, expand(made, "gauge", AT), access.reading.accounts)
        assert bool(found.certain) is certain
        assert bool(found.possible) is not certain
        proved = prove(made, draft(made, snapshot, AT), snapshot, AT)
        assert not proved.accounts


@pytest.mark.parametrize(
    "files, said",
    [
        ({"sssd.conf": "[sssd]\ndomains = harbour\n[domain/harbour]\n"}, True),
        ({"sssd.conf": "[sssd]\ndomains = a, b\n[domain/b]\naccess_provider = deny\n"}, None),
        ({"sssd.conf": "[sssd]\ndomains = a,b\n[domain/a]\naccess_provider = permit\n"}, True),
        ({"sssd.conf": "[sssd]\ndomains = a\n[domain/a]\naccess_provider =\n  deny\n"}, None),
        ({"sssd.conf": "[sssd]\ndomains = a\n[domain/a]\naccess_provider = ldap\n"}, None),
        ({"sssd.conf": "[sssd]\n"}, None),
        ({"sssd.conf": "[sssd]\ndomains = a\n", "conf.d/a.conf": "[domain/a]\naccess_provider = deny"}, False),
        ({"sssd.conf": "[sssd]\ndomains = a\n", "conf.d/.a.conf": "[domain/a]\naccess_provider = deny"}, True),
        ({"conf.d/a.conf": "[sssd]\ndomains = a\n"}, None),
        ({"sssd.conf": "[sssd]\ndomains = a\n[domain/a]\naccess_provider = simple\nsimple_allow_users = MARA\n"}, None),
    ],
)
def test_whether_sssd_lets_in(files: dict[str, str], said: bool | None) -> None:
    beside: dict[str, str | bytes] = {f"/etc/sssd/{name}": text for name, text in files.items()}
    assert sssd.lets_in(Guest(accounts=ROOT, files={**SSS, **beside}).snapshot(), "mara") is said


def test_what_a_directory_says_counts_for_groups_homes_and_keys(tmp_path: Path) -> None:
    made = estate(tmp_path, GRANT)
    keys: dict[str, str | bytes] = {"/srv/homes/mara/.ssh/authorized_keys": f'from="192.168.40.0/24" {pub("mara-desk")}\n'}
    guest = Guest("PasswordAuthentication no\nAllowGroups keeper boats\n", accounts=ROOT, files={**SSS, **keys})
    shadow = "shadow mara:*:20000:0:99999:7:::\n"
    listing = "asked mara\naccount mara:x:5001:5001::/srv/homes/mara:/bin/bash\ngids mara 5001 5003\ngroup boats:x:5003:\n"
    for text, paths in ((listing + shadow, True), ((listing + shadow).replace("boats", "ships"), False)):
        access = guest_access(readings.read(told(guest, text)), AT, lifted(made))
        assert access.reading.accounts.by_name["mara"].home == "/srv/homes/mara"
        assert any(path.account == "mara" for path in access.paths) is paths


def test_of_a_password_that_nothing_tells_of_nothing_is_said(tmp_path: Path) -> None:
    """With PAM its account phase asks what only the directory knows, so the key opens perhaps."""
    made = estate(tmp_path, GRANT)
    keys: dict[str, str | bytes] = {"/home/mara/.ssh/authorized_keys": f'from="192.168.40.0/24" {pub("mara-desk")}\n'}
    listing = "asked mara\naccount mara:x:5001:5001::/home/mara:/bin/bash\ngids mara 5001\n"
    guest = Guest("PasswordAuthentication no\nKbdInteractiveAuthentication no\n", accounts=ROOT, files={**SSS, **keys}, pam=True)
    for shadow, sure in (
        ("", False),
        ("shadow mara:*:20000:0:99999:7:::\n", True),
        ("shadow mara:*:20000:0:99999:7::1:\n", None),
    ):
        access = guest_access(readings.read(told(guest, listing + shadow)), AT, lifted(made))
        mine = [path for path in access.paths if path.account == "mara"]
        if sure is None:
            assert not mine
        else:
            assert mine
            assert all(any(path.callers.surely.values()) is sure for path in mine)


LIST = "account,id,groups,disabled\nmara,5001,Chart Readers; boats,no\ntove,5002,,yes\n"


def listed(folder: Path, text: str = LIST, taken: str = "2026-11-20", grants: str = GRANT) -> Estate:
    made = estate(folder, grants)
    (folder / "harbour.csv").write_text(text)
    path = folder / "estate.yaml"
    path.write_text(path.read_text() + f"directories: {{harbour: {{accounts: harbour.csv, taken: {taken}}}}}\n")
    assert made.directories == {}
    return load(path)


def test_a_list_says_which_accounts_a_guest_is_asked_for(tmp_path: Path) -> None:
    made = listed(tmp_path)
    held = made.directories["harbour"].accounts
    assert [(each.number, each.groups, each.disabled) for each in held.values()] == [
        (5001, ("Chart Readers", "boats"), False),
        (5002, (), True),
    ]
    more = more_of(made, made.guests["gauge"])
    assert (set(more.accounts), more.every) == ({"mara", "tove"}, True)
    many = "".join(f"a{number},,,\n" for number in range(501))
    large = listed(tmp_path / "large", "account,id,groups,disabled\n" + many)
    assert more_of(large, large.guests["gauge"]).every is False, "so many are not asked for one by one"


def test_where_every_account_was_asked_for_nothing_stays_undecided(tmp_path: Path) -> None:
    made = listed(tmp_path)
    guest = Guest("PasswordAuthentication no\n", accounts=ROOT, files=SSS)
    for listing, gaps in (("asked mara\nasked tove\n", 1), ("whole\nasked mara\nasked tove\n", 0)):
        access = guest_access(readings.read(told(guest, listing)), AT, lifted(made))
        assert len(access.gaps) == gaps
        (found,) = find_shut_out(access.paths, expand(made, "gauge", AT), access.reading.accounts)
        assert found.certain


def test_checks_of_lists(tmp_path: Path) -> None:
    both = f"{GRANT}\nlet: joon, into: gauge, by: ssh, from: bench, with: key, as: tove"
    guest = Guest("PasswordAuthentication no\n", accounts=ROOT, files=SSS)

    def said(made: Estate, of: Guest) -> dict[str, str]:
        return {
            f.check: f.text for f in guest_audit(of.access(lifted(made)), AT, made).findings if f.check.startswith("directory")
        }

    assert said(listed(tmp_path / "1", grants=both), guest) == {
        "directory.disabled": "joon is granted the account tove, which is disabled in harbour (list of 2026-11-20)."
    }
    assert said(listed(tmp_path / "2", taken="2026-01-01"), guest) == {
        "directory.old": "The list of the directory harbour is 328 days old."
    }
    assert said(listed(tmp_path / "3", grants=both, taken="2026-01-01"), Guest(accounts=ROOT)) == {}, "this guest asks none"


@pytest.mark.parametrize(
    "text, words",
    [
        ("account,id\nmara,many\n", '"many" is no number'),
        ("account,disabled\nmara,perhaps\n", '"perhaps" is neither yes nor no'),
        ("account\nmara\nmara\n", '"mara" stands in line 2 already'),
        ("account,id\n,7\n", "a row without an account"),
        ("name\nmara\n", 'there is no column "name"'),
        ("id\n7\n", "the heading lacks account"),
    ],
)
def test_a_list_that_can_t_be_right_says_where(tmp_path: Path, text: str, words: str) -> None:
    with pytest.raises(EstateError) as found:
        listed(tmp_path, text)
    assert words in str(found.value)
    assert "harbour.csv:" in str(found.value)


def test_the_guest_s_own_files_come_first() -> None:
    guest = Guest(files=SSS)
    accounts = readings.read(told(guest, "asked mara\naccount mara:x:0:0::/root:/bin/sh\n")).accounts
    assert accounts.by_name["mara"].uid == 1001


pieces = st.sampled_from(["asked ", "account ", "gids ", "group ", "mara", ":", "x", " ", "\n", "99999999999", "0", "\x00", "é"])


@given(st.one_of(st.binary(max_size=200), st.lists(pieces, max_size=60).map(lambda parts: "".join(parts).encode())))
def test_any_listing_is_read(raw: bytes) -> None:
    found = directory_listing.parse(raw)
    assert all(gid >= 0 for gids in found.gids.values() for gid in gids)
