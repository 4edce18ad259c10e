"""Passwords made here: drawn at random, of signs that are told apart in print and lie on the same keys of most keyboards."""

from __future__ import annotations

from collections.abc import Callable
from math import log2

ALPHABET = "abcdefghjkmnpqrstuvwx23456789"  # without i, l, o, 0 and 1, and without y and z, which change places on some keyboards
LENGTH = 20
BITS = int(LENGTH * log2(len(ALPHABET)))  # 97: more than any guessing reaches


def made(below: Callable[[int], int]) -> str:
    """A password of LENGTH signs of ALPHABET; `below` draws a whole number from 0 to less than its argument, all alike, from a
    source that nobody can foretell (secrets.randbelow)."""
    return "".join(ALPHABET[below(len(ALPHABET))] for _ in range(LENGTH))
