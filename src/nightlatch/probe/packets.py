"""The binary packet protocol of SSH: packets out of a stream of bytes, and back, in the clear or under keys.

RFC 4253, 6; AES in counter mode (RFC 4344); AES-GCM (RFC 5647, named as OpenSSH names it) and chacha20-poly1305, both
as in OpenSSH's PROTOCOL files. HMAC with SHA-2 (RFC 6668), also encrypt-then-mac.
"""

from __future__ import annotations

import hmac
import os
import struct
from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

from cryptography.exceptions import InvalidSignature, InvalidTag
from cryptography.hazmat.primitives.ciphers import Cipher, CipherContext, algorithms, modes
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.poly1305 import Poly1305

from nightlatch.probe.wire import PeerFault

LARGEST = 35000  # RFC 4253, 6.1


class Guard(Protocol):
    """How packets are protected in one direction; `size` is what must be there before the length can be read."""

    size: int

    def length(self, head: bytes, number: int) -> tuple[int, int]:
        """The packet's length, and how many bytes follow the head in all."""
        ...

    def open(self, head: bytes, rest: bytes, number: int) -> bytes:
        """The packet without its length: padding length, payload, padding. Raises PeerFault."""
        ...

    def seal(self, packet: bytes, number: int) -> bytes:
        """The bytes on the wire of a packet with its length."""
        ...

    def padded(self, size: int) -> int:
        """How many bytes of padding a payload of `size` bytes gets."""
        ...


def _padding(counted: int, block: int) -> int:
    pad = block - counted % block
    return pad + block if pad < 4 else pad


def _length(raw: bytes) -> int:
    (size,) = struct.unpack(">I", raw[:4])
    if not 2 <= size <= LARGEST:
        raise PeerFault(f"a packet of {size} bytes")
    return int(size)


class Clear:
    """No protection: before keys are agreed on."""

    size = 4

    def length(self, head: bytes, number: int) -> tuple[int, int]:
        size = _length(head)
        return size, size

    def open(self, head: bytes, rest: bytes, number: int) -> bytes:
        return rest

    def seal(self, packet: bytes, number: int) -> bytes:
        return packet

    def padded(self, size: int) -> int:
        return _padding(5 + size, 8)


class Gcm:
    """aes128-gcm@openssh.com, aes256-gcm@openssh.com: the length is in the clear and authenticated."""

    size = 4

    def __init__(self, key: bytes, iv: bytes, mac: bytes) -> None:
        self._aead, self._fixed, self._counter = AESGCM(key), iv[:4], int.from_bytes(iv[4:12], "big")

    def _nonce(self) -> bytes:
        nonce = self._fixed + self._counter.to_bytes(8, "big")
        self._counter = (self._counter + 1) % (1 << 64)
        return nonce

    def length(self, head: bytes, number: int) -> tuple[int, int]:
        size = _length(head)
        return size, size + 16

    def open(self, head: bytes, rest: bytes, number: int) -> bytes:
        try:
            return self._aead.decrypt(self._nonce(), rest, head)
        except InvalidTag:
            raise PeerFault("a packet was changed on its way") from None

    def seal(self, packet: bytes, number: int) -> bytes:
        return packet[:4] + self._aead.encrypt(self._nonce(), packet[4:], packet[:4])

    def padded(self, size: int) -> int:
        return _padding(1 + size, 16)


class Chacha:
    """chacha20-poly1305@openssh.com: the length has a key of its own; the packet's number is the nonce."""

    size = 4

    def __init__(self, key: bytes, iv: bytes, mac: bytes) -> None:
        self._main, self._lengths = key[:32], key[32:]

    @staticmethod
    def _stream(key: bytes, number: int, block: int, data: bytes) -> bytes:
        nonce = struct.pack("<Q", block) + struct.pack(">Q", number)
        return Cipher(algorithms.ChaCha20(key, nonce), mode=None).encryptor().update(data)

    def length(self, head: bytes, number: int) -> tuple[int, int]:
        size = _length(self._stream(self._lengths, number, 0, head))
        return size, size + 16

    def open(self, head: bytes, rest: bytes, number: int) -> bytes:
        try:
            Poly1305.verify_tag(self._stream(self._main, number, 0, bytes(32)), head + rest[:-16], rest[-16:])
        except InvalidSignature:
            raise PeerFault("a packet was changed on its way") from None
        return self._stream(self._main, number, 1, rest[:-16])

    def seal(self, packet: bytes, number: int) -> bytes:
        sealed = self._stream(self._lengths, number, 0, packet[:4]) + self._stream(self._main, number, 1, packet[4:])
        return sealed + Poly1305.generate_tag(self._stream(self._main, number, 0, bytes(32)), sealed)

    def padded(self, size: int) -> int:
        return _padding(1 + size, 8)


