"""Whatever bytes a guest or a user brings: no parser and no reading raises what it does not declare, and none takes long.

Seeds of every format, changed at random and drawn out. `make judges` makes 100,000 tries a parser and 5,000 of a whole guest with each
file, `make test` a sample of them; the number of each is the seed of its try, so `NIGHTLATCH_TRY=123456 pytest ... -k NAME` is one of them again.
"""

from __future__ import annotations

import os
import random
import time
from collections.abc import Callable
from typing import ClassVar

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from nightlatch.evidence.snapshot import Entry, EntryKind
from tests.budget import ALL, cases
from tests.judges import seeds
from tests.judges.mutating import ODD, drawn_out, mutated
from tests.judges.subjects import Subject, guest, read_whole, subjects, who_gets_in, with_file

TRIES = int(os.environ.get("NIGHTLATCH_TRIES", cases(100, 100_000)))
WHOLE = 20  # a whole guest takes as long as so many texts: it is tried so much less often
ONE = os.environ.get("NIGHTLATCH_TRY")
SUBJECTS = {each.name: each for each in subjects()}
SEEDS = [seed for each in SUBJECTS.values() for seed in each.seeds]
each_subject = pytest.mark.parametrize("subject", SUBJECTS.values(), ids=SUBJECTS)


def tried(subject: Subject, text: bytes, told: str) -> float:
    """One try: the seconds that the reading took. An error that is not declared fails with the text that led to it."""
    start = time.process_time()
    try:
        found = subject.reads(text)
        took = time.process_time() - start
        subject.then(found)
    except subject.declared:
        took = time.process_time() - start
    except Exception as error:
        raise AssertionError(f"{subject.name}, {told}: {error!r} of {text[:3000]!r}") from error
    assert time.process_time() - start < 30, f"{subject.name}, {told}: what follows took long"
    return took


@each_subject
def test_nothing_undeclared(subject: Subject, tell: Callable[[str], None]) -> None:
    for seed in subject.seeds:
        tried(subject, seed, "the seed itself")
    began, slow = time.process_time(), 0.0
    tries = TRIES // WHOLE if subject.costly else TRIES
    for number in [int(ONE)] if ONE else range(tries):
        r = random.Random(number)
        text = mutated(r, r.choice(subject.seeds), SEEDS)
        slow = max(slow, tried(subject, text, f"try {number}"))
    assert slow < 2, f"one of {tries} short texts took {slow:.1f} s"
    if ALL:
        tell(f"mutated, {subject.name}: {tries} tries in {time.process_time() - began:.0f} s, none undeclared")


@each_subject
@settings(max_examples=TRIES // 100 if ALL else 3, deadline=None, database=None, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_nothing_undeclared_of_pieces(subject: Subject, data: st.DataObject) -> None:
    """Texts made of the seeds' own words in any order, which Hypothesis makes short again when one fails."""
    seed = subject.seeds[data.draw(st.integers(0, len(subject.seeds) - 1))]
    words = sorted(set(seed.replace(b"\n", b" \n ").split(b" ")))
    piece = st.sampled_from([*words, b" ", b"\n"]) | st.sampled_from(ODD) | st.binary(max_size=3)
    tried(subject, data.draw(st.sampled_from([b" ", b""])).join(data.draw(st.lists(piece, max_size=30))), "pieces")


@each_subject
def test_nothing_takes_long(subject: Subject, tell: Callable[[str], None]) -> None:
    """100 kB of one part again and again: below a second. The sample tries some of the shapes of each, on any machine."""
    shapes = [shape for seed in subject.seeds for shape in drawn_out(seed, subject.size)]
    if not ALL:
        shapes = random.Random(subject.name).sample(shapes, min(2, len(shapes)))
    slow, which = 0.0, ""
    for name, make in shapes:
        took = tried(subject, make(), name)
        if took > slow:
            slow, which = took, name
    if ALL:
        tell(f"drawn out, {subject.name}: {len(shapes)} shapes, at most {slow:.2f} s ({which})")
    assert slow < (1 if ALL else 4), f"{which} took {slow:.2f} s"


class Noted(Entry):
    """A file that notes when somebody looks at what it holds."""

    asked: ClassVar[bool] = False

    def __getattribute__(self, name: str) -> object:
        if name == "content":
            Noted.asked = True
        return super().__getattribute__(name)


@pytest.mark.parametrize("path", seeds.FILES)
def test_each_file_is_read(path: str) -> None:
    """A seed that no reading looks at would try nothing."""
    content = seeds.FILES[path].encode()
    made = with_file(guest(path), path, Noted(EntryKind.FILE, 0o440, 0, 0, len(content), content))
    Noted.asked = False
    who_gets_in(read_whole(made))
    assert Noted.asked
