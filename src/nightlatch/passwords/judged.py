"""What is wrong with a password, and how many guesses find it at most, in the order in which people choose passwords.

The count is that of the cheapest way known here: a stock word or a name with what people add to it, a run of keys, something
repeated; else all texts of its length from the kinds of characters that it has. That last one holds only for characters drawn at
random: of words that people think of, fewer guesses find them.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import StrEnum

from nightlatch.passwords.stock import ROWS, WORDS

ALONE, BESIDE = 15, 8  # NIST SP 800-63B-4, 3.1.1.2: where nothing else is asked, and beside another proof
SCREEN = 8  # of a VNC server's password no more counts (RFC 6143, 7.2.2)
RUN = 4  # so many characters of a row, one behind the other
KINDS = ((re.compile(r"[a-z]"), 26), (re.compile(r"[A-Z]"), 26), (re.compile(r"[0-9]"), 10), (re.compile(r"[ -/:-@\[-`{-~]"), 33))
OTHERS = 128  # characters beyond ASCII
SPELLED = str.maketrans({"0": "o", "1": "l", "3": "e", "4": "a", "5": "s", "7": "t", "@": "a", "$": "s", "!": "i"})
FORMS = 32  # in which a word is tried: capitals at three places, reversed, signs for letters
ADDED_DIGITS, ADDED_OTHERS = 10, 43


class Flaw(StrEnum):
    """What is wrong with a password."""

    EMPTY = "empty"
    SHORT = "short"
    STOCK = "stock word"
    NAME = "account name"
    RUN = "run of keys"
    REPEATED = "repeated"
    CUT = "cut"
    LAYOUT = "beyond ascii"


class Way(StrEnum):
    """The cheapest way to guess it."""

    NOTHING = "nothing to guess"
    STOCK = "stock words"
    NAME = "account name"
    RUN = "runs of keys"
    REPEATED = "repetitions"
    ALL = "all of its length"


@dataclass(frozen=True, slots=True)
class Judgement:
    """The judgement of a password, which itself is not in it. `counting` characters count of `length`; at most `guesses` find it,
    in the given `way`."""

    length: int
    counting: int
    flaws: tuple[Flaw, ...]
    guesses: int
    way: Way

    @property
    def is_good(self) -> bool:
        """Whether nothing is wrong with it; that some keyboards lack a character of it is only told."""
        return not set(self.flaws) - {Flaw.LAYOUT}


def least(*, beside: bool, screen: bool) -> int:
    """How many characters a password should have."""
    return SCREEN if screen else BESIDE if beside else ALONE


def judged(password: str, account: str = "", *, beside: bool = False, screen: bool = False) -> Judgement:
    """The judgement of a password for an account. `beside` another proof it may be shorter; a VNC server cuts one of a screen."""
    counting = password.encode("utf-8", "surrogateescape")[:SCREEN].decode("utf-8", "ignore") if screen else password
    ways = sorted(_ways(counting, account), key=lambda each: each[0])
    guesses, way = ways[0]
    flaws = [flaw for flaw, found in _WRONG if found == way]
    if counting and len(counting) < least(beside=beside, screen=screen):
        flaws.append(Flaw.SHORT)
    if counting != password:
        flaws.append(Flaw.CUT)
    if not password.isascii():
        flaws.append(Flaw.LAYOUT)
    return Judgement(len(password), len(counting), tuple(flaws), guesses, way)


_WRONG = (
    (Flaw.EMPTY, Way.NOTHING),
    (Flaw.STOCK, Way.STOCK),
    (Flaw.NAME, Way.NAME),
    (Flaw.RUN, Way.RUN),
    (Flaw.REPEATED, Way.REPEATED),
)


def _ways(password: str, account: str) -> list[tuple[int, Way]]:
    if not password:
        return [(0, Way.NOTHING)]
    out = [(_letters(password) ** len(password), Way.ALL)]
    names = _names(account)
    for core, added in _cores(password):
        if core in names or core[::-1] in names:
            out.append((FORMS * max(1, len(names)) * added, Way.NAME))
        elif core in WORDS or core[::-1] in WORDS:
            out.append((FORMS * len(WORDS) * added, Way.STOCK))
    runs = _run_rest(password)
    if runs is not None:
        out.append((len(ROWS) * 1000 * ADDED_OTHERS**runs, Way.RUN))
    unit = _unit(password)
    if unit:
        out.append((_letters(unit) ** len(unit) * len(password), Way.REPEATED))
    return out


def _letters(text: str) -> int:
    """How many characters there are of the kinds that a text has."""
    known = sum(many for shape, many in KINDS if shape.search(text))
    return known + (0 if text.isascii() else OTHERS)


def _names(account: str) -> set[str]:
    small = account.casefold()
    return {small, *re.split(r"[^a-z]+", small)} - {""} if small else set()


def _cores(password: str) -> list[tuple[str, int]]:
    """The word within, as it may be spelled, with how many texts may stand before and behind it."""
    out = []
    small = password.casefold()
    for text in {small, small.translate(SPELLED)}:
        for found in (re.fullmatch(r"([^a-z]*)([a-z].*?[a-z]|[a-z])([^a-z]*)", text), re.fullmatch(r"()(.+)()", text)):
            if found is None:
                continue
            around = small[: len(found[1])] + small[len(small) - len(found[3]) :]
            added = 1
            for char in around:
                added *= ADDED_DIGITS if char.isdigit() else ADDED_OTHERS
            out += [(found[2], added), (found[2].translate(SPELLED), added)]
    return out


def _run_rest(password: str) -> int | None:
    """How many characters are left where runs of keys are taken out; None where there is no run, or more is left than runs."""
    small, at, left, runs = password.casefold(), 0, 0, 0
    while at < len(small):
        longest = max((_along(small, at, row) for row in (*ROWS, *(row[::-1] for row in ROWS))), default=1)
        if longest >= RUN:
            runs += longest
            at += longest
        else:
            left += 1
            at += 1
    return left if runs > left else None


def _along(text: str, at: int, row: str) -> int:
    start = row.find(text[at])
    length = 0
    while start >= 0 and at + length < len(text) and start + length < len(row) and text[at + length] == row[start + length]:
        length += 1
    return length


def _unit(password: str) -> str:
    """What a password repeats from its beginning to its end, or nothing."""
    found = re.fullmatch(r"(.+?)\1+.{0,2}", password, re.DOTALL)
    return found[1] if found is not None and len(found[1]) * 2 <= len(password) else ""
