"""Access paths of one guest: every account, every proof, every power, with exact source sets.

What its server lets in (`entries.py`) is narrowed to those who come through to the socket, by each way to the guest; the
bounds are what holds in all worlds and in some.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from nightlatch.access.address_spaces import DIRECT, AddressSpaces
from nightlatch.access.arrivals import Arrival, outside, seen
from nightlatch.access.layers import flow_to, layers
from nightlatch.access.tunnels import composed
from nightlatch.model.bounds import Addresses, Bounds
from nightlatch.model.gaps import Gap
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import Power, PowerKind
from nightlatch.model.routes import FilterMet, Route, Seal
from nightlatch.model.rules import Layer
from nightlatch.model.secrets import Need
from nightlatch.model.sockets import Listener
from nightlatch.model.sources import Sources
from nightlatch.net.addresses import EVERY_ADDRESS, NO_ADDRESS, AddressSet, union
from nightlatch.readings.guest import GuestReading
from nightlatch.services.base import Kinds, LoginEntries, LoginEntry, Server, ServiceAccess
from nightlatch.services.ssh.entries import SshAccess
from nightlatch.services.table import KINDS


@dataclass(frozen=True)
class GuestAccess:
    """All access paths of one guest, over all its `services` (one entry for each server), with everything undecided."""

    guest: str
    reading: GuestReading
    services: tuple[ServiceAccess, ...]
    paths: tuple[AccessPath, ...] = ()
    gaps: tuple[Gap, ...] = ()
    arrivals: tuple[Arrival, ...] = DIRECT
    spaces: AddressSpaces = field(default_factory=AddressSpaces, compare=False, repr=False)

    @property
    def ssh(self) -> SshAccess:
        """SSH's own. Raises LookupError where the table of services has no SSH."""
        for each in self.services:
            if isinstance(each, SshAccess):
                return each
        raise LookupError("the table of services has no SSH")

    @property
    def accounts(self) -> frozenset[str]:
        """The accounts that somebody gets into."""
        return frozenset(path.account for path in self.paths)

    @property
    def listeners(self) -> tuple[Listener, ...]:
        """The sockets of all services."""
        return tuple(socket for each in self.services for socket in each.listeners)

    def of(self, service: str) -> tuple[ServiceAccess, ...]:
        """The servers of one service."""
        return tuple(each for each in self.services if each.words.name == service)

    def sockets(self, service: str) -> tuple[tuple[ServiceAccess, Listener], ...]:
        """The sockets of one service, each with its server."""
        return tuple((each, socket) for each in self.of(service) for socket in each.listeners)


@dataclass(frozen=True, slots=True)
class _Way:
    """A socket by one of the ways to it, with those who come through the filters to it, as the guest sees them, and those who
    come as far as the forward on that way."""

    service: str
    socket: Listener
    arrival: Arrival
    route: Route
    through: Addresses
    outer: Addresses
    lifted: dict[Addresses, Bounds[Sources]] = field(default_factory=dict, compare=False, repr=False)

    @property
    def alike(self) -> str:
        """The address as which all callers are seen by this way; empty where each is by their own."""
        hidden = self.arrival.sees
        return str(hidden) if hidden is not None else ""


@dataclass(frozen=True, slots=True)
class _Entering:
    """A login entry with those of its callers who come through to the socket."""

    entry: LoginEntry
    surely: AddressSet
    perhaps: AddressSet


_World = dict[tuple[str, Need, Power, Seal], list[_Entering]]


def guest_access(reading: GuestReading, at: datetime, spaces: AddressSpaces | None = None, kinds: Kinds = KINDS) -> GuestAccess:
    """All access paths of a guest at a moment (aware), by every service of the table `kinds`."""
    work = _Work(reading, spaces or AddressSpaces())
    for kind in kinds.values():
        for server in kind.servers(reading, at):
            work.ask(server)
    return work.done()


