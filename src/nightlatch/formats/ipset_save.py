"""Sets of addresses as `ipset save` writes them and `ipset restore` reads them (ipset(8)): create and add, in order.

Read only: what the sets mean is readings/filters/iptables.py.
"""

from __future__ import annotations

from dataclasses import dataclass

MOST_LINES = 400_000


@dataclass(frozen=True, slots=True)
class StoredSet:
    """A set: its type (hash:net and so on), whether it is of IPv6, its entries as text, and the line that makes it."""

    kind: str
    v6: bool
    entries: tuple[str, ...]
    line: int
    whole: bool = True


def parse(raw: bytes) -> dict[str, StoredSet]:
    """The sets of a text by name; one with an entry that has a condition of its own (timeout, nomatch) is not `whole`."""
    kinds: dict[str, tuple[str, bool, int]] = {}
    entries: dict[str, list[str]] = {}
    odd: set[str] = set()
    for number, line in enumerate(raw.decode("utf-8", "replace").split("\n")[:MOST_LINES], 1):
        words = line.split()
        if len(words) < 3 or words[0].startswith("#"):
            continue
        verb, name, rest = words[0].lstrip("-"), words[1], words[2:]
        if verb in ("create", "N"):
            kinds[name] = (rest[0], "inet6" in rest, number)
            entries.setdefault(name, [])
        elif verb in ("add", "A") and name in kinds:
            entries[name].append(rest[0])
            if set(rest[1:]) & {"timeout", "nomatch"}:
                odd.add(name)
    return {
        name: StoredSet(kind, v6, tuple(entries[name]), number, name not in odd) for name, (kind, v6, number) in kinds.items()
    }
