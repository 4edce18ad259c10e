"""What a key file holds: each key in it, and what is wrong with the file. No part of a private half is told."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from enum import Enum
from typing import TYPE_CHECKING

from nightlatch.formats.keys import TYPES, KeyFault, PrivateHalf, PublicKey, decode, private_kind
from nightlatch.formats.krl import MAGIC, RevokedCertificate
from nightlatch.keys.forms import Form, form_of, read_private, read_public
from nightlatch.keys.halves import PassphraseFault
from nightlatch.keys.strength import Weakness, weakness

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.serialization import SSHCertificate, SSHPublicKeyTypes

CERTIFICATE = "-cert-v01@openssh.com"
_WORDS = re.compile(rf"(?<!\S)({'|'.join(re.escape(each) for each in TYPES)})\s+(AAAA[A-Za-z0-9+/]+={{0,3}})(?:[ \t]+(.*))?")
_SIGNED = re.compile(rf"(?<!\S)([a-z0-9-]+{re.escape(CERTIFICATE)})\s+(AAAA[A-Za-z0-9+/]+={{0,3}})(?:[ \t]+(.*))?")


class Half(Enum):
    """Which half of a key a file holds."""

    PUBLIC = "public half"
    PRIVATE = "private half"
    CERTIFICATE = "certificate"


class Fault(Enum):
    """What is wrong with a key or its file."""

    OPEN_TO_OTHERS = "open to others"
    PUBLIC_NAME = "named like a public half"
    ANOTHER_BESIDE = "another public half beside it"
    DSA = Weakness.DSA.value
    SHORT_RSA = Weakness.SHORT.value
    BELOW_TODAY = Weakness.BELOW_TODAY.value
    NO_PASSPHRASE = "no passphrase"
    WEAK_LOCK = "weak lock"
    ENDED = "ended"
    NOT_YET = "not yet"


# These are told, and no reason to say that something has to be put right.
NOTES = frozenset({Fault.NO_PASSPHRASE, Fault.NOT_YET, Fault.BELOW_TODAY})


@dataclass(frozen=True, slots=True)
class Signed:
    """What a certificate says (PROTOCOL.certkeys of OpenSSH): its principals, its first and last moment (None: no bound), its
    limits, and the fingerprint of the key that signed it."""

    kind: str
    serial: int
    key_id: str
    principals: tuple[str, ...]
    since: datetime | None
    until: datetime | None
    critical: tuple[tuple[str, str], ...]
    extensions: tuple[str, ...]
    authority: str


@dataclass(frozen=True, slots=True)
class ToldKey:
    """A key of a file. Empty fields are those that the file hides behind its passphrase; `line` counts from 1."""

    half: Half
    form: Form | None
    line: int
    kind: str = ""
    bits: int = 0
    sha256: str = ""
    md5: str = ""
    comment: str = ""
    locked: bool | None = None
    before: str = ""
    signed: Signed | None = None
    faults: tuple[Fault, ...] = ()


def md5(blob: bytes) -> str:
    """The older fingerprint of a key blob: MD5, in pairs of hexadecimal digits."""
    digest = hashlib.md5(blob, usedforsecurity=False).hexdigest()
    return "MD5:" + ":".join(digest[at : at + 2] for at in range(0, 32, 2))


def told(raw: bytes, at: datetime, passphrase: bytes | None = None) -> tuple[ToldKey, ...]:
    """The keys of a file: one in a form of its own, or one a line as authorized_keys and known_hosts have them.

    Raises KeyFault where the file holds none, PassphraseFault where a given passphrase is wrong.
    """
    if raw.startswith(MAGIC):
        raise KeyFault("the file is a list of revoked keys; nightlatch key revoke --list FILE says what is on it")
    if form_of(raw) is not None or private_kind(raw) is not None:
        return (_single(raw, passphrase),)
    found = tuple(_lines(raw.decode("utf-8", "replace"), at))
    if not found:
        raise KeyFault("the file holds no key")
    return found


def _single(raw: bytes, passphrase: bytes | None) -> ToldKey:
    form, private = form_of(raw), private_kind(raw)
    if private is None:
        return _public(read_public(raw), form, 1)
    old = b"Proc-Type: 4,ENCRYPTED" in raw or (b"PuTTY-User-Key-File-2" in raw and private.encrypted)
    bare = (Fault.NO_PASSPHRASE,) if private.encrypted is False else ()
    lack = (*bare, *((Fault.WEAK_LOCK,) if old else ()))
    public = _public_half(raw, passphrase, private)
    if public is None:
        words = (private.kind, private.bits, private.fingerprint)
        told = ToldKey(Half.PRIVATE, form, 1, *words, faults=_weak(private.kind, private.bits))
    else:
        told = _public(public, form, 1)
    return replace(told, half=Half.PRIVATE, locked=private.encrypted, faults=(*lack, *told.faults))


def _public_half(raw: bytes, passphrase: bytes | None, private: PrivateHalf) -> PublicKey | None:
    """The public half of a private file, with its comment where that can be read. Raises PassphraseFault for a wrong one."""
    if passphrase is None and private.encrypted:
        return private.public
    try:
        return read_private(raw, passphrase).public
    except PassphraseFault:
        raise
    except KeyFault:
        return private.public


def _public(key: PublicKey, form: Form | None, line: int, before: str = "") -> ToldKey:
    words = (key.kind, key.bits, key.fingerprint, md5(key.blob), key.comment)
    return ToldKey(Half.PUBLIC, form, line, *words, before=before, faults=_weak(key.kind, key.bits))


def _weak(kind: str, bits: int) -> tuple[Fault, ...]:
    found = weakness(kind, bits)
    return (Fault(found.value),) if found is not None else ()


def _lines(text: str, at: datetime) -> Iterator[ToldKey]:
    for number, line in enumerate(text.splitlines(), 1):
        if line.lstrip().startswith("#"):
            continue
        signed = _SIGNED.search(line)
        if signed is not None:
            yield _certificate(signed, number, at)
            continue
        found = _WORDS.search(line)
        if found is None:
            continue
        try:
            key = decode(found[1], found[2])
        except KeyFault:
            continue
        comment = (found[3] or "").strip()
        yield _public(PublicKey(key.algorithm, key.blob, comment), Form.LINE, number, line[: found.start()].strip())


def _certificate(found: re.Match[str], line: int, at: datetime) -> ToldKey:
    try:
        read, key, authority = _loaded(found)
    except KeyFault as error:
        raise KeyFault(f"line {line}: {error}") from None
    since, until = _moment(read.valid_after) if read.valid_after else None, _moment(read.valid_before)
    signed = Signed(
        read.type.name.lower(),
        read.serial,
        _text(read.key_id),
        tuple(map(_text, read.valid_principals)),
        since,
        until,
        tuple((_text(name), _text(value)) for name, value in read.critical_options.items()),
        tuple(map(_text, read.extensions)),
        authority.fingerprint,
    )
    late = (Fault.ENDED,) if until is not None and until <= at else (Fault.NOT_YET,) if since is not None and since > at else ()
    told = _public(replace(key, comment=(found[3] or "").strip()), Form.LINE, line)
    return replace(told, half=Half.CERTIFICATE, signed=signed, faults=(*late, *told.faults))


def _loaded(found: re.Match[str]) -> tuple[SSHCertificate, PublicKey, PublicKey]:
    """A certificate, the key that it certifies, and the key that signed it. Raises KeyFault."""
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat, SSHCertificate, load_ssh_public_identity

    def half(key: SSHPublicKeyTypes) -> PublicKey:
        return decode(*key.public_bytes(Encoding.OpenSSH, PublicFormat.OpenSSH).decode().split(" ")[:2])

    try:
        read = load_ssh_public_identity(f"{found[1]} {found[2]}".encode())
        assert isinstance(read, SSHCertificate)
        return read, half(read.public_key()), half(read.signature_key())
    except (ValueError, UnsupportedAlgorithm):
        raise KeyFault("the certificate can't be read") from None


def certificate_of(raw: bytes) -> RevokedCertificate | None:
    """The certificate of a file as lists of revoked ones name it; None where the file holds none. Raises KeyFault."""
    found = _SIGNED.search(raw.decode("utf-8", "replace"))
    if found is None:
        return None
    read, key, authority = _loaded(found)
    return RevokedCertificate(authority.blob, read.serial, _text(read.key_id), key.fingerprint)


def _moment(seconds: int) -> datetime | None:
    """The time of a certificate's bound; None past the last year that a calendar has, as for ever is."""
    try:
        return datetime.fromtimestamp(seconds, UTC)
    except (OverflowError, ValueError, OSError):
        return None


def _text(raw: bytes) -> str:
    return raw.decode("utf-8", "replace")
