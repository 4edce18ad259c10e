"""RDP as a kind of service: xrdp on Linux guests.

What only drafts and explanations need is imported when one of them asks."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from datetime import datetime

from nightlatch.evidence.extra_paths import ExtraPaths
from nightlatch.evidence.screen_files import MAIN, SESMAN
from nightlatch.model import services
from nightlatch.model.candidates import Candidate
from nightlatch.model.grants import Grant
from nightlatch.model.handshake import Machine
from nightlatch.model.links import Link
from nightlatch.model.obstacles import Obstacle
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import Power
from nightlatch.model.services import ServiceWords
from nightlatch.model.sockets import Listener
from nightlatch.net.addresses import AddressSet
from nightlatch.readings.guest import GuestReading
from nightlatch.services.base import Expected, Login, Server, ServerState, ServiceCase, SilentServer
from nightlatch.services.rdp import settings
from nightlatch.services.rdp.collected import COLLECTED


class RdpKind:
    """xrdp and its session manager; a guest has at most one."""

    @property
    def words(self) -> ServiceWords:
        return services.RDP

    @property
    def collects(self) -> ExtraPaths:
        """Both files, what they may name, and what a session is made of."""
        return COLLECTED

    def listening(self, reading: GuestReading) -> tuple[Listener, ...]:
        """The sockets of xrdp; none where it is not there, or does not start."""
        if settings.is_installed(reading.snapshot) is not True:
            return ()
        from nightlatch.services.rdp.server import listening_of

        return listening_of(settings.read(reading.snapshot)).sockets

    def servers(self, reading: GuestReading, at: datetime) -> tuple[Server, ...]:
        """The one server; of a guest without xrdp nothing more is read."""
        installed = settings.is_installed(reading.snapshot)
        if installed is True:
            from nightlatch.services.rdp import server

            return (server.of(reading, at),)
        from nightlatch.services.rdp.entries import RdpAccess

        return (SilentServer(RdpAccess(reading, ServerState.ABSENT if installed is False else ServerState.NOT_COLLECTED)),)

    def unserved(self, case: ServiceCase) -> Obstacle | None:
        """No server, one that does not start, or one that listens nowhere."""
        from nightlatch.services.rdp import explanations

        return explanations.unserved(case)

    def refused(self, grant: Grant, where: AddressSet, case: ServiceCase, *, served: bool) -> Obstacle | None:
        """An account that is not let in, a login that ends at once, a seal that is not served."""
        from nightlatch.services.rdp import explanations

        return explanations.refused(grant, where, case, served=served)

    def lacking(self, grant: Grant, where: AddressSet, case: ServiceCase) -> Obstacle | None:
        """Nothing: a password is all that is asked for."""
        return None

    def lines(
        self, grant: Grant, power: Power, socket: Listener, seen: AddressSet, case: ServiceCase
    ) -> Iterator[tuple[Obstacle, AddressSet]]:
        """Nothing: xrdp tells no callers apart."""
        return iter(())

    def links(self, asked: Login, socket: Listener, seen: AddressSet, case: ServiceCase) -> Iterator[Link]:
        """Seal, account, proof, session."""
        from nightlatch.services.rdp import links

        return links.links(asked, seen, case)

    def closing(self, path: AccessPath, why: str, case: ServiceCase) -> Iterator[Candidate]:
        """The seal, root's login and the listening address, where nothing runs that would have to load them."""
        from nightlatch.services.rdp import closing_steps

        return closing_steps.close(path, why, case)

    def hand(self, path: AccessPath, case: ServiceCase) -> str:
        """The lines to write, and what has to be started anew."""
        from nightlatch.services.rdp import closing_steps

        return closing_steps.hand(path, case)

    def opening(self, grant: Grant, why: str, case: ServiceCase) -> Iterator[Candidate]:
        """TLS, a key that can be read, a place in a group; a server, a desktop and a certificate are left by hand."""
        from nightlatch.services.rdp import opening_steps

        return opening_steps.open_up(grant, why, case)

    def loads(self, before: GuestReading, after: GuestReading, changed: Collection[str]) -> bool:
        """Where it listens is read at the start, and all of the session manager; the rest by each connection (measured)."""
        was, becomes = settings.read(before.snapshot).ports.value, settings.read(after.snapshot).ports.value
        return SESMAN in changed or (MAIN in changed and was != becomes)

    def after_change(self, before: ServiceCase, after: ServiceCase) -> Expected:
        """Nothing that a program could be asked for: neither has a test of its own."""
        return Expected({})

    @property
    def handshake(self) -> Callable[[Sequence[str]], Machine] | None:
        """The negotiation, for TLS and then for none."""
        from nightlatch.services.rdp.negotiation import Negotiation

        return Negotiation


RDP = RdpKind()
