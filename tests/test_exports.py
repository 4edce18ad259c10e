"""Findings for other programs: SARIF as its specification asks, CSV that no spreadsheet works out."""

from __future__ import annotations

import csv
import io
import json
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

import pytest
from click.testing import CliRunner
from hypothesis import given
from hypothesis import strategies as st

from nightlatch.audit.checks import CATALOGUE
from nightlatch.audit.findings import Finding, Group, GuestAudit, Proof, Severity, identified
from nightlatch.cli.main import cli
from nightlatch.demo.build import build
from nightlatch.estate.load import load as load_estate
from nightlatch.ops.audit import Audit
from nightlatch.ops.audit import audit as audit_guests
from nightlatch.origin import Kind, Origin
from nightlatch.report import machine, rows, sarif
from tests.guests import AT


@pytest.fixture(scope="module")
def result(tmp_path_factory: pytest.TempPathFactory) -> Audit:
    """The audit of the sample estate, with a guest that can't be read."""
    path = build(tmp_path_factory.mktemp("exports") / "skerry")
    path.write_text(path.read_text().replace("guests:\n", "guests:\n  lamp: {via: {folder: images/none}}\n", 1))
    return audit_guests(load_estate(path), AT)


def one(text: str, origin: Origin, *, guest: str = "gauge", waived: str = "") -> Audit:
    """An audit with one finding."""
    finding = Finding("hole", Severity.HIGH, guest, Group.HOLE, text, (Proof("a line", origin),), ("mara",), "", waived)
    return Audit("", AT, (GuestAudit(guest, (finding,), undecided=(Proof("a program", origin),)),))


def test_sarif_holds_every_finding_with_its_rule_and_place(result: Audit) -> None:
    document = json.loads(json.dumps(sarif.audit(result)))
    assert document["version"] == "2.1.0"
    (run,) = document["runs"]
    rules = run["tool"]["driver"]["rules"]
    assert [rule["id"] for rule in rules] == sorted(CATALOGUE)
    assert len(run["results"]) == sum(len(guest.findings) for guest in result.guests) > 8
    for each in run["results"]:
        assert rules[each["ruleIndex"]]["id"] == each["ruleId"]
        assert each["level"] in ("error", "warning", "note")
        assert each["message"]["text"]
        for location in [*each["locations"], *each["relatedLocations"]]:
            _is_a_location(location, run["originalUriBaseIds"])
    suppressed = [each for each in run["results"] if "suppressions" in each]
    assert {each["ruleId"] for each in suppressed} == {"ssh.weak-key"}
    assert not run["invocations"][0]["executionSuccessful"]
    assert "lamp: not read" in json.dumps(run["invocations"])
    assert len({each["partialFingerprints"]["nightlatchFinding/1"] for each in run["results"]}) == len(run["results"])


def _is_a_location(location: dict[str, Any], bases: dict[str, Any]) -> None:
    if "logicalLocations" in location:
        assert location["logicalLocations"][0]["fullyQualifiedName"]
        return
    place = location["physicalLocation"]
    uri = urlsplit(place["artifactLocation"]["uri"])
    if uri.scheme:
        assert uri.scheme == "file"
        assert "uriBaseId" not in place["artifactLocation"]
    else:
        assert place["artifactLocation"]["uriBaseId"] in bases
        assert not uri.path.startswith("/")
    assert all(number >= 1 for number in place.get("region", {}).values())


def test_a_fingerprint_does_not_move_with_the_line() -> None:
    def mark(audit: Audit) -> str:
        return str(sarif.audit(audit)["runs"][0]["results"][0]["partialFingerprints"])

    path = "/etc/ssh/sshd_config"
    assert mark(one("x", Origin(path, 3, 1))) == mark(one("y", Origin(path, 9, 5)))
    assert mark(one("x", Origin(path, 3))) != mark(one("x", Origin(path, 3), guest="gate"))


