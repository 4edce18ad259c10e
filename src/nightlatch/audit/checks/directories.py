"""Checks of what the lists of directories say."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from nightlatch.audit.checks.registry import CheckResult, Context, check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.model.grants import GrantKind

OLD = timedelta(days=90)


@check("directory.disabled", Severity.MEDIUM, source="design: a list says which of a directory's accounts are disabled")
def disabled(context: Context) -> Iterator[CheckResult]:
    """A grant names an account that the list of its directory says is disabled."""
    accounts = context.access.reading.accounts
    if context.estate is None or not accounts.elsewhere:
        return
    granted = {g.account: g for g in context.grants if g.kind is GrantKind.GRANT and any(g.callers.perhaps.values())}
    for each in context.estate.directories.values():
        for name, grant in granted.items():
            found = each.accounts.get(name)
            known = accounts.by_name.get(name)
            if found is not None and found.disabled and (known is None or known.elsewhere):
                text = f"{grant.who} is granted the account {name}, which is disabled in {each.name} (list of {each.taken})."
                yield CheckResult(text, (Proof("disabled: yes", found.origin), Proof(grant.text, grant.origin)), (name,))


@check("directory.old", Severity.LOW, source="design: every answer says how old its list is")
def old(context: Context) -> Iterator[CheckResult]:
    """The list of a directory that a guest has accounts from is older than 90 days: others may have come and gone."""
    if context.estate is None or not context.access.reading.accounts.elsewhere:
        return
    for each in context.estate.directories.values():
        age = context.at.astimezone(context.estate.zone).date() - each.taken
        if age > OLD:
            proof = Proof(f"taken {each.taken}", each.origin)
            yield CheckResult(f"The list of the directory {each.name} is {age.days} days old.", (proof,), (each.name,))
