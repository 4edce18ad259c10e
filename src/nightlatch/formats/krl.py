"""Lists of revoked keys and certificates in OpenSSH's binary form: read, and more put on them (PROTOCOL.krl of OpenSSH).

What stands on a list stays there byte for byte.
"""

from __future__ import annotations

import base64
import hashlib
import struct
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import lru_cache

from nightlatch.formats.keys import KeyFault, PublicKey, decode, fingerprint
from nightlatch.formats.ssh_wire import Reader, string

MAGIC = b"SSHKRL\n\0"
FORMAT = 1
CERTIFICATES, EXPLICIT, BY_SHA1, SIGNATURE, BY_SHA256 = 1, 2, 3, 4, 5
EXTENSION = 255  # since release 9.4; those before refuse a list that has one
SERIALS, SERIAL_RANGE, SERIAL_BITS, IDS = 0x20, 0x21, 0x22, 0x23
MOST_BITS = 1 << 20  # of one bitmap of serials; ssh-keygen takes no more either
LAST_MOMENT = 1 << 33  # in seconds since 1970: what is later is no time at which a list was made


class KrlFault(ValueError):
    """The list is damaged, or of a form that is not known: sshd then refuses every key."""


class _Reader(Reader):
    fault = KrlFault
    within = "the list"


@dataclass(frozen=True, slots=True)
class RevokedCertificate:
    """A certificate by its authority (the blob of that key) and its serial, or its id where it has no serial. `print_` is the
    fingerprint of the key that it certifies."""

    authority: bytes
    serial: int
    key_id: str
    print_: str = ""


@dataclass(frozen=True, slots=True)
class RevocationList:
    """SHA256 fingerprints of revoked keys, and SHA-1 digests of others (20 bytes each); certificates by `ranges` of serials, from
    and to, and by `ids`, each of the authority whose blob stands before it (empty: of any).

    `number` grows with each change; `others` counts parts of other kinds; only the signer can add to one that `is_signed`.
    """

    fingerprints: frozenset[str]
    sha1: frozenset[bytes] = frozenset()
    ranges: frozenset[tuple[bytes, int, int]] = frozenset()
    ids: frozenset[tuple[bytes, str]] = frozenset()
    number: int = 0
    made: datetime | None = None
    comment: str = ""
    others: int = 0
    is_signed: bool = False
    sections: bytes = b""

    def has_key(self, key: PublicKey) -> bool:
        """Whether a key is on it, by itself or by a digest."""
        return key.fingerprint in self.fingerprints or (bool(self.sha1) and hashlib.sha1(key.blob).digest() in self.sha1)

    def has(self, found: RevokedCertificate) -> bool:
        """Whether a certificate is on it: itself, the key it certifies, or the key that signed it."""
        if found.print_ in self.fingerprints or fingerprint(found.authority) in self.fingerprints:
            return True
        for authority in (b"", found.authority):
            if not found.serial and (authority, found.key_id) in self.ids:
                return True
            spans = (each for each in self.ranges if each[0] == authority)
            if found.serial and any(low <= found.serial <= high for _, low, high in spans):
                return True
        return False

    def holds_all_of(self, other: RevocationList) -> bool:
        """Whether all that is on the other list is on this one; False where that list has parts that are not known."""
        return not other.others and (
            other.fingerprints <= self.fingerprints
            and other.sha1 <= self.sha1
            and other.ranges <= self.ranges
            and other.ids <= self.ids
        )


EMPTY = RevocationList(frozenset())


