"""The words of each service in the estate file: after `by:`, `with:` and `only:`."""

from __future__ import annotations

from dataclasses import dataclass

from nightlatch.model.powers import DESKTOP, SHELL, Power


@dataclass(frozen=True, slots=True)
class ServiceWords:
    """One service: its `name` after `by:`, its `title` in sentences, the `program` that serves it, and its usual `port`; the
    `proofs` that a grant may ask for, what it gives (`power`) unless it says `only`, what may stand there, and whether it may
    say `may: administer`."""

    name: str
    title: str
    program: str
    port: int
    proofs: tuple[str, ...]
    power: Power
    only: tuple[str, ...] = ()
    administers: bool = False


PROOFS = ("key", "hardware key", "certificate", "password", "code")
SSH = ServiceWords("ssh", "SSH", "sshd", 22, PROOFS, SHELL, ("command", "files"), administers=True)
RDP = ServiceWords("rdp", "RDP", "xrdp", 3389, ("password",), DESKTOP, administers=True)
SCREEN_PROOFS = ("screen password", "password", "none")
VNC = ServiceWords("vnc", "VNC", "a VNC server", 5900, SCREEN_PROOFS, DESKTOP, ("view",), administers=True)
SERVICES = (SSH, RDP, VNC)
