"""Who can reach which port of a guest, as far as networks and filters decide: for each listening socket and family the sources
that are let in, kept out or undecided, each with the rule that decides.

The proofs that a service asks for are the subject of access/paths.py. Of a guest in a folder
only the sockets of its services are known.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from enum import Enum

from nightlatch.access.arrivals import Arrival, dialled, outside, seen
from nightlatch.access.layers import Behind, flow_to, layers, through
from nightlatch.access.verdicts import Flow, RuleVerdict, passed, verdicts
from nightlatch.model.bounds import Addresses, exactly, inside
from nightlatch.model.rules import RuleAction
from nightlatch.model.sockets import Listener, family_of
from nightlatch.model.sources import COMMON, AddressSpace
from nightlatch.net.addresses import ALL_V4, ALL_V6, EVERY_ADDRESS, LOOPBACK, NO_ADDRESS, AddressSet
from nightlatch.origin import Origin
from nightlatch.readings.filters.rules import Rules
from nightlatch.readings.guest import GuestReading
from nightlatch.readings.units.service_reading import OpenSocket
from nightlatch.services.base import Kinds
from nightlatch.services.table import KINDS

FAMILIES = {"IPv4": ALL_V4, "IPv6": ALL_V6}
OPEN = "no filter"
BY_ANOTHER = "by another port, which a rule sends here"


class Fate(Enum):
    """The fate of a caller's first packet."""

    IN = "let in"
    DROPPED = "dropped"
    REFUSED = "refused"
    ELSEWHERE = "sent elsewhere"
    UNDECIDED = "undecided"


FATES = {
    RuleAction.DROP: Fate.DROPPED,
    RuleAction.REJECT: Fate.REFUSED,
    RuleAction.REWRITE: Fate.ELSEWHERE,
    RuleAction.ACCEPT: Fate.IN,
}


@dataclass(frozen=True, slots=True)
class Piece:
    """Sources of one family to which the same happens, by the same rule; `text` is the rule's own, or why it is not known."""

    family: str
    fate: Fate
    sources: AddressSet
    text: str
    origin: Origin | None = None


@dataclass(frozen=True, slots=True)
class ExposedSocket:
    """One listening socket with all callers there are, in pieces. `program` holds it, as far as is known; `by` is the forward
    that leads there, as text, and `space` the one whose addresses callers have."""

    guest: str
    protocol: str
    port: int
    address: str
    program: str
    pieces: tuple[Piece, ...]
    by: str = ""
    space: AddressSpace = COMMON

    def sources(self, fate: Fate) -> AddressSet:
        """All sources of one fate."""
        found = NO_ADDRESS
        for piece in self.pieces:
            found |= piece.sources if piece.fate is fate else NO_ADDRESS
        return found


def exposure(
    reading: GuestReading,
    only: Sequence[tuple[str, Listener]] | None = None,
    ways: Sequence[Arrival] = (Arrival(),),
    kinds: Kinds = KINDS,
) -> tuple[ExposedSocket, ...]:
    """Every socket of a guest that others than the guest itself could reach, by port, or these alone, over each of the ways
    to it."""
    those = list(_listeners(reading, kinds) if only is None else ((protocol, "sshd", "", one) for protocol, one in only))
    found = [
        _exposed(reading, listener, protocol, program, unit, way)
        for protocol, program, unit, listener in those
        for way in ways
        if way.forward is None or protocol == "tcp"
    ]
    told = [each for each in found if each.pieces]
    return tuple(sorted(told, key=lambda each: (each.port, each.protocol, each.address, each.by)))


def callers(reading: GuestReading, rules: Rules | None, listener: Listener, protocol: str = "tcp") -> Addresses:
    """Callers that get through some rules to a socket, whatever else the guest has."""
    admitted = listener.admits()
    if rules is None:
        return exactly(admitted)
    return inside(passed(rules, flow_to(reading, listener.address, listener.port, protocol)), admitted)


def behind_of(reading: GuestReading, unit: str) -> tuple[Rules, ...]:
    """The filter of the unit that a program's socket belongs to."""
    found = reading.filter.units.get(unit)
    return (found,) if found is not None else ()


