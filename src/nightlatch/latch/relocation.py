"""A change that moves a guest: where to find it afterwards, waiting for it there, and the estate file that follows."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterator
from dataclasses import replace

from nightlatch.estate.editing import with_address, with_port
from nightlatch.estate.model import Estate, GuestSpec
from nightlatch.estate.whole_file import rewrite, text_of
from nightlatch.faults import NightlatchError, PutBackError, UnreadableError
from nightlatch.latch import live
from nightlatch.transports.shell import Shell
from nightlatch.transports.ssh import Ssh

LONGEST_WAIT = 120
PAUSE = 0.5


def at(shell: Shell, address: str = "", port: int = 0) -> Shell:
    """The same guest, dialled at another address or port; the same keys, account and pins."""
    assert isinstance(shell, Ssh)
    where = replace(shell.address, host=address or shell.address.host, port=port or shell.address.port)
    return Ssh(shell.guest, where, shell.client, pins=shell.pins, key=shell.key)


def by_stated_port(estate: Estate, shell: Shell) -> tuple[Shell, int]:
    """The shell by the port that the estate states, where `via` names another and this one answers, and that port; else
    the shell itself and 0."""
    stated = next((each.ports for each in estate.of(shell.guest).services if each.unit == "ssh"), ())
    if not stated or not isinstance(shell, Ssh) or shell.address.port in stated:
        return shell, 0
    there = at(shell, port=stated[0])
    try:
        live.ask(there)
    except UnreadableError:
        return shell, 0
    return there, stated[0]


def arrive(shell: Shell, old: Shell, change: str, seconds: int) -> None:
    """Wait until the change is on the latch, seen over the new address. Raises PutBackError when it does not come to that,
    as soon as the guest tells so over the old one."""
    started = time.monotonic()
    last = "nothing answered"
    while time.monotonic() - started < min(seconds, LONGEST_WAIT):
        try:
            told = live.ask(shell)
        except UnreadableError as error:
            last = error.words
            words = _ended(old, change)
            if words:
                raise PutBackError(f"{shell.guest} is back at its old address: {words}") from None
        else:
            if told.pending is None or told.pending.change != change:
                words = dict(told.outcomes).get(change, "it is not on the latch any more")
                raise PutBackError(f"{words}", guest=shell.guest)
            if told.pending.state == "on-the-latch":
                return
            last = f"it got as far as: {told.pending.state}"
        time.sleep(PAUSE)
    raise PutBackError(
        f"it does not answer over its new address ({last}). The guest takes the change back by itself within "
        f"{seconds} s, and has its old address then; nightlatch pending shows it",
        guest=shell.guest,
    )


def _ended(old: Shell, change: str) -> str:
    """How the change ended, as the guest tells it over its old address; empty where it does not."""
    try:
        return dict(live.ask(old).outcomes).get(change, "")
    except UnreadableError:
        return ""


def taken_back(old: Shell, new: Shell, change: str, by: str) -> live.Outcome:
    """Take a move back: the connection that says so goes with the address, so its outcome is asked for over the old one.

    Raises UnreadableError when no answer comes over either.
    """
    started = time.monotonic()
    while time.monotonic() - started < LONGEST_WAIT:
        with contextlib.suppress(NightlatchError):  # said again: the guest may not have heard it
            return live.decide(new, change, "back", by)
        words = _ended(old, change)
        if words:
            return live.outcome_of(words)
        time.sleep(PAUSE)
    raise UnreadableError("no answer over either address; its timer takes the change back", guest=old.guest)


def answering(spec: GuestSpec, shell: Shell) -> Shell:
    """The shell that answers: at the address of `via`, or, where that fails, at one that the estate gives the guest."""
    places = [shell, *_given(spec, shell)]
    for each in places[:-1]:
        try:
            live.ask(each)
            return each
        except UnreadableError:
            continue
    return places[-1]


def _given(spec: GuestSpec, shell: Shell) -> Iterator[Shell]:
    if isinstance(shell, Ssh):
        yield from (at(shell, str(a.address.ip)) for a in spec.addresses if str(a.address.ip) != shell.address.host)


def follow(estate: Estate, guest: str, old: str, new: str) -> int:
    """Write the new address wherever the estate file names the old one; returns how many places that were.

    Raises RefusedError, UnreadableError; the guest is moved all the same.
    """
    before = text_of(estate.path)
    after, count = with_address(before, guest, old, new, str(estate.path))
    if count:
        rewrite(estate.path, before.encode(), after.encode())
    return count


def follow_port(estate: Estate, guest: str, old: int, new: int) -> int:
    """Write the new port under `via` and `dial` of a guest; returns how many places that were.

    Raises RefusedError, UnreadableError; the guest listens there all the same.
    """
    before = text_of(estate.path)
    after, count = with_port(before, guest, old, new, str(estate.path))
    rewrite(estate.path, before.encode(), after.encode())
    return count
