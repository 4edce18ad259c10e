"""A password's judgement as text and as a document. The password is in neither."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from nightlatch.passwords.judged import SCREEN, Flaw, Way
from nightlatch.services.ssh.guessing import LimitKind

if TYPE_CHECKING:
    from nightlatch.ops.password import JudgedPassword
    from nightlatch.report.page import Page

FLAWS = {
    Flaw.EMPTY: "it is empty",
    Flaw.STOCK: "it is a word that is tried first, with what people add to one",
    Flaw.NAME: "it is the account's name, forwards or backwards, with what people add to it",
    Flaw.RUN: "it runs along a row of keys or letters",
    Flaw.REPEATED: "it repeats itself",
    Flaw.CUT: f"a VNC server takes its first {SCREEN} characters; all others count for nothing",
    Flaw.LAYOUT: "it has characters beyond ASCII, which a console's keyboard may lack",
}
WAYS = {
    Way.NOTHING: "there is nothing to guess",
    Way.STOCK: "by trying words first, each with what people add",
    Way.NAME: "by trying the account's name first, with what people add",
    Way.RUN: "by trying runs of keys first",
    Way.REPEATED: "by trying repetitions first",
    Way.ALL: "by trying all of its length; of words that people think of, far fewer",
}
LIMITS = {
    LimitKind.NOT_ASKED: "sshd asks for no password of {account} there: over SSH it can't be guessed at all",
    LimitKind.NOTHING: "nothing there slows guesses but the processor, so how long they take can't be told",
    LimitKind.UNDECIDED: "whether sshd asks for it there can't be decided",
}
HOUR, DAY, YEAR = 1, 24, 24 * 365


def text(page: Page, found: JudgedPassword, least: int) -> None:
    """Print a judgement; `least` is how many characters are asked for."""
    judged = found.judgement
    page.line(("good" if judged.is_good else "not good", "good" if judged.is_good else "high"), f"   {_length(found)}")
    for flaw in judged.flaws:
        words = FLAWS.get(flaw) or f"{judged.counting} characters are too few: {least} or more is asked for"
        page.wrapped(f"{words[:1].upper()}{words[1:]}.", indent=2, style="medium" if flaw is not Flaw.LAYOUT else "place")
    if judged.guesses:
        page.wrapped(f"At most {_many(judged.guesses)} guesses find it, {WAYS[judged.way]}.", indent=2)
    if found.limit is not None:
        page.wrapped(f"{found.guest}: {_limit(found)}.", indent=2)
        if found.limit.origin is not None:
            page.line("      ", (str(found.limit.origin), "place"))


def _length(found: JudgedPassword) -> str:
    many = found.judgement.length
    return f"{many} character{'s' if many != 1 else ''}" + (f", for {found.account}" if found.account else "")


def _limit(found: JudgedPassword) -> str:
    limit = found.limit
    assert limit is not None
    if limit.kind in LIMITS:
        return LIMITS[limit.kind].format(account=found.account)
    if limit.ever is not None:
        return f"{limit.ever} wrong ones lock the account until somebody resets it"
    why = "a lock after wrong ones" if limit.kind is LimitKind.LOCK else "the delay after a wrong one, with MaxStartups,"
    hours = found.hours
    return f"{why} lets through {_many(limit.an_hour or 0)} guesses an hour at most, so it lasts {_lasts(hours or 0)}"


def _lasts(hours: float) -> str:
    if hours < HOUR:
        return "less than an hour"
    for unit, name in ((YEAR, "years"), (DAY, "days"), (HOUR, "hours")):
        if hours >= 2 * unit:
            return f"up to {_many(int(hours / unit))} {name}"
    return "up to 2 hours"


def _many(number: int) -> str:
    """A number as people read it: whole up to a million, then its power of ten."""
    if number < 10**6:
        return f"{number:,}"
    power = len(str(number)) - 1
    return f"10^{power}"


def document(found: JudgedPassword) -> dict[str, Any]:
    """`nightlatch/password/1`."""
    judged, limit = found.judgement, found.limit
    return {
        "format": "nightlatch/password/1",
        "good": judged.is_good,
        "length": judged.length,
        "counting": judged.counting,
        "flaws": [flaw.value for flaw in judged.flaws],
        "guesses_at_most": judged.guesses,
        "guessed_by": judged.way.value,
        "account": found.account or None,
        "guest": found.guest or None,
        "limit": None
        if limit is None
        else {
            "by": limit.kind.value,
            "guesses_an_hour": limit.an_hour,
            "guesses_ever": limit.ever,
            "place": str(limit.origin) if limit.origin is not None else None,
        },
        "hours_at_most": found.hours,
    }
