"""Checks of the estate file itself, told beside the guests they touch."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from nightlatch.audit.checks.registry import Context, Told, check
from nightlatch.audit.findings import Severity
from nightlatch.reason.access import Proof


@check("grant.anywhere", Severity.MEDIUM, source="design: anywhere is always a finding")
def anywhere(context: Context) -> Iterator[Told]:
    """A grant lets callers in from anywhere."""
    for spec in context.estate.grants if context.estate else ():
        if context.guest in spec.guests and any(ref.text == "anywhere" for ref in spec.places):
            text = f"Grant {spec.number} lets {', '.join(spec.who)} in from anywhere."
            yield Told(text, (Proof(spec.text, spec.origin),), spec.who)


@check("emergency.test-overdue", Severity.MEDIUM, source="design: an emergency door that is not tried fails on the day")
def test_overdue(context: Context) -> Iterator[Told]:
    """An emergency account has not been tried for longer than the estate allows."""
    for kept in context.estate.emergency if context.estate else ():
        if context.guest not in kept.guests or not kept.test_every_days:
            continue
        last = kept.tested
        today = context.at.astimezone(context.estate.zone).date() if context.estate else context.at.date()
        if last is None or last + timedelta(days=kept.test_every_days) < today:
            since = f"since {last}" if last else "ever"
            every = f"the estate asks for it every {kept.test_every_days} days"
            text = f"The emergency account {kept.account} was not tested {since}; {every}."
            yield Told(text, (Proof("tested", kept.origin),), (kept.account,))


@check("emergency.no-account", Severity.HIGH, source="design: an emergency account exists")
def no_account(context: Context) -> Iterator[Told]:
    """An emergency account does not exist on the guest."""
    for kept in context.estate.emergency if context.estate else ():
        if context.guest in kept.guests and kept.account not in context.access.reading.accounts.by_name:
            text = f"The emergency account {kept.account} does not exist here."
            yield Told(text, (Proof("wanted here", kept.origin),), (kept.account,))


@check("waiver.expired", Severity.MEDIUM, source="design: a waiver ends")
def waiver_expired(context: Context) -> Iterator[Told]:
    """A waiver has run out; what it excused counts again."""
    for waiver in context.estate.waivers if context.estate else ():
        if context.guest in waiver.guests and context.estate and context.estate.over(waiver.until, context.at):
            text = f"The waiver for {waiver.finding} ended on {waiver.until}; {waiver.owner} answers for it."
            yield Told(text, (Proof(waiver.because, waiver.origin),), (waiver.owner,))
