"""glob(3) over a tree that is given as a function from folders to names: Include patterns, as sshd expands them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from functools import lru_cache

_MAGIC = re.compile(r"[*?\[]")


def has_magic(pattern: str) -> bool:
    """Whether the pattern holds a wildcard."""
    return bool(_MAGIC.search(pattern))


def expand(pattern: str, names_in: Callable[[str], Iterable[str]], exists: Callable[[str], bool]) -> list[str]:
    """All paths that match, sorted by character code as in the C locale; a leading dot must be matched by a dot."""
    found = [""]
    for part in [p for p in pattern.split("/") if p]:
        if not has_magic(part):
            found = [f"{base}/{unescaped(part)}" for base in found]
            continue
        compiled = _compiled(part)
        found = [
            f"{base}/{name}"
            for base in found
            for name in names_in(base or "/")
            if compiled.fullmatch(name) and (part[0] == "." or not name.startswith("."))
        ]
    return sorted(path for path in found if path and exists(path))


def unescaped(part: str) -> str:
    """A part without wildcards as the name it stands for."""
    return re.sub(r"\\(.)", r"\1", part)


@lru_cache(maxsize=512)
def _compiled(part: str) -> re.Pattern[str]:
    runs: list[list[str]] = [[]]
    for piece in _pieces(part):
        if piece != "*":
            runs[-1].append(piece)
        elif runs[-1] or len(runs) == 1:
            runs.append([])
    first, *rest = ["".join(run) for run in runs]
    # Atomic groups: the nearest place is always good enough between two stars, so nothing backtracks.
    middle = "".join(f"(?>.*?{run})" for run in rest[:-1])
    return re.compile(first + middle + (f".*{rest[-1]}" if rest else ""), re.DOTALL)


def _pieces(part: str) -> Iterator[str]:
    at = 0
    while at < len(part):
        char = part[at]
        if char == "*":
            yield "*"
        elif char == "?":
            yield "."
        elif char == "\\" and at + 1 < len(part):
            at += 1
            yield re.escape(part[at])
        elif char == "[" and (close := _closing(part, at)) > 0:
            yield _bracket(part[at + 1 : close])
            at = close
        else:
            yield re.escape(char)
        at += 1


def _closing(part: str, at: int) -> int:
    """Where the set that begins at `at` ends, -1 where it does not: a bracket that comes first in it is one of its members."""
    first = at + 1 + (part[at + 1 : at + 2] in ("!", "^"))
    return part.find("]", first + 1)


def _bracket(inside: str) -> str:
    """A set of characters; a range that runs backwards holds none (glob(7); measured: glibc's glob)."""
    negated = inside[0] in "!^"
    rest = inside[negated:]
    members: list[str] = []
    at = 0
    while at < len(rest):
        if rest[at + 1 : at + 2] == "-" and at + 2 < len(rest):
            if rest[at] <= rest[at + 2]:
                members.append(f"{_in_set(rest[at])}-{_in_set(rest[at + 2])}")
            at += 3
        else:
            members.append(_in_set(rest[at]))
            at += 1
    if not members:
        return "." if negated else "(?!)"
    return "[" + ("^" if negated else "") + "".join(members) + "]"


def _in_set(char: str) -> str:
    return f"\\{char}" if char in "\\[]^&~|-" else char
