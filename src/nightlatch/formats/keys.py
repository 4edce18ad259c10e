"""SSH key material: public halves in all common spellings, and what kind of private half a file holds.

RFC 4253, 6.6; RFC 5656; RFC 8709; PROTOCOL.key and PROTOCOL.u2f of OpenSSH. Private halves are never returned: only
what may be told about them.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import re
from dataclasses import dataclass, field
from functools import lru_cache

from nightlatch.formats.ssh_wire import Reader

CURVES = {"nistp256": 256, "nistp384": 384, "nistp521": 521}
TYPES = {
    "ssh-rsa": "RSA",
    "ssh-dss": "DSA",
    "ssh-ed25519": "Ed25519",
    "sk-ssh-ed25519@openssh.com": "Ed25519-SK",
    "sk-ecdsa-sha2-nistp256@openssh.com": "ECDSA-SK",
    **{f"ecdsa-sha2-{curve}": "ECDSA" for curve in CURVES},
}
MOST_BLOB = 16384
OPENSSH_MAGIC = b"openssh-key-v1\0"
_BASE64 = re.compile(r"[A-Za-z0-9+/]+={0,3}")


class KeyFault(ValueError):
    """The text holds no public key; the message says what it holds instead."""


@dataclass(frozen=True, slots=True)
class PublicKey:
    """A public key: its algorithm name as on the wire, the blob, and a comment."""

    algorithm: str
    blob: bytes
    comment: str = ""

    @property
    def fingerprint(self) -> str:
        """SHA256 fingerprint as OpenSSH prints it (`SHA256:` and base64 without padding)."""
        return fingerprint(self.blob)

    @property
    def on_hardware(self) -> bool:
        """Whether its private half is within a token, which signs when somebody touches it (PROTOCOL.u2f)."""
        return self.algorithm.startswith("sk-")

    @property
    def kind(self) -> str:
        """The family name, such as RSA or Ed25519; the algorithm itself when it is not known."""
        return TYPES.get(self.algorithm, self.algorithm)

    @property
    def bits(self) -> int:
        """Key size in bits, 0 when the type is not known."""
        return _bits(self.algorithm, self.blob)

    @property
    def line(self) -> str:
        """The key as one line of an authorized_keys file."""
        text = f"{self.algorithm} {base64.b64encode(self.blob).decode()}"
        return f"{text} {self.comment}" if self.comment else text


@lru_cache(maxsize=8192)
def fingerprint(blob: bytes) -> str:
    """SHA256 fingerprint of a key blob."""
    return "SHA256:" + base64.b64encode(hashlib.sha256(blob).digest()).decode().rstrip("=")


class KeyReader(Reader):
    """Takes a key's blob apart."""

    fault = KeyFault
    within = "the key"


def _fields(blob: bytes) -> list[bytes]:
    return list(KeyReader(blob).strings())


@lru_cache(maxsize=8192)
def _bits(algorithm: str, blob: bytes) -> int:
    if algorithm in ("ssh-rsa", "ssh-dss"):
        fields = _fields(blob)
        number = fields[2] if algorithm == "ssh-rsa" else fields[1]
        return int.from_bytes(number, "big").bit_length()
    if "ed25519" in algorithm:
        return 256
    return next((bits for curve, bits in CURVES.items() if curve in algorithm), 0)


_FIELD_COUNT = {"ssh-rsa": 3, "ssh-dss": 5, "ssh-ed25519": 2, "sk-ssh-ed25519@openssh.com": 3}


@lru_cache(maxsize=8192)
def decode(algorithm: str, text: str) -> PublicKey:
    """The key of the two words of a key line; raises KeyFault (sshkey.c, sshkey_read and sshkey_from_blob)."""
    if algorithm not in TYPES:
        raise KeyFault(f'"{algorithm[:40]}" is no key type')
    if not _BASE64.fullmatch(text) or len(text) > MOST_BLOB:
        raise KeyFault("the key is not base64")
    try:
        blob = base64.b64decode(text, validate=True)
    except (binascii.Error, ValueError):
        raise KeyFault("the key is not base64") from None
    fields = _fields(blob)
    if not fields or fields[0] != algorithm.encode():
        raise KeyFault("the type inside the key differs from the one written before it")
    wanted = _FIELD_COUNT.get(algorithm, 4 if algorithm.startswith("sk-") else 3)
    if len(fields) != wanted:
        raise KeyFault("the key is cut short or has something after its end")
    if algorithm.endswith("ed25519") and len(fields[1]) != 32:
        raise KeyFault("an Ed25519 key has 32 bytes")
    return PublicKey(algorithm, blob)


