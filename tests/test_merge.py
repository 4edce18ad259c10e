"""The guest's own way of taking lines back (merge.awk), held against the one that `undo` has, with the awks that guests have."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from importlib.resources import files
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nightlatch.draft.reversal import hunks, merged

PROGRAM = files("nightlatch.latch").joinpath("merge.awk").read_text()
AWKS = [words for words in (["mawk"], ["gawk"], ["busybox", "awk"]) if shutil.which(words[0])]
LINES = st.lists(st.sampled_from([b"a\n", b"b\n", b"c\n", b"d\r\n", b"\n", b"Match all\n"]), max_size=7)
OWN = st.lists(st.sampled_from([b"theirs 1\n", b"theirs 2\n"]), max_size=2)


def taken_back(awk: list[str], before: bytes, after: bytes, now: bytes) -> tuple[int, bytes]:
    """Exit code and output, called as the guest's script calls it."""
    with tempfile.TemporaryDirectory() as folder:
        names = {name: Path(folder, name) for name in ("before", "after", "now", "hunks")}
        for name, content in (("before", before), ("after", after), ("now", now)):
            names[name].write_bytes(content)
        names["hunks"].write_text("".join(f"{a} {b} {c} {d}\n" for a, b, c, d in hunks(before, after)))
        flags = "".join("1" if raw and not raw.endswith(b"\n") else "0" for raw in (now, before))
        told = [f"-vflags={flags}", *(f"-v{name}={names[name]}" for name in ("before", "after", "hunks"))]
        done = subprocess.run([*awk, *told, PROGRAM, str(names["now"])], capture_output=True, timeout=20, check=False)
        assert not done.stderr, done.stderr
        return done.returncode, done.stdout


@pytest.mark.parametrize("awk", AWKS, ids=[words[0] for words in AWKS])
@settings(max_examples=60)
@given(LINES, LINES, st.booleans())
def test_what_nobody_touched_comes_back_whole(awk: list[str], before: list[bytes], after: list[bytes], cut: bool) -> None:
    one, two = b"".join(before), b"".join(after)
    one = one[:-1] if cut and one.endswith(b"a\n") else one
    assert taken_back(awk, one, two, two) == (0, one)


@pytest.mark.parametrize("awk", AWKS, ids=[words[0] for words in AWKS])
@settings(max_examples=80)
@given(LINES, LINES, OWN, OWN)
def test_theirs_stays_and_ours_goes(
    awk: list[str], before: list[bytes], after: list[bytes], above: list[bytes], below: list[bytes]
) -> None:
    one, two = b"".join(before), b"".join(after)
    now = b"".join([*above, *after, *below])
    code, found = taken_back(awk, one, two, now)
    if one != two and code == 0:
        assert sorted(found.splitlines(keepends=True)) == sorted([*before, *above, *below])
    kept = [line for line in found.splitlines(keepends=True) if line.startswith(b"theirs")]
    assert kept == [*above, *below], "no line of theirs is lost, or goes elsewhere"


@pytest.mark.parametrize("awk", AWKS, ids=[words[0] for words in AWKS])
@settings(max_examples=80)
@given(LINES, LINES, LINES)
def test_where_undo_would_do_it_the_guest_does_the_same(
    awk: list[str], before: list[bytes], after: list[bytes], now: list[bytes]
) -> None:
    one, two, three = (b"".join(lines) for lines in (before, after, now))
    wanted = merged(one, two, three)
    code, found = taken_back(awk, one, two, three)
    if (
        wanted is not None
        and code == 0
        and len({*before, *after, *now}) == len(before) + len(set(after) - set(before)) + len(set(now) - set(before) - set(after))
    ):  # with lines that are there twice, more than one answer is right
        assert sorted(found.splitlines()) == sorted(wanted.splitlines())


TABLE = [
    (b"a\nb\n", b"a\nB\n", b"a\nC\n", 3, b"a\nC\n"),
    (b"a\nb\nc\n", b"A\nb\nC\n", b"A\nb\ntheirs\n", 3, b"a\nb\ntheirs\n"),
    (b"", b"ours\n", b"ours\n", 0, b""),
    (b"", b"ours\n", b"ours\ntheirs\n", 0, b"theirs\n"),
    (b"a", b"a\nours\n", b"a\nours\n", 0, b"a"),
    (b"a\nx\n", b"a\n", b"a\ntheirs", 0, b"a\nx\ntheirs"),
    (b"a\nx\n", b"a\n", b"theirs\n", 3, b"theirs\n"),
]


@pytest.mark.parametrize("awk", AWKS, ids=[words[0] for words in AWKS])
@pytest.mark.parametrize("before, after, now, code, found", TABLE)
def test_a_table(awk: list[str], before: bytes, after: bytes, now: bytes, code: int, found: bytes) -> None:
    assert taken_back(awk, before, after, now) == (code, found)
