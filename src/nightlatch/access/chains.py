"""Chains: one login by one way to a guest, link by link, from the caller's address to the rights of the account.

What a chain comes to is what the access paths say (paths.py); its links take that apart. Links outside of a forward see the
callers' own addresses, those behind it what the guest sees.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace

from nightlatch.access.arrivals import Arrival, met, seen
from nightlatch.access.layers import flow_to
from nightlatch.access.paths import GuestAccess
from nightlatch.access.verdicts import Flow, Packet, RuleVerdict, passed, verdicts
from nightlatch.estate.model import Estate
from nightlatch.model.bounds import EVERYBODY, NOBODY, Bounds
from nightlatch.model.causes import (
    Cause,
    Dialled,
    ListenAddress,
    NoFilter,
    NotListening,
    NotRunning,
    PrivateNetwork,
    RuleLine,
    Translated,
)
from nightlatch.model.grants import Grant
from nightlatch.model.links import Break, Holds, Link, LinkKind, link, together
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import Power
from nightlatch.model.rules import Layer, RuleAction
from nightlatch.model.secrets import Need, may_open
from nightlatch.model.sockets import Listener
from nightlatch.model.sources import COMMON, NOWHERE, Sources, common_to, joined, without
from nightlatch.net.addresses import NO_ADDRESS, AddressSet, union
from nightlatch.origin import Kind, Origin
from nightlatch.readings.filters.places import NFT_FILES
from nightlatch.readings.filters.rules import Rules
from nightlatch.readings.guest import GuestReading
from nightlatch.services.base import Kinds, Login, ServerState, ServiceAccess, ServiceCase

KEEPS_OUT = (RuleAction.DROP, RuleAction.REJECT, RuleAction.REWRITE)


@dataclass(frozen=True)
class Chain:
    """One login to one port of a guest by one way, for the callers that are `asked`: those who get in for `certain` and maybe
    (`possible`), and the links; `serves` says the same of each power that is granted. `alike` is the address as which the guest
    sees all of them, `forward` where they dial one that leads there; `grants` are the sentences that let them in."""

    guest: str
    service: str
    login: Login
    port: int
    asked: Sources
    certain: Sources
    possible: Sources
    links: tuple[Link, ...]
    serves: tuple[tuple[Power, Bounds[Sources]], ...] = ()
    grants: tuple[Grant, ...] = ()
    alike: str = ""
    forward: str = ""

    @property
    def holds(self) -> Holds:
        """Whether all of those who are asked for get in, some, or none."""
        if not without(self.asked, self.certain):
            return Holds.YES
        if not self.certain:
            return Holds.UNDECIDED if self.possible else Holds.NO
        return Holds.PARTLY

    @property
    def broken(self) -> tuple[Link, ...]:
        """The links that stand in the way of somebody, in their order."""
        return tuple(each for each in self.links if each.holds is not Holds.YES)


@dataclass(frozen=True, slots=True)
class _Asked:
    """One login that is looked for on one guest."""

    access: GuestAccess
    kinds: Kinds
    estate: Estate
    login: Login
    service: str
    sources: Sources

    def chains(self) -> Iterator[Chain]:
        """A chain for each way and each port; one that ends at the first link where no way leads there."""
        if not any(self._wanted(way) for way in self.access.arrivals):
            yield self._nowhere()
            return
        every = self.access.of(self.service)
        shown = [each for each in every if each.screen in ("", self.login.account)]
        for server in shown or every:
            case = self._case(server)
            for way in self.access.arrivals:
                if self._wanted(way):
                    for port in self._ports(server, way):
                        yield self._chain(case, way, port)

    def _case(self, server: ServiceAccess) -> ServiceCase:
        mine = tuple(path for path in self.access.paths if path.service == self.service)
        return ServiceCase(server, self.access.reading, mine, (), self.estate)

    def _inside(self, way: Arrival) -> list[tuple[str, AddressSet, AddressSet]]:
        """The places behind a translation of their own that callers of this way come from."""
        return [each for each in self.access.spaces.inside if way.space == COMMON and self.sources.get(each[0])]

    def _wanted(self, way: Arrival) -> AddressSet:
        """The callers of a way by the addresses that they have in its address space."""
        shown = union(seen_as for _, _, seen_as in self._inside(way))
        return (self.sources.get(way.space, NO_ADDRESS) | shown) & way.within

    def _ports(self, server: ServiceAccess, way: Arrival) -> list[int]:
        """The ports of the server that a way leads to; where there are none, the one at which it would be looked for."""
        held = sorted({socket.port for socket in server.listeners})
        if way.forward is None:
            return held or [server.words.port]
        to = way.forward.to_port
        led = [port for port in held if port == to or self._is_sent(server, way, port)]
        return led or [to]

    def _is_sent(self, server: ServiceAccess, way: Arrival, port: int) -> bool:
        """Whether a rule of the guest sends what comes by a forward on to this port."""
        if self.access.reading.filter.rules is None:
            return False
        flow = flow_to(self.access.reading, "", port)
        return bool(seen(self.access.reading, flow, way, behind=server.behind).perhaps)

    def _nowhere(self) -> Chain:
        space = next((way.space for way in self.access.arrivals if way.space != COMMON), "")
        network = self.estate.networks.get(space)
        asked = union(self.sources.values())
        cause = PrivateNetwork(space, network.origin if network is not None else Origin("the estate file", kind=Kind.ESTATE))
        broken = link(LinkKind.ROUTE, asked, NOBODY, (), [Break(cause, asked)])
        serves = tuple((power, Bounds(NOWHERE, NOWHERE)) for power in self.login.gives)
        return Chain(self.access.guest, self.service, self.login, 0, self.sources, {}, {}, (broken,), serves)

    def _chain(self, case: ServiceCase, way: Arrival, port: int) -> Chain:
        wanted = self._wanted(way)
        links = (*self._outside(way, wanted), *together([*self._targets(case, way, port, wanted)]))
        paths = [each for each in self.access.paths if self._is_of(each, way, port)]
        spaces = {way.space: wanted, **{name: self.sources[name] for name, _, _ in self._inside(way)}}
        asked = common_to(self.sources, spaces)
        certain, possible = let_in(paths, self.login.need, asked)
        serves = tuple((power, self._served(paths, power, asked)) for power in self.login.gives)
        alike = str(way.sees) if way.sees is not None else ""
        by = next((each.dialled for each in way.causes), "")
        return Chain(self.access.guest, self.service, self.login, port, asked, certain, possible, links, serves, (), alike, by)

    def _is_of(self, path: AccessPath, way: Arrival, port: int) -> bool:
        by = next(iter(way.causes), None)
        mine = path.service == self.service and path.account == self.login.account and not path.shape
        mine = mine and path.seal >= self.login.seal
        return mine and path.route.port == port and path.route.forward == by

    def _served(self, paths: Iterable[AccessPath], power: Power, asked: Sources) -> Bounds[Sources]:
        """The callers who get a power."""
        giving = [each for each in paths if each.power.offers(power)]
        surely, beyond = let_in(giving, self.login.shown_for(power), asked)
        return Bounds(surely, joined([surely, beyond]))

    # What lies outside of the guest.

    def _outside(self, way: Arrival, wanted: AddressSet) -> Iterator[Link]:
        by: list[Cause] = []
        for name, _, seen_as in self._inside(way):
            by.append(Translated(name, str(seen_as), self.estate.places[name].origin))
        if way.forward is None:
            by += self._dialled(way)
        yield link(LinkKind.ROUTE, wanted, EVERYBODY, by)

    def _dialled(self, way: Arrival) -> Iterator[Dialled]:
        spec = self.estate.guests[self.access.guest]
        if spec.dial or spec.via.host:
            yield Dialled(spec.dial or spec.via.host, way.space, spec.origin if spec.dial else spec.via.origin)
        elif spec.addresses:
            yield Dialled(str(spec.addresses[0].address.ip), way.space, spec.addresses[0].origin)
        else:
            yield Dialled("", way.space, spec.origin)

    # What is met on the way to one socket, and there.

    def _targets(self, case: ServiceCase, way: Arrival, port: int, wanted: AddressSet) -> Iterator[list[Link]]:
        """The links for each socket of a port with the callers that it takes, and for those that none takes."""
        visible = wanted if way.sees is None else way.sees
        left = visible
        for socket in case.access.listeners:
            here = left & socket.admits() if socket.port == port else NO_ADDRESS
            if here:
                left = left - here
                at = link(LinkKind.LISTENER, here, EVERYBODY, [_listens(socket)])
                if case.access.state is ServerState.STOPPED:
                    at = replace(at, passing=(NotRunning(case.access.words.program, _processes(case.access)),))
                yield [*self._filters(case.access, socket, way, wanted, here), at, *self._service(case, socket, here)]
        if left:
            nobody = Listener("", port)
            at = link(LinkKind.LISTENER, left, NOBODY, (), [Break(self._not_taken(case, port), left)])
            yield [*self._filters(case.access, nobody, way, wanted, left), at, *self._service(case, nobody, left)]

    def _service(self, case: ServiceCase, socket: Listener, here: AddressSet) -> Iterator[Link]:
        return self.kinds[self.service].links(self.login, socket, here, case)

    def _not_taken(self, case: ServiceCase, port: int) -> Cause:
        """Why no socket of a port takes callers."""
        unserved = self.kinds[self.service].unserved(case)
        if unserved is not None:
            return unserved.causes[0]
        mine = [socket for socket in case.access.listeners if socket.port == port]
        if mine:
            return _listens(mine[0])
        others = [socket.origin for socket in case.access.listeners if socket.origin is not None]
        nowhere = Origin(case.access.words.program, kind=Kind.DEFAULT)
        return NotListening(case.access.words.program, port, others[0] if others else nowhere)

    def _filters(
        self, server: ServiceAccess, socket: Listener, way: Arrival, wanted: AddressSet, here: AddressSet
    ) -> Iterator[Link]:
        """Filters outside, the forward, the guest's own filter (also where it has none), and what stands behind that."""
        flow = flow_to(self.access.reading, socket.address, socket.port)
        outer = here if way.sees is None else wanted
        around = [each for each in met(self.access.reading, flow, way, behind=server.behind) if each[0].layer is Layer.PERIMETER]
        for rules, each, _ in around:
            yield _filter(LinkKind.PERIMETER, rules, each, each.port, outer)
        if way.forward is not None:
            yield link(LinkKind.FORWARD, outer, EVERYBODY, way.causes)
        own = self.access.reading.filter.rules
        to = way.forward.to_port if way.forward is not None else None
        if own is not None:
            yield self._unread(_filter(LinkKind.FILTER, own, flow, to, here))
        else:
            led = to is None or to == socket.port
            none = [] if self.access.reading.filter.gaps else [NoFilter(_looked_for(self.access.reading))]
            yield self._unread(link(LinkKind.FILTER, here, EVERYBODY if led else NOBODY, none))
        for rules in server.behind:
            yield _filter(LinkKind.FILTER, rules, Flow(flow.protocol, flow.port), flow.port, here)

    def _unread(self, found: Link) -> Link:
        gaps = self.access.reading.filter.gaps
        if not gaps:
            return found
        return replace(found, admits=Bounds(NO_ADDRESS, found.admits.perhaps, (*gaps, *found.admits.because)))


