"""The address book of an estate: who sits where, what collides, what is free, and which address to dial from a place."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path

from nightlatch.access.book import Book, Choice, Proposal, Reachability, book, choices, narrowed, proposals
from nightlatch.access.holdings import Holding, holdings
from nightlatch.audit.findings import Finding, Severity
from nightlatch.estate.model import Estate
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import NightlatchError, nearest, work_on
from nightlatch.net.addresses import EVERY_ADDRESS, AddressSet
from nightlatch.net.literal import AddressError, IPAddress, parse_network
from nightlatch.ops.audit import audit_target, audited
from nightlatch.ops.survey import chosen, survey_target
from nightlatch.readings.network import network_reading
from nightlatch.readings.network.network_reading import NetworkReading
from nightlatch.transports.ssh import Client

__all__ = ["AddressBook", "Interfaces", "addresses", "addresses_target"]

CHECKS = ("address.", "name.", "guest.shared-")


@dataclass(frozen=True, slots=True)
class DialAdvice:
    """Which address of a guest to dial from a place: all that it has, the best first. `name` is what people type.

    `shared` are other guests that have the best one, too.
    """

    guest: str
    name: str
    choices: tuple[Choice, ...]
    shared: tuple[str, ...] = ()

    @property
    def best(self) -> Choice | None:
        """The one to dial, or None where none leads there."""
        return next((each for each in self.choices if each.way is not Reachability.NO), None)


@dataclass(frozen=True)
class AddressBook:
    """An estate's book. `findings` are those about addresses; `unread` are guests and why nothing was read of them."""

    estate: str
    at: datetime
    book: Book
    findings: tuple[Finding, ...]
    unread: tuple[tuple[str, str], ...]
    place: str = ""
    dials: tuple[DialAdvice, ...] = ()
    proposals: tuple[Proposal, ...] | None = None

    def exit_code(self, fail_at: Severity = Severity.HIGH) -> int:
        """3 when a guest could not be read, else 1 for findings at or above `fail_at`, else 0."""
        if self.unread:
            return 3
        return 1 if any(f.severity.at_least(fail_at) and not f.waived for f in self.findings) else 0


@dataclass(frozen=True)
class Interfaces:
    """One guest without an estate: its network as it was read, its addresses, and what is wrong with them."""

    guest: str
    network: NetworkReading
    holdings: tuple[Holding, ...]
    findings: tuple[Finding, ...]


def addresses(
    estate: Estate,
    at: datetime,
    guests: Sequence[str] | None = None,
    *,
    place: str = "",
    propose: bool = False,
    client: Client | None = None,
) -> AddressBook:
    """Read the guests and make the book. `place` is a place of the estate or an address to dial from.

    `guests` narrows what is told; all are read, for what is free and what collides depends on everybody. With `propose`
    every guest that sits on a network and has no lasting address there gets one proposed. Raises EstateError, and
    NightlatchError for a word that is no place.
    """
    callers = place_of(estate, place) if place else EVERY_ADDRESS
    shown = [spec.name for spec in chosen(estate, guests)]
    result, fleet = audited(estate, at, client=client)
    read = {each.guest for each in fleet}
    found = [held for each in fleet for held in each.addresses]
    for spec in estate.guests.values():
        if spec.name not in read:  # what the estate says of a guest counts although it was not read
            found.extend(holdings(NetworkReading(), spec.name, spec))
    known = {each.guest: each.interfaces for each in fleet}

    def touches(finding: Finding) -> bool:
        return bool({finding.guest, *finding.subjects} & {*shown})

    return AddressBook(
        estate.name,
        at,
        narrowed(book(estate, found, list(estate.guests)), shown),
        tuple(f for g in result.guests for f in g.findings if f.check.startswith(CHECKS) and touches(f)),
        tuple((g.guest, g.unread) for g in result.guests if g.unread),
        place,
        tuple(_dials(estate, found, shown, callers)) if place else (),
        tuple(p for p in proposals(estate, found, known) if p.guest in shown) if propose else None,
    )


def place_of(estate: Estate, text: str) -> AddressSet:
    """The callers in a place of the estate, or at an address or prefix written out."""
    if text in estate.places:
        return estate.places[text].seen
    try:
        return parse_network(text)
    except AddressError as error:
        near = nearest(text, list(estate.places))
        known = ", ".join(estate.places) or "there are none"
        hint = f' Did you mean "{near}"?' if near else f" {error}; expected {error.expected}."
        raise NightlatchError(f'there is no place "{text}" in {estate.path} ({known}).{hint}') from None


def _dials(estate: Estate, found: list[Holding], names: list[str], callers: AddressSet) -> list[DialAdvice]:
    by_guest: dict[str, list[Holding]] = {}
    holders: dict[IPAddress, dict[str, None]] = {}
    for each in found:
        by_guest.setdefault(each.guest, []).append(each)
        holders.setdefault(each.address, {})[each.guest] = None
    out = []
    for name in names:
        made = DialAdvice(name, estate.guests[name].dial, tuple(choices(estate, by_guest.get(name, []), callers)))
        others = holders.get(made.best.holding.address, {}) if made.best is not None else {}
        out.append(replace(made, shared=tuple(other for other in others if other != name)))
    return out


def addresses_target(target: Path | str | Snapshot, at: datetime, *, client: Client | None = None) -> Interfaces:
    """A look at one guest's interfaces without an estate. Raises UnreadableError."""
    snapshot = target if isinstance(target, Snapshot) else survey_target(target, client=client)
    (guest,) = audit_target(snapshot, at).guests
    with work_on(snapshot.guest):
        read = network_reading.read(snapshot)
    findings = tuple(f for f in guest.findings if f.check.startswith(CHECKS))
    return Interfaces(snapshot.guest, read, holdings(read, snapshot.guest), findings)