def reached(reading: GuestReading, socket: OpenSocket) -> Addresses:
    """Callers that get through all filters of the guest to a socket that is not SSH's."""
    listener = socket_of(socket)
    flow = flow_to(reading, listener.address, listener.port, socket.protocol)
    found = through(reading, flow, behind=behind_of(reading, reading.service.holder_of(socket)))
    return inside(found, listener.admits())


def socket_of(socket: OpenSocket) -> Listener:
    """A listed socket as one that callers come to."""
    address = socket.address.partition("%")[0]
    return Listener(address, socket.port, family_of(address))


def sockets(reading: GuestReading, known: Sequence[Listener]) -> tuple[tuple[str, Listener], ...]:
    """Protocol and socket of everything that others could reach, filters aside; `known` are those of its services, for a guest in
    a folder, where they are all there is."""
    if not reading.service.is_live:
        return tuple(("tcp", listener) for listener in known)
    return tuple((protocol, listener) for protocol, _, _, listener in _listeners(reading, {}))


def _listeners(reading: GuestReading, kinds: Kinds) -> Iterator[tuple[str, str, str, Listener]]:
    """Protocol, program, unit and socket: all that a running guest lists, else what the files of its services say."""
    if reading.service.is_live:
        both: dict[tuple[str, int, str, str], set[str]] = {}
        for each in _exposed_sockets(reading):
            who = (each.protocol, each.port, _program(each), reading.service.holder_of(each))
            both.setdefault(who, set()).add(each.address)
        for (protocol, port, program, unit), held in both.items():
            # Two sockets, one for each family, are one to look at.
            whole = held & {"0.0.0.0", "::", ""}
            ends = {""} if {"0.0.0.0", "::"} <= held or "" in held else whole
            for address in sorted(ends | (held - whole)):
                yield protocol, program, unit, Listener(address, port, family_of(address))
    else:
        for kind in kinds.values():
            for listener in kind.listening(reading):
                yield "tcp", kind.words.program, "", listener


def _exposed_sockets(reading: GuestReading) -> Iterator[OpenSocket]:
    for each in (*reading.service.sockets, *reading.service.datagrams):
        if each.is_exposed and "%" not in each.address:
            yield each


def _program(socket: OpenSocket) -> str:
    return socket.programs[0][0] if socket.programs else ""


def _exposed(reading: GuestReading, listener: Listener, protocol: str, program: str, unit: str, way: Arrival) -> ExposedSocket:
    flow = flow_to(reading, listener.address, listener.port, protocol)
    behind = reading.filter.behind if _is_ssh(reading, listener, program) else behind_of(reading, unit)
    work = _direct if way.forward is None else _forwarded
    by = str(way.forward) if way.forward is not None else ""
    pieces = tuple(work(reading, flow, listener, way, behind))
    return ExposedSocket(reading.guest, protocol, listener.port, listener.address, program, pieces, by, way.space)


def _direct(reading: GuestReading, flow: Flow, listener: Listener, way: Arrival, behind: Behind) -> list[Piece]:
    """The fates of callers that dial the guest itself."""
    admitted = (listener.admits() - LOOPBACK) & way.within
    met = list(layers(reading, flow, way.around, behind=behind))
    if reading.filter.gaps:
        first = reading.filter.gaps[0]
        return _byfamily_of(Fate.UNDECIDED, admitted, first.because, first.origin)
    if not met:
        return _byfamily_of(Fate.IN, admitted, OPEN, None)
    return list(_decided(met, through(reading, flow, way.around, behind=behind), admitted))


def _forwarded(reading: GuestReading, flow: Flow, listener: Listener, way: Arrival, behind: Behind) -> list[Piece]:
    """The fates of callers that come by a forward to this port: through the filters before it, then as the guest sees them."""
    let_in = seen(reading, flow, way, behind=behind)
    if not let_in.perhaps and way.forward is not None and way.forward.to_port != listener.port:
        return []
    everybody = (EVERY_ADDRESS - LOOPBACK) & (_family_of(way) or EVERY_ADDRESS)
    before = [(rules, dialled(way, flow)) for rules in way.around]
    whole = _byfamily_of(Fate.IN, everybody, OPEN, None)
    arrived = list(_decided(before, outside(way, flow), everybody)) if before else whole
    layered = list(layers(reading, flow, behind=behind))
    if reading.filter.gaps:
        first = reading.filter.gaps[0]
        inner = _byfamily_of(Fate.UNDECIDED, EVERY_ADDRESS, first.because, first.origin)
    elif layered:
        inner = list(_decided(layered, let_in, EVERY_ADDRESS))
    else:
        inner = _byfamily_of(Fate.IN, EVERY_ADDRESS, OPEN, None)
    return list(_one_after_the_other(arrived, inner, way.sees))