def test_ids_stay_when_words_lines_and_order_change_and_tell_findings_apart(result: Audit) -> None:
    for guest in result.guests:
        ids = [id for id, _ in identified(guest.findings)]
        assert len(set(ids)) == len(ids)
        moved = [
            replace(f, text="said anew", proofs=tuple(Proof("x", replace(p.origin, line=p.origin.line + 7)) for p in f.proofs))
            for f in reversed(guest.findings)
        ]
        assert {id for id, _ in identified(moved)} == set(ids)
        shown = next(each for each in machine.audit(result)["guests"] if each["guest"] == guest.guest)
        assert [each["id"] for each in shown["findings"]] == ids
    holes = [f for guest in result.guests for f in guest.findings if f.group is Group.HOLE]
    assert holes
    for each in holes:
        other = replace(each, about=tuple(replace(a, account="somebody") for a in each.about))
        assert identified([each])[0][0] != identified([other])[0][0]
        wider = replace(each, about=tuple(replace(a, where="anywhere else") for a in each.about))
        assert identified([each])[0][0] == identified([wider])[0][0]


# A byte of a name that is no UTF-8 is one of these lone surrogates here (PEP 383); others can't come from a guest.
NAMES = st.text(st.characters(exclude_characters="\0", exclude_categories=["Cs"]) | st.sampled_from("\udc80\udcff"), max_size=40)


@given(st.text(max_size=60), NAMES)
def test_nothing_of_a_guest_breaks_out(text: str, name: str) -> None:
    found = one(text, Origin(f"/home/{name}", 1))
    written = json.dumps(sarif.audit(found))
    uri = json.loads(written)["runs"][0]["results"][0]["locations"][0]["physicalLocation"]["artifactLocation"]["uri"]
    assert set(uri) <= set("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~%/")
    assert unquote(uri, errors="surrogateescape") == f"gauge/home/{name}"
    table = list(csv.reader(io.StringIO(rows.audit(found), newline="")))
    assert [len(row) for row in table] == [len(rows.COLUMNS)] * 3
    assert not any(cell.startswith(("=", "+", "-", "@", "\t", "\r")) for row in table for cell in row)
    assert all(letter.isprintable() for row in table for cell in row for letter in cell)


def test_csv_has_a_row_for_all_that_was_found(result: Audit) -> None:
    table = list(csv.DictReader(io.StringIO(rows.audit(result), newline="")))
    assert [row["text"] for row in table if row["group"] == "not read"]
    assert len(table) >= sum(len(guest.findings) for guest in result.guests) + 1
    hole = next(row for row in table if row["group"] == "hole")
    assert hole["place"].startswith("/")
    assert hole["severity"] == "high"


@pytest.mark.parametrize("kind", [Kind.DEFAULT, Kind.ABSENT, Kind.LISTING])
def test_what_has_no_file_is_a_logical_place(kind: Kind) -> None:
    document = sarif.audit(one("x", Origin("permitrootlogin", kind=kind)))
    assert "logicalLocations" in document["runs"][0]["results"][0]["locations"][0]


def test_the_command_writes_them(tmp_path: Path) -> None:
    path = build(tmp_path / "skerry")
    day = (AT + timedelta(days=0)).date().isoformat()
    for form, start in (("sarif", "{"), ("csv", "guest,severity,"), ("json", "{")):
        done = CliRunner().invoke(cli, ["audit", str(path), "--format", form, "--as-of", day])
        assert done.exit_code == 1, done.output
        assert done.output.startswith(start)


def test_sarif_names_the_estate_file_below_the_folder_it_ran_in(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    for path, wanted in (
        ("estate.yaml", "estate.yaml"),
        (str(tmp_path / "more/e s.yaml"), "more/e%20s.yaml"),
        ("/elsewhere/estate.yaml", "file:///elsewhere/estate.yaml"),
    ):
        found = sarif.audit(one("x", Origin(path, 3, kind=Kind.ESTATE)))["runs"][0]["results"][0]["locations"][0]
        assert found["physicalLocation"]["artifactLocation"]["uri"] == wanted
