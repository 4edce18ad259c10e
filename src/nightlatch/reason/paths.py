"""Access paths of one guest: every account, every proof, every power, with exact source sets.

What its server lets in (`entries.py`) is narrowed to those who come through to the socket, by each way to the guest; the
bounds are what holds in all worlds and in some.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from nightlatch.model.bounds import Addresses, Bounds
from nightlatch.model.causes import Cause
from nightlatch.model.gaps import Gap
from nightlatch.net.addresses import EVERY_ADDRESS, NO_ADDRESS, AddressSet, union
from nightlatch.readings.accounts import Account
from nightlatch.readings.guest import GuestReading
from nightlatch.reason.access import (
    AccessPath,
    Gives,
    Need,
    Power,
    Sources,
)
from nightlatch.reason.arriving import Arrival, outside, seen
from nightlatch.reason.entries import LoginEntries, LoginEntry, SshAccess, SshServer
from nightlatch.reason.layers import flow_to
from nightlatch.reason.listening import sockets_of
from nightlatch.reason.realms import DIRECT, Realms
from nightlatch.reason.settings import Effective, Listener


@dataclass(frozen=True)
class GuestAccess:
    """What one guest lets in, over all its services, with all that was undecided; `ssh` is what its SSH server does beside."""

    guest: str
    reading: GuestReading
    ssh: SshAccess
    paths: tuple[AccessPath, ...] = ()
    gaps: tuple[Gap, ...] = ()
    arrivals: tuple[Arrival, ...] = DIRECT
    realms: Realms = field(default_factory=Realms, compare=False, repr=False)


@dataclass(frozen=True, slots=True)
class _Way:
    """A socket by one of the ways to it, with those who come as far as the forward on that way."""

    socket: Listener
    arrival: Arrival
    outer: Addresses

    @property
    def name(self) -> str:
        forward = self.arrival.forward
        return f"port {self.socket.port}" + (f", by the forward from {forward}" if forward is not None else "")

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


def guest_access(reading: GuestReading, at: datetime, realms: Realms | None = None) -> GuestAccess:
    """All access paths of a guest at a moment (aware)."""
    effective = Effective(reading.sshd)
    if not reading.installed or effective.refusal is not None:
        return GuestAccess(reading.guest, reading, SshAccess(reading, effective), gaps=reading.accounts.gaps)
    return _Work(reading, effective, at, realms or Realms()).done()


class _Work:
    def __init__(self, reading: GuestReading, effective: Effective, at: datetime, realms: Realms) -> None:
        self.reading, self.effective, self.realms = reading, effective, realms
        self.server = SshServer(reading, effective, at)
        self.known: dict[tuple[Listener, Arrival, Addresses], Bounds[Sources]] = {}
        self.passed: dict[tuple[Listener, Arrival], tuple[Addresses, Addresses]] = {}
        self.arrivals = realms.ways(reading.guest)
        self.gaps: dict[Gap, None] = {}

    def done(self) -> GuestAccess:
        sockets = sockets_of(self.reading, self.effective)
        paths: list[AccessPath] = []
        for account in self.reading.accounts.by_name.values():
            for socket in sockets:
                paths.extend(self._paths(account, socket))
        gaps = {**self.server.gaps, **self.gaps, **dict.fromkeys(self.reading.filter.gaps)}
        ssh = self.server.access(sockets)
        return GuestAccess(self.reading.guest, self.reading, ssh, tuple(paths), tuple(gaps), self.arrivals, self.realms)

    def _paths(self, account: Account, socket: Listener) -> Iterator[AccessPath]:
        ways = [(arrival, *self._through(socket, arrival)) for arrival in self.arrivals]
        self.gaps.update(dict.fromkeys(gap for _, through, outer in ways for gap in (*through.because, *outer.because)))
        entries = self.server.entries(account, socket, union(through.perhaps for _, through, _ in ways))
        for arrival, through, outer in ways:
            if through.perhaps:
                whole = [_sums(world, through) for world in entries.worlds]
                yield from self._bounded(_Way(socket, arrival, outer), whole, entries, through.because)

    def _through(self, socket: Listener, arrival: Arrival) -> tuple[Addresses, Addresses]:
        """Who comes through the guest's filters to a socket, as it sees them, and who comes as far as the forward on the way;
        worked out once for all accounts."""
        key = (socket, arrival)
        if key not in self.passed:
            flow = flow_to(self.reading, socket.address, socket.port)
            self.passed[key] = (seen(self.reading, flow, arrival), outside(arrival, flow))
        return self.passed[key]

    def _bounded(
        self, way: _Way, whole: list[_Sums], entries: LoginEntries, narrowed: tuple[Gap, ...]
    ) -> Iterator[AccessPath]:  # fmt: skip
        unread = (*entries.unread, *self.reading.filter.gaps)
        for key in dict.fromkeys(key for sums in whole for key in sums):
            found = [sums.get(key) for sums in whole]
            perhaps = union(a for each in found if each for a in each.perhaps)
            surely = NO_ADDRESS if unread else EVERY_ADDRESS
            for each in found if surely else ():
                surely &= union(each.surely) if each else NO_ADDRESS
            gaps = dict.fromkeys([*unread, *(gap for each in found if each for gap in each.gaps)])
            if surely != perhaps:
                gaps.update(dict.fromkeys((*entries.undecided, *narrowed)))
            bounds = self._lifted(way, Bounds(surely, perhaps, tuple(gaps) if surely != perhaps else ()))
            if perhaps and any(bounds.perhaps.values()):
                account, need, power = key
                causes = dict.fromkeys(cause for each in found if each for cause in each.causes)
                yield AccessPath(
                    self.reading.guest, account, need, power, bounds, (*causes, *way.arrival.causes), way.name,
                    alike=way.alike,
                )  # fmt: skip

    def _lifted(self, way: _Way, seen: Addresses) -> Bounds[Sources]:
        """Callers of what the guest sees; many paths share one set, so each is worked out once."""
        key = (way.socket, way.arrival, seen)
        if key not in self.known:
            self.known[key] = self.realms.callers(way.arrival, way.outer, seen)
        return self.known[key]


def _sums(entries: Iterable[LoginEntry], through: Addresses) -> _Sums:
    """What the entries of one world come to for those who come through to the socket."""
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
    order = list(Gives)
    ranks = {
        gives: rank for rank, gives in enumerate([Gives.ADMINISTER, *[g for g in order if g is not Gives.ADMINISTER]])
    }
    return min(paths, key=lambda path: ranks[path.power.gives])


def reaches(sources: Sources) -> bool:
    """Whether the set holds any address."""
    return any(sources.values())
