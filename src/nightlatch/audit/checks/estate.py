"""Checks of the estate file itself, told beside the guests they touch."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from nightlatch.audit.checks.registry import CheckResult, Context, check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.model.routes import Seal
from nightlatch.origin import Origin


@check("grant.anywhere", Severity.MEDIUM, source="design: anywhere is always a finding")
def anywhere(context: Context) -> Iterator[CheckResult]:
    """A grant lets callers in from anywhere."""
    for spec in context.said.grants if context.said else ():
        if any(ref.is_anywhere for ref in spec.places):
            text = f"Grant {spec.number} lets {', '.join(spec.who)} in from anywhere."
            yield CheckResult(text, (Proof(spec.text, spec.origin),), spec.who)


@check("grant.clear", Severity.MEDIUM, source="design: a grant that takes a connection without TLS is always a finding")
def clear(context: Context) -> Iterator[CheckResult]:
    """A grant takes a connection that is not encrypted, or whose server proves nothing."""
    for spec in context.said.grants if context.said else ():
        if spec.seal < Seal.TLS:
            text = f"Grant {spec.number} lets {', '.join(spec.who)} in over a connection that is only {spec.seal.words}."
            yield CheckResult(text, (Proof(spec.text, spec.origin),), spec.who)


@check("grant.asks-nothing", Severity.HIGH, source="design: a grant that asks for nothing is always a finding")
def asks_nothing(context: Context) -> Iterator[CheckResult]:
    """A grant lets somebody in who shows nothing at all."""
    for spec in context.said.grants if context.said else ():
        if ("none",) in spec.proofs:
            text = f"Grant {spec.number} lets {', '.join(spec.who)} in who show nothing: so everybody from there gets in."
            yield CheckResult(text, (Proof(spec.text, spec.origin),), spec.who)


@check("emergency.test-overdue", Severity.MEDIUM, source="design: an emergency door that is not tried fails on the day")
def test_overdue(context: Context) -> Iterator[CheckResult]:
    """An emergency account has not been tried for longer than the estate allows."""
    for kept in context.said.emergency if context.said else ():
        if not kept.test_every_days:
            continue
        last = kept.tested
        today = context.at.astimezone(context.estate.zone).date() if context.estate else context.at.date()
        if last is None or last + timedelta(days=kept.test_every_days) < today:
            since = f"since {last}" if last else "ever"
            every = f"the estate asks for it every {kept.test_every_days} days"
            text = f"The emergency account {kept.account} was not tested {since}; {every}."
            yield CheckResult(text, (Proof("tested", kept.origin),), (kept.account,))


@check("emergency.no-account", Severity.HIGH, source="design: an emergency account exists")
def no_account(context: Context) -> Iterator[CheckResult]:
    """An emergency account does not exist on the guest."""
    for kept in context.said.emergency if context.said else ():
        if kept.account not in context.access.reading.accounts.by_name:
            text = f"The emergency account {kept.account} does not exist here."
            yield CheckResult(text, (Proof("wanted here", kept.origin),), (kept.account,))


@check("waiver.expired", Severity.MEDIUM, source="design: a waiver ends")
def waiver_expired(context: Context) -> Iterator[CheckResult]:
    """A waiver has run out; what it excused counts again."""
    for waiver in context.said.waivers if context.said else ():
        if context.estate and context.estate.over(waiver.until, context.at):
            text = f"The waiver for {waiver.finding} ended on {waiver.until}; {waiver.owner} answers for it."
            yield CheckResult(text, (Proof(waiver.because, waiver.origin),), (waiver.owner,))


@check("emergency.no-password", Severity.HIGH, source="design: an emergency account opens")
def no_password(context: Context) -> Iterator[CheckResult]:
    """An emergency account is to open at the console with a password, and has none that opens."""
    for kept in context.said.emergency if context.said else ():
        account = context.access.reading.accounts.by_name.get(kept.account)
        if kept.console and account is not None and not account.hash_method:
            text = f"The emergency account {kept.account} has no password that opens at the console."
            shown = account.password or "empty"
            yield CheckResult(text, (Proof(f"password field {shown}", account.password_origin),), (kept.account,))


@check("guest.host-key", Severity.HIGH, source="sshd(8), SSH_KNOWN_HOSTS")
def host_key(context: Context) -> Iterator[CheckResult]:
    """A host key that the estate states is not among those the guest has."""
    spec = context.estate.guests[context.guest] if context.estate else None
    held = {key.fingerprint for key in context.access.reading.host_keys}
    for stated in spec.host_keys if spec else ():
        if stated not in held and spec is not None:
            text = f"The host key {stated} is stated for {context.guest}, which has another: rebuilt, or not the same guest."
            seen = [Proof(k.fingerprint, Origin(k.path)) for k in context.access.reading.host_keys]
            proofs = (Proof("stated here", spec.origin), *seen)
            yield CheckResult(text, proofs, (stated,))


@check("guest.system", Severity.LOW, source="os-release(5)")
def system(context: Context) -> Iterator[CheckResult]:
    """The guest runs another system than the estate says."""
    spec = context.estate.guests[context.guest] if context.estate else None
    reading = context.access.reading
    found = "-".join(part for part in (reading.system, reading.release) if part)
    if spec is not None and spec.system and found and spec.system not in (found, reading.system):
        text = f"The estate says {spec.system}, the guest says {found}."
        yield CheckResult(text, (Proof("stated here", spec.origin), Proof(found, Origin("/etc/os-release"))), (found,))
