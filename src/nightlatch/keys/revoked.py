"""Lists of revoked keys and certificates in OpenSSH's binary form: read, and more put on them (PROTOCOL.krl of OpenSSH).

What stands on a list stays there byte for byte, sections that are not known among them.
"""

from __future__ import annotations

import struct
from base64 import b64encode
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from nightlatch.formats.keys import KeyFault, PublicKey, fingerprint
from nightlatch.formats.krl import BY_SHA256, EXPLICIT, MAGIC
from nightlatch.keys.wire import Fields, string

CERTIFICATES, SIGNATURE = 1, 4
SERIALS, SERIAL_RANGE, SERIAL_BITS, IDS = 0x20, 0x21, 0x22, 0x23
FORMAT = 1
MOST_BITS = 1 << 20  # of one bitmap of serials; ssh-keygen takes no more either


@dataclass(frozen=True, slots=True)
class RevokedCertificate:
    """A certificate by its authority (the blob of that key; empty: any) and its serial, or its id where it has no serial.
    `print_` is the fingerprint of the key that it certifies."""

    authority: bytes
    serial: int
    key_id: str
    print_: str = ""


@dataclass(frozen=True, slots=True)
class RevokedList:
    """A list: its number, which grows with each change, and what is on it. `ranges` are serials of an authority, from and to."""

    number: int = 0
    made: datetime | None = None
    comment: str = ""
    prints: frozenset[str] = frozenset()
    ranges: frozenset[tuple[bytes, int, int]] = frozenset()
    ids: frozenset[tuple[bytes, str]] = frozenset()
    others: int = 0
    sections: bytes = b""

    def has_key(self, key: PublicKey) -> bool:
        """Whether a key is on it."""
        return key.fingerprint in self.prints

    def has(self, found: RevokedCertificate) -> bool:
        """Whether a certificate is on it: itself, the key it certifies, or the key that signed it."""
        if found.print_ in self.prints or fingerprint(found.authority) in self.prints:
            return True
        for authority in (b"", found.authority):
            if not found.serial and (authority, found.key_id) in self.ids:
                return True
            spans = (each for each in self.ranges if each[0] == authority)
            if found.serial and any(low <= found.serial <= high for _, low, high in spans):
                return True
        return False


def read(raw: bytes) -> RevokedList:
    """The list in a file. Raises KeyFault where it is none, is cut short, or is of a later form."""
    if not raw.startswith(MAGIC):
        raise KeyFault("the file is no list of revoked keys in OpenSSH's binary form")
    fields = Fields(raw[len(MAGIC) :])
    if fields.number() != FORMAT:
        raise KeyFault("the list has a later form than is read here")
    number, made, _flags = (int.from_bytes(fields.take(8), "big") for _ in range(3))
    fields.string()  # reserved
    comment = fields.string().decode("utf-8", "replace")
    sections = fields.rest
    prints: set[str] = set()
    ranges: set[tuple[bytes, int, int]] = set()
    ids: set[tuple[bytes, str]] = set()
    others = 0
    while fields.rest:
        kind, data = fields.take(1)[0], Fields(fields.string())
        if kind == SIGNATURE:
            raise KeyFault("the list is signed: only who signed it can put more on it")
        if kind == CERTIFICATES:
            others += _certificates(data, ranges, ids)
        elif kind in (EXPLICIT, BY_SHA256):
            prints |= set(_prints(kind, data))
        else:
            others += 1
    moment = datetime.fromtimestamp(made, UTC) if 0 < made < 1 << 33 else None
    return RevokedList(number, moment, comment, frozenset(prints), frozenset(ranges), frozenset(ids), others, sections)


def _prints(kind: int, data: Fields) -> list[str]:
    out = []
    while data.rest:
        each = data.string()
        out.append(fingerprint(each) if kind == EXPLICIT else "SHA256:" + b64encode(each).decode().rstrip("="))
    return out


def _certificates(data: Fields, ranges: set[tuple[bytes, int, int]], ids: set[tuple[bytes, str]]) -> int:
    """Take what a section says of one authority's certificates; the number of parts that say something else."""
    authority, others = data.string(), 0
    data.string()  # reserved
    while data.rest:
        kind, part = data.take(1)[0], Fields(data.string())
        if kind == SERIALS:
            while part.rest:
                serial = int.from_bytes(part.take(8), "big")
                ranges.add((authority, serial, serial))
        elif kind == SERIAL_RANGE:
            low, high = (int.from_bytes(part.take(8), "big") for _ in range(2))
            ranges.add((authority, low, high))
        elif kind == SERIAL_BITS:
            first, bits = int.from_bytes(part.take(8), "big"), part.mpint()
            if bits.bit_length() > MOST_BITS:
                raise KeyFault("a part of the list is larger than OpenSSH takes it")
            ranges |= {(authority, first + at, first + at) for at in range(bits.bit_length()) if bits >> at & 1}
        elif kind == IDS:
            while part.rest:
                ids.add((authority, part.string().decode("utf-8", "replace")))
        else:
            others += 1
    return others


def extended(found: RevokedList, keys: Sequence[PublicKey], certificates: Sequence[RevokedCertificate], at: datetime) -> bytes:
    """The file of a list with these put on it, of the next number; what is on it already is not put there twice."""
    new_keys = [key for key in keys if not found.has_key(key)]
    sections = _section(EXPLICIT, b"".join(sorted(string(key.blob) for key in new_keys))) if new_keys else b""
    new = [each for each in certificates if not found.has(each)]
    for authority in sorted({each.authority for each in new}):
        those = [each for each in new if each.authority == authority]
        serials = sorted({each.serial for each in those if each.serial})
        names = sorted({each.key_id for each in those if not each.serial})
        part = _section(SERIALS, b"".join(struct.pack(">Q", serial) for serial in serials)) if serials else b""
        part += _section(IDS, b"".join(string(name.encode()) for name in names)) if names else b""
        sections += _section(CERTIFICATES, string(authority) + string(b"") + part)
    head = struct.pack(">IQQQ", FORMAT, found.number + 1, int(at.timestamp()), 0)
    return MAGIC + head + string(b"") + string(found.comment.encode()) + found.sections + sections


def _section(kind: int, data: bytes) -> bytes:
    return bytes([kind]) + string(data)
