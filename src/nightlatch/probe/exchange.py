"""Key exchanges of SSH, one side of each: what is sent, and the shared secret that the answer gives.

curve25519 (RFC 8731), ECDH over the NIST curves (RFC 5656), Diffie-Hellman over fixed groups (RFC 8268) and over a
group that the server proposes (RFC 4419). Not covered: the hybrids with sntrup761 and ML-KEM; a server that offers
nothing else is reported as such.
"""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from typing import Protocol

from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey, X25519PublicKey
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from nightlatch.formats.ssh_wire import integer, string
from nightlatch.probe.wire import PeerFault

# RFC 4419, 3: a smaller group is not accepted, a larger one costs the prober too much.
GROUP_BITS = (2048, 4096, 8192)
SECRET_BITS = 256  # RFC 4253, 6.2: twice the strength that the keys need


class Half(Protocol):
    """Our half of one exchange."""

    public: bytes  # as it is sent and hashed: a string or an mpint, without its length

    def shared(self, peer: bytes) -> int:
        """The shared secret as a number. Raises PeerFault when the peer's half is not valid."""
        ...


class Curve25519:
    """RFC 8731, 3."""

    def __init__(self) -> None:
        self._own = X25519PrivateKey.generate()
        self.public = self._own.public_key().public_bytes_raw()

    def shared(self, peer: bytes) -> int:
        try:
            return int.from_bytes(self._own.exchange(X25519PublicKey.from_public_bytes(peer)), "big")
        except ValueError:
            raise PeerFault("the answer to the exchange is no point of curve25519") from None


class Ecdh:
    """RFC 5656, 4."""

    def __init__(self, curve: ec.EllipticCurve) -> None:
        self._curve, self._own = curve, ec.generate_private_key(curve)
        self.public = self._own.public_key().public_bytes(Encoding.X962, PublicFormat.UncompressedPoint)

    def shared(self, peer: bytes) -> int:
        try:
            point = ec.EllipticCurvePublicKey.from_encoded_point(self._curve, peer)
            return int.from_bytes(self._own.exchange(ec.ECDH(), point), "big")
        except ValueError:
            raise PeerFault(f"the answer to the exchange is no point of {self._curve.name}") from None


class ModpGroup:
    """RFC 4253, 8: Diffie-Hellman over integers modulo a prime.

    The powers are Python's own: the library that has the other exchanges is giving these up (cryptography 50 warns), and
    its check of a group that a server proposes takes 20 s at 4096 bits (measured), which is the server's to choose. What
    is proven is the signature over the exchange; nothing that has to stay secret is ever sent under these keys.
    """

    def __init__(self, prime: int, generator: int = 2) -> None:
        self._prime, self._own = prime, secrets.randbits(2 * SECRET_BITS) | 1 << 2 * SECRET_BITS - 1
        self.public = integer(pow(generator, self._own, prime))[4:]

    def shared(self, peer: bytes) -> int:
        other = int.from_bytes(peer, "big")
        if not 1 < other < self._prime - 1:
            raise PeerFault("the answer to the exchange is out of its range")
        return pow(other, self._own, self._prime)


def proposed(prime: int, generator: int) -> ModpGroup:
    """The half for a group that the server proposed (RFC 4419, 3)."""
    if not GROUP_BITS[0] <= prime.bit_length() <= GROUP_BITS[2] or not 1 < generator < prime - 1:
        raise PeerFault(f"a group of {prime.bit_length()} bits was proposed")
    return ModpGroup(prime, generator)


@dataclass(frozen=True, slots=True)
class Exchange:
    """One exchange by its name on the wire. `half` is None where the server proposes a group first."""

    name: str
    digest: str
    half: Callable[[], Half] | None
    numbers: bool = False  # whether the halves are mpints, and not strings

    def hashed(self, half: bytes) -> bytes:
        """A half as it goes into the exchange hash and onto the wire."""
        return integer(int.from_bytes(half, "big")) if self.numbers else string(half)

    def hash(self, data: bytes) -> bytes:
        """The digest that this exchange uses."""
        return hashlib.new(self.digest, data).digest()


@lru_cache(maxsize=3)
def _modulus(bits: int) -> int:
    """The MODP prime of so many bits by its formula: 2^n - 2^(n-64) - 1 + 2^64 * ([2^(n-130) pi] + k) (RFC 3526)."""
    return (1 << bits) - (1 << bits - 64) - 1 + (1 << 64) * ((_pi(bits - 130)) + _K[bits])


_K = {2048: 124476, 4096: 240904, 8192: 4743158}  # RFC 3526, sections 3, 5 and 7


def _pi(bits: int) -> int:
    """The whole part of pi times 2 to the power of `bits` (Machin: pi = 16 atan(1/5) - 4 atan(1/239))."""
    extra = 64
    one = 1 << bits + extra

    def atan(inverse: int) -> int:
        term = total = one // inverse
        n, sign = 3, -1
        while term:
            term //= inverse * inverse
            total += sign * (term // n)
            n, sign = n + 2, -sign
        return total

    return (16 * atan(5) - 4 * atan(239)) >> extra


EXCHANGES = {
    each.name: each
    for each in (
        Exchange("curve25519-sha256", "sha256", Curve25519),
        Exchange("curve25519-sha256@libssh.org", "sha256", Curve25519),
        Exchange("ecdh-sha2-nistp256", "sha256", lambda: Ecdh(ec.SECP256R1())),
        Exchange("ecdh-sha2-nistp384", "sha384", lambda: Ecdh(ec.SECP384R1())),
        Exchange("ecdh-sha2-nistp521", "sha512", lambda: Ecdh(ec.SECP521R1())),
        Exchange("diffie-hellman-group14-sha256", "sha256", lambda: ModpGroup(_modulus(2048)), numbers=True),
        Exchange("diffie-hellman-group16-sha512", "sha512", lambda: ModpGroup(_modulus(4096)), numbers=True),
        Exchange("diffie-hellman-group18-sha512", "sha512", lambda: ModpGroup(_modulus(8192)), numbers=True),
        Exchange("diffie-hellman-group-exchange-sha256", "sha256", None, numbers=True),
        # Old servers offer nothing better. What is proven over it is the host key, which its own signature covers.
        Exchange("diffie-hellman-group14-sha1", "sha1", lambda: ModpGroup(_modulus(2048)), numbers=True),
    )
}
