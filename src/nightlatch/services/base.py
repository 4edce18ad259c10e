"""The interface of services: a kind, its servers on one guest, and the logins of each server.

A kind knows its own files, words and handshake, and nothing of filters, forwards and other services; what comes through to
its sockets is worked out around it (access/paths.py).
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from typing import Protocol

from nightlatch.estate.model import Estate
from nightlatch.evidence.extra_paths import ExtraPaths
from nightlatch.model.bounds import Addresses
from nightlatch.model.candidates import Candidate
from nightlatch.model.causes import Cause
from nightlatch.model.gaps import Gap
from nightlatch.model.grants import Grant
from nightlatch.model.handshake import Machine
from nightlatch.model.links import Link
from nightlatch.model.obstacles import Obstacle
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import Power, PowerKind
from nightlatch.model.routes import Seal
from nightlatch.model.secrets import Need
from nightlatch.model.services import ServiceWords
from nightlatch.model.sockets import Listener
from nightlatch.net.addresses import AddressSet
from nightlatch.readings.filters.rules import Rules
from nightlatch.readings.guest import GuestReading


class ServerState(StrEnum):
    """How a server stands on a guest, as far as its files and listings tell."""

    ABSENT = "not installed"
    NOT_COLLECTED = "not collected"
    BROKEN = "does not start"
    STOPPED = "does not run"
    SERVES = "serves"


@dataclass(frozen=True, slots=True)
class LoginEntry:
    """One power that an account gives for one need, and its callers: addresses as the guest sees them; over a connection of this
    seal."""

    account: str
    need: Need
    power: Power
    seen: Addresses
    causes: tuple[Cause, ...]
    gaps: tuple[Gap, ...] = ()
    seal: Seal = Seal.TLS


@dataclass(frozen=True, slots=True)
class LoginEntries:
    """The entries of one account at one socket, in each of the worlds that can't be told apart because of what is `undecided`.

    `unread` is what was not read at all, so that nothing is sure."""

    worlds: tuple[tuple[LoginEntry, ...], ...]
    undecided: tuple[Gap, ...] = ()
    unread: tuple[Gap, ...] = ()


class ServiceAccess(Protocol):
    """One server of a guest as it stands: the service's words, where it listens, and what only its own callers meet behind the
    guest's filter."""

    @property
    def words(self) -> ServiceWords: ...
    @property
    def state(self) -> ServerState: ...
    @property
    def listeners(self) -> tuple[Listener, ...]: ...
    @property
    def behind(self) -> tuple[Rules, ...]: ...
    @property
    def screen(self) -> str:
        """The account that every caller gets; empty where callers choose one."""


class Server(Protocol):
    """One server of a guest at work: what it lets in is asked of it socket by socket, and then how it `stands`, and the `gaps`
    that it met."""

    @property
    def stands(self) -> ServiceAccess: ...
    @property
    def gaps(self) -> tuple[Gap, ...]: ...

    def entries(self, socket: Listener, within: AddressSet) -> Iterator[LoginEntries]:
        """The entries of each account for callers from `within` at one socket."""


@dataclass(frozen=True, slots=True)
class SilentServer:
    """A server that lets nobody in as it `stands`: it is not there, was not read, or does not start."""

    stands: ServiceAccess
    gaps: tuple[Gap, ...] = ()

    def entries(self, socket: Listener, within: AddressSet) -> Iterator[LoginEntries]:
        """Nothing."""
        return iter(())


@dataclass(frozen=True)
class ServiceCase:
    """The input of a service that is asked for steps: one of its servers, the ways in and the grants by the service (whose
    callers are as the guest sees them), and the estate."""

    access: ServiceAccess
    reading: GuestReading
    paths: tuple[AccessPath, ...]
    grants: tuple[Grant, ...]
    estate: Estate


@dataclass(frozen=True, slots=True)
class Login:
    """A login that is asked about: the `account`, all that is shown (`need`), what is shown on top for root's rights (`after`),
    the powers that are granted (`gives`; empty where nothing is), and the least seal of the connection."""

    account: str
    need: Need
    after: Need = frozenset()
    gives: frozenset[Power] = frozenset()
    seal: Seal = Seal.TLS

    def shown_for(self, power: Power) -> Need:
        """All that is shown for a power."""
        return self.need | self.after if power.gives is PowerKind.ADMINISTER else self.need


@dataclass(frozen=True, slots=True)
class Expected:
    """The conditions that hold after a change: questions to the guest's own program, each with the lines that it must say."""

    asked: Mapping[str, tuple[str, ...]]


class ServiceKind(Protocol):
    """All that is peculiar to one service."""

    @property
    def words(self) -> ServiceWords: ...
    @property
    def collects(self) -> ExtraPaths:
        """Paths to read of a guest for this service, in addition to those that always are."""

    def listening(self, reading: GuestReading) -> tuple[Listener, ...]:
        """Where callers are taken, apart from who gets in; nothing where no server starts."""

    def servers(self, reading: GuestReading, at: datetime) -> tuple[Server, ...]:
        """The servers of this kind on a guest at a moment (aware); one that is absent, broken or stopped says so."""

    def unserved(self, case: ServiceCase) -> Obstacle | None:
        """Why a server lets nobody in at all; None where it serves."""

    def refused(self, grant: Grant, where: AddressSet, case: ServiceCase, *, served: bool) -> Obstacle | None:
        """The service's own obstacle for a grant from `where` (callers' own addresses): the account, or the proof.

        `served` says that others of the same grant are let in. None where the service knows of nothing."""

    def lacking(self, grant: Grant, where: AddressSet, case: ServiceCase) -> Obstacle | None:
        """Which of the things that the grant asks for is not there, where nothing else is in the way."""

    def lines(
        self, grant: Grant, power: Power, socket: Listener, seen: AddressSet, case: ServiceCase
    ) -> Iterator[tuple[Obstacle, AddressSet]]:
        """Lines that keep the account out from parts of `seen` (addresses as the guest sees them) at one socket, and which."""

    def links(self, asked: Login, socket: Listener, seen: AddressSet, case: ServiceCase) -> Iterator[Link]:
        """The service's own links of a login at one socket, for callers as the guest sees them, each asked by itself."""

    def closing(self, path: AccessPath, why: str, case: ServiceCase) -> Iterator[Candidate]:
        """Steps on the service's own files that may shut a way in, or narrow it to what is granted, the best first."""

    def hand(self, path: AccessPath, case: ServiceCase) -> str:
        """The advice to a person about a way in that no step shuts; empty where the service has none of its own."""

    def opening(self, grant: Grant, why: str, case: ServiceCase) -> Iterator[Candidate]:
        """Steps on the service's own files that may let in those of a grant, the best first."""

    def loads(self, before: GuestReading, after: GuestReading, changed: Collection[str]) -> bool:
        """Whether a server has to load its files again, or start anew, once these paths have changed."""

    def after_change(self, before: ServiceCase, after: ServiceCase) -> Expected:
        """The conditions that hold after a change of files that a server loads."""

    @property
    def handshake(self) -> Callable[[Sequence[str]], Machine] | None:
        """What makes the handshake that asks a server what it wants of accounts; None where the driver has one of its own."""


Kinds = Mapping[str, ServiceKind]
