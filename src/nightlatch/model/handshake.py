"""A handshake as a machine without I/O: it gets bytes, and gives bytes and events. Driver, clock and timeout live outside."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol


@dataclass(frozen=True, slots=True)
class PeerIdentity:
    """Who answers, in the peer's own words."""

    text: str


@dataclass(frozen=True, slots=True)
class RequestedProof:
    """What an account is asked for, in the words that stand after `with:`; `let_in` when that is nothing at all."""

    account: str
    proofs: tuple[str, ...]
    let_in: bool = False


@dataclass(frozen=True, slots=True)
class ProtocolBreach:
    """The peer does not keep to the protocol: nothing it says after this counts."""

    why: str


Event = PeerIdentity | RequestedProof | ProtocolBreach


class Machine(Protocol):
    """One conversation. What it keeps is bounded, and after a fault it stays done."""

    @property
    def done(self) -> bool: ...

    def start(self) -> bytes:
        """The bytes to send first; may be empty."""

    def receive(self, data: bytes) -> None:
        """Take bytes that the peer sent; empty when it closed."""

    def events(self) -> Iterator[Event]:
        """The events since the last call."""

    def to_send(self) -> bytes:
        """The bytes to send now; may be empty."""
