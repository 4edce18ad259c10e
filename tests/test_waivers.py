"""Waivers: what one accepts of a hole or of a shut-out is named, and whatever else the guest lets in still counts."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from nightlatch.access.grants import address_spaces
from nightlatch.audit.findings import Finding, Group, Severity
from nightlatch.audit.run import check_waivers, guest_audit, waived
from nightlatch.estate.load import load
from nightlatch.estate.model import Estate
from nightlatch.faults import EstateError
from nightlatch.formats.keys import parse_public
from nightlatch.ops.draft import draft
from tests.guests import AT, KEYS, Guest, estate, pub

GRANT = "let: mara, into: all guests, by: ssh, from: bench, with: key\n"
OFF = "PasswordAuthentication no\nKbdInteractiveAuthentication no\n"
OPEN = Guest(
    OFF + "Match User keeper Address 192.168.40.0/24\nPasswordAuthentication yes\n",
    {"mara": pub("mara-desk"), "joon": pub("joon-desk")},
    passwords={"keeper": "{yescrypt}"},
    pam=True,
)
ENDS = "owner: mara, because: known, until: 2027-01-31"


def with_waivers(folder: Path, *waivers: str, grants: str = GRANT) -> Estate:
    text = "".join(f"  - {{{each}, {ENDS}}}\n" for each in waivers)
    made = estate(folder, grants, more=f"waivers:\n{text}" if waivers else "")
    check_waivers(made)
    return made


def found(made: Estate, guest: Guest, group: Group = Group.HOLE) -> tuple[list[Finding], list[Finding]]:
    """Differences that count, and those that are waived."""
    audit = guest_audit(guest.access(address_spaces(made)), AT, made)
    mine = [each for each in audit.findings if each.group is group]
    return [each for each in mine if not each.waived], [each for each in mine if each.waived]


def fingerprint(name: str) -> str:
    return parse_public((KEYS / f"{name}.pub").read_bytes()).fingerprint


def about(findings: list[Finding]) -> set[tuple[str, str, str]]:
    return {(each.account, each.proof or each.key or each.person, each.where) for finding in findings for each in finding.about}


def test_a_hole_is_waived_for_the_account_the_proof_and_the_place_that_are_named(tmp_path: Path) -> None:
    joon = f"finding: hole, on: gauge, account: joon, key: {fingerprint('joon-desk')}, from: anywhere"
    mara = "finding: hole, on: gauge, account: mara, person: mara, from: field"
    keeper = "finding: hole, on: gauge, account: keeper, with: password, from: bench"
    left, taken = found(with_waivers(tmp_path, joon, mara, keeper), OPEN)
    assert about(taken) == {
        ("joon", fingerprint("joon-desk"), "anywhere"),
        ("mara", fingerprint("mara-desk"), "field"),
        ("keeper", "password", "bench"),
    }
    assert {(each.account) for finding in left for each in finding.about} == {"mara"}, "from elsewhere than bench and field"
    assert left[0].about[0].where == "anywhere but bench and field"
    assert all(each.waived == "known (mara, until 2027-01-31)" for each in taken)


@pytest.mark.parametrize(
    "other",
    [
        f"account: joon, key: {fingerprint('mara-desk')}, from: anywhere",
        "account: joon, person: mara, from: anywhere",
        "account: mara, person: joon, from: anywhere",
        "account: joon, with: password, from: anywhere",
        "account: joon, with: none, from: anywhere",
    ],
)
def test_it_covers_nothing_else(tmp_path: Path, other: str) -> None:
    without, _ = found(with_waivers(tmp_path), OPEN)
    left, taken = found(with_waivers(tmp_path, f"finding: hole, on: gauge, {other}"), OPEN)
    assert not taken
    assert [each.text for each in left] == [each.text for each in without]


def test_what_opens_later_counts(tmp_path: Path) -> None:
    made = with_waivers(tmp_path, "finding: hole, on: gauge, account: joon, person: joon, from: anywhere")
    left, taken = found(made, replace(OPEN, keys={"joon": pub("joon-desk")}, config=OFF))
    assert (len(left), len(taken)) == (0, 1)
    more = replace(OPEN, config=OFF, keys={"joon": pub("joon-desk") + "\n" + pub("nightcopy")})
    left, taken = found(made, more)
    assert about(left) == {("joon", fingerprint("nightcopy"), "anywhere")}
    assert about(taken) == {("joon", fingerprint("joon-desk"), "anywhere")}
    root = replace(
        OPEN,
        keys={"joon": pub("joon-desk")},
        config=OFF,
        files={"/etc/sudoers": "joon ALL=(ALL) NOPASSWD: ALL\n"},
    )
    left, taken = found(made, root)
    assert [each.administers for finding in left for each in finding.about] == [True], "root's rights were not accepted"
    assert len(taken) == 1
    left, _ = found(
        with_waivers(tmp_path, "finding: hole, on: gauge, account: joon, person: joon, from: anywhere, may: administer"),
        root,
    )
    assert not left


def test_who_is_shut_out_is_named_too(tmp_path: Path) -> None:
    grants = GRANT + "let: joon, into: all guests, by: ssh, from: [bench, field], with: key\n"
    bare = Guest(OFF)
    made = with_waivers(tmp_path, "finding: shut-out, on: gauge, person: joon, from: field", grants=grants)
    left, taken = found(made, bare, Group.SHUT_OUT)
    assert about(taken) == {("joon", "joon", "field")}
    assert about(left) == {("joon", "joon", "bench"), ("mara", "mara", "bench")}


def test_a_draft_leaves_alone_what_is_accepted(tmp_path: Path) -> None:
    guest = replace(
        OPEN,
        keys={"mara": f'from="192.168.40.0/24" {pub("mara-desk")}', "joon": pub("joon-desk")},
        config=OFF,
    )
    accepted = with_waivers(tmp_path, "finding: hole, on: gauge, account: joon, person: joon, from: anywhere")
    assert draft(accepted, guest.snapshot(), AT).steps == ()
    assert draft(with_waivers(tmp_path), guest.snapshot(), AT).steps


@pytest.mark.parametrize(
    "wrong, says",
    [
        ("finding: hole, on: gauge", "accepts one account, one proof and one place"),
        ("finding: hole, on: gauge, account: joon, from: bench", "accepts one account, one proof and one place"),
        ("finding: hole.possible, on: gauge, account: joon, with: password", "accepts one account, one proof and one place"),
        ("finding: shut-out, on: gauge", "for a person and a place"),
        ("finding: shut-out, on: gauge, person: joon", "for a person and a place"),
        ("finding: ssh.weak-key, on: gauge, from: bench", "ssh.weak-key is neither"),
        ("finding: hole, on: gauge, account: joon, key: joon-desk, from: bench", "is no fingerprint"),
        ("finding: hole, on: gauge, account: joon, with: keys, from: bench", '"keys"'),
        ("finding: hole, on: gauge, account: joon, person: nobody, from: bench", '"nobody"'),
    ],
)
def test_a_waiver_that_does_not_say_what_it_accepts_is_refused(tmp_path: Path, wrong: str, says: str) -> None:
    with pytest.raises(EstateError, match=says):
        with_waivers(tmp_path, wrong)


def test_findings_of_reach_and_of_one_account_are_waived(tmp_path: Path) -> None:
    made = with_waivers(tmp_path, "finding: reach.not-pinned, on: gauge", "finding: ssh.orphan-key, on: gauge, account: joon")
    seen = Finding("reach.not-pinned", Severity.MEDIUM, "gauge", Group.WIRE, "x")
    assert waived(seen, made, AT).waived
    assert not waived(replace(seen, check="reach.other-host-key"), made, AT).waived
    key = Finding("ssh.orphan-key", Severity.HIGH, "gauge", Group.HYGIENE, "x", subjects=("joon",))
    assert waived(key, made, AT).waived
    assert not waived(replace(key, subjects=("mara",)), made, AT).waived
    assert load(made.path).waivers == made.waivers
