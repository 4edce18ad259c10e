"""Access paths of one guest: every account, every proof, every power, with exact source sets.

What its server lets in (`entries.py`) is narrowed to those who come through to the socket, by each way to the guest; the
bounds are what holds in all worlds and in some.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from nightlatch.access.address_spaces import DIRECT, AddressSpaces
from nightlatch.access.arrivals import Arrival, outside, seen
from nightlatch.access.layers import flow_to, layers
from nightlatch.model.bounds import Addresses, Bounds
from nightlatch.model.causes import Cause
from nightlatch.model.gaps import Gap
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import Power, PowerKind
from nightlatch.model.routes import FilterMet, Route
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


_Sums = dict[tuple[str, Need, Power], "_Sum"]


@dataclass
class _Sum:
    surely: list[AddressSet]
    perhaps: list[AddressSet]
    causes: dict[Cause, None]
    gaps: dict[Gap, None]


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
                    whole = [_sums(world, way.through) for world in entries.worlds]
                    yield from self._bounded(way, whole, entries)

    def _way(self, stands: ServiceAccess, socket: Listener, arrival: Arrival) -> _Way:
        """One way to a socket: who comes through the guest's filters, as it sees them, and who comes as far as the forward on
        it."""
        flow = flow_to(self.reading, socket.address, socket.port)
        met = [*arrival.around, *(rules for rules, _ in layers(self.reading, flow, behind=stands.behind))]
        filters = tuple(FilterMet(each.layer, "" if each.layer is Layer.FILTER else next(iter(each.chains), "")) for each in met)
        route = Route(socket.address, socket.port, next(iter(arrival.causes), None), filters)
        through = seen(self.reading, flow, arrival, behind=stands.behind)
        return _Way(stands.words.name, socket, arrival, route, through, outside(arrival, flow))

    def _bounded(self, way: _Way, whole: list[_Sums], entries: LoginEntries) -> Iterator[AccessPath]:
        unread = (*entries.unread, *self.reading.filter.gaps)
        for key in dict.fromkeys(key for sums in whole for key in sums):
            found = [sums.get(key) for sums in whole]
            perhaps = union(a for each in found if each for a in each.perhaps)
            surely = NO_ADDRESS if unread else EVERY_ADDRESS
            for each in found if surely else ():
                surely &= union(each.surely) if each else NO_ADDRESS
            gaps = dict.fromkeys([*unread, *(gap for each in found if each for gap in each.gaps)])
            if surely != perhaps:
                gaps.update(dict.fromkeys((*entries.undecided, *way.through.because)))
            bounds = self._lifted(way, Bounds(surely, perhaps, tuple(gaps) if surely != perhaps else ()))
            if perhaps and any(bounds.perhaps.values()):
                account, need, power = key
                causes = dict.fromkeys(cause for each in found if each for cause in each.causes)
                yield AccessPath(
                    self.reading.guest,
                    account,
                    need,
                    power,
                    bounds,
                    (*causes, *way.arrival.causes),
                    way.route,
                    way.service,
                    alike=way.alike,
                )

    def _lifted(self, way: _Way, seen: Addresses) -> Bounds[Sources]:
        """Callers of what the guest sees; many paths share one set, so each is worked out once."""
        if seen not in way.lifted:
            way.lifted[seen] = self.spaces.callers(way.arrival, way.outer, seen)
        return way.lifted[seen]


def _sums(entries: Iterable[LoginEntry], through: Addresses) -> _Sums:
    """The entries of one world, narrowed to callers that get through to the socket."""
    out: _Sums = {}
    for entry in entries:
        surely, perhaps = entry.seen.surely & through.surely, entry.seen.perhaps & through.perhaps
        if perhaps:
            each = out.setdefault((entry.account, entry.need, entry.power), _Sum([], [], {}, {}))
            each.surely.append(surely)
            each.perhaps.append(perhaps)
            each.causes.update(dict.fromkeys(entry.causes))
            each.gaps.update(dict.fromkeys(entry.gaps))
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
