"""How a guest's xrdp starts: where it listens, or why it does not start at all."""

from __future__ import annotations

from nightlatch.evidence.screen_files import MAIN
from nightlatch.services.rdp.ports import Listening, listening
from nightlatch.services.rdp.settings import RdpSettings


def listening_of(settings: RdpSettings) -> Listening:
    """The sockets of a guest's xrdp. It starts without a section about its log in no release (measured: 0.9.21, 0.10.1)."""
    unread = settings.unread(MAIN)
    if unread is not None:
        return Listening(gap=unread)
    if settings.main.heading("logging") is None:
        return Listening(fault="its file has no section [Logging]")
    ports = settings.ports
    return listening(ports.value, ports.origin, privileged=settings.account == "root")