def _family_of(way: Arrival) -> AddressSet | None:
    """The family of addresses in which a forward is dialled; None where it is both."""
    at = way.forward.at if way.forward is not None else None
    return None if at is None else ALL_V4 if at.version == 4 else ALL_V6


def _one_after_the_other(arrived: list[Piece], inner: list[Piece], alike: AddressSet | None) -> Iterator[Piece]:
    """Callers that get past the forward, under their own addresses or all under one."""
    for piece in arrived:
        if piece.fate not in (Fate.IN, Fate.UNDECIDED):
            yield piece
            continue
        for each in inner:
            those = piece.sources & each.sources
            if alike is not None:
                those = piece.sources if each.sources & alike else NO_ADDRESS
            if those:
                last = each if piece.fate is Fate.IN and (each.text != OPEN or piece.text == OPEN) else piece
                fate = each.fate if piece.fate is Fate.IN else piece.fate
                yield Piece(piece.family, fate, those, last.text, last.origin)


def _is_ssh(reading: GuestReading, listener: Listener, program: str) -> bool:
    """Whether sshd answers there, or will when the service manager's socket starts it."""
    unit = reading.service.socket
    return program == "sshd" or (unit is not None and listener.port in {port for _, port in unit.listens})


def _decided(layered: list[tuple[Rules, Flow]], whole: Addresses, admitted: AddressSet) -> Iterator[Piece]:
    bounds = inside(whole, admitted)
    met = tuple(each for rules, flow in layered for each in verdicts(rules, flow))
    direct = EVERY_ADDRESS
    for rules, flow in layered:
        direct &= passed(rules, flow, flow.port).surely
    let_in = list(_shared(Fate.IN, bounds.surely & direct, _last_word(met)))
    let_in += _byfamily_of(Fate.IN, bounds.surely - direct, BY_ANOTHER, None)
    yield from sorted(
        let_in,
        key=lambda each: (
            each.family,
            each.origin is None,
            str(each.origin and each.origin.path),
            each.origin.line if each.origin else 0,
        ),
    )
    unsure = (bounds.perhaps - bounds.surely) & admitted
    if unsure:
        gap = bounds.because[0] if bounds.because else None
        yield from _byfamily_of(Fate.UNDECIDED, unsure, gap.because if gap else "", gap.origin if gap else None)
    rest = admitted - bounds.perhaps
    for fate in (Fate.ELSEWHERE, Fate.DROPPED, Fate.REFUSED):
        ending = [each for each in met if FATES.get(each.does) is fate]
        mine = rest & _union(each.sources for each in ending)
        yield from _shared(fate, mine, ending)
        rest = rest - mine


def _last_word(met: tuple[RuleVerdict, ...]) -> list[RuleVerdict]:
    """Accepting verdicts, the one that counts first: a rule before a policy, of several the last that was met."""
    accepting = [each for each in reversed(met) if each.does is RuleAction.ACCEPT]
    return sorted(accepting, key=lambda each: each.policy)


def _shared(fate: Fate, sources: AddressSet, by: Iterable[RuleVerdict]) -> Iterator[Piece]:
    """The sources given to the first verdict that is about them."""
    for each in by:
        mine = sources & each.sources
        sources = sources - mine
        yield from _byfamily_of(fate, mine, each.text, each.origin)
    yield from _byfamily_of(fate, sources, OPEN, None)


def _byfamily_of(fate: Fate, sources: AddressSet, text: str, origin: Origin | None) -> list[Piece]:
    return [Piece(name, fate, sources & whole, text, origin) for name, whole in FAMILIES.items() if sources & whole]


def _union(sets: Iterable[AddressSet]) -> AddressSet:
    found = NO_ADDRESS
    for each in sets:
        found |= each
    return found & EVERY_ADDRESS