@lru_cache(maxsize=64)
def parse(raw: bytes) -> RevocationList:
    """The list; raises KrlFault."""
    if not raw.startswith(MAGIC):
        raise KrlFault("the file is no list of revoked keys in OpenSSH's binary form")
    fields = _Reader(raw[len(MAGIC) :])
    form = fields.number()
    if form != FORMAT:
        raise KrlFault(f"the list has form {form}; form {FORMAT} is read")
    number, made, _flags = fields.long(), fields.long(), fields.long()
    fields.string()  # reserved
    comment, sections = fields.string().decode("utf-8", "surrogateescape"), fields.rest
    prints: set[str] = set()
    sha1: set[bytes] = set()
    found = _Certificates(set(), set())
    others, signed = 0, False
    while fields.rest:
        kind, data = fields.byte(), _Reader(fields.string())
        if kind == EXPLICIT:
            prints.update(map(fingerprint, data.strings()))
        elif kind == BY_SHA256:
            prints.update("SHA256:" + base64.b64encode(each).decode().rstrip("=") for each in data.strings())
        elif kind == BY_SHA1:
            sha1.update(data.strings())
        elif kind == CERTIFICATES:
            others += found.section(data)
        elif kind in (SIGNATURE, EXTENSION):
            signed, others = signed or kind == SIGNATURE, others + 1
        else:
            raise KrlFault(f"the list has a section of kind {kind}, which sshd does not know")
    moment = datetime.fromtimestamp(made, UTC) if 0 < made < LAST_MOMENT else None
    on_it = (frozenset(prints), frozenset(sha1), frozenset(found.ranges), frozenset(found.ids))
    return RevocationList(*on_it, number, moment, comment, others, signed, sections)


def read(raw: bytes) -> RevocationList:
    """The list of a file for RevokedKeys, which may also be text, a public key on each line (sshd_config(5)). Raises KrlFault."""
    if raw.startswith(MAGIC):
        return parse(raw)
    prints: set[str] = set()
    for line in raw.decode("utf-8", "surrogateescape").split("\n"):
        words = line.split()
        if len(words) >= 2 and not words[0].startswith("#"):
            with suppress(KeyFault):
                prints.add(decode(words[0], words[1]).fingerprint)
    return RevocationList(frozenset(prints))


@dataclass(frozen=True, slots=True)
class _Certificates:
    """Collects certificates, authority by authority."""

    ranges: set[tuple[bytes, int, int]]
    ids: set[tuple[bytes, str]]

    def section(self, data: Reader) -> int:
        """Take what a section says of one authority's certificates; the number of its parts that say something else."""
        authority, others = data.string(), 0
        data.string()  # reserved
        while data.rest:
            kind, part = data.byte(), _Reader(data.string())
            if kind == IDS:
                self.ids.update((authority, each.decode("utf-8", "replace")) for each in part.strings())
            elif kind in (SERIALS, SERIAL_RANGE, SERIAL_BITS):
                self.ranges.update((authority, low, high) for low, high in _serials(kind, part))
            else:
                others += 1
        return others


def _serials(kind: int, part: Reader) -> Iterator[tuple[int, int]]:
    if kind == SERIAL_RANGE:
        yield part.long(), part.long()
        return
    if kind == SERIALS:
        while part.rest:
            serial = part.long()
            yield serial, serial
        return
    first, bits = part.long(), part.integer()
    if bits.bit_length() > MOST_BITS:
        raise KrlFault("a part of the list is larger than OpenSSH takes it")
    yield from ((first + at, first + at) for at in range(bits.bit_length()) if bits >> at & 1)


def extended(found: RevocationList, keys: Sequence[PublicKey], certificates: Sequence[RevokedCertificate], at: datetime) -> bytes:
    """The file of a list with these put on it, of the next number, made `at` (aware). What is on it already is left out.

    Raises KrlFault for a list that is signed.
    """
    if found.is_signed:
        raise KrlFault("the list is signed: only its signer can put more on it")
    blobs = sorted(string(key.blob) for key in keys if not found.has_key(key))
    sections = _section(EXPLICIT, b"".join(blobs)) if blobs else b""
    new = [each for each in certificates if not found.has(each)]
    for authority in sorted({each.authority for each in new}):
        those = [each for each in new if each.authority == authority]
        serials = sorted({each.serial for each in those if each.serial})
        ids = sorted({each.key_id for each in those if not each.serial})
        part = _section(SERIALS, b"".join(struct.pack(">Q", serial) for serial in serials)) if serials else b""
        part += _section(IDS, b"".join(string(each.encode()) for each in ids)) if ids else b""
        sections += _section(CERTIFICATES, string(authority) + string(b"") + part)
    head = struct.pack(">IQQQ", FORMAT, found.number + 1, int(at.timestamp()), 0)
    return MAGIC + head + string(b"") + string(found.comment.encode("utf-8", "surrogateescape")) + found.sections + sections


def _section(kind: int, data: bytes) -> bytes:
    return bytes([kind]) + string(data)
