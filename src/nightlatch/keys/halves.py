"""A private half in memory, and its numbers as the forms on disk have them. Nothing here shows a number of it."""

from __future__ import annotations

import base64
from dataclasses import dataclass, field

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat

from nightlatch.formats.keys import KeyFault, KeyReader, PublicKey, decode

Secret = Ed25519PrivateKey | rsa.RSAPrivateKey | ec.EllipticCurvePrivateKey
CURVES: dict[str, type[ec.EllipticCurve]] = {"nistp256": ec.SECP256R1, "nistp384": ec.SECP384R1, "nistp521": ec.SECP521R1}
ECDSA = "ecdsa-sha2-"
UNKNOWN = "a private half of {} can't be read here; Ed25519, RSA and ECDSA can"


class PassphraseFault(KeyFault):
    """A passphrase is on the file, and none was given, or a wrong one."""


@dataclass(frozen=True, slots=True)
class PrivateKey:
    """A private half with its comment. `locked` tells that a passphrase was on the file it comes from, `rounds` how often that
    file's form works on a passphrase, where it is OpenSSH's."""

    secret: Secret = field(repr=False)
    comment: str = ""
    locked: bool = False
    rounds: int = 0

    @property
    def public(self) -> PublicKey:
        """The public half, with the comment."""
        line = self.secret.public_key().public_bytes(Encoding.OpenSSH, PublicFormat.OpenSSH)
        algorithm, text = line.decode().split(" ")[:2]
        return PublicKey(algorithm, decode(algorithm, text).blob, self.comment)


@dataclass(frozen=True, slots=True)
class RSANumbers:
    """The numbers of an RSA key (RFC 8017, 3.2): modulus, exponents, primes, and the coefficient of the second prime."""

    n: int
    e: int
    d: int
    p: int
    q: int
    iqmp: int


def rsa_numbers(secret: rsa.RSAPrivateKey) -> RSANumbers:
    """The numbers of an RSA key."""
    found = secret.private_numbers()
    of_all = found.public_numbers
    return RSANumbers(of_all.n, of_all.e, found.d, found.p, found.q, found.iqmp)


def rsa_key(n: RSANumbers) -> rsa.RSAPrivateKey:
    """The key of such numbers. Raises KeyFault where they don't belong together."""
    if not (n.p > 1 and n.q > 1 and 0 < n.d < n.n):
        raise KeyFault("the numbers of the key don't belong together")
    dmp1, dmq1 = rsa.rsa_crt_dmp1(n.d, n.p), rsa.rsa_crt_dmq1(n.d, n.q)
    try:
        return rsa.RSAPrivateNumbers(n.p, n.q, n.d, dmp1, dmq1, n.iqmp, rsa.RSAPublicNumbers(n.e, n.n)).private_key()
    except ValueError:
        raise KeyFault("the numbers of the key don't belong together") from None


def ecdsa_key(curve: str, number: int) -> ec.EllipticCurvePrivateKey:
    """The key of a curve and its private number. Raises KeyFault."""
    if curve not in CURVES:
        raise KeyFault(f'"{curve[:40]}" is no curve of SSH')
    try:
        return ec.derive_private_key(number, CURVES[curve]())
    except ValueError:
        raise KeyFault("the number of the key lies outside its curve") from None


def ed25519_key(seed: bytes) -> Ed25519PrivateKey:
    """The key of a seed (RFC 8032, 5.1.5). Raises KeyFault."""
    if len(seed) != 32:
        raise KeyFault("an Ed25519 key has 32 bytes")
    return Ed25519PrivateKey.from_private_bytes(seed)


def seed_of(secret: Ed25519PrivateKey) -> bytes:
    """The seed of an Ed25519 key."""
    return secret.private_bytes(Encoding.Raw, PrivateFormat.Raw, NoEncryption())


def known(secret: object) -> Secret:
    """The key where it is of a kind that SSH has. Raises KeyFault."""
    if isinstance(secret, ec.EllipticCurvePrivateKey) and not isinstance(secret.curve, tuple(CURVES.values())):
        raise KeyFault(f"SSH has no keys of the curve {secret.curve.name}")
    if isinstance(secret, (Ed25519PrivateKey, rsa.RSAPrivateKey, ec.EllipticCurvePrivateKey)):
        return secret
    raise KeyFault(UNKNOWN.format("this kind"))


def same_halves(key: PrivateKey, blob: bytes) -> PrivateKey:
    """The key where `blob` is its public half. Raises KeyFault."""
    if key.public.blob != blob:
        raise KeyFault("the private half in the file does not belong to the public half in it")
    return key


def public_numbers(key: PublicKey) -> serialization.SSHPublicKeyTypes:
    """The public half for a library. Raises KeyFault for kinds that it does not read."""
    line = f"{key.algorithm} {base64.b64encode(key.blob).decode()}".encode()
    try:
        return serialization.load_ssh_public_key(line)
    except (ValueError, UnsupportedAlgorithm):
        raise KeyFault(f"a public half of {key.kind} has no form but OpenSSH's and that of RFC 4716") from None


def fields_of(key: PublicKey) -> KeyReader:
    """The fields of a public half, behind its name."""
    fields = KeyReader(key.blob)
    fields.string()
    return fields
