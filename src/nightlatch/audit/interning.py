"""Values that many guests have in common are kept once: clones share all but their names.

Ten thousand guests of one image then take little more memory than one of them does.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any, TypeVar

from nightlatch.access.holdings import Holding
from nightlatch.audit.answers import WayIn
from nightlatch.audit.checks.registry import Identities
from nightlatch.audit.findings import Finding, GuestAudit

Value = TypeVar("Value")


class Interner:
    """Gives back the first of values that are alike."""

    def __init__(self) -> None:
        self._known: dict[object, object] = {}

    def one(self, value: Value) -> Value:
        """The value itself, or the first that was like it."""
        return self._known.setdefault(value, value)  # type: ignore[return-value]

    def audit(self, found: GuestAudit) -> GuestAudit:
        """The audit, made of values that are known already."""
        parts = ("ways", "undecided", "notes", "service", "closed", "doors", "digests", "services")
        findings, answers = tuple(map(self._finding, found.findings)), tuple(map(self._way, found.answers))
        return replace(found, findings=findings, answers=answers, **self._parts(found, *parts))

    def identities(self, kept: Identities) -> Identities:
        """The identities, made of values that are known already."""
        parts = ("host_keys", "hardware", "machine_id", "names", "interfaces")
        return replace(kept, addresses=tuple(map(self._holding, kept.addresses)), **self._parts(kept, *parts))

    def _holding(self, found: Holding) -> Holding:
        return replace(found, **self._parts(found, "address", "interface", "stated", "stored", "loaded"))

    def _way(self, found: WayIn) -> WayIn:
        """A password is one of its guest: what else a way in is made of may be alike on all."""
        if found in self._known:
            return self.one(found)
        parts = ("account", "held_by", "service", "route", "through", "powers", "certain", "possible", "causes", "undecided")
        return self.one(replace(found, shown=tuple(map(self.one, found.shown)), **self._parts(found, *parts)))

    def _finding(self, found: Finding) -> Finding:
        parts = ("check", "text", "proofs", "subjects", "reference", "waived", "about", "service")
        return replace(found, **self._parts(found, *parts))

    def _parts(self, found: object, *names: str) -> dict[str, Any]:
        """Fields of a value, each the first that was like it. Numbers are left out: 1 and True are alike."""
        return {name: self.one(getattr(found, name)) for name in names}
