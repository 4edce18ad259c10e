"""What a login gives: powers, and which of them imply others."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache


class PowerKind(StrEnum):
    """The kinds of power."""

    DESKTOP = "desktop"
    SHELL = "shell"
    COMMAND = "command"
    FILES = "files"
    TUNNEL = "tunnel"
    LISTEN = "listen"
    AGENT = "agent"
    VIEW = "view"
    CONNECT = "connect"
    ADMINISTER = "administer"
    CHANGE_PASSWORD = "change password"


@dataclass(frozen=True, slots=True)
class Power:
    """One thing a login gives; `what` is the command, the root folder of files, or the target of a tunnel."""

    gives: PowerKind
    what: str = ""

    def within(self, other: Power) -> bool:
        """Whether this power is no more than `other`."""
        if self.gives is not other.gives:
            return False
        if self.gives is PowerKind.FILES:
            root = other.what.rstrip("/")
            return self.what == other.what or self.what.startswith(root + "/")
        return self.what == other.what or other.what == "*"

    def offers(self, wanted: Power) -> bool:
        """Whether this power gives what is wanted, literally. A shell where a command is granted gives that command too, and a
        desktop a look at it; that they give more is a hole, and shuts nobody out."""
        if (wanted.gives, self.gives) in HOLDS:
            return True
        return wanted.within(self)

    def __str__(self) -> str:
        shown = {
            PowerKind.COMMAND: f"runs {self.what}",
            PowerKind.FILES: f"files under {self.what}",
            PowerKind.TUNNEL: "tunnels to anywhere" if self.what == "*" else f"a tunnel to {self.what}",
            PowerKind.LISTEN: "tunnels back from anywhere" if self.what == "*" else f"a tunnel back from {self.what}",
            PowerKind.AGENT: "agent forwarding",
            PowerKind.SHELL: "a shell",
            PowerKind.ADMINISTER: "root's rights",
            PowerKind.CHANGE_PASSWORD: "a change of the password",
            PowerKind.DESKTOP: "a desktop",
            PowerKind.VIEW: "a look at the screen",
            PowerKind.CONNECT: f"a connection to port {self.what}",
        }
        return shown[self.gives]


HOLDS = ((PowerKind.COMMAND, PowerKind.SHELL), (PowerKind.VIEW, PowerKind.DESKTOP))
SHELL = Power(PowerKind.SHELL)
VIEW = Power(PowerKind.VIEW)
ADMINISTER = Power(PowerKind.ADMINISTER)
DESKTOP = Power(PowerKind.DESKTOP)
IMPLIED_BY_DESKTOP = (SHELL, VIEW)
IMPLIED_BY_SHELL = (
    SHELL,
    Power(PowerKind.COMMAND, "*"),
    Power(PowerKind.FILES, "/"),
    Power(PowerKind.TUNNEL, "*"),
    Power(PowerKind.LISTEN, "*"),
    Power(PowerKind.AGENT),
    Power(PowerKind.CHANGE_PASSWORD),
)


@lru_cache(maxsize=1024)
def implied(gives: frozenset[Power]) -> frozenset[Power]:
    """What a grant allows: a shell implies files, commands, tunnels and the agent; a desktop a shell, its files and commands, and
    a look at the screen."""
    if DESKTOP in gives:
        gives |= frozenset(IMPLIED_BY_DESKTOP)
    return gives | frozenset(IMPLIED_BY_SHELL) if SHELL in gives else gives
