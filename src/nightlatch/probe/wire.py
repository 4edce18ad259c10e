"""The data types of SSH packets (RFC 4251, 5), read with bounds and written.

A reader never gives more than was sent, and a packet must be used up exactly: what is left over is a fault.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence

MOST_NAMES = 512


class PeerFault(Exception):
    """The peer broke the protocol; the message says how. Nothing it says after this counts."""


class NothingInCommonFault(PeerFault):
    """Both sides follow the protocol, and have no algorithm of one kind in common."""


class Reader:
    """Takes one packet's payload apart from its start."""

    def __init__(self, payload: bytes) -> None:
        self._payload, self._at = payload, 0

    def take(self, size: int) -> bytes:
        """So many bytes; raises PeerFault when there are fewer."""
        if size > len(self._payload) - self._at:
            raise PeerFault(f"a field of {size} bytes is longer than its packet")
        self._at += size
        return self._payload[self._at - size : self._at]

    def byte(self) -> int:
        """One byte."""
        return self.take(1)[0]

    def flag(self) -> bool:
        """A boolean: everything but 0 is true."""
        return self.byte() != 0

    def number(self) -> int:
        """A uint32."""
        return int(struct.unpack(">I", self.take(4))[0])

    def string(self) -> bytes:
        """A string: its length, then so many bytes."""
        return self.take(self.number())

    def text(self) -> str:
        """A string as text; what is not UTF-8 is replaced."""
        return self.string().decode("utf-8", "replace")

    def names(self) -> tuple[str, ...]:
        """A name-list."""
        raw = self.string()
        names = raw.decode("ascii", "replace").split(",") if raw else []
        if len(names) > MOST_NAMES:
            raise PeerFault(f"a list of {len(names)} names")
        return tuple(names)

    def integer(self) -> int:
        """An mpint that is not negative."""
        raw = self.string()
        if raw and raw[0] & 0x80:
            raise PeerFault("a negative number where none can be")
        return int.from_bytes(raw, "big")

    def end(self) -> None:
        """Raises PeerFault unless everything was read."""
        left = len(self._payload) - self._at
        if left:
            raise PeerFault(f"{left} bytes too many in a packet")


def string(value: bytes) -> bytes:
    """A string."""
    return struct.pack(">I", len(value)) + value


def names(values: Sequence[str]) -> bytes:
    """A name-list."""
    return string(",".join(values).encode("ascii"))


def integer(value: int) -> bytes:
    """An mpint; `value` is not negative."""
    return string(value.to_bytes(value.bit_length() // 8 + 1, "big") if value else b"")
