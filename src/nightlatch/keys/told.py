"""What a key file holds: each key in it, and what is wrong with the file. No part of a private half is told."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from enum import Enum

from nightlatch.formats.keys import TYPES, KeyFault, PublicKey, decode, private_kind
from nightlatch.formats.krl import MAGIC
from nightlatch.keys.forms import Form, form_of, read_private, read_public
from nightlatch.keys.revoked import RevokedCertificate

CERTIFICATE = "-cert-v01@openssh.com"
_WORDS = re.compile(rf"(?<!\S)({'|'.join(re.escape(each) for each in TYPES)})\s+(AAAA[A-Za-z0-9+/]+={{0,3}})(?:[ \t]+(.*))?")
_SIGNED = re.compile(rf"(?<!\S)([a-z0-9-]+{re.escape(CERTIFICATE)})\s+(AAAA[A-Za-z0-9+/]+={{0,3}})(?:[ \t]+(.*))?")
FOREVER = (1 << 64) - 1
LEAST_RSA, SHORT_RSA = 2048, 3072


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
    DSA = "dsa"
    SHORT_RSA = "short rsa"
    NO_PASSPHRASE = "no passphrase"
    WEAK_LOCK = "weak lock"
    ENDED = "ended"
    NOT_YET = "not yet"


# These are told, and no reason to say that something has to be put right.
NOTES = frozenset({Fault.NO_PASSPHRASE, Fault.NOT_YET})


@dataclass(frozen=True, slots=True)
class Signed:
    """What a certificate says (PROTOCOL.certkeys of OpenSSH): whom it is for, since when and until when (None: for ever), and who
    signed it, by fingerprint."""

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
    weak = (Fault.WEAK_LOCK,) if old else ()
    bare = (Fault.NO_PASSPHRASE,) if private.encrypted is False else ()
    public, comment = _half_of(raw, passphrase, locked=bool(private.encrypted))
    if public is None:
        lack = (*bare, *weak, *_weak(private.kind, private.bits))
        kind, bits, print_ = private.kind, private.bits, private.fingerprint
        return ToldKey(Half.PRIVATE, form, 1, kind, bits, print_, "", comment, private.encrypted, faults=lack)
    lack = (*bare, *weak, *_weak(public.kind, public.bits))
    words = (public.kind, public.bits, public.fingerprint, md5(public.blob), public.comment or comment)
    return ToldKey(Half.PRIVATE, form, 1, *words, private.encrypted, faults=lack)


_PPK_PUBLIC = re.compile(
    rb"(?m)^PuTTY-User-Key-File-[0-9]+: (\S+)\nEncryption: \S+\nComment: (.*)\n"
    rb"Public-Lines: [0-9]+\n((?:[A-Za-z0-9+/=]+\n)+)"
)


def _half_of(raw: bytes, passphrase: bytes | None, *, locked: bool) -> tuple[PublicKey | None, str]:
    """The public half of a private file, and the comment where it stands in the clear."""
    if passphrase is not None or not locked:
        try:
            return read_private(raw, passphrase).public, ""
        except KeyFault:
            if passphrase is not None and locked:
                raise
    found = _PPK_PUBLIC.search(raw.replace(b"\r\n", b"\n"))
    if found:
        try:
            return decode(found[1].decode("ascii", "replace"), found[3].replace(b"\n", b"").decode()), found[2].decode(
                "utf-8", "replace"
            )
        except KeyFault:
            return None, found[2].decode("utf-8", "replace")
    return _openssh_public(raw), ""


def _openssh_public(raw: bytes) -> PublicKey | None:
    from nightlatch.keys.openssh import public_of

    try:
        return public_of(raw)
    except KeyFault:
        return None


def _public(key: PublicKey, form: Form | None, line: int, before: str = "") -> ToldKey:
    words = (key.kind, key.bits, key.fingerprint, md5(key.blob), key.comment)
    return ToldKey(Half.PUBLIC, form, line, *words, before=before, faults=_weak(key.kind, key.bits))


def _weak(kind: str, bits: int) -> tuple[Fault, ...]:
    if kind == "DSA":
        return (Fault.DSA,)
    return (Fault.SHORT_RSA,) if kind == "RSA" and 0 < bits < LEAST_RSA else ()


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
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat, SSHCertificate, load_ssh_public_identity

    try:
        read = load_ssh_public_identity(f"{found[1]} {found[2]}".encode())
        assert isinstance(read, SSHCertificate)
        inner = read.public_key().public_bytes(Encoding.OpenSSH, PublicFormat.OpenSSH).decode().split(" ")
        outer = read.signature_key().public_bytes(Encoding.OpenSSH, PublicFormat.OpenSSH).decode().split(" ")
    except (ValueError, UnsupportedAlgorithm):
        raise KeyFault(f"line {line}: the certificate can't be read") from None
    key, authority = decode(inner[0], inner[1]), decode(outer[0], outer[1])
    since, until = _moment(read.valid_after), _moment(read.valid_before)
    signed = Signed(
        read.type.name.lower(),
        read.serial,
        read.key_id.decode("utf-8", "replace"),
        tuple(each.decode("utf-8", "replace") for each in read.valid_principals),
        since if read.valid_after else None,
        until,
        tuple((name.decode("utf-8", "replace"), _value(value)) for name, value in read.critical_options.items()),
        tuple(name.decode("utf-8", "replace") for name in read.extensions),
        authority.fingerprint,
    )
    late = (Fault.ENDED,) if until is not None and until <= at else (Fault.NOT_YET,) if since is not None and since > at else ()
    words = (key.kind, key.bits, key.fingerprint, md5(key.blob), (found[3] or "").strip())
    return ToldKey(Half.CERTIFICATE, Form.LINE, line, *words, signed=signed, faults=(*late, *_weak(key.kind, key.bits)))


def certificate_of(raw: bytes) -> RevokedCertificate | None:
    """The certificate of a file as lists of revoked ones name it; None where the file holds none. Raises KeyFault."""
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat, SSHCertificate, load_ssh_public_identity

    found = _SIGNED.search(raw.decode("utf-8", "replace"))
    if found is None:
        return None
    try:
        read = load_ssh_public_identity(f"{found[1]} {found[2]}".encode())
        assert isinstance(read, SSHCertificate)
        outer = read.signature_key().public_bytes(Encoding.OpenSSH, PublicFormat.OpenSSH).decode().split(" ")
        inner = read.public_key().public_bytes(Encoding.OpenSSH, PublicFormat.OpenSSH).decode().split(" ")
    except (ValueError, UnsupportedAlgorithm):
        raise KeyFault("the certificate can't be read") from None
    key_id, print_ = read.key_id.decode("utf-8", "replace"), decode(inner[0], inner[1]).fingerprint
    return RevokedCertificate(decode(outer[0], outer[1]).blob, read.serial, key_id, print_)


def _moment(seconds: int) -> datetime | None:
    """The time of a certificate's bound; None past the last year that a calendar has, as for ever is."""
    try:
        return datetime.fromtimestamp(seconds, UTC)
    except (OverflowError, ValueError, OSError):
        return None


def _value(raw: bytes) -> str:
    """The text of a critical option's value."""
    return raw.decode("utf-8", "replace")
