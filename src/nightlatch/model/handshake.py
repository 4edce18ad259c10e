"""A handshake as a machine without I/O: it gets bytes, and gives bytes and events. Driver, clock and timeout live outside."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

from nightlatch.model.routes import Seal


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


@dataclass(frozen=True, slots=True)
class SealSeen:
    """A seal that was served: with TLS its version and the peer's certificate (DER)."""

    seal: Seal
    version: str = ""
    certificate: bytes = b""


@dataclass(frozen=True, slots=True)
class SealRefused:
    """A seal that was asked for and is not served; `why` is for people."""

    seal: Seal
    why: str


Event = PeerIdentity | RequestedProof | ProtocolBreach | SealSeen | SealRefused


class Machine(Protocol):
    """One conversation. What it keeps is bounded, and after a fault it stays done."""

    @property
    def done(self) -> bool: ...
    @property
    def wants_tls(self) -> bool:
        """Whether TLS is to be begun now on this connection; `sealed` or `unsealed` follows."""

    def start(self) -> bytes:
        """The bytes to send first; may be empty."""

    def receive(self, data: bytes) -> None:
        """Take bytes that the peer sent; empty when it closed."""

    def events(self) -> Iterator[Event]:
        """The events since the last call."""

    def to_send(self) -> bytes:
        """The bytes to send now; may be empty."""

    def sealed(self, version: str, certificate: bytes) -> None:
        """TLS stands, of a version, with the peer's certificate (DER)."""

    def unsealed(self, why: str) -> None:
        """TLS could not be begun; `why` is for people."""

    def another(self) -> Machine | None:
        """A further conversation, on a connection of its own; asked once this one is done."""
