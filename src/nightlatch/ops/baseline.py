"""A baseline: the findings of an earlier audit, which a later one holds its own against: only new ones count."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from nightlatch.audit import documents
from nightlatch.audit.findings import Finding, Group, GuestAudit, Severity, identified
from nightlatch.faults import NightlatchError
from nightlatch.ops.audit import Audit

LARGEST = 256 << 20
ID = re.compile(r"[0-9a-f]{32}")
MADE_BY = "nightlatch audit --format json"

__all__ = ["Baseline", "read_baseline"]


@dataclass(frozen=True)
class Baseline:
    """The findings that an earlier audit told, guest and id of each, and what it could not decide, guest and words of each."""

    path: Path
    known: frozenset[tuple[str, str]]
    undecided: frozenset[tuple[str, str]] = frozenset()

    def new(self, result: Audit) -> list[tuple[str, Finding]]:
        """The findings that are not among them, and not waived, each with its id."""
        return [(id, each) for guest in result.guests for id, each in _counting(guest) if (guest.guest, id) not in self.known]

    def gone(self, result: Audit) -> int:
        """How many of them are told no more, on the guests that were audited and read."""
        read = {guest.guest for guest in result.guests if not guest.unread}
        now = {(guest.guest, id) for guest in result.guests for id, _ in identified(guest.findings)}
        return sum(each[0] in read and each not in now for each in self.known)

    def exit_code(self, result: Audit, fail_at: Severity = Severity.HIGH) -> int:
        """3 when something could not be read or decided that the baseline did not know, else 1 for new findings at or above
        `fail_at`, else 0."""
        new = [each for _, each in self.new(result)]
        gaps = {(guest.guest, proof.text) for guest in result.guests for proof in guest.undecided}
        if any(guest.unread for guest in result.guests) or gaps - self.undecided or any(e.group is Group.UNDECIDED for e in new):
            return 3
        return 1 if any(each.severity.at_least(fail_at) for each in new) else 0


def _counting(guest: GuestAudit) -> Iterator[tuple[str, Finding]]:
    yield from ((id, each) for id, each in identified(guest.findings) if not each.waived)


def read_baseline(path: Path) -> Baseline:
    """What `audit --format json` printed on another day. Raises NightlatchError that says what the file is instead."""
    try:
        with path.open("rb") as stream:
            raw = stream.read(LARGEST + 1)
        told = json.loads(raw)
    except OSError as error:
        raise NightlatchError(
            f"{path} can't be read: {error.strerror}; nightlatch audit --format json > {path} makes it"
        ) from None
    except (ValueError, RecursionError):
        raise NightlatchError(f"{path} is no JSON; nightlatch audit --format json > {path} makes it") from None
    form = told.get("format") if isinstance(told, dict) else None
    if form != documents.FORMAT:
        what = f'says of itself to be "{str(form)[:60]}"' if form else "does not say what it is"
        raise NightlatchError(f"{path} {what}; a baseline is {documents.FORMAT}, as {MADE_BY} prints it")
    return Baseline(path, frozenset(_known(told, path)), frozenset(_gaps(told)))


def _known(told: dict[str, Any], path: Path) -> Iterator[tuple[str, str]]:
    try:
        for guest in told["guests"]:
            for finding in guest["findings"]:
                if not ID.fullmatch(finding["id"]):
                    raise ValueError
                if not finding.get("waived"):
                    yield str(guest["guest"]), finding["id"]
    except (KeyError, TypeError, ValueError):
        raise NightlatchError(f"{path} lacks what an audit holds: guests with findings, and an id in each") from None


def _gaps(told: dict[str, Any]) -> Iterator[tuple[str, str]]:
    for guest in told["guests"]:
        for each in guest.get("undecided") or ():
            if isinstance(each, dict):
                yield str(guest["guest"]), str(each.get("text", ""))