def parse_public(raw: bytes) -> PublicKey:
    """The public key of a file: one OpenSSH line, or an RFC 4716 block. Raises KeyFault, which names a private half."""
    private = private_kind(raw)
    if private is not None:
        raise KeyFault(f"this is a private key ({private.text}), not its public half")
    text = raw.decode("utf-8", "replace").strip()
    if text.startswith("---- BEGIN SSH2 PUBLIC KEY ----"):
        return _rfc4716(text)
    lines = [line for line in text.splitlines() if line.strip() and not line.startswith("#")]
    if len(lines) != 1:
        raise KeyFault(f"one key on one line is expected, here are {len(lines)} lines")
    words = lines[0].split(None, 2)
    if len(words) < 2:
        raise KeyFault("a key line has a type and the key in base64")
    key = decode(words[0], words[1])
    return PublicKey(key.algorithm, key.blob, words[2] if len(words) > 2 else "")


def _rfc4716(text: str) -> PublicKey:
    comment = ""
    body: list[str] = []
    for line in text.splitlines()[1:]:
        if line.startswith("----"):
            break
        name, colon, value = line.partition(":")
        if colon:
            comment = value.strip().strip('"') if name.lower() == "comment" else comment
        else:
            body.append(line.strip())
    try:
        blob = base64.b64decode("".join(body), validate=True)
    except (binascii.Error, ValueError):
        raise KeyFault("the key is not base64") from None
    fields = _fields(blob)
    name = fields[0].decode("ascii", "replace") if fields else ""
    return PublicKey(name, decode(name, base64.b64encode(blob).decode()).blob, comment)


LOCKS = {True: "with a passphrase", False: "without a passphrase", None: "passphrase unknown"}


@dataclass(frozen=True, slots=True)
class PrivateHalf:
    """The facts that may be told about a private key: format, whether it has a passphrase (None: can't tell), public part.

    `public` is that half itself with its comment, where it stands in the clear and was not reduced to these facts.
    """

    format: str
    encrypted: bool | None
    fingerprint: str = ""
    kind: str = ""
    bits: int = 0
    public: PublicKey | None = field(default=None, compare=False)

    @property
    def text(self) -> str:
        """The facts in a few words."""
        lock = LOCKS[self.encrypted]
        return " ".join(part for part in (self.format, self.kind, str(self.bits or ""), lock, self.fingerprint) if part)


# Where the public half of a private key could be told on a guest, it follows behind these words.
PUBLIC_HALF = b"nightlatch: its public half: "
_MARKS = re.compile(
    rb"PRIVATE KEY( BLOCK)?-----|BEGIN SSH2 ENCRYPTED PRIVATE KEY|PuTTY-User-Key-File-|AGE-SECRET-KEY-1"
    rb"|SSH PRIVATE KEY FILE FORMAT"
)
_PEM = re.compile(rb"-----BEGIN ((?:[A-Z0-9]+ )*)PRIVATE KEY(?: BLOCK)?-----\n(.*?)(?:-----END |\Z)", re.DOTALL)
_PPK = re.compile(rb"PuTTY-User-Key-File-[0-9]+: ([A-Za-z0-9@.-]+)\n(?:Encryption: ([a-z0-9-]+)(?:\nComment: (.*))?)?")
_LINES = re.compile(rb"(?m)^Public-Lines: ([0-9]{1,3})\n((?:[A-Za-z0-9+/=]+\n)+)")
_TOLD = re.compile(PUBLIC_HALF + rb"([a-z0-9@.-]+) ([A-Za-z0-9+/=]+)")
LARGEST_PEM = 32 << 10


