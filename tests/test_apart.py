"""One guest never ends the work on the others: an error that nobody declared is that guest's own result, in every verb."""

from __future__ import annotations

import json
import os
import time
import weakref
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner

from nightlatch.audit import run
from nightlatch.audit.checks.registry import Identities
from nightlatch.cli.main import cli as main
from nightlatch.demo.build import build
from nightlatch.estate.load import load as load_estate
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.ops import survey as surveying
from nightlatch.ops.audit import Auditor, as_surveyed, audit
from nightlatch.ops.survey import SurveyResult, survey
from nightlatch.readings import guest as readings
from nightlatch.readings.network import network_reading
from nightlatch.services.table import KINDS
from nightlatch.transports import targets
from tests.guests import AT

SECRET = "content of a guest"


@pytest.fixture
def skerry(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """The demo's estate, where one guest's reading fails as nobody foresaw."""
    path = build(tmp_path / "skerry")
    monkeypatch.chdir(path.parent)
    spoil(monkeypatch, readings, "read")
    spoil(monkeypatch, network_reading, "read")
    return path


def spoil(monkeypatch: pytest.MonkeyPatch, where: Any, name: str) -> None:
    real: Callable[..., Any] = getattr(where, name)

    def read(snapshot: Snapshot, *more: Any) -> Any:
        if snapshot.content("/etc/hostname") == b"plotter\n":  # the one thing that every reading may ask
            raise KeyError(SECRET)
        return real(snapshot, *more)

    monkeypatch.setattr(where, name, read)


VERBS = [
    (["audit"], 3),
    (["audit", "--format", "json"], 3),
    (["audit", "--format", "csv"], 3),
    (["audit", "--format", "sarif"], 3),
    (["exposure"], 3),
    (["exposure", "--format", "json"], 3),
    (["exposure", "--format", "csv"], 3),
    (["addresses"], None),
    (["addresses", "--format", "json"], None),
    (["draft"], 4),
    (["draft", "--format", "json"], 4),
    (["enact", "--dry-run"], 4),
    (["audit", "images/plotter"], 3),
    (["perimeter"], None),
    (["new", "fresh.yaml", "--from", "images/plotter", "--from", "images/gauge"], 3),
]


@pytest.mark.parametrize("words, code", VERBS, ids=[" ".join(words) for words, _ in VERBS])
def test_the_others_are_told_and_this_one_is_named(skerry: Path, words: list[str], code: int | None) -> None:
    done = CliRunner().invoke(main, words)
    said = done.output + (done.stderr if done.stderr_bytes else "")
    assert done.exception is None or isinstance(done.exception, SystemExit), done.exc_info
    assert code is None or done.exit_code == code, (done.exit_code, said)
    flat = " ".join(said.split())
    if "csv" not in words and "perimeter" not in words:
        assert "KeyError at" in flat, flat
    if words[0] != "new" and words[-1] not in ("images/plotter", "perimeter"):
        assert "gauge" in flat, flat
    assert SECRET not in said


def test_what_can_not_be_held_against_others_is_left_out(skerry: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    real = run.fleet

    def fleet(guests: list[Identities], *more: Any) -> Any:
        if any(each.guest == "gate" for each in guests):
            raise TypeError(SECRET)
        return real(guests, *more)

    monkeypatch.setattr(run, "fleet", fleet)
    found = {each.guest: each.unread for each in audit(load_estate(skerry), AT).guests}
    assert {name for name, why in found.items() if why} == {"plotter", "gate"}
    assert "TypeError at" in found["gate"]


def test_a_process_that_dies_takes_one_guest_along(skerry: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    real = Auditor.judged

    def judged(self: Auditor, snapshot: Snapshot) -> Any:
        if snapshot.guest == "gauge":
            os._exit(9)
        return real(self, snapshot)

    monkeypatch.setattr(Auditor, "judged", judged)
    estate = load_estate(skerry)
    found = {each.guest: each for each in audit(estate, AT, jobs=2).guests}
    assert "the process that worked on it died" in found["gauge"].unread
    assert not found["gate"].unread
    assert found["gate"].ways
    as_read = [each for each, _ in as_surveyed(estate, AT, lambda: survey(estate), 2, KINDS)]
    assert {each.guest: each.unread for each in as_read} == {each.guest: each.unread for each in found.values()}


def test_no_more_guests_are_read_than_are_taken(monkeypatch: pytest.MonkeyPatch) -> None:
    begun: list[str] = []

    def read(name: str, **_: object) -> Snapshot:
        begun.append(name)
        return Snapshot(name, {})

    monkeypatch.setattr(surveying, "survey_target", read)
    monkeypatch.setattr(targets, "is_live", lambda name: name.startswith("live"))
    names = [f"live-{number}" for number in range(40)] + ["folder"]
    taken = []
    for each in surveying.survey_targets(names, at_once=3):
        taken.append(each.guest)
        time.sleep(0.01)  # long enough to begin more, if that were allowed
        assert len(begun) <= len(taken) + 3
    assert sorted(taken) == sorted(names)


def test_guests_that_are_read_one_after_the_other_are_judged_and_forgotten(skerry: Path) -> None:
    estate = load_estate(skerry)
    (one,) = [each.snapshot for each in survey(estate, ["gate"])]
    assert one is not None
    known: list[weakref.ref[Snapshot]] = []

    def surveys() -> Iterator[SurveyResult]:
        for number in range(40):
            each = replace(one, notes=(f"number {number}",))
            known.append(weakref.ref(each))
            assert sum(kept() is not None for kept in known) < 12, "evidence of guests that were judged is kept"
            yield SurveyResult("gate", each)
            del each
        yield SurveyResult("gauge", None, "no answer")

    alone, several = (sorted(as_surveyed(estate, AT, surveys, jobs, KINDS), key=repr) for jobs in (1, 2))
    assert [found for found, _ in alone] == [found for found, _ in several]
    assert len(several) == 41


def test_a_live_guest_whose_answer_breaks_us_is_told(skerry: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def fails(*_: Any, **__: Any) -> Any:
        raise RecursionError

    monkeypatch.setattr(surveying, "survey_target", fails)
    done = CliRunner().invoke(main, ["survey", "--into", "evidence"])
    assert done.exit_code == 3
    assert "RecursionError at" in done.output + (done.stderr if done.stderr_bytes else "")


def test_json_names_the_guest_that_was_not_read(skerry: Path) -> None:
    told = json.loads(CliRunner().invoke(main, ["audit", "--format", "json"]).stdout)
    row = next(each for each in told["guests"] if each["guest"] == "plotter")
    assert "a fault of Nightlatch's own, KeyError at" in row["unread"]
