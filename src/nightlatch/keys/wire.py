"""The strings and whole numbers that key blobs are made of (RFC 4251, 5)."""

from __future__ import annotations

import struct

from nightlatch.formats.keys import KeyFault


def string(data: bytes) -> bytes:
    """A string: its length in four bytes, then itself."""
    return struct.pack(">I", len(data)) + data


def mpint(number: int) -> bytes:
    """A whole number that is not negative; a zero byte stands before a first bit that is set."""
    return string(number.to_bytes(number.bit_length() // 8 + 1, "big") if number else b"")


class Fields:
    """Takes strings and numbers from the front of some bytes. Every call raises KeyFault where they end too early."""

    def __init__(self, data: bytes) -> None:
        self._data, self._at = data, 0

    def take(self, size: int) -> bytes:
        """The next `size` bytes."""
        if size > len(self._data) - self._at:
            raise KeyFault("the key is cut short")
        self._at += size
        return self._data[self._at - size : self._at]

    def number(self) -> int:
        """A whole number of four bytes."""
        return int.from_bytes(self.take(4), "big")

    def string(self) -> bytes:
        """A string."""
        return self.take(self.number())

    def word(self) -> str:
        """A string that is a name."""
        return self.string().decode("ascii", "replace")

    def mpint(self) -> int:
        """A whole number with its length. None in a key is negative: that is a KeyFault."""
        raw = self.string()
        if raw and raw[0] & 0x80:
            raise KeyFault("a number of the key is negative")
        return int.from_bytes(raw, "big")

    @property
    def rest(self) -> bytes:
        """What was not taken yet."""
        return self._data[self._at :]
