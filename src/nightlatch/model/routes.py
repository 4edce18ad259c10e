"""Routes: the address and port that are dialled, the filters and logins on the way, and how well the line is sealed."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum

from nightlatch.model.causes import ForwardHop
from nightlatch.model.rules import Layer


class Seal(IntEnum):
    """How a connection is protected, the weaker first. What runs inside SSH to the server's own loopback counts as TLS."""

    CLEAR = 0
    TLS_WITHOUT_CERTIFICATE = 1
    TLS = 2

    @property
    def words(self) -> str:
        """As it is told to people and machines."""
        return {Seal.CLEAR: "clear", Seal.TLS_WITHOUT_CERTIFICATE: "tls without a certificate", Seal.TLS: "tls"}[self]


@dataclass(frozen=True, slots=True)
class Leg:
    """A login on the way to another guest: a jump, or a tunnel."""

    guest: str
    service: str
    account: str


@dataclass(frozen=True, slots=True)
class Tunnelled:
    """A place that is reached by a login on the way (`leg`): a service of the leg's guest, and the account there."""

    leg: Leg
    service: str
    account: str


@dataclass(frozen=True, slots=True)
class FilterMet:
    """A rule set that callers meet on the way: the layer that it is, and what it is called there; empty for the guest's own
    packet filter."""

    layer: Layer
    name: str = ""


@dataclass(frozen=True, slots=True)
class Route:
    """How a listening socket is reached: its address (empty for all) and port, the forward that leads there, and the filters on
    the way, the outermost first."""

    address: str = ""
    port: int = 0
    forward: ForwardHop | None = None
    filters: tuple[FilterMet, ...] = ()

    def __str__(self) -> str:
        by = f", by the forward from {self.forward.dialled}" if self.forward is not None else ""
        return f"port {self.port}{by}"


DIALLED = Route()
