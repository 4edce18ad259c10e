"""What many guests have in common is kept once: clones share all but their names.

Ten thousand guests of one image then take little more memory than one of them does.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TypeVar

from nightlatch.audit.findings import Finding, GuestAudit

Value = TypeVar("Value")


class Shared:
    """Gives back the first of values that are alike."""

    def __init__(self) -> None:
        self._known: dict[object, object] = {}

    def one(self, value: Value) -> Value:
        """The value itself, or the first that was like it."""
        return self._known.setdefault(value, value)  # type: ignore[return-value]

    def audit(self, found: GuestAudit) -> GuestAudit:
        """The same audit, made of what is known already."""
        one = self.one
        return replace(
            found, findings=tuple(map(self._finding, found.findings)), ways=one(found.ways), undecided=one(found.undecided),
            notes=one(found.notes), service=one(found.service), closed=one(found.closed), doors=one(found.doors),
            digests=one(found.digests), answers=one(found.answers), services=one(found.services),
        )  # fmt: skip

    def _finding(self, found: Finding) -> Finding:
        one = self.one
        return replace(
            found, check=one(found.check), text=one(found.text), proofs=one(found.proofs), subjects=one(found.subjects),
            reference=one(found.reference), waived=one(found.waived), about=one(found.about),
        )  # fmt: skip