def private_kind(raw: bytes) -> PrivateHalf | None:
    """The kind of the private half in `raw`, or None without one (RFC 7468; PROTOCOL.key; PuTTY's format, appendix C)."""
    if not _MARKS.search(raw):
        return None
    raw = raw.replace(b"\r\n", b"\n").replace(b"\r", b"\n")
    found, putty = _PEM.search(raw), _PPK.search(raw)
    if found:
        label = found[1].decode().strip()
        return _openssh_private(found[2]) if label == "OPENSSH" else _pem(label, found[2], raw)
    if putty:
        return _ppk(putty, raw)
    if b"BEGIN SSH2 ENCRYPTED PRIVATE KEY" in raw:
        return PrivateHalf("SSH2", None)
    return PrivateHalf("age", False) if b"AGE-SECRET-KEY-1" in raw else PrivateHalf("PEM", None)


def _pem(label: str, body: bytes, raw: bytes) -> PrivateHalf:
    locked = "ENCRYPTED" in label or b"Proc-Type: 4,ENCRYPTED" in body
    kind = label.removesuffix("ENCRYPTED").strip()
    plain = PrivateHalf("PEM", locked, kind={"EC": "ECDSA"}.get(kind, kind))
    told = _TOLD.search(raw)
    line = (told[1], told[2]) if told else None if locked or kind == "PGP" else _derived(raw)
    if line is None:
        return plain
    return _with_public(plain, line[0].decode(), line[1].decode())


def _derived(raw: bytes) -> tuple[bytes, ...] | None:
    """The public half of a PEM key without a passphrase, as the two words of a key line."""
    if len(raw) > LARGEST_PEM:
        return None
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives import serialization

    try:
        key = serialization.load_pem_private_key(raw[raw.index(b"-----BEGIN ") :], None, unsafe_skip_rsa_key_validation=True)
        made = key.public_key().public_bytes(serialization.Encoding.OpenSSH, serialization.PublicFormat.OpenSSH)
    except (ValueError, TypeError, UnsupportedAlgorithm, AttributeError):
        return None
    return tuple(made.split(b" ")[:2])


def _ppk(putty: re.Match[bytes], raw: bytes) -> PrivateHalf:
    algorithm = putty[1].decode()
    plain = PrivateHalf("PPK", putty[2] != b"none" if putty[2] else None, kind=TYPES.get(algorithm, algorithm))
    lines = _LINES.search(raw)
    if lines is None:
        return plain
    comment = putty[3].decode("utf-8", "replace") if putty[3] else ""
    return _with_public(plain, algorithm, b"".join(lines[2].split(b"\n")[: int(lines[1])]).decode(), comment)


def _with_public(half: PrivateHalf, algorithm: str, text: str, comment: str = "") -> PrivateHalf:
    try:
        key = decode(algorithm, text)
    except KeyFault:
        return half
    public = PublicKey(key.algorithm, key.blob, comment)
    return PrivateHalf(half.format, half.encrypted, key.fingerprint, key.kind, key.bits, public)


def _openssh_private(body: bytes) -> PrivateHalf:
    """PROTOCOL.key: magic, cipher, kdf, options, count, then the public blob in the clear."""
    try:
        head = KeyReader(base64.b64decode(re.sub(rb"\s", b"", body)))
        if head.take(len(OPENSSH_MAGIC)) != OPENSSH_MAGIC:
            return PrivateHalf("OpenSSH", None)
        cipher = head.string()
        head.string(), head.string(), head.number()  # kdf, its options, how many keys
        blob = head.string()
        algorithm = KeyReader(blob).string().decode("ascii", "replace")
        public = PublicKey(algorithm, blob)
        return PrivateHalf("OpenSSH", cipher != b"none", public.fingerprint, public.kind, public.bits, public)
    except (binascii.Error, ValueError, IndexError):
        return PrivateHalf("OpenSSH", None)


REDUCED = b"nightlatch: private key reduced: "
_TOLD_OF = re.compile(
    REDUCED + rb"(\S{1,20}) (?:([A-Z][A-Za-z0-9-]{0,40}) )?(?:([0-9]{1,6}) )?"
    rb"(with a passphrase|without a passphrase|passphrase unknown)(?: (SHA256:[A-Za-z0-9+/]{43}))?\n"
)


def parse_reduced(raw: bytes) -> PrivateHalf | None:
    """The facts that a survey brought in place of a private key; None where it is anything else."""
    found = _TOLD_OF.fullmatch(raw)
    if found is None:
        return None
    form, kind, bits, lock, print_ = ((each or b"").decode() for each in found.groups())
    encrypted = next(value for value, words in LOCKS.items() if words == lock)
    return PrivateHalf(form, encrypted, print_, kind, int(bits or 0))