class Counter:
    """AES in counter mode with an HMAC, over the packet or, encrypt-then-mac, over what it was made into."""

    def __init__(self, key: bytes, iv: bytes, mac: bytes, digest: str, *, etm: bool) -> None:
        cipher = Cipher(algorithms.AES(key), modes.CTR(iv[:16]))
        self._in: CipherContext = cipher.decryptor()
        self._out: CipherContext = cipher.encryptor()
        self._mac, self._digest, self._etm = mac, digest, etm
        self._tag = hmac.new(mac, b"", digest).digest_size
        self.size = 4 if etm else 16
        self._first = b""

    def _sum(self, number: int, data: bytes) -> bytes:
        return hmac.new(self._mac, struct.pack(">I", number) + data, self._digest).digest()

    def length(self, head: bytes, number: int) -> tuple[int, int]:
        if self._etm:
            size = _length(head)
            return size, size + self._tag
        self._first = self._in.update(head)
        size = _length(self._first)
        if size < 12:
            raise PeerFault(f"a packet of {size} bytes")
        return size, size - 12 + self._tag

    def open(self, head: bytes, rest: bytes, number: int) -> bytes:
        body, tag = rest[: -self._tag], rest[-self._tag :]
        clear = self._in.update(body) if self._etm else self._first + self._in.update(body)
        if not hmac.compare_digest(tag, self._sum(number, head + body if self._etm else clear)):
            raise PeerFault("a packet was changed on its way")
        return clear if self._etm else clear[4:]

    def seal(self, packet: bytes, number: int) -> bytes:
        if self._etm:
            sealed = packet[:4] + self._out.update(packet[4:])
            return sealed + self._sum(number, sealed)
        return self._out.update(packet) + self._sum(number, packet)

    def padded(self, size: int) -> int:
        return _padding((1 if self._etm else 5) + size, 16)


@dataclass(frozen=True, slots=True)
class Suite:
    """One cipher by its name, with the sizes of key and first vector in bytes."""

    name: str
    key: int
    iv: int
    make: Callable[[bytes, bytes, bytes], Guard] | None  # None: needs a MAC, see MACS


CIPHERS = {
    each.name: each
    for each in (
        Suite("aes256-gcm@openssh.com", 32, 12, Gcm),
        Suite("aes128-gcm@openssh.com", 16, 12, Gcm),
        Suite("chacha20-poly1305@openssh.com", 64, 0, Chacha),
        Suite("aes256-ctr", 32, 16, None),
        Suite("aes192-ctr", 24, 16, None),
        Suite("aes128-ctr", 16, 16, None),
    )
}
MACS = {  # name: digest, key size in bytes, encrypt-then-mac
    "hmac-sha2-256-etm@openssh.com": ("sha256", 32, True),
    "hmac-sha2-512-etm@openssh.com": ("sha512", 64, True),
    "hmac-sha2-256": ("sha256", 32, False),
    "hmac-sha2-512": ("sha512", 64, False),
    "hmac-sha1": ("sha1", 20, False),
}


def guard(cipher: str, mac: str, key: Callable[[str, int], bytes], direction: str) -> Guard:
    """The protection of one direction; `key` derives so many bytes for a letter (RFC 4253, 7.2), A C E or B D F."""
    suite = CIPHERS[cipher]
    digest, size, etm = MACS[mac] if suite.make is None else ("", 0, False)
    letters = "ACE" if direction == "out" else "BDF"
    iv, secret, tag = key(letters[0], suite.iv), key(letters[1], suite.key), key(letters[2], size)
    return suite.make(secret, iv, tag) if suite.make else Counter(secret, iv, tag, digest, etm=etm)


class Stream:
    """Packets from bytes however they were split, and bytes from packets. Both directions count their packets."""

    def __init__(self) -> None:
        self.incoming: Guard = Clear()
        self.outgoing: Guard = Clear()
        self._buffer = bytearray()
        self._head: tuple[bytes, int, int] | None = None
        self._in = self._out = 0

    def receive(self, data: bytes) -> None:
        """More bytes from the peer."""
        self._buffer += data

    def line(self) -> bytes | None:
        """The next line in front of the packets, without its end, or None while there is none."""
        end = self._buffer.find(b"\n")
        if end < 0:
            return None
        line = bytes(self._buffer[:end]).removesuffix(b"\r")
        del self._buffer[: end + 1]
        return line

    @property
    def waiting(self) -> int:
        """How many bytes are there that made no packet yet."""
        return len(self._buffer)

    def packet(self) -> bytes | None:
        """The next packet's payload, or None while it is not whole. Raises PeerFault."""
        guard = self.incoming
        if self._head is None:
            if len(self._buffer) < guard.size:
                return None
            head = bytes(self._buffer[: guard.size])
            self._head = (head, *guard.length(head, self._in))
        head, _, follows = self._head
        if len(self._buffer) < guard.size + follows:
            return None
        rest = bytes(self._buffer[guard.size : guard.size + follows])
        del self._buffer[: guard.size + follows]
        self._head = None
        packet = guard.open(head, rest, self._in)
        self._in = (self._in + 1) % (1 << 32)
        pad = packet[0]
        if pad < 4 or pad + 1 >= len(packet):
            raise PeerFault(f"a packet with {pad} bytes of padding")
        return packet[1:-pad]

    def send(self, payload: bytes) -> bytes:
        """The bytes on the wire of a payload."""
        pad = self.outgoing.padded(len(payload))
        packet = struct.pack(">IB", 1 + len(payload) + pad, pad) + payload + os.urandom(pad)
        sealed = self.outgoing.seal(packet, self._out)
        self._out = (self._out + 1) % (1 << 32)
        return sealed
