"""Put a change on the latch of a live guest, keep it, take it back, and tell what is pending.

The guest does all the work itself (`latch.sh`); here scripts are sent and answers read. What a guest answers is cleaned
before it is shown, and an answer that does not come leaves the guest to its own timer.
"""

from __future__ import annotations

import re
import secrets
from collections.abc import Iterator
from dataclasses import dataclass

from nightlatch import versions
from nightlatch.draft.acts import Install
from nightlatch.faults import PutBackError, RefusedError, UnreachableError, UnreadableError
from nightlatch.latch import transaction
from nightlatch.latch.transaction import Transaction
from nightlatch.net.numbers import whole
from nightlatch.transports.bounded import Bounds
from nightlatch.transports.shell import Shell

BOUNDS = Bounds(seconds=150, silent=120, most=1 << 20)
INSTALLING = Bounds(seconds=960, silent=120, most=1 << 20)


HOST_KEY = re.compile(r"host key (SHA256:[A-Za-z0-9+/]{43})")
ENDS = ("left", "back", "merged", "whole", "removed")  # how a path of a change ended, in the guest's words


@dataclass(frozen=True, slots=True)
class Outcome:
    """How a change ended: `kept` or not, `by_hand` when somebody had it taken back, and the guest's own words. What it did with
    each path when it took the change back:
    `back` as they were, `removed` what was not there before, `merged` what somebody had touched and only our lines went back,
    `whole` where sshd refused that and theirs was laid by, `left` what is somebody else's by now."""

    kept: bool
    words: str
    left: tuple[str, ...] = ()
    back: tuple[str, ...] = ()
    merged: tuple[str, ...] = ()
    whole: tuple[str, ...] = ()
    removed: tuple[str, ...] = ()
    by_hand: bool = False


# How latch.sh begins an outcome.
KEPT, UNDONE, BY_HAND = "kept", "kept: it takes back change ", "put back: taken back by "


def outcome_of(words: str, **told: tuple[str, ...]) -> Outcome:
    """An outcome from the line that latch.sh writes, and the paths that it told of."""
    return Outcome(words.startswith(KEPT), words, by_hand=words.startswith(BY_HAND), **told)


def takes_nothing_back(words: str) -> bool:
    """Whether an outcome is that of a change which was kept, and is no undo of another."""
    return words.startswith(KEPT) and not words.startswith(UNDONE)


@dataclass(frozen=True, slots=True)
class Pending:
    """What is on the latch of one guest. `seconds` is the time left, negative once it is over, None where not known; `stuck` is
    what can't be put back yet, while the guest goes on trying; `unread` says why this release can't keep it or take it back."""

    guest: str
    change: str
    who: str
    state: str
    since: int | None
    seconds: int | None
    timer: bool
    stuck: str = ""
    unread: str = ""


@dataclass(frozen=True, slots=True)
class LatchReport:
    """A guest's answer about its latch: what is pending, and what became of changes, newest first."""

    pending: Pending | None
    outcomes: tuple[tuple[str, str], ...]


@dataclass(frozen=True, slots=True)
class Begun:
    """A change on the latch: the steps that the guest went through, and fingerprints of the host keys that it has by now, where
    it made new ones."""

    steps: tuple[str, ...]
    host_keys: tuple[str, ...] = ()


def begin(shell: Shell, change: Transaction) -> Begun:
    """Put the change on the latch.

    Raises RefusedError when nothing was changed, PutBackError when the guest took it back, or when the connection
    broke and the guest is left to its timer.
    """
    nonce = secrets.token_hex(12)
    guest, number = shell.guest, change.change
    try:
        lines = _lines(shell.run(change.begin(nonce), BOUNDS).out, nonce)
    except UnreachableError as error:
        if error.stage not in ("read", "connect"):
            raise
        raise PutBackError(_unknown(number, change.terms.seconds, error.words), guest=guest) from error
    steps = [line for line in lines if line.startswith("step ")]
    told = [found[1] for found in (HOST_KEY.fullmatch(line) for line in lines) if found]
    if "on-the-latch" in lines or (change.planned.move is not None and "moving" in lines):
        if len(told) != len(change.planned.new_host_keys):
            return _after_death(shell, number, change.terms.seconds, "new host keys, which it did not all tell")
        return Begun(tuple(steps), tuple(told))
    for line in lines:
        word, _, rest = line.partition(": ")
        if word == "refused":
            raise RefusedError(f"{rest}. Nothing was changed", guest=guest)
        if word == "put back":
            if any(step.startswith("step swapped") for step in steps):
                raise PutBackError(f"{rest}. Everything was put back", guest=guest)
            raise RefusedError(f"{rest}. Nothing was changed", guest=guest)
        if word == "stuck":
            raise PutBackError(_trying(rest), guest=guest)
    if any(line.startswith("died") for line in lines) or lines:
        return _after_death(shell, number, change.terms.seconds, steps[-1][5:] if steps else "its start")
    raise PutBackError(_unknown(number, change.terms.seconds, "no answer came"), guest=guest)


