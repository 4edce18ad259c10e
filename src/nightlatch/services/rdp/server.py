"""How a guest's xrdp starts: where it listens, or why it does not start at all; and whether it runs."""

from __future__ import annotations

from datetime import datetime

from nightlatch.evidence.screen_files import MAIN
from nightlatch.readings.guest import GuestReading
from nightlatch.services.base import Server, ServerState, SilentServer
from nightlatch.services.rdp import settings as reading_of
from nightlatch.services.rdp.entries import RdpAccess, RdpServer
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


def of(reading: GuestReading, at: datetime) -> Server:
    """The server of a guest that has xrdp's program."""
    settings = reading_of.read(reading.snapshot)
    takes = listening_of(settings)
    if takes.fault:
        return SilentServer(RdpAccess(reading, ServerState.BROKEN, settings, fault=takes.fault))
    ports = {each.port for each in takes.sockets}
    taken = {each.port for each in reading.service.sockets}
    stopped = reading.service.is_live and bool(ports) and not ports & taken
    return RdpServer(reading, settings, takes, ServerState.STOPPED if stopped else ServerState.SERVES, at)