def chains(access: GuestAccess, kinds: Kinds, estate: Estate, login: Login, service: str, sources: Sources) -> tuple[Chain, ...]:
    """The chains of one login by one service from these sources."""
    return tuple(_Asked(access, kinds, estate, login, service, sources).chains())


def let_in(paths: Iterable[AccessPath], shown: Need, asked: Sources) -> tuple[Sources, Sources]:
    """The callers that some of these paths let in who show this, surely, and perhaps beyond those."""
    found = list(paths)
    open_to = [each.callers for each in found if each.need <= shown]
    maybe = [each.callers.perhaps for each in found if may_open(each.need, shown)]
    certain = common_to(joined(each.surely for each in open_to), asked)
    return certain, without(common_to(joined([*(each.perhaps for each in open_to), *maybe]), asked), certain)


def _listens(socket: Listener) -> ListenAddress:
    origin = socket.origin or Origin("ListenAddress", kind=Kind.DEFAULT)
    where = socket.address or {"inet": "all IPv4 addresses", "inet6": "all IPv6 addresses"}.get(socket.family, "all addresses")
    return ListenAddress(f"{where}, port {socket.port}", origin)


def _looked_for(reading: GuestReading) -> Origin:
    """Where a packet filter was looked for: what the kernel lists, else a file that nothing loads, or that is not there."""
    if reading.service.is_live:
        return reading.filter.origin
    if reading.filter.stored:
        return reading.filter.stored[0].place
    there = next((path for path in NFT_FILES if reading.snapshot.content(path) is not None), None)
    return Origin(there or NFT_FILES[0], kind=Kind.FILE if there else Kind.ABSENT)


