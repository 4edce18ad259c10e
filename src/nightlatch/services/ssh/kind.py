"""SSH as a kind of service: everything that the rest asks of it."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from nightlatch.model import services
from nightlatch.model.grants import Grant
from nightlatch.model.paths import AccessPath
from nightlatch.model.services import ServiceWords
from nightlatch.model.steps import Candidate
from nightlatch.readings.guest import GuestReading
from nightlatch.services.base import Case, Server, Silent, State
from nightlatch.services.ssh.closing import Guesswork
from nightlatch.services.ssh.entries import SshAccess, SshServer
from nightlatch.services.ssh.listening import sockets_of
from nightlatch.services.ssh.opening import open_up
from nightlatch.services.ssh.settings import Effective


class SshKind:
    """OpenSSH's server; a guest has one, be it installed or not."""

    @property
    def words(self) -> ServiceWords:
        return services.SSH

    def servers(self, reading: GuestReading, at: datetime) -> tuple[Server, ...]:
        """The one server; one that is not there, or would not start, lets nobody in."""
        effective = Effective(reading.sshd)
        if not reading.installed:
            return (Silent(SshAccess(reading, effective, State.ABSENT)),)
        if effective.refusal is not None:
            return (Silent(SshAccess(reading, effective, State.BROKEN)),)
        return (SshServer(reading, effective, sockets_of(reading, effective), at),)

    def closing(self, path: AccessPath, why: str, case: Case) -> Iterator[Candidate]:
        """Settings at the place that wins, key lines taken away or narrowed."""
        return Guesswork(case).close(path, why)

    def opening(self, grant: Grant, why: str, case: Case) -> Iterator[Candidate]:
        """Modes and owners, lists of users, key lines, settings for some."""
        return open_up(Guesswork(case), grant, why)


SSH = SshKind()
