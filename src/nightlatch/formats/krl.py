"""Key revocation lists in binary form, as far as plain keys and authorities go (PROTOCOL.krl of OpenSSH).

Certificates revoked by serial or name are not listed here: their authority can sign others, so no way in closes by it.
"""

from __future__ import annotations

import base64
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

from nightlatch.formats.keys import fingerprint

MAGIC = b"SSHKRL\n\0"
EXPLICIT, BY_SHA1, BY_SHA256 = 2, 3, 5


class KrlFault(ValueError):
    """The list is damaged: sshd then refuses every key."""


@dataclass(frozen=True, slots=True)
class RevocationList:
    """SHA256 fingerprints of revoked keys, and SHA-1 digests of others (20 bytes each)."""

    fingerprints: frozenset[str]
    sha1: frozenset[bytes] = frozenset()


@lru_cache(maxsize=64)
def parse(raw: bytes) -> RevocationList:
    """The list; raises KrlFault."""
    if not raw.startswith(MAGIC):
        raise KrlFault("it does not begin like one")
    at = len(MAGIC) + 4 + 8 + 8 + 8
    for _ in range(2):  # reserved, comment
        _, at = _string(raw, at)
    prints: set[str] = set()
    sha1: set[bytes] = set()
    while at < len(raw):
        kind = raw[at]
        data, at = _string(raw, at + 1)
        if kind == EXPLICIT:
            prints.update(fingerprint(blob) for blob in _strings(data))
        elif kind == BY_SHA256:
            prints.update("SHA256:" + base64.b64encode(each).decode().rstrip("=") for each in _strings(data))
        elif kind == BY_SHA1:
            sha1.update(_strings(data))
    return RevocationList(frozenset(prints), frozenset(sha1))


def _strings(data: bytes) -> Iterator[bytes]:
    at = 0
    while at < len(data):
        each, at = _string(data, at)
        yield each


def _string(raw: bytes, at: int) -> tuple[bytes, int]:
    try:
        (size,) = struct.unpack_from(">I", raw, at)
    except struct.error:
        raise KrlFault("it is cut short") from None
    if size > len(raw) - at - 4:
        raise KrlFault("it is cut short")
    return raw[at + 4 : at + 4 + size], at + 4 + size
