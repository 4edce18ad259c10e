"""Blocks of an audit's text: each cause once, with all the guests that it touches; findings of the same guests stand together."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from nightlatch.audit.findings import Finding, Group, GuestAudit, Proof
from nightlatch.origin import Kind

_NUMBERED = re.compile(r"(.*?)([0-9]{1,9})")


@dataclass
class Block:
    """Findings, undecided things and notes that are the same on all of these guests; `unread` is why nothing was read there."""

    guests: tuple[str, ...]
    findings: list[Finding] = field(default_factory=list)
    undecided: list[Proof] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    unread: str = ""

    def count(self, group: Group) -> int:
        """How many findings of a group it holds."""
        return sum(each.group is group for each in self.findings)

    @property
    def weight(self) -> tuple[int, ...]:
        """Blocks with holes first, then with people shut out, then by what there is to look at, then by guests."""
        counts = (self.count(Group.LATCH), self.count(Group.HOLE), self.count(Group.SHUT_OUT), len(self.findings))
        return (*(-each for each in counts), -len(self.guests))


@dataclass
class AuditLayout:
    """An audit as it is told: `blocks`, what lies `at_home` in the estate file with the guests it touches, and `quiet` guests."""

    blocks: list[Block]
    at_home: list[tuple[Finding, tuple[str, ...]]]
    quiet: list[GuestAudit]


Key = tuple[object, ...]


def told(guests: Sequence[GuestAudit]) -> AuditLayout:
    """The blocks of an audit."""
    touched: dict[Key, list[str]] = {}
    first: dict[Key, object] = {}
    for guest in guests:
        for key, value in _parts(guest):
            names = touched.setdefault(key, [])
            names += [guest.guest] if guest.guest not in names[-1:] else []
            first.setdefault(key, value)
    home = {key for key, value in first.items() if isinstance(value, Finding) and touched[key][1:] and _is_at_home(value)}
    loud = {name for key, names in touched.items() if key not in home and key[0] in ("finding", "unread") for name in names}
    blocks: dict[tuple[str, ...], Block] = {}
    for key, value in first.items():
        whose = tuple(touched[key])
        if key not in home and loud & set(whose):
            _into(blocks.setdefault(whose, Block(whose)), key, value)
    ordered = sorted(blocks.values(), key=lambda block: block.weight)
    at_home = [(value, tuple(touched[key])) for key, value in first.items() if key in home and isinstance(value, Finding)]
    return AuditLayout(ordered, at_home, [guest for guest in guests if guest.guest not in loud])


def _parts(guest: GuestAudit) -> Iterator[tuple[Key, object]]:
    if guest.unread:
        because = guest.unread
        yield ("unread", because), because
        return
    for each in guest.findings:
        if not each.waived:
            yield ("finding", each.check, each.severity, each.group, each.text, each.proofs), each
    for proof in guest.undecided:
        yield ("undecided", proof), proof
    for note in guest.notes[:5]:
        yield ("note", note), note


def _into(block: Block, key: Key, value: object) -> None:
    if isinstance(value, Finding):
        block.findings.append(value)
    elif isinstance(value, Proof):
        block.undecided.append(value)
    elif key[0] == "unread":
        block.unread = str(value)
    else:
        block.notes.append(str(value))


def _is_at_home(finding: Finding) -> bool:
    """Whether a finding of hygiene lies in the estate file itself."""
    return finding.group is Group.HYGIENE and bool(finding.proofs) and finding.proofs[0].origin.kind is Kind.ESTATE


def named(guests: Sequence[str]) -> str:
    """Guests in a row; of many that are numbered, the first and the last: `clone-001 to clone-200`."""
    out: list[str] = []
    at = 0
    while at < len(guests):
        end = at
        while end + 1 < len(guests) and _follows(guests[end], guests[end + 1]):
            end += 1
        if end - at < 3:
            out += guests[at : end + 1]
        else:
            out.append(f"{guests[at]} to {guests[end]}")
        at = end + 1
    return ", ".join(out)


def _follows(one: str, other: str) -> bool:
    a, b = _NUMBERED.fullmatch(one), _NUMBERED.fullmatch(other)
    return a is not None and b is not None and a[1] == b[1] and len(a[2]) == len(b[2]) and int(b[2]) == int(a[2]) + 1
