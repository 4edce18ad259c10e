"""What if: an estate and its guests held against each other as they are, and as they would be. Nothing is touched."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from nightlatch.audit import supposed
from nightlatch.audit.compared import Comparison, compared
from nightlatch.audit.findings import GuestAudit
from nightlatch.audit.names import Names, names_of
from nightlatch.audit.supposed import RuleGone, Supposition, parse
from nightlatch.estate.model import Estate
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import NightlatchError, work_on
from nightlatch.ops.audit import Audit, AuditedGuest, Auditor, assembled, audit_target
from nightlatch.ops.survey import chosen, survey, survey_target
from nightlatch.services.base import Kinds
from nightlatch.services.table import KINDS

if TYPE_CHECKING:
    from nightlatch.transports.ssh import Client

__all__ = ["Supposed", "parse", "suppose", "suppose_target"]


@dataclass(frozen=True)
class Supposed:
    """The audit as things are, as they would be, and what differs; `sentences` are what was supposed, `names` those of the
    estate."""

    sentences: tuple[str, ...]
    before: Audit
    after: Audit
    changes: Comparison
    names: Names = field(default_factory=Names)


def suppose(
    estate: Estate,
    at: datetime,
    sentences: Sequence[str],
    guests: Sequence[str] | None = None,
    *,
    client: Client | None = None,
    kinds: Kinds = KINDS,
) -> Supposed:
    """Audit guests as they are, and as they would be if all the sentences held. Each guest is read once. Raises NightlatchError
    for a sentence that is not understood, or speaks of something that is not there."""
    those = tuple(parse(each, estate) for each in sentences)
    changed = supposed.of_estate(estate, those)
    picked = [spec.name for spec in chosen(estate, guests)]
    now, then = Auditor(estate, at, kinds), Auditor(changed, at, kinds)
    before: list[AuditedGuest] = []
    after: list[AuditedGuest] = []
    met: set[Supposition] = {each for each in those if isinstance(each, RuleGone) and changed != estate}
    for found in survey(estate, picked, client=client, kinds=kinds):
        if found.snapshot is None:
            unread: AuditedGuest = (GuestAudit(found.guest, unread=found.problem), None)
            before.append(unread)
            after += [unread] if found.guest in changed.guests else []
            continue
        before.append(now.result(found.snapshot))
        if found.guest in changed.guests:
            after.append(_as_it_would_be(then, found.snapshot, those, met))
    _all_met(those, met)
    was = assembled(estate, at, picked, before)[0]
    would = assembled(changed, at, [name for name in picked if name in changed.guests], after)[0]
    names = names_of(estate)
    return Supposed(tuple(sentences), was, would, compared(was.guests, would.guests, names), names)


def _as_it_would_be(auditor: Auditor, snapshot: Snapshot, those: tuple[Supposition, ...], met: set[Supposition]) -> AuditedGuest:
    """One guest as it would be; `met` gathers the rules that were found."""
    for each in those:
        with work_on(snapshot.guest):
            changed = supposed.of_guest(snapshot, [each])
        if changed is not snapshot:
            met.add(each)
        snapshot = changed
    return auditor.result(snapshot)


def _all_met(those: tuple[Supposition, ...], met: set[Supposition]) -> None:
    for each in those:
        if isinstance(each, RuleGone) and not each.guest and each not in met:
            raise NightlatchError(
                f'no rule of any guest or perimeter that was asked for says "{each.text[:200]}"; nightlatch exposure and why '
                "print the rules that decide"
            )


def suppose_target(target: Path | str | Snapshot, at: datetime, sentences: Sequence[str]) -> Supposed:
    """The same of one guest without an estate: a key, a line or a rule is gone. Raises NightlatchError, UnreadableError."""
    those = tuple(parse(each) for each in sentences)
    snapshot = target if isinstance(target, Snapshot) else survey_target(target)
    met: set[Supposition] = set()
    changed = snapshot
    for each in those:
        more = supposed.of_guest(changed, [each])
        met |= {each} if more is not changed else set()
        changed = more
    _all_met(those, met)
    was, would = audit_target(snapshot, at), audit_target(changed, at)
    return Supposed(tuple(sentences), was, would, compared(was.guests, would.guests, Names()))
