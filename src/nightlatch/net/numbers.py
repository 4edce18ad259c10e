"""Whole numbers as guests' files have them: ASCII digits, and no more of them than a number there can have."""

from __future__ import annotations

MOST_DIGITS = 9


def whole(text: str, digits: int = MOST_DIGITS) -> int | None:
    """The number, or None where the text is something else: a sign, another script's digits, more than `digits` of them."""
    return int(text) if text.isascii() and text.isdigit() and len(text) <= digits else None
