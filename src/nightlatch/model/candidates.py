"""What a service proposes: steps that belong together, on files or on accounts."""

from __future__ import annotations

from nightlatch.model.account_steps import AccountStep
from nightlatch.model.steps import FileStep

Candidate = tuple[FileStep | AccountStep, ...]
