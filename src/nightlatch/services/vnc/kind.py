"""VNC as a kind of service: TigerVNC's servers and x11vnc on Linux guests, each showing one screen.

What only drafts and explanations need is imported when one of them asks."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from datetime import datetime

from nightlatch.evidence.extra_paths import ExtraPaths
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
from nightlatch.services.base import Expected, Login, Server, ServiceCase
from nightlatch.services.vnc.collected import COLLECTED


class VncKind:
    """The servers of screens by VNC; a guest may have many."""

    @property
    def words(self) -> ServiceWords:
        return services.VNC

    @property
    def collects(self) -> ExtraPaths:
        """Units, their settings, and what these name."""
        return COLLECTED

    def listening(self, reading: GuestReading) -> tuple[Listener, ...]:
        """The sockets of all that start."""
        from nightlatch.services.vnc import server

        return tuple(server.listening(reading))

    def servers(self, reading: GuestReading, at: datetime) -> tuple[Server, ...]:
        """Each of them; one that is absent where there is none."""
        from nightlatch.services.vnc import server

        return tuple(server.of(reading, at))

    def unserved(self, case: ServiceCase) -> Obstacle | None:
        """No server, one that does not start, or one that is stopped."""
        from nightlatch.services.vnc import explanations

        return explanations.unserved(case)

    def refused(self, grant: Grant, where: AddressSet, case: ServiceCase, *, served: bool) -> Obstacle | None:
        """No screen of the account, a proof or a seal that is not offered, no password."""
        from nightlatch.services.vnc import explanations

        return explanations.refused(grant, where, case, served=served)

    def lacking(self, grant: Grant, where: AddressSet, case: ServiceCase) -> Obstacle | None:
        """Nothing that is not told already."""
        return None

    def lines(
        self, grant: Grant, power: Power, socket: Listener, seen: AddressSet, case: ServiceCase
    ) -> Iterator[tuple[Obstacle, AddressSet]]:
        """Nothing: a list of callers counts for all of them alike."""
        return iter(())

    def links(self, asked: Login, socket: Listener, seen: AddressSet, case: ServiceCase) -> Iterator[Link]:
        """Screen, seal, proof."""
        from nightlatch.services.vnc import links

        return links.links(asked, seen, case)

    def closing(self, path: AccessPath, why: str, case: ServiceCase) -> Iterator[Candidate]:
        """The loopback address, and types that seal, in the settings; what runs has to be started anew, which ends sessions."""
        from nightlatch.services.vnc import closing_steps

        return closing_steps.close(path, why, case)

    def hand(self, path: AccessPath, case: ServiceCase) -> str:
        """The lines to write, and what has to be started anew."""
        from nightlatch.services.vnc import closing_steps

        return closing_steps.hand(path, case)

    def opening(self, grant: Grant, why: str, case: ServiceCase) -> Iterator[Candidate]:
        """Types that seal, in the settings of a server that is there."""
        from nightlatch.services.vnc import closing_steps

        return closing_steps.open_up(grant, why, case)

    def loads(self, before: GuestReading, after: GuestReading, changed: Collection[str]) -> bool:
        """Whether a server has to be started anew for a change of its settings: they are read at the start only."""
        from nightlatch.services.vnc import server

        return server.read(before.snapshot) != server.read(after.snapshot)

    def after_change(self, before: ServiceCase, after: ServiceCase) -> Expected:
        """Nothing that a program could be asked for."""
        return Expected({})

    @property
    def handshake(self) -> Callable[[Sequence[str]], Machine] | None:
        """The security types that are offered, with the certificate where there is one."""
        from nightlatch.services.vnc.rfb import Handshake

        return Handshake


VNC = VncKind()
