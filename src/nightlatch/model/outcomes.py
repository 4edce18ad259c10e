"""The states of a change: kept, put back, or on the latch."""

from __future__ import annotations

from enum import StrEnum


class ChangeState(StrEnum):
    """How a change stands: kept, taken back, or on the latch and not decided."""

    KEPT = "kept"
    PUT_BACK = "put back"
    ON_THE_LATCH = "on the latch"
