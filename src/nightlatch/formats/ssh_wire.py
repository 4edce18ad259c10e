"""The data types of SSH (RFC 4251, 5), read with bounds and written: of packets, keys, and lists of revoked keys.

A reader never gives more than there is.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from typing import ClassVar

MOST_NAMES = 512


class WireFault(ValueError):
    """The bytes are not what they should be; the message says how."""


class Reader:
    """Takes bytes apart from their start. A subclass names the `fault` that it raises, and what it reads (`within`)."""

    fault: ClassVar[type[Exception]] = WireFault
    within: ClassVar[str] = "what holds it"

    def __init__(self, payload: bytes) -> None:
        self._payload, self._at = payload, 0

    def take(self, size: int) -> bytes:
        """So many bytes. Raises the fault when there are fewer."""
        if size > len(self._payload) - self._at:
            raise self.fault(f"cut short: a field of {size} bytes is longer than {self.within}")
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

    def long(self) -> int:
        """A uint64."""
        return int.from_bytes(self.take(8), "big")

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
            raise self.fault(f"a list of {len(names)} names")
        return tuple(names)

    def integer(self) -> int:
        """An mpint that is not negative."""
        raw = self.string()
        if raw and raw[0] & 0x80:
            raise self.fault("a negative number where none can be")
        return int.from_bytes(raw, "big")

    @property
    def rest(self) -> bytes:
        """What was not taken yet."""
        return self._payload[self._at :]

    def strings(self) -> Iterator[bytes]:
        """The strings that are left."""
        while self._at < len(self._payload):
            yield self.string()

    def end(self) -> None:
        """Raises the fault unless everything was read."""
        left = len(self._payload) - self._at
        if left:
            raise self.fault(f"{left} bytes too many in {self.within}")


def string(value: bytes) -> bytes:
    """A string."""
    return struct.pack(">I", len(value)) + value


def names(values: Sequence[str]) -> bytes:
    """A name-list."""
    return string(",".join(values).encode("ascii"))


def integer(value: int) -> bytes:
    """An mpint; `value` is not negative."""
    return string(value.to_bytes(value.bit_length() // 8 + 1, "big") if value else b"")
