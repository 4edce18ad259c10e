"""A made-up service, given to Nightlatch as a table parameter: the tide line, on a port, with a file and a handshake of its own.

/etc/tided.conf has lines `port N`, `reader ACCOUNT` (sees the tide with the account's password) and `open yes` (with nothing).
The server says `tide 1 NAME`, is told `who ACCOUNT`, and answers `password` or `welcome`.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from nightlatch.evidence.extra_paths import ExtraPaths
from nightlatch.formats import lines
from nightlatch.model.bounds import EVERYBODY, NOBODY, exactly
from nightlatch.model.candidates import Candidate
from nightlatch.model.causes import NoServer, SettingLine
from nightlatch.model.gaps import Gap
from nightlatch.model.grants import Grant
from nightlatch.model.handshake import Event, Machine, PeerIdentity, ProtocolBreach, RequestedProof
from nightlatch.model.links import Break, Link, LinkKind, link
from nightlatch.model.obstacles import Obstacle, ObstacleKind
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import Power, PowerKind
from nightlatch.model.secrets import Password
from nightlatch.model.services import ServiceWords
from nightlatch.model.sockets import Listener
from nightlatch.model.steps import AddLine, ReplaceLine
from nightlatch.net.addresses import AddressSet
from nightlatch.origin import Kind, Origin
from nightlatch.readings.filters.rules import Rules
from nightlatch.readings.guest import GuestReading
from nightlatch.services.base import Expected, Login, LoginEntries, LoginEntry, Server, ServerState, ServiceCase, SilentServer

AT = datetime(2026, 11, 25, tzinfo=UTC)  # nothing in its file depends on the moment
FILE = "/etc/tided.conf"
VIEW = Power(PowerKind.VIEW)
TIDE = ServiceWords("tide", "tide", "tided", 4711, ("password",), VIEW)


@dataclass(frozen=True)
class TideAccess:
    state: ServerState
    listeners: tuple[Listener, ...] = ()
    faults: tuple[Gap, ...] = ()
    words: ServiceWords = TIDE
    behind: tuple[Rules, ...] = ()
    screen: str = ""


@dataclass(frozen=True)
class TideServer:
    guest: str
    stands: TideAccess
    readers: tuple[tuple[str, Origin], ...]
    gaps: tuple[Gap, ...] = ()

    def entries(self, socket: Listener, within: AddressSet) -> Iterator[LoginEntries]:
        for account, origin in self.readers:
            need = frozenset([Password(self.guest, account)]) if account else frozenset()
            cause = SettingLine("reader" if account else "open", account or "yes", origin)
            entry = LoginEntry(account or "(anyone)", need, VIEW, exactly(within & socket.admits()), (cause,))
            yield LoginEntries(((entry,),))


class Tide:
    words, collects = TIDE, ExtraPaths(files=(FILE,))

    def listening(self, reading: GuestReading) -> tuple[Listener, ...]:
        return tuple(socket for server in self.servers(reading, AT) for socket in server.stands.listeners)

    def servers(self, reading: GuestReading, at: datetime) -> tuple[Server, ...]:
        content = reading.snapshot.content(FILE)
        if content is None:
            return (SilentServer(TideAccess(ServerState.ABSENT)),)
        told = [(Origin(FILE, number), line.split()) for number, line in enumerate(content.decode().splitlines(), 1)]
        faults = [Gap("tide line", f"{words[0]} is no word of it", at) for at, words in told if len(words) != 2]
        if faults:
            return (SilentServer(TideAccess(ServerState.BROKEN, (), tuple(faults)), tuple(faults)),)
        sockets = tuple(Listener("", int(value), origin=at) for at, (word, value) in told if word == "port")
        readers = [(value if word == "reader" else "", at) for at, (word, value) in told if word in ("reader", "open")]
        return (TideServer(reading.guest, TideAccess(ServerState.SERVES, sockets), tuple(readers)),)

    def unserved(self, case: ServiceCase) -> Obstacle | None:
        assert isinstance(case.access, TideAccess)
        if case.access.state is ServerState.ABSENT:
            return Obstacle(ObstacleKind.NO_SERVICE, (NoServer(TIDE.title, Origin(FILE, kind=Kind.ABSENT)),))
        return Obstacle(ObstacleKind.REFUSED, case.access.faults) if case.access.faults else None

    def refused(self, grant: Grant, where: AddressSet, case: ServiceCase, *, served: bool) -> Obstacle | None:
        return None

    def lacking(self, grant: Grant, where: AddressSet, case: ServiceCase) -> Obstacle | None:
        return Obstacle(ObstacleKind.SHUT, (SettingLine("reader", "none", Origin(FILE)),), grant.account)

    def lines(
        self, grant: Grant, power: Power, socket: Listener, seen: AddressSet, case: ServiceCase
    ) -> Iterator[tuple[Obstacle, AddressSet]]:
        return iter(())

    def links(self, asked: Login, socket: Listener, seen: AddressSet, case: ServiceCase) -> Iterator[Link]:
        found = [each for each in case.paths if each.account == asked.account and each.need <= asked.need]
        causes = [cause for each in found for cause in each.causes]
        breaks = [] if found else [Break(SettingLine("reader", "none", Origin(FILE)), seen)]
        yield link(LinkKind.ACCOUNT, seen, EVERYBODY if found else NOBODY, causes, breaks)

    def closing(self, path: AccessPath, why: str, case: ServiceCase) -> Iterator[Candidate]:
        content = case.reading.snapshot.content(FILE) or b""
        for cause in path.causes:
            yield (ReplaceLine(FILE, why, False, lines.text_of(lines.split(content)[cause.origin.line - 1]).rstrip(), ""),)

    def hand(self, path: AccessPath, case: ServiceCase) -> str:
        return ""

    def opening(self, grant: Grant, why: str, case: ServiceCase) -> Iterator[Candidate]:
        yield (AddLine(FILE, why, True, f"reader {grant.account}", 0, 0),)

    def loads(self, before: GuestReading, after: GuestReading, changed: Collection[str]) -> bool:
        return FILE in changed

    def after_change(self, before: ServiceCase, after: ServiceCase) -> Expected:
        return Expected({})

    @property
    def handshake(self) -> Callable[[Sequence[str]], Machine]:
        return TideTalk


class TideTalk:
    def __init__(self, accounts: Sequence[str]) -> None:
        self.account, self.left = accounts[0], accounts[1:]
        self.done, self.held, self.answers = False, b"", 0
        self.found: list[Event] = []
        self.out = b""

    def start(self) -> bytes:
        return b""

    def receive(self, data: bytes) -> None:
        self.held = (self.held + data)[:1000]
        while b"\n" in self.held and not self.done:
            line, _, self.held = self.held.partition(b"\n")
            self._line(line.decode("ascii", "replace"))
        if not data and not self.done:
            self._end(ProtocolBreach("it closed before it was done"))

    def _line(self, line: str) -> None:
        self.answers += 1
        if self.answers == 1 and line.startswith("tide 1 "):
            self.found.append(PeerIdentity(line))
            self.out = f"who {self.account}\n".encode()
        elif self.answers == 2 and line in ("password", "welcome"):
            self._end(RequestedProof(self.account, ("password",) if line == "password" else (), line == "welcome"))
        else:
            self._end(ProtocolBreach(f"it says {line!r}"))

    def _end(self, event: Event) -> None:
        self.found.append(event)
        self.done = True

    @property
    def wants_tls(self) -> bool:
        return False

    def sealed(self, version: str, certificate: bytes) -> None:
        raise AssertionError("it has no TLS")

    def unsealed(self, why: str) -> None:
        raise AssertionError("it has no TLS")

    def another(self) -> Machine | None:
        return TideTalk(self.left) if self.left else None

    def events(self) -> Iterator[Event]:
        found, self.found = self.found, []
        return iter(found)

    def to_send(self) -> bytes:
        out, self.out = self.out, b""
        return out
