"""Host keys as they stand on the wire: read, named by fingerprint, and held to their signature.

RFC 4253, 6.6 (RSA); RFC 8332 (RSA with SHA-2); RFC 5656, 3.1 (ECDSA); RFC 8709 (Ed25519). Not covered: DSA, and host
certificates, which are never asked for: the server then shows the plain key.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable

from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa, utils
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

from nightlatch.formats.keys import PublicKey
from nightlatch.probe.wire import PeerFault, Reader

_CURVES = {"nistp256": ec.SECP256R1(), "nistp384": ec.SECP384R1(), "nistp521": ec.SECP521R1()}
_CURVE_HASHES = {"nistp256": hashes.SHA256(), "nistp384": hashes.SHA384(), "nistp521": hashes.SHA512()}
# The key type behind each signature algorithm; the best of each type comes first.
KEY_TYPES = {
    "ssh-ed25519": "ssh-ed25519",
    "ecdsa-sha2-nistp256": "ecdsa-sha2-nistp256",
    "ecdsa-sha2-nistp384": "ecdsa-sha2-nistp384",
    "ecdsa-sha2-nistp521": "ecdsa-sha2-nistp521",
    "rsa-sha2-512": "ssh-rsa",
    "rsa-sha2-256": "ssh-rsa",
    "ssh-rsa": "ssh-rsa",
}
_RSA_HASHES = {"rsa-sha2-512": hashes.SHA512(), "rsa-sha2-256": hashes.SHA256(), "ssh-rsa": hashes.SHA1()}
RSA_BITS = (1024, 16384)


def md5_fingerprint(blob: bytes) -> str:
    """The older form of a fingerprint: `MD5:` and 16 bytes in hexadecimal, joined by colons (ssh-keygen(1), -E)."""
    return "MD5:" + hashlib.md5(blob, usedforsecurity=False).digest().hex(":")


def one_of_each(algorithms: tuple[str, ...]) -> tuple[tuple[str, ...], ...]:
    """For every type of key that is offered, the algorithms to ask for it with."""
    out: dict[str, list[str]] = {}
    for name in KEY_TYPES:
        if name in algorithms:
            out.setdefault(KEY_TYPES[name], []).append(name)
    return tuple(tuple(found) for found in out.values())


def proven(algorithm: str, blob: bytes, signature: bytes, signed: bytes) -> PublicKey:
    """The host key, when its signature over `signed` holds. Raises PeerFault when it does not, or when that is no key."""
    wanted = KEY_TYPES.get(algorithm)
    reader = Reader(blob)
    kind = reader.text()
    if wanted is None or kind != wanted:
        raise PeerFault(f"a key of type {kind[:40]} was shown where {wanted or algorithm} had been agreed on")
    outer = Reader(signature)
    named, raw = outer.text(), outer.string()
    outer.end()
    if named != algorithm:
        raise PeerFault(f"the signature is of {named[:40]} where {algorithm} had been agreed on")
    try:
        _VERIFY[wanted.split("-")[0] if wanted.startswith("ecdsa") else wanted](algorithm, reader, raw, signed)
    except InvalidSignature:
        raise PeerFault("the signature does not hold: the server does not have the key that it shows") from None
    except (ValueError, UnsupportedAlgorithm) as error:
        raise PeerFault(f"the host key can't be used: {error}") from None
    return PublicKey(kind, blob)


def _ed25519(algorithm: str, key: Reader, raw: bytes, signed: bytes) -> None:
    public = key.string()
    key.end()
    Ed25519PublicKey.from_public_bytes(public).verify(raw, signed)


def _ecdsa(algorithm: str, key: Reader, raw: bytes, signed: bytes) -> None:
    curve = key.text()
    point = key.string()
    key.end()
    if curve != algorithm.rpartition("-")[2]:
        raise PeerFault(f"a key on the curve {curve[:40]} was shown for {algorithm}")
    inner = Reader(raw)
    r, s = inner.integer(), inner.integer()
    inner.end()
    public = ec.EllipticCurvePublicKey.from_encoded_point(_CURVES[curve], point)
    public.verify(utils.encode_dss_signature(r, s), signed, ec.ECDSA(_CURVE_HASHES[curve]))


def _rsa(algorithm: str, key: Reader, raw: bytes, signed: bytes) -> None:
    exponent, modulus = key.integer(), key.integer()
    key.end()
    bits = modulus.bit_length()
    if not RSA_BITS[0] <= bits <= RSA_BITS[1] or exponent.bit_length() > 64:
        raise PeerFault(f"an RSA key of {bits} bits")
    public = rsa.RSAPublicNumbers(exponent, modulus).public_key()
    public.verify(raw.rjust((bits + 7) // 8, b"\0"), signed, padding.PKCS1v15(), _RSA_HASHES[algorithm])


_VERIFY: dict[str, Callable[[str, Reader, bytes, bytes], None]] = {
    "ssh-ed25519": _ed25519,
    "ecdsa": _ecdsa,
    "ssh-rsa": _rsa,
}
