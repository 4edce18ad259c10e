"""What a way in goes through: the logins on the way, and how well the line is sealed."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum


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
