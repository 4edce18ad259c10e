"""SSH as a kind of service: everything that the rest asks of it.

What only drafts and explanations need is imported when one of them asks: most audits end without."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from datetime import datetime

from nightlatch.evidence.extra_paths import NO_MORE, ExtraPaths
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
from nightlatch.services.ssh import ports
from nightlatch.services.ssh.entries import SshAccess, SshServer
from nightlatch.services.ssh.settings import effective_of


class SshKind:
    """OpenSSH's server; a guest has one, be it installed or not."""

    @property
    def words(self) -> ServiceWords:
        return services.SSH

    @property
    def collects(self) -> ExtraPaths:
        """Nothing more: SSH's files are always read, for a survey comes in by SSH."""
        return NO_MORE

    def listening(self, reading: GuestReading) -> tuple[Listener, ...]:
        """The sockets of the service manager, or sshd's own."""
        return ports.listening(reading)

    def servers(self, reading: GuestReading, at: datetime) -> tuple[Server, ...]:
        """The one server; one that is not there, or would not start, lets nobody in."""
        effective = effective_of(reading.sshd)
        if not reading.installed:
            return (SilentServer(SshAccess(reading, effective, ServerState.ABSENT)),)
        if effective.refusal is not None:
            return (SilentServer(SshAccess(reading, effective, ServerState.BROKEN)),)
        return (SshServer(reading, effective, ports.sockets_of(reading, effective), at),)

    def unserved(self, case: ServiceCase) -> Obstacle | None:
        """No server, or settings that sshd refuses."""
        from nightlatch.services.ssh import explanations

        return explanations.unserved(case)

    def refused(self, grant: Grant, where: AddressSet, case: ServiceCase, *, served: bool) -> Obstacle | None:
        """An account that may not log in, a key that is not accepted, passwords that are not asked for."""
        from nightlatch.services.ssh import explanations

        return explanations.refused(grant, where, case, served=served)

    def lacking(self, grant: Grant, where: AddressSet, case: ServiceCase) -> Obstacle | None:
        """A key or an authority that is not listed."""
        from nightlatch.services.ssh import explanations

        return explanations.lacking(grant, where, case)

    def lines(
        self, grant: Grant, power: Power, socket: Listener, seen: AddressSet, case: ServiceCase
    ) -> Iterator[tuple[Obstacle, AddressSet]]:
        """Match blocks, lists and options of key lines."""
        from nightlatch.services.ssh import explanations

        return explanations.lines(grant, power, socket, seen, case)

    def links(self, asked: Login, socket: Listener, seen: AddressSet, case: ServiceCase) -> Iterator[Link]:
        """Settings, account, proof, session, rights."""
        from nightlatch.services.ssh import links

        assert isinstance(case.access, SshAccess)
        return links.links(case.access, asked, socket, seen)

    def closing(self, path: AccessPath, why: str, case: ServiceCase) -> Iterator[Candidate]:
        """Settings at the place that wins, key lines taken away or narrowed."""
        from nightlatch.services.ssh.closing_steps import ClosingSteps

        return ClosingSteps(case).close(path, why)

    def hand(self, path: AccessPath, case: ServiceCase) -> str:
        """Nothing of its own."""
        return ""

    def opening(self, grant: Grant, why: str, case: ServiceCase) -> Iterator[Candidate]:
        """Modes and owners, lists of users, key lines, settings for some."""
        from nightlatch.services.ssh.closing_steps import ClosingSteps
        from nightlatch.services.ssh.opening_steps import open_up

        return open_up(ClosingSteps(case), grant, why)

    def loads(self, before: GuestReading, after: GuestReading, changed: Collection[str]) -> bool:
        """The main file and all that it includes."""
        return bool({*changed} & {*before.sshd.files, *after.sshd.files})

    def after_change(self, before: ServiceCase, after: ServiceCase) -> Expected:
        """The lines that `sshd -T -C` must print for callers whose settings change."""
        from nightlatch.services.ssh import after_change as changed

        return changed.after_change(before, after)

    @property
    def handshake(self) -> Callable[[Sequence[str]], Machine] | None:
        """None: the driver itself leads SSH's conversations, several for all keys and names (probe/driver.py)."""
        return None


SSH = SshKind()
