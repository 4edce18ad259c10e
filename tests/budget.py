"""How many cases a judge takes: as many as its time in `make test` allows, and many more in `make judges` (NIGHTLATCH_CASES=all)."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import TypeVar

ALL = os.environ.get("NIGHTLATCH_CASES") == "all"
Item = TypeVar("Item")


def cases(few: int, many: int) -> int:
    """The number of generated cases."""
    return many if ALL else few


def sample(items: Sequence[Item], every: int) -> list[Item]:
    """All of them, or every so many-th, the first and the last among them."""
    if ALL or len(items) < 3:
        return list(items)
    return [item for number, item in enumerate(items) if number % every == 0 or number == len(items) - 1]