def _unknown(change: str, seconds: int, why: str) -> str:
    return (
        f"the connection was lost while change {change} was being made ({why}). If it was begun, the guest takes it "
        f"back by itself within {seconds} s; nightlatch pending shows it"
    )


def _after_death(shell: Shell, change: str, seconds: int, last: str) -> Begun:
    """The guest's script ended in the middle: take back what it did now, or leave it to the timer."""
    try:
        outcome = decide(shell, change, "back", "nightlatch, for its script had died")
    except (UnreadableError, RefusedError):
        raise PutBackError(_unknown(change, seconds, "its script died"), guest=shell.guest) from None
    raise PutBackError(f"the guest's script died halfway, after: {last}. {outcome.words}", guest=shell.guest)


def install(shell: Shell, act: Install) -> None:
    """Install a package, its unit kept from starting; raises UnreadableError with the tool's last words when it fails."""
    nonce = secrets.token_hex(12)
    lines = _lines(shell.run(transaction.install_script(act, nonce), INSTALLING).out, nonce)
    if not lines or lines[-1] != "installed":
        said = "; ".join(line for line in lines if not line.startswith("working"))[-300:] or "no answer came"
        raise UnreadableError(f"{act.package} could not be installed: {said}", guest=shell.guest)


def give(shell: Shell, change: str, account: str, password: str) -> None:
    """Give an account its password while the change is on the latch. Raises UnreadableError, in the guest's words, where it is
    not given, and UnreachableError."""
    nonce = secrets.token_hex(12)
    lines = _lines(shell.run(transaction.give_script(change, account, password, nonce), BOUNDS).out, nonce)
    if lines != ["given"]:
        said = lines[-1].removeprefix("refused: ")[:200] if lines else "no answer came"
        raise UnreadableError(f"{account} could not be given a password: {said}", guest=shell.guest)


def decide(shell: Shell, change: str, what: str, by: str = "hand") -> Outcome:
    """Keep a change or take it back (`what` is keep or back). Raises RefusedError where there is none, UnreadableError."""
    nonce = secrets.token_hex(12)
    lines = _lines(shell.run(transaction.decide_script(change, what, by, nonce), BOUNDS).out, nonce)
    first = lines[0] if lines else "died: no answer"
    if first.startswith("gone"):
        raise RefusedError(f"change {change}: {first.partition(': ')[2]}", guest=shell.guest)
    if first.startswith("other"):
        why = versions.unread("latch", first.partition(" ")[2].strip())
        raise RefusedError(
            f"change {change}: {why}; until then its timer takes it back if it was not kept",
            guest=shell.guest,
        )
    if first.startswith("stuck"):
        raise PutBackError(_trying(first.partition(": ")[2]), guest=shell.guest)
    if first.startswith("died"):
        raise UnreadableError(f"{first}; its timer takes the change back if it was not kept", guest=shell.guest)
    rows = [line.partition(" ") for line in lines[1:]]
    told = {name: tuple(path for word, _, path in rows if word == name) for name in ENDS}
    return outcome_of(first, **told)


def _trying(words: str) -> str:
    return f"all else was put back and counts, but {words}; the guest goes on trying, and nightlatch pending shows it"


def ask(shell: Shell) -> LatchReport:
    """What is on the latch of a guest. Raises UnreachableError, UnreadableError."""
    nonce = secrets.token_hex(12)
    lines = _lines(shell.run(transaction.pending_script(nonce), BOUNDS).out, nonce)
    if "end" not in lines:
        raise UnreadableError("the answer about its latch is not whole", guest=shell.guest)
    values = {word: rest for word, _, rest in (line.partition(" ") for line in lines)}
    outcomes = sorted(_outcomes(lines), reverse=True)
    return LatchReport(_pending(shell.guest, values, "timer" in lines) if "lock" in values else None, tuple(outcomes))


def _outcomes(lines: list[str]) -> Iterator[tuple[str, str]]:
    for line in lines:
        found = re.fullmatch(r"outcome ([0-9]{8}-[0-9]{6}-[0-9]{6}) (.*)", line)
        if found:
            yield found[1], found[2]


def _pending(guest: str, values: dict[str, str], timer: bool) -> Pending:
    now = whole(values.get("uptime", ""))
    since = re.search(r"since uptime ([0-9]{1,9}) s for ([0-9]{1,6}) s$", values.get("who", ""))
    lasted = now - int(since[1]) if since and now is not None else None
    rest = int(since[2]) - lasted if since and lasted is not None else None
    who = values.get("who", "").partition(", change ")[0]
    return Pending(
        guest,
        values.get("lock", ""),
        who,
        values.get("state", ""),
        lasted,
        rest,
        timer,
        values.get("stuck:", ""),
        versions.unread("latch", values["format"]) if values.get("format") else "",
    )


def _lines(out: bytes, nonce: str) -> list[str]:
    text = out.decode("utf-8", "replace")
    _, mark, rest = text.partition(f"@latch {nonce}\n")
    return [line for line in rest.splitlines() if line.strip()] if mark else []
