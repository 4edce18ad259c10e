"""The check of the latch: a change that is not kept yet goes back, and the rest of the audit goes by the guest as it is now."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.audit.checks.registry import CheckResult, Context, check
from nightlatch.audit.findings import Group, Proof, Severity
from nightlatch.audit.names import pending
from nightlatch.readings import latch


@check("latch.pending", Severity.HIGH, source="design: a change that nobody keeps goes back", group=Group.LATCH)
def latch_pending(context: Context) -> Iterator[CheckResult]:
    """A change is on the latch: the guest takes it back unless it is kept."""
    found = latch.read(context.access.reading.snapshot)
    if found is not None:
        text = f"A change is {pending(found)}: nightlatch keep. What is told here holds only until then."
        proof = Proof(f"change {found.change}" + (f", by {found.who}" if found.who else ""), found.origin)
        yield CheckResult(text, (proof,), (found.change,))
