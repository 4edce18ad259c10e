"""Who gets in, as a list that can be asked: by person or account, key, place, service and power."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from nightlatch.access.grants import expand
from nightlatch.audit.answers import Callers, WayIn
from nightlatch.audit.compared import WayChange
from nightlatch.audit.findings import Group, GuestAudit, Proof
from nightlatch.audit.names import Names, names_of
from nightlatch.estate.model import Estate
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import nearest
from nightlatch.model.grants import GrantKind
from nightlatch.model.powers import PowerKind, implied
from nightlatch.model.secrets import Key
from nightlatch.model.sources import Sources, common_to
from nightlatch.ops.audit import audit, audit_target
from nightlatch.ops.places import callers_from, known_services
from nightlatch.services.base import Kinds
from nightlatch.services.table import KINDS

if TYPE_CHECKING:
    from nightlatch.transports.ssh import Client

__all__ = ["Access", "AccessQuestion", "Entry", "access", "access_target"]


@dataclass(frozen=True, slots=True)
class AccessQuestion:
    """What is asked; an empty part asks for nothing, and of several words in one part any will do.

    `who` are people and robots of the estate, or accounts; `keys` fingerprints (SHA256:...); `places` names of places and
    networks, or addresses; `services` the words after `by:`; `powers` what a login has to give, or to imply.
    """

    who: tuple[str, ...] = ()
    keys: tuple[str, ...] = ()
    places: tuple[str, ...] = ()
    services: tuple[str, ...] = ()
    powers: tuple[PowerKind, ...] = ()


@dataclass(frozen=True, slots=True)
class Entry:
    """One way into one guest. `certain` says whether those who were asked for surely get in by it; `kept` that it is what the
    estate keeps for itself: management access, or emergency."""

    guest: str
    way: WayIn
    certain: bool
    kept: str = ""


@dataclass(frozen=True)
class Access:
    """The ways in that were asked for, guest by guest, of the `guests` that were read. `people` are those of the estate, in its
    order; `unread` are guests and why nothing was read of them; `undecided` what keeps an answer from being certain; `latched`
    says of guests that a change is on the latch, so that it may go back with what is told here."""

    estate: str
    at: datetime
    asked: AccessQuestion
    entries: tuple[Entry, ...]
    guests: tuple[str, ...] = ()
    people: tuple[str, ...] = ()
    unread: tuple[tuple[str, str], ...] = ()
    undecided: tuple[tuple[str, Proof], ...] = ()
    latched: tuple[tuple[str, str], ...] = ()
    remarks: tuple[str, ...] = ()
    names: Names = field(default_factory=Names)

    @property
    def exit_code(self) -> int:
        """3 when something could not be read or decided, else 0."""
        return 3 if self.unread or self.undecided else 0


def access(
    estate: Estate,
    at: datetime,
    asked: AccessQuestion = AccessQuestion(),
    guests: Sequence[str] | None = None,
    *,
    client: Client | None = None,
    kinds: Kinds = KINDS,
) -> Access:
    """Read guests and list who gets in. Raises NightlatchError for a guest, place or service that is not there."""
    known_services(asked.services, kinds)
    callers = callers_from(estate, asked.places)
    found = audit(estate, at, guests, client=client, kinds=kinds).guests
    own = {name: each for name in asked.who if (each := estate.principals.get(name)) is not None}
    remarks = tuple(_remarks(asked, estate.principals))
    return Access(
        estate.name,
        at,
        asked,
        tuple(replace(each, kept=_kept(estate, each, at)) for each in _entries(found, asked, own, callers)),
        tuple(each.guest for each in found if not each.unread),
        tuple(estate.principals),
        tuple((each.guest, each.unread) for each in found if each.unread),
        tuple((each.guest, proof) for each in found for proof in each.undecided),
        tuple(_latched(found)),
        remarks,
        names_of(estate),
    )


def access_target(
    target: Path | str | Snapshot, at: datetime, asked: AccessQuestion = AccessQuestion(), *, kinds: Kinds = KINDS
) -> Access:
    """The same of one guest without an estate: whose key or password it is, nobody knows. Raises UnreadableError."""
    known_services(asked.services, kinds)
    callers = callers_from(None, asked.places)
    found = audit_target(target, at).guests
    return Access(
        "",
        at,
        asked,
        tuple(_entries(found, asked, {}, callers)),
        tuple(each.guest for each in found),
        undecided=tuple((each.guest, proof) for each in found for proof in each.undecided),
        latched=tuple(_latched(found)),
    )


def _latched(found: Iterable[GuestAudit]) -> Iterator[tuple[str, str]]:
    return ((guest.guest, each.text) for guest in found for each in guest.findings if each.group is Group.LATCH)


def _kept(estate: Estate, entry: Entry, at: datetime) -> str:
    """Whether a way in is management access or an emergency account of the estate, by its account and proof."""
    if entry.way.held_by:
        return ""
    shown = frozenset(entry.way.shown)
    for grant in expand(estate, entry.guest, at):
        same = (grant.account, grant.service) == (entry.way.account, entry.way.service)
        if grant.kind is not GrantKind.GRANT and same and any(need == shown for need in grant.proofs):
            return grant.kind.value
    return ""


def _remarks(asked: AccessQuestion, people: Iterable[str]) -> Iterator[str]:
    for name in asked.who:
        near = nearest(name, list(people)) if name not in people else ""
        if near:
            yield f'"{name}" is taken for an account: the estate has no such person or robot; did you mean "{near}"?'


def _entries(
    found: Iterable[GuestAudit], asked: AccessQuestion, own: Mapping[str, object], callers: Sources | None
) -> Iterator[Entry]:
    for guest in found:
        for way in guest.answers:
            if _is_asked(way, asked, own):
                certain, possible = (_meets(those, callers) for those in (way.certain, way.possible))
                if certain or possible:
                    yield Entry(guest.guest, way, certain)


def of_changes(estate: Estate | None, asked: AccessQuestion, changes: Iterable[WayChange]) -> tuple[WayChange, ...]:
    """Those of some changed ways in that are asked for. Raises NightlatchError for a place that is not there."""
    callers = callers_from(estate, asked.places)
    own = {name: each for name in asked.who if estate is not None and (each := estate.principals.get(name)) is not None}
    held = ((each, replace(each.way, held_by=(*each.way.held_by, *each.held))) for each in changes)
    return tuple(each for each, way in held if _is_asked(way, asked, own) and _meets(each.callers, callers))


def _is_asked(way: WayIn, asked: AccessQuestion, own: Mapping[str, object]) -> bool:
    if asked.services and way.service not in asked.services:
        return False
    if asked.who and not any(_is_for(name, way, own) for name in asked.who):
        return False
    if asked.keys and not any(isinstance(each, Key) and each.fingerprint in asked.keys for each in way.shown):
        return False
    gives = {power.gives for power in implied(frozenset(way.powers))}
    return not asked.powers or bool(gives & set(asked.powers))


def _is_for(name: str, way: WayIn, own: Mapping[str, object]) -> bool:
    """Whether somebody can use it: a person who holds all that it asks for, anybody where it asks for nothing. A name that no
    person has is an account's."""
    return (name in way.held_by or not way.shown) if name in own else name == way.account


def _meets(those: Callers, callers: Sources | None) -> bool:
    if not those.prefixes:
        return False
    return callers is None or any(common_to(those.sources, callers).values())
