"""Wildcards over the text of an address (`192.168.*`, `*.5`), turned into exact sets of addresses.

sshd matches such patterns, case folded, against the address as text (ssh_config(5), PATTERNS). `*` stands for any run
of characters, `?` for one. For IPv4 every pattern is solved exactly, group by group. For IPv6 the text depends on where
zeros are shortened (RFC 5952), so only patterns whose answer is certain are solved; for the others `solve` gives None.
"""

from __future__ import annotations

import ipaddress
import re
from functools import lru_cache

from nightlatch.net.addresses import ALL_V6, V4_LAST, AddressSet, prefix
from nightlatch.net.ranges import Range, Ranges, normal

MOST_RANGES = 4096
_OCTETS = tuple(str(n) for n in range(256))
_V6_PREFIX = re.compile(r"((?:[1-9a-f][0-9a-f]{0,3}:){0,7})([1-9a-f][0-9a-f]{0,3})?\*")
_V6_IMPOSSIBLE = re.compile(r"[^0-9a-f:.*?]")


class _Scattered(Exception):
    """The pattern matches too many separate ranges to hold."""


@lru_cache(maxsize=4096)
def solve(pattern: str) -> AddressSet | None:
    """All addresses whose text matches `pattern`, or None where that can't be said exactly."""
    folded = re.sub(r"\*+", "*", pattern.lower())
    if folded == "*":
        return AddressSet(((0, V4_LAST),), ALL_V6.v6)
    v6 = _ipv6(folded)
    try:
        v4 = _ipv4(folded)
    except _Scattered:
        return None
    return None if v6 is None else AddressSet(v4, v6.v6)


def _closure(pattern: str, states: frozenset[int]) -> frozenset[int]:
    out = set(states)
    for state in states:
        at = state
        while at < len(pattern) and pattern[at] == "*":
            at += 1
            out.add(at)
    return frozenset(out)


def _step(pattern: str, states: frozenset[int], text: str) -> frozenset[int]:
    now = states
    for char in text:
        moved: set[int] = set()
        for state in now:
            if state < len(pattern):
                if pattern[state] == "*":
                    moved.add(state)
                elif pattern[state] in ("?", char):
                    moved.add(state + 1)
        now = _closure(pattern, frozenset(moved))
        if not now:
            break
    return now


_LITERAL = re.compile(r"((?:(?:0|[1-9][0-9]{0,2})\.){0,3})\*")


def _ipv4(pattern: str) -> Ranges:
    whole = _LITERAL.fullmatch(pattern)
    if whole:
        # Whole groups and then anything, as nearly all patterns are: a prefix.
        groups = [int(group) for group in whole[1].split(".") if group]
        if any(group > 255 for group in groups):
            return ()
        return prefix(4, sum(g << (24 - 8 * i) for i, g in enumerate(groups)), 8 * len(groups)).v4
    if len(pattern) > 64 or re.search(r"[^0-9.*?]", pattern):
        return ()
    memo: dict[tuple[int, frozenset[int]], Ranges] = {}

    def level(group: int, states: frozenset[int]) -> Ranges:
        if not states:
            return ()
        if group == 4:
            return ((0, 0),) if len(pattern) in states else ()
        key = (group, states)
        if key not in memo:
            width = 1 << (8 * (3 - group))
            out: list[Range] = []
            for value, text in enumerate(_OCTETS):
                rest = level(group + 1, _step(pattern, states, text + ("." if group < 3 else "")))
                if len(out) + len(rest) > MOST_RANGES:
                    raise _Scattered
                out.extend((low + value * width, high + value * width) for low, high in rest)
            memo[key] = normal(out)
        return memo[key]

    return level(0, _closure(pattern, frozenset([0])))


def _ipv6(pattern: str) -> AddressSet | None:
    if _V6_IMPOSSIBLE.search(pattern):
        return AddressSet()
    if "*" not in pattern and "?" not in pattern:
        return _literal(pattern)
    # An IPv6 text with dots is ::a.b.c.d or ::ffff:a.b.c.d, and those begin with a colon.
    if "." in pattern and pattern[0] not in "*?:":
        return AddressSet()
    found = _V6_PREFIX.fullmatch(pattern)
    if not found:
        return None
    # Groups that are not zero are never shortened away, so the text starts with them.
    groups = [int(g, 16) for g in found[1].rstrip(":").split(":") if g]
    base = sum(g << (112 - 16 * i) for i, g in enumerate(groups))
    if not found[2]:
        return prefix(6, base, 16 * len(groups))
    begun = int(found[2], 16)
    shift = 112 - 16 * len(groups)
    ranges = []
    for missing in range(5 - len(found[2])):
        low, high = begun << (4 * missing), (begun + 1 << (4 * missing)) - 1
        ranges.append((base + (low << shift), base + (high << shift) + (1 << shift) - 1))
    return AddressSet(v6=normal(ranges))


def _literal(text: str) -> AddressSet:
    try:
        address = ipaddress.IPv6Address(text)
    except ValueError:
        return AddressSet()
    return prefix(6, int(address), 128) if str(address) == text else AddressSet()
