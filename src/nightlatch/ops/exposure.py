"""Who can reach which port of which guest, by networks and filters: `exposure` of an estate, or of one guest."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path

from nightlatch.access.address_spaces import DIRECT, AddressSpaces
from nightlatch.access.arrivals import Arrival
from nightlatch.access.exposure import ExposedSocket, Fate
from nightlatch.access.exposure import exposure as of_guest
from nightlatch.access.grants import address_spaces
from nightlatch.audit.names import Names, names_of
from nightlatch.estate.model import Estate
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import OwnFaultError, work_on
from nightlatch.model.bounds import exactly
from nightlatch.model.sources import COMMON, AddressSpace, Sources
from nightlatch.net.addresses import AddressSet
from nightlatch.ops.survey import chosen, survey, survey_target
from nightlatch.readings import guest as readings
from nightlatch.readings import latch
from nightlatch.readings.latch import OnLatch
from nightlatch.transports.ssh import Client

__all__ = ["Exposure", "exposure", "exposure_target"]


@dataclass(frozen=True)
class Exposure:
    """All sockets that somebody else could reach, guest by guest. `unread` are guests and why nothing was read of them; `names`
    are those of places; `latched` is what is on the latch of guests, and goes back with what is told here unless it is kept."""

    estate: str
    at: datetime
    sockets: tuple[ExposedSocket, ...]
    unread: tuple[tuple[str, str], ...] = ()
    quiet: tuple[str, ...] = ()
    names: Names = field(default_factory=Names)
    spaces: AddressSpaces = field(default_factory=AddressSpaces)
    latched: Mapping[str, OnLatch] = field(default_factory=dict)

    def callers(self, seen: AddressSet, space: AddressSpace = COMMON) -> Sources:
        """Callers from addresses: those behind a translation of their own are where all that they are seen as is."""
        if space != COMMON:
            return {space: seen} if seen else {}
        return self.spaces.lift(exactly(seen)).surely

    @property
    def exit_code(self) -> int:
        """3 when something could not be read or decided, else 0."""
        return 3 if self.unread or any(each.sources(Fate.UNDECIDED) for each in self.sockets) else 0


def exposure(
    estate: Estate, at: datetime, guests: Sequence[str] | None = None, *, ports: Sequence[int] = (), client: Client | None = None
) -> Exposure:
    """Read guests and say who can reach which of their ports; `ports` narrows it to some. Raises NightlatchError for a name
    that is no guest."""
    outside = address_spaces(estate)
    found: dict[str, tuple[ExposedSocket, ...]] = {}
    unread: dict[str, str] = {}
    pending: dict[str, OnLatch] = {}
    for each in survey(estate, guests, client=client):
        if each.snapshot is None:
            unread[each.guest] = each.problem
            continue
        pending |= _pending(each.snapshot)
        try:
            with work_on(each.guest):
                found[each.guest] = _narrowed(each.snapshot, ports, outside.ways(each.guest))
        except OwnFaultError as error:
            unread[each.guest] = error.words
    order = [spec.name for spec in chosen(estate, guests)]
    return Exposure(
        estate.name,
        at,
        tuple(one for name in order for one in found.get(name, ())),
        tuple((name, unread[name]) for name in order if name in unread),
        tuple(name for name in order if name in found and not found[name]),
        names_of(estate),
        outside,
        pending,
    )


def exposure_target(
    target: Path | str | Snapshot, at: datetime, *, ports: Sequence[int] = (), client: Client | None = None
) -> Exposure:
    """A look at one guest without an estate. Raises UnreadableError, UnreachableError."""
    snapshot = target if isinstance(target, Snapshot) else survey_target(target, client=client)
    with work_on(snapshot.guest):
        found = _narrowed(snapshot, ports)
    return Exposure("", at, found, quiet=() if found else (snapshot.guest,), latched=_pending(snapshot))


def _pending(snapshot: Snapshot) -> dict[str, OnLatch]:
    found = latch.read(snapshot)
    return {snapshot.guest: found} if found is not None else {}


def _narrowed(snapshot: Snapshot, ports: Sequence[int], ways: Sequence[Arrival] = DIRECT) -> tuple[ExposedSocket, ...]:
    found = of_guest(readings.read(snapshot), ways=ways)
    return tuple(each for each in found if not ports or each.port in ports)