class _Work:
    def __init__(self, reading: GuestReading, spaces: AddressSpaces) -> None:
        self.reading, self.spaces = reading, spaces
        self.arrivals = spaces.ways(reading.guest)
        self.gaps: dict[Gap, None] = dict.fromkeys(reading.accounts.gaps)
        self.services: list[ServiceAccess] = []
        self.paths: list[AccessPath] = []

    def ask(self, server: Server) -> None:
        """Add what one server lets in. What another service can't say of itself is no matter to it."""
        found = [path for socket in server.stands.listeners for path in self._paths(server, socket)]
        order = {name: number for number, name in enumerate(dict.fromkeys(path.account for path in found))}
        self.paths += sorted(found, key=lambda path: order[path.account])
        self.gaps.update(dict.fromkeys(server.gaps))
        self.services.append(server.stands)

    def done(self) -> GuestAccess:
        """The access paths of all servers."""
        if any(each.listeners for each in self.services):
            self.gaps.update(dict.fromkeys(self.reading.filter.gaps))
        self.paths += list(composed(self.paths, self.spaces.through(self.reading.guest)))
        return GuestAccess(
            self.reading.guest,
            self.reading,
            tuple(self.services),
            tuple(self.paths),
            tuple(self.gaps),
            self.arrivals,
            self.spaces,
        )

    def _paths(self, server: Server, socket: Listener) -> Iterator[AccessPath]:
        stands = server.stands
        ways = [self._way(stands, socket, each) for each in self.arrivals]
        self.gaps.update(dict.fromkeys(gap for way in ways for gap in (*way.through.because, *way.outer.because)))
        for entries in server.entries(socket, union(way.through.perhaps for way in ways)):
            for way in ways:
                if way.through.perhaps:
                    worlds = [_entering(world, way.through) for world in entries.worlds]
                    yield from self._bounded(way, worlds, entries)

    def _way(self, stands: ServiceAccess, socket: Listener, arrival: Arrival) -> _Way:
        """One way to a socket: who comes through the guest's filters, as it sees them, and who comes as far as the forward on
        it."""
        flow = flow_to(self.reading, socket.address, socket.port)
        met = [*arrival.around, *(rules for rules, _ in layers(self.reading, flow, behind=stands.behind))]
        filters = tuple(FilterMet(each.layer, "" if each.layer is Layer.FILTER else next(iter(each.chains), "")) for each in met)
        route = Route(socket.address, socket.port, next(iter(arrival.causes), None), filters)
        through = seen(self.reading, flow, arrival, behind=stands.behind)
        return _Way(stands.words.name, socket, arrival, route, through, outside(arrival, flow))

    def _bounded(self, way: _Way, worlds: list[_World], entries: LoginEntries) -> Iterator[AccessPath]:
        unread = (*entries.unread, *self.reading.filter.gaps)
        for key in worlds[0] if len(worlds) == 1 else dict.fromkeys(key for world in worlds for key in world):
            found = [world.get(key, []) for world in worlds]
            perhaps = union(each.perhaps for those in found for each in those)
            surely = NO_ADDRESS if unread else EVERY_ADDRESS
            for those in found if surely else ():
                surely &= union(each.surely for each in those)
            gaps: dict[Gap, None] = {}
            if surely != perhaps:
                own = (gap for those in found for each in those for gap in each.entry.gaps)
                gaps = dict.fromkeys((*unread, *own, *entries.undecided, *way.through.because))
            bounds = self._lifted(way, Bounds(surely, perhaps, tuple(gaps)))
            if perhaps and any(bounds.perhaps.values()):
                account, need, power, seal = key
                causes = dict.fromkeys(cause for those in found for each in those for cause in each.entry.causes)
                yield AccessPath(
                    self.reading.guest,
                    account,
                    need,
                    power,
                    bounds,
                    (*causes, *way.arrival.causes),
                    way.route,
                    way.service,
                    seal=seal,
                    alike=way.alike,
                )

    def _lifted(self, way: _Way, seen: Addresses) -> Bounds[Sources]:
        """Callers of what the guest sees; many paths share one set, so each is worked out once."""
        if seen not in way.lifted:
            way.lifted[seen] = self.spaces.callers(way.arrival, way.outer, seen)
        return way.lifted[seen]


def _entering(entries: Sequence[LoginEntry], through: Addresses) -> _World:
    """The entries of one world, narrowed to callers that get through to the socket."""
    out: _World = {}
    met: dict[int, tuple[AddressSet, AddressSet]] = {}  # several entries share what they are seen as
    for entry in entries:
        seen = entry.seen
        both = met.get(id(seen))
        if both is None:
            both = met[id(seen)] = (seen.surely & through.surely, seen.perhaps & through.perhaps)
        if both[1]:
            out.setdefault((entry.account, entry.need, entry.power, entry.seal), []).append(_Entering(entry, *both))
    return out


def strongest(paths: Sequence[AccessPath]) -> AccessPath:
    """The path that gives most, for telling one story of several powers."""
    order = list(PowerKind)
    ranks = {
        gives: rank for rank, gives in enumerate([PowerKind.ADMINISTER, *[g for g in order if g is not PowerKind.ADMINISTER]])
    }
    return min(paths, key=lambda path: ranks[path.power.gives])


def reaches(sources: Sources) -> bool:
    """Whether the set holds any address."""
    return any(sources.values())
