"""New keys: kinds and sizes that are made here, and those that are not."""

from __future__ import annotations

from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from nightlatch.formats.keys import KeyFault
from nightlatch.keys.halves import CURVES, PrivateKey
from nightlatch.keys.strength import TODAY

KINDS = ("ed25519", "rsa", "ecdsa")
MOST_RSA_BITS = 16384  # ssh-keygen makes no larger ones
SIZES = {int(name.removeprefix("nistp")): curve for name, curve in CURVES.items()}


def make(kind: str, bits: int | None, comment: str) -> PrivateKey:
    """A new key. `bits` is for RSA (3072 and more) and ECDSA (256, 384, 521). Raises KeyFault for sizes that are not made."""
    if kind == "ed25519":
        if bits not in (None, 256):
            raise KeyFault("an Ed25519 key has 256 bits and no other size")
        return PrivateKey(Ed25519PrivateKey.generate(), comment)
    if kind == "ecdsa":
        if (bits or 256) not in SIZES:
            raise KeyFault(f"an ECDSA key has {', '.join(str(each) for each in SIZES)} bits, not {bits}")
        return PrivateKey(ec.generate_private_key(SIZES[bits or 256]()), comment)
    if kind != "rsa":
        raise KeyFault(f'"{kind[:40]}" is no kind of key that is made here; {", ".join(KINDS)} are')
    if not TODAY <= (bits or TODAY) <= MOST_RSA_BITS:
        raise KeyFault(f"an RSA key is made with {TODAY} to {MOST_RSA_BITS} bits, not with {bits}")
    return PrivateKey(rsa.generate_private_key(65537, bits or TODAY), comment)
