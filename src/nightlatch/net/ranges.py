"""Inclusive ranges of whole numbers in canonical form: sorted, neither overlapping nor touching. O(n + m) operations."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable

BEYOND = 1 << 129  # more than any address
FEW = 16  # so many times more ranges on one side: they are sought, not walked through
Range = tuple[int, int]
Ranges = tuple[Range, ...]


def normal(ranges: Iterable[Range]) -> Ranges:
    """Sorted ranges, overlapping and touching ones joined."""
    ordered = sorted(ranges)
    if len(ordered) < 2:
        return tuple(ordered)
    out: list[Range] = []
    for low, high in ordered:
        if out and low <= out[-1][1] + 1:
            if high > out[-1][1]:
                out[-1] = (out[-1][0], high)
        else:
            out.append((low, high))
    return tuple(out)


def _touched(a: Ranges, low: int, high: int) -> tuple[int, int]:
    """Where the ranges of `a` begin and end that share numbers with low to high."""
    first = bisect_right(a, (low, low))
    if first and a[first - 1][1] >= low:
        first -= 1
    return first, bisect_right(a, (high, BEYOND), lo=first)


def _few_from_many(a: Ranges, b: Ranges) -> Ranges:
    """`a` without a few ranges: each is sought, and all else is copied as it is."""
    for low, high in b:
        first, last = _touched(a, low, high)
        if first < last:
            left = ((a[first][0], low - 1),) if a[first][0] < low else ()
            right = ((high + 1, a[last - 1][1]),) if a[last - 1][1] > high else ()
            a = a[:first] + left + right + a[last:]
    return a


def minus(a: Ranges, b: Ranges) -> Ranges:
    """The numbers in `a` and not in `b`."""
    if not b or not a:
        return a
    if len(b) * FEW < len(a):
        return _few_from_many(a, b)
    out: list[Range] = []
    index = 0
    for first, high in a:
        low = first
        while index < len(b) and b[index][1] < low:
            index += 1
        step = index
        while step < len(b) and b[step][0] <= high:
            if b[step][0] > low:
                out.append((low, b[step][0] - 1))
            low = b[step][1] + 1
            if low > high:
                break
            step += 1
        if low <= high:
            out.append((low, high))
    return tuple(out)


def _few_of_many(a: Ranges, b: Ranges) -> Ranges:
    out: list[Range] = []
    for low, high in b:
        first, last = _touched(a, low, high)
        out += [(max(low, x), min(high, y)) for x, y in a[first:last]]
    return tuple(out)


def both(a: Ranges, b: Ranges) -> Ranges:
    """The numbers in both."""
    if not a or not b:
        return ()
    if len(a) == 1 and len(b) == 1:
        low, high = max(a[0][0], b[0][0]), min(a[0][1], b[0][1])
        return ((low, high),) if low <= high else ()
    if len(b) * FEW < len(a):
        return _few_of_many(a, b)
    if len(a) * FEW < len(b):
        return _few_of_many(b, a)
    out: list[Range] = []
    i = j = 0
    while i < len(a) and j < len(b):
        low, high = max(a[i][0], b[j][0]), min(a[i][1], b[j][1])
        if low <= high:
            out.append((low, high))
        if a[i][1] < b[j][1]:
            i += 1
        else:
            j += 1
    return tuple(out)
