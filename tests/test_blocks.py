"""An audit of many guests as it is told: each cause once, with all its guests, and counts of what is shown."""

from __future__ import annotations

import io
from dataclasses import replace
from pathlib import Path

import pytest
from rich.console import Console

from nightlatch.audit.run import guest_audit
from nightlatch.estate.load import load as load_estate
from nightlatch.ops.audit import Audit, audit
from nightlatch.report import audit_text, blocks
from nightlatch.report.page import Page
from tests.guests import AT, Guest, estate, pub

GRANT = "let: mara, into: all guests, by: ssh, from: bench, with: key"
OPEN = Guest(files={"/home/mara/.ssh/authorized_keys": pub("mara-desk") + "\n"}, passwords={"joon": "{yescrypt}"}, pam=True)


@pytest.mark.parametrize(
    "guests, wanted",
    [
        (["a"], "a"),
        (["clone-1", "clone-2", "clone-3"], "clone-1, clone-2, clone-3"),
        ([f"clone-{n:03}" for n in range(1, 201)], "clone-001 to clone-200"),
        (["a9", "a10", "a11", "a12", "a13", "b"], "a9, a10 to a13, b"),
        (["x1", "x2", "x3", "x4", "x6"], "x1 to x4, x6"),
        ([], ""),
    ],
)
def test_many_guests_are_named_by_the_first_and_the_last(guests: list[str], wanted: str) -> None:
    assert blocks.named(guests) == wanted


def told(folder: Path, count: int, left_out: int = 0) -> str:
    made = estate(folder, GRANT)
    first = guest_audit(OPEN.access(), AT, made)
    guests = [
        replace(first, guest=f"clone-{n:03}", findings=tuple(replace(f, guest=f"clone-{n:03}") for f in first.findings))
        for n in range(1, count + 1)
    ]
    other = guest_audit(replace(OPEN, config="PermitRootLogin yes\n", passwords={}).access(), AT, made)
    page = Console(file=io.StringIO(), width=80)
    audit_text.audit(Page(page), Audit(made.name, AT, (*guests, replace(other, guest="mast")), left_out), "estate.yaml")
    out = page.file
    assert isinstance(out, io.StringIO)
    return out.getvalue()


def test_two_hundred_clones_are_told_once(tmp_path: Path) -> None:
    said = told(tmp_path, 200)
    assert len(said.splitlines()) < 60
    assert "clone-001 to clone-200" in said
    assert said.count("Anyone with the password of joon") == 1
    shown = said.count("\n  hole ")
    end = said.splitlines()[-1]
    assert end.startswith(f"{shown} hole"), "the count is the count of what is shown"
    assert "on 201 guests" in end or "on 200 guests" in end
    assert len(told(tmp_path, 2).splitlines()) >= len(said.splitlines()) - 2, "more clones make no more lines"


def test_what_on_leaves_out_is_said(tmp_path: Path) -> None:
    assert "not the 7 that --on leaves out" in " ".join(told(tmp_path, 2, 7).split())
    assert "leaves out" not in told(tmp_path, 2)
    made = estate(tmp_path / "two", GRANT)
    path = made.path
    path.write_text(path.read_text().replace("guests:\n", "guests:\n  mast: {via: {folder: images/mast}}\n"))
    for name in ("gauge", "mast"):
        OPEN.write(path.parent / "images" / name)
    both = load_estate(path)
    assert audit(both, AT, ["mast"]).left_out == 1
    assert audit(both, AT).left_out == 0
