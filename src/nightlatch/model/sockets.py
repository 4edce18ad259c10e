"""Sockets that services listen on."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from nightlatch.net.addresses import EVERY_ADDRESS, LOOPBACK, AddressSet, single
from nightlatch.net.literal import address_or_none
from nightlatch.origin import Origin

CONSOLE, CONSOLE_WORD = "(console)", "console"  # in place of an account, and after `as:`: the screen at the guest itself
EVERY_V4, EVERY_V6 = AddressSet(v4=EVERY_ADDRESS.v4), AddressSet(v6=EVERY_ADDRESS.v6)


@dataclass(frozen=True, slots=True)
class Listener:
    """One listening socket: a numeric address ("" stands for all of `family`) and a port."""

    address: str
    port: int
    family: str = "any"
    origin: Origin | None = None

    def admits(self) -> AddressSet:
        """The sources that can reach the socket: those of its family; the loopback's own for a loopback address."""
        if self.address in ("", "0.0.0.0", "::"):
            return {"inet": EVERY_V4, "inet6": EVERY_V6}.get(self.family, EVERY_ADDRESS)
        family = EVERY_V6 if ":" in self.address else EVERY_V4
        bound = address_or_none(self.address.partition("%")[0])
        return LOOPBACK & family if bound is not None and single(bound) <= LOOPBACK else family


def ports_of(sockets: Iterable[Listener]) -> tuple[int, ...]:
    """The ports of sockets, each once, in their order."""
    return tuple(sorted({each.port for each in sockets}))


def family_of(address: str) -> str:
    """The family of a listening address, as sshd_config(5) names it: any, inet or inet6."""
    return "any" if not address else "inet6" if ":" in address else "inet"
