"""Accounts that are locked out for a while after wrong passwords (pam_faillock(8), faillock.conf(5)).

A running guest's tallies are what its own `faillock` prints, in UTC. Whether they count hangs on the stack of the service that
asks: a login by a key asks none of it.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.model.causes import LockedOut
from nightlatch.net.numbers import whole
from nightlatch.origin import Kind, Origin

CONF = "/etc/security/faillock.conf"
MODULE = "pam_faillock.so"
LISTED = Origin("faillock", kind=Kind.LISTING)
NEVER = 0
_NAME = re.compile(r"(\S{1,255}):")
_LINE = re.compile(r"([0-9]{4}-[0-9]{2}-[0-9]{2} [0-9:]{8}) +(\S+) +(.*\S) +([VI])")
_SETTING = re.compile(r"\s*([a-z_]+)(?:\s*=\s*(\S+))?\s*(?:#.*)?")


@dataclass(frozen=True, slots=True)
class Rule:
    """When an account is locked out: after `deny` failures within `interval` seconds, for `seconds` (NEVER: until somebody resets
    it); root only where it says so."""

    deny: int = 3
    interval: int = 900
    seconds: int = 600
    root: bool = False
    root_seconds: int | None = None


@dataclass(frozen=True)
class Lockouts:
    """The failures of each account that count, in seconds since 1970; `conf` are the settings of faillock.conf."""

    failures: Mapping[str, tuple[int, ...]] = field(default_factory=dict)
    conf: tuple[str, ...] = ()

    def of(self, name: str, uid: int, arguments: Iterable[str], at: int) -> LockedOut | None:
        """The lock on an account at a moment of the guest's own clock, by the arguments of the module in the stack that asks."""
        rule = _rule((*self.conf, *arguments))
        times = self.failures.get(name, ())
        if not times or not rule.deny or (uid == 0 and not rule.root):
            return None
        last = max(times)
        many = sum(last - each < rule.interval for each in times)
        lasts = rule.seconds if uid or rule.root_seconds is None else rule.root_seconds
        if many < rule.deny or (lasts != NEVER and last + lasts <= at):
            return None
        return LockedOut(name, many, last + lasts if lasts != NEVER else NEVER, LISTED)


def read(snapshot: Snapshot) -> Lockouts:
    """The tallies of a running guest; none of a guest in a folder, for they don't outlive a boot."""
    raw = snapshot.listings.get("lockouts", b"").decode("utf-8", "replace")
    if not raw:
        return Lockouts()
    found: dict[str, list[int]] = {}
    for name, when in _failures(raw):
        found.setdefault(name, []).append(when)
    return Lockouts({name: tuple(times) for name, times in found.items()}, _settings(snapshot))


def rule(snapshot: Snapshot, arguments: Iterable[str]) -> Rule:
    """When wrong passwords lock an account out, by faillock.conf(5) and the arguments of the module in a stack."""
    return _rule((*_settings(snapshot), *arguments))


def _settings(snapshot: Snapshot) -> tuple[str, ...]:
    conf = (snapshot.content(CONF) or b"").decode("utf-8", "replace").split("\n")
    words = (_SETTING.fullmatch(line) for line in conf)
    return tuple(f"{each[1]}={each[2]}" if each[2] else each[1] for each in words if each is not None)


def _failures(raw: str) -> Iterator[tuple[str, int]]:
    """The failures that count, account by account, as faillock(8) prints them with TZ=UTC."""
    name = ""
    for line in raw.split("\n"):
        head, told = _NAME.fullmatch(line.strip()), _LINE.fullmatch(line.strip())
        if head is not None:
            name = head[1]
        elif told is not None and told[4] == "V" and name:
            try:
                yield name, int(datetime.strptime(told[1], "%Y-%m-%d %H:%M:%S").replace(tzinfo=UTC).timestamp())
            except ValueError:
                continue


def _rule(words: Iterable[str]) -> Rule:
    """Settings in their order; a later one counts (pam_faillock.c reads the file first, then the arguments)."""
    rule: dict[str, int | bool | None] = {}
    for word in words:
        key, _, value = word.partition("=")
        number = NEVER if value == "never" else whole(value, 10)
        if key == "even_deny_root":
            rule["root"] = True
        elif number is not None and key in _KEYS:
            rule[_KEYS[key]] = number
    return Rule(**rule)  # type: ignore[arg-type]


_KEYS = {"deny": "deny", "fail_interval": "interval", "unlock_time": "seconds", "root_unlock_time": "root_seconds"}
