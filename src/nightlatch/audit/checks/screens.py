"""Checks of screens that are opened by something else than a server that is read: display managers, desktops, hosts."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.access.exposure import reached
from nightlatch.audit.checks.registry import CheckResult, Context, check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.net.addresses import LOOPBACK
from nightlatch.readings import display_managers
from nightlatch.readings.display_managers import Opened
from nightlatch.readings.units.service_reading import OpenSocket

# As such programs' processes are called; the kernel cuts names at fifteen letters (proc(5)).
SHARING = {
    "gnome-remote-de": "GNOME's own remote desktop",
    "vino-server": "GNOME's own screen sharing",
    "krfb": "KDE's own screen sharing",
    "krdpserver": "KDE's own remote desktop",
    "wayvnc": "the screen of a Wayland session",
    "weston": "the screen of a Wayland session",
    "grdctl": "GNOME's own remote desktop",
}
MACHINES = ("qemu-system-", "qemu-kvm", "VBoxHeadless", "spice-")
FIRST_X, LAST_X, XDMCP = 6000, 6063, 177  # (Xserver(1), NETWORK CONNECTIONS; XDMCP, 2)


@check("screen.xdmcp", Severity.HIGH, source="X Display Manager Control Protocol: nothing in it is encrypted")
def xdmcp(context: Context) -> Iterator[CheckResult]:
    """A display manager gives login screens to the network, where passwords are typed in clear."""
    yield from _opened(context, Opened.XDMCP, "Login screens are given to the network by XDMCP, in clear.")


@check("screen.x-over-tcp", Severity.HIGH, source="Xserver(1), -listen tcp; X11's connections are not encrypted")
def x_over_tcp(context: Context) -> Iterator[CheckResult]:
    """An X server takes connections from the network: a caller who is let in sees the whole screen and types on it."""
    yield from _opened(context, Opened.X_OVER_TCP, "X servers take connections over TCP.")
    for socket in context.access.reading.service.sockets:
        if FIRST_X <= socket.port <= LAST_X and any(name in ("Xorg", "X", "Xwayland") for name, _ in socket.programs):
            if _is_open(context, socket):
                text = f"An X server listens on port {socket.port}."
                yield CheckResult(text, (Proof(f"tcp {socket.port}", socket.origin),), (str(socket.port),))


def _opened(context: Context, what: Opened, text: str) -> Iterator[CheckResult]:
    found = [each for each in display_managers.read(context.access.reading.snapshot) if each.opens is what]
    if found:
        yield CheckResult(text, tuple(Proof(each.text, each.origin) for each in found))


def _is_open(context: Context, socket: OpenSocket) -> bool:
    return socket.is_exposed and bool(reached(context.access.reading, socket).perhaps - LOOPBACK)


@check("screen.own-sharing", Severity.MEDIUM, source="ss(8); proc(5), comm")
def own_sharing(context: Context) -> Iterator[CheckResult]:
    """A desktop shares its screen by itself, or a host shows that of a machine: what is asked for it is not read."""
    for socket in context.access.reading.service.sockets:
        for name, _ in socket.programs[:1]:
            what = SHARING.get(name) or ("the screen of a virtual machine" if name.startswith(MACHINES) else "")
            if what and _is_open(context, socket):
                text = f"{name} serves {what} on port {socket.port}, and what it asks for is not read."
                yield CheckResult(text, (Proof(f"tcp {socket.port}", socket.origin),), (f"tcp/{socket.port}",))
