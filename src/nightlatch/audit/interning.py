"""Values that many guests have in common are kept once: clones share all but their names.

Ten thousand guests of one image then take little more memory than one of them does.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TypeVar

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
        """The same audit, made of what is known already."""
        one = self.one
        return replace(
            found,
            findings=tuple(map(self._finding, found.findings)),
            ways=one(found.ways),
            undecided=one(found.undecided),
            notes=one(found.notes),
            service=one(found.service),
            closed=one(found.closed),
            doors=one(found.doors),
            digests=one(found.digests),
            answers=tuple(map(self._way, found.answers)),
            services=one(found.services),
        )

    def identities(self, kept: Identities) -> Identities:
        """The same identities, made of what is known already."""
        one = self.one
        return replace(
            kept,
            host_keys=one(kept.host_keys),
            addresses=tuple(map(self._holding, kept.addresses)),
            hardware=one(kept.hardware),
            machine_id=one(kept.machine_id),
            names=one(kept.names),
            interfaces=one(kept.interfaces),
        )

    def _holding(self, found: Holding) -> Holding:
        one = self.one
        return replace(
            found,
            address=one(found.address),
            interface=one(found.interface),
            stated=one(found.stated),
            stored=one(found.stored),
            loaded=one(found.loaded),
        )

    def _way(self, found: WayIn) -> WayIn:
        """A password is one of its guest: what else a way is made of may be alike on all."""
        one = self.one
        if found in self._known:
            return one(found)
        made = replace(
            found,
            account=one(found.account),
            held_by=one(found.held_by),
            service=one(found.service),
            route=one(found.route),
            through=one(found.through),
            shown=tuple(map(one, found.shown)),
            powers=one(found.powers),
            certain=one(found.certain),
            possible=one(found.possible),
            causes=one(found.causes),
            undecided=one(found.undecided),
        )
        return one(made)

    def _finding(self, found: Finding) -> Finding:
        one = self.one
        return replace(
            found,
            check=one(found.check),
            text=one(found.text),
            proofs=one(found.proofs),
            subjects=one(found.subjects),
            reference=one(found.reference),
            waived=one(found.waived),
            about=one(found.about),
            service=one(found.service),
        )
