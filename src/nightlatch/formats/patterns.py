"""Wildcards as OpenSSH has them: `*` for any run of characters, `?` for one (ssh_config(5), PATTERNS)."""

from __future__ import annotations


def matches(text: str, pattern: str) -> bool:
    """Whether the whole of `text` matches `pattern`; O(len(text) * len(pattern)) at the worst (match.c, match_pattern)."""
    at = star = restart = 0
    have_star = False
    index = 0
    while index < len(text):
        if at < len(pattern) and pattern[at] == "*":
            have_star, star, restart = True, at, index
            at += 1
        elif at < len(pattern) and pattern[at] in ("?", text[index]):
            at += 1
            index += 1
        elif have_star:
            restart += 1
            at, index = star + 1, restart
        else:
            return False
    return all(char == "*" for char in pattern[at:])


def in_list(text: str, patterns: str) -> bool:
    """Whether `text` is in a comma list: a positive one matches and no `!` one does (match.c, match_pattern_list)."""
    found = False
    for each in patterns.split(","):
        if each.startswith("!"):
            if matches(text, each[1:]):
                return False
        elif matches(text, each):
            found = True
    return found