def _processes(server: ServiceAccess) -> Origin:
    return Origin(f"processes named {server.words.program}", kind=Kind.LISTING)


def _filter(kind: LinkKind, rules: Rules, flow: Flow, dialled: int | None, asked: AddressSet) -> Link:
    """The link of one rule set: those it lets through, the rules by which it does, and those that keep somebody out."""
    admits = passed(rules, flow, dialled)
    found = verdicts(rules, flow)
    inside = asked & admits.perhaps
    return link(kind, asked, admits, _letting(found, inside, rules), _keeping(found, asked - admits.perhaps, rules))


def _letting(found: tuple[RuleVerdict, ...], inside: AddressSet, rules: Rules) -> Iterator[Cause]:
    """The accepting rules that decide about these callers, a rule before a policy."""
    taking = [each for each in found if each.does is RuleAction.ACCEPT and each.packet is Packet.OPENING]
    ordered = [*(each for each in taking[::-1] if not each.policy), *(each for each in taking[::-1] if each.policy)]
    for each in ordered:
        if inside & each.sources:
            yield rule_line(each, rules)
            inside = inside - each.sources


def _keeping(found: tuple[RuleVerdict, ...], left: AddressSet, rules: Rules) -> Iterator[Break]:
    for each in found:
        here = left & each.sources if each.does in KEEPS_OUT else NO_ADDRESS
        if here:
            yield Break(rule_line(each, rules), here)
            left = left - here


def rule_line(found: RuleVerdict, rules: Rules) -> RuleLine:
    """A rule that decided, as a cause."""
    answers = found.packet is Packet.ANSWER
    return RuleLine(found.text, rules.layer, next(iter(rules.chains), ""), found.does, found.sure, answers, found.origin)
