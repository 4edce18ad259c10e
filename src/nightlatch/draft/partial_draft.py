"""The part of a draft that one sentence of the estate asks for: edits, acts, and tasks left to a person."""

from __future__ import annotations

from dataclasses import dataclass, field

from nightlatch.draft.acts import Act
from nightlatch.draft.steps import AnyStep
from nightlatch.model.steps import ManualTask


@dataclass
class PartialDraft:
    """Edits of files and acts of the service manager for one guest, and what is left to a person."""

    steps: list[AnyStep] = field(default_factory=list)
    acts: list[Act] = field(default_factory=list)
    left: list[ManualTask] = field(default_factory=list)

    def leave(self, text: str, hand: str) -> None:
        """Tell what is not drafted, and what to do about it by hand."""
        self.left.append(ManualTask(text, hand))
