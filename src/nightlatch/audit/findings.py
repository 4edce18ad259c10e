"""Findings: what is wrong, with its evidence, as finished values that a report only has to print."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import StrEnum
from hashlib import sha256

from nightlatch.audit.answers import WayIn
from nightlatch.model.services import SSH
from nightlatch.model.sockets import Listener
from nightlatch.origin import Kind, Origin


@dataclass(frozen=True, slots=True)
class Proof:
    """One line of evidence: what a place contributes, in a few words for people."""

    text: str
    origin: Origin


class Severity(StrEnum):
    """How bad a finding is."""

    CRITICAL = "critical"
    HIGH = "high"
    MEDIUM = "medium"
    LOW = "low"
    NOTE = "note"

    @property
    def rank(self) -> int:
        """0 for the worst."""
        return list(Severity).index(self)

    def at_least(self, other: Severity) -> bool:
        """Whether this is as bad as `other` or worse."""
        return self.rank <= other.rank


class Group(StrEnum):
    """The parts of an audit, in the order in which they are told."""

    LATCH = "on the latch"
    HOLE = "hole"
    SHUT_OUT = "shut out"
    UNDECIDED = "undecided"
    MANAGEMENT = "management access"
    HYGIENE = "hygiene"
    WIRE = "wire"


@dataclass(frozen=True, slots=True)
class Subject:
    """The subject of a difference, in the words in which a waiver names it: the account; the fingerprint of the `key` that
    opens it or else the kind of `proof`, or the `person` who is shut out; from `where`, and by which service."""

    account: str
    where: str
    key: str = ""
    proof: str = ""
    person: str = ""
    administers: bool = False
    service: str = SSH.name


@dataclass(frozen=True, slots=True)
class Finding:
    """One finding on one guest. `text` is a whole sentence; `proofs` are its evidence; `waived` the reason it is accepted.

    `subjects` are accounts, people or files that it touches, for machines; `about` tells of differences what a waiver names.
    `service` is the one that it is about, empty where it is about the guest itself.
    """

    check: str
    severity: Severity
    guest: str
    group: Group
    text: str
    proofs: tuple[Proof, ...] = ()
    subjects: tuple[str, ...] = ()
    reference: str = ""
    waived: str = ""
    about: tuple[Subject, ...] = ()
    service: str = ""


def identified(findings: Iterable[Finding]) -> list[tuple[str, Finding]]:
    """Each finding with its id: 32 hexadecimal digits, the same when words, the order of findings or line numbers change.

    It is made of the check, the guest, the file, and what the finding is about; those alike in all of that are numbered."""
    seen: Counter[tuple[str, ...]] = Counter()
    out = []
    for each in findings:
        key = _key(each)
        seen[key] += 1
        whole = "\0".join((*key, str(seen[key])))
        out.append((sha256(whole.encode("utf-8", "surrogateescape")).hexdigest()[:32], each))
    return out


def _key(found: Finding) -> tuple[str, ...]:
    """The subject of a finding. The estate file's path is left out: it is what somebody typed."""
    path = next((proof.origin.path for proof in found.proofs if proof.origin.kind is not Kind.ESTATE), "")
    about = {f"{each.account}|{each.person}|{each.key}|{each.proof}|{each.administers}|{each.service}" for each in found.about}
    return (found.check, found.guest, path, *sorted(found.subjects), "", *sorted(about))


@dataclass(frozen=True, slots=True)
class Entrance:
    """One line of the list of ways in: who, with what, from where, what it gives, in words."""

    account: str
    shown: str
    gives: str
    where: str
    proofs: tuple[Proof, ...]
    service: str = SSH.name

    @property
    def text(self) -> str:
        """The line as a sentence."""
        return f"{self.shown} {'give' if ' and ' in self.shown else 'gives'} {self.gives}, from {self.where}"


@dataclass(frozen=True, slots=True)
class DoorState(Entrance):
    """Management access or an emergency account (`kind`), as it stands."""

    kind: str = ""


@dataclass(frozen=True, slots=True)
class ServiceState:
    """One server of a guest: its service, the program, how it stands, and where it listens."""

    service: str
    program: str
    state: str
    sockets: tuple[Listener, ...] = ()


@dataclass(frozen=True, slots=True)
class GuestAudit:
    """All about one guest. `answers` are all ways in as data, `ways` the same in lines, `closed` why there are none; `unread` why
    nothing could be read.

    `digests` are paths that findings rest on, with the SHA-256 of what was read there.
    """

    guest: str
    findings: tuple[Finding, ...] = ()
    ways: tuple[Entrance, ...] = ()
    undecided: tuple[Proof, ...] = ()
    notes: tuple[str, ...] = ()
    unread: str = ""
    service: str = ""
    closed: str = ""
    doors: tuple[DoorState, ...] = field(default=())
    digests: tuple[tuple[str, str], ...] = ()
    answers: tuple[WayIn, ...] = ()
    services: tuple[ServiceState, ...] = ()

    def count(self, group: Group) -> int:
        """How many findings of a group are not waived."""
        return sum(f.group is group and not f.waived for f in self.findings)
