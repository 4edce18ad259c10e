"""Gaps: what could not be read or decided, where, and why. They widen bounds; they are never a guess."""

from __future__ import annotations

from dataclasses import dataclass

from nightlatch.origin import Origin


@dataclass(frozen=True, slots=True)
class Gap:
    """Something undecided in one `area` (such as "packet filter"), because of what stands at `origin`.

    `refused` says that the system takes none of what stands beside it either."""

    area: str
    because: str
    origin: Origin
    refused: bool = False
