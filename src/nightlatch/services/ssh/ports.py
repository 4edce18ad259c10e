"""The ports and sockets of a guest's SSH server."""

from __future__ import annotations

from nightlatch.model.sockets import Listener, family_of, ports_of
from nightlatch.readings.guest import GuestReading
from nightlatch.services.ssh.settings import Effective, effective_of, listeners


def listening(reading: GuestReading) -> tuple[Listener, ...]:
    """The sockets of a guest's SSH server; none where there is no server, or its settings are refused."""
    effective = effective_of(reading.sshd)
    return sockets_of(reading, effective) if reading.installed and effective.refusal is None else ()


def ports(reading: GuestReading) -> tuple[int, ...]:
    """The ports of these sockets, each once, in their order."""
    return ports_of(listening(reading))


def sockets_of(reading: GuestReading, effective: Effective) -> tuple[Listener, ...]:
    """The sockets that callers reach: the service manager's own where it holds the port (systemd.socket(5)), else sshd's."""
    unit = reading.service.socket
    if unit is None or not unit.listens:
        return listeners(effective.top)
    return tuple(Listener(address, port, family_of(address), unit.origin) for address, port in unit.listens)
