"""PuTTY's form of a private half: versions 2 and 3 read, version 3 written ("PPK file format", appendix C of its manual)."""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
import re
from dataclasses import dataclass

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from cryptography.hazmat.primitives.kdf import argon2

from nightlatch.formats.keys import KeyFault, KeyReader, PublicKey, decode
from nightlatch.formats.ssh_wire import integer, string
from nightlatch.keys import halves
from nightlatch.keys.halves import ECDSA, PassphraseFault, PrivateKey, RSANumbers
from nightlatch.keys.openssh import Chance

_HEAD = re.compile(r"PuTTY-User-Key-File-([0-9]+)")
CIPHER = "aes256-cbc"
_Kind = type[argon2.Argon2id | argon2.Argon2i | argon2.Argon2d]
KINDS: dict[str, _Kind] = {"Argon2id": argon2.Argon2id, "Argon2i": argon2.Argon2i, "Argon2d": argon2.Argon2d}
# RFC 9106, 4, the second recommended choice: 64 MiB, three passes, four lanes.
MEMORY, PASSES, LANES, SALT = 64 << 10, 3, 4, 16
# A file may ask for anything: past these (KiB; KiB times passes) reading it would take the machine.
MOST_MEMORY, MOST_WORK = 1 << 20, 16 << 20
MOST_LINES = 1000


@dataclass(frozen=True, slots=True)
class _File:
    version: int
    fields: dict[str, str]
    public: bytes
    private: bytes

    def number(self, name: str) -> int:
        value = self.fields.get(name, "")
        if not re.fullmatch("[0-9]{1,9}", value):
            raise KeyFault(f"{name} of the file is no number")
        return int(value)

    def data(self, name: str) -> bytes:
        try:
            return bytes.fromhex(self.fields.get(name, ""))
        except ValueError:
            raise KeyFault(f"{name} of the file is not hexadecimal") from None


def read(raw: bytes, passphrase: bytes | None) -> PrivateKey:
    """The private half of a file. Raises PassphraseFault, and KeyFault where it can't be read or its check sum is wrong."""
    file = _file(raw)
    algorithm, locked = file.fields["algorithm"], file.fields.get("Encryption") != "none"
    if locked and file.fields.get("Encryption") != CIPHER:
        raise KeyFault(f"the file is locked with {file.fields.get('Encryption', 'nothing known')[:40]}; {CIPHER} can be read")
    if locked and passphrase is None:
        raise PassphraseFault("a passphrase is on the file")
    key, first, seal = _stretched(file, passphrase) if locked else (b"", b"", _seal(file.version, b""))
    if locked and len(file.private) % 16:
        raise KeyFault("the sealed half is cut short")
    plain = _cipher(key, first, file.private, opening=True) if locked else file.private
    comment = file.fields.get("Comment", "")
    if not hmac.compare_digest(file.data("Private-MAC"), _mac(file, plain, comment, seal)):
        raise PassphraseFault("the passphrase is wrong") if locked else KeyFault("the check sum of the file is wrong")
    public = decode(algorithm, base64.b64encode(file.public).decode())
    return halves.same_halves(PrivateKey(_secret(public, KeyReader(plain)), comment, locked), public.blob)


def _file(raw: bytes) -> _File:
    lines = iter(raw.decode("utf-8", "replace").splitlines())
    name, _, algorithm = next(lines, "").partition(": ")
    found = _HEAD.fullmatch(name)
    if found is None or found[1] not in ("2", "3"):
        raise KeyFault("PuTTY's files of versions 2 and 3 can be read")
    fields, blocks = {"algorithm": algorithm}, {"Public-Lines": b"", "Private-Lines": b""}
    for line in lines:
        name, colon, value = line.partition(": ")
        if not colon:
            raise KeyFault("a line of the file has no name")
        fields[name] = value
        if name in blocks:
            if not re.fullmatch("[0-9]{1,4}", value) or int(value) > MOST_LINES:
                raise KeyFault(f"{name} of the file is no number of lines up to {MOST_LINES}")
            try:
                blocks[name] = base64.b64decode("".join(next(lines, "") for _ in range(int(value))), validate=True)
            except (binascii.Error, ValueError):
                raise KeyFault("the key is not base64") from None
    return _File(int(found[1]), fields, blocks["Public-Lines"], blocks["Private-Lines"])


def _stretched(file: _File, passphrase: bytes | None) -> tuple[bytes, bytes, bytes]:
    """Key, first block and key of the check sum, from a passphrase."""
    assert passphrase is not None
    if file.version == 2:
        made = b"".join(hashlib.sha1(bytes([0, 0, 0, n]) + passphrase).digest() for n in (0, 1))
        return made[:32], bytes(16), _seal(2, passphrase)
    memory, passes, lanes = (file.number(f"Argon2-{each}") for each in ("Memory", "Passes", "Parallelism"))
    if memory > MOST_MEMORY or memory * passes > MOST_WORK:
        raise KeyFault(f"the file asks for {memory} KiB in {passes} passes for its passphrase, more than is tried here")
    return _argon2(file.fields.get("Key-Derivation", ""), file.data("Argon2-Salt"), (memory, passes, lanes), passphrase)


def _argon2(kind: str, salt: bytes, cost: tuple[int, int, int], passphrase: bytes) -> tuple[bytes, bytes, bytes]:
    if kind not in KINDS:
        raise KeyFault(f'"{kind[:40]}" is no way from a passphrase to a key; {", ".join(KINDS)} are')
    memory, passes, lanes = cost
    try:
        made = KINDS[kind](salt=salt, length=80, iterations=passes, lanes=lanes, memory_cost=memory).derive(passphrase)
    except (ValueError, UnsupportedAlgorithm) as error:
        raise KeyFault(f"{kind} of the file can't be worked out here: {error}") from None
    return made[:32], made[32:48], made[48:]


def _seal(version: int, passphrase: bytes) -> bytes:
    return hashlib.sha1(b"putty-private-key-file-mac-key" + passphrase).digest() if version == 2 else b""


def _mac(file: _File, plain: bytes, comment: str, seal: bytes) -> bytes:
    words = (file.fields["algorithm"].encode(), file.fields.get("Encryption", "").encode(), comment.encode(), file.public, plain)
    return hmac.digest(seal, b"".join(string(each) for each in words), "sha1" if file.version == 2 else "sha256")


def _cipher(key: bytes, first: bytes, data: bytes, *, opening: bool) -> bytes:
    made = Cipher(algorithms.AES(key), modes.CBC(first))
    worker = made.decryptor() if opening else made.encryptor()
    return worker.update(data) + worker.finalize()


def _secret(public: PublicKey, fields: KeyReader) -> halves.Secret:
    rest = halves.fields_of(public)
    if public.algorithm == "ssh-rsa":
        e, n = rest.integer(), rest.integer()
        d, p, q, iqmp = (fields.integer() for _ in range(4))
        return halves.rsa_key(RSANumbers(n, e, d, p, q, iqmp))
    if public.algorithm.startswith(ECDSA):
        return halves.ecdsa_key(rest.text(), fields.integer())
    if public.algorithm == "ssh-ed25519":
        # A number with its least byte first, without zeros at its end.
        return halves.ed25519_key(fields.string().ljust(32, b"\0"))
    raise KeyFault(halves.UNKNOWN.format(public.kind))


def _numbers(secret: halves.Secret) -> bytes:
    if isinstance(secret, rsa.RSAPrivateKey):
        n = halves.rsa_numbers(secret)
        return b"".join(integer(each) for each in (n.d, n.p, n.q, n.iqmp))
    if isinstance(secret, ec.EllipticCurvePrivateKey):
        return integer(secret.private_numbers().private_value)
    return string(halves.seed_of(secret))


def write(key: PrivateKey, passphrase: bytes | None, chance: Chance) -> bytes:
    """The file of a private half, in version 3, locked where a passphrase is given."""
    public, plain = key.public, _numbers(key.secret)
    fields = {"algorithm": public.algorithm, "Encryption": CIPHER if passphrase else "none"}
    cost: list[str] = []
    sealed, seal = plain, b""
    if passphrase:
        salt = chance(SALT)
        plain += hashlib.sha256(plain).digest()[: -len(plain) % 16]
        secret, first, seal = _argon2("Argon2id", salt, (MEMORY, PASSES, LANES), passphrase)
        sealed = _cipher(secret, first, plain, opening=False)
        numbers = {"Memory": MEMORY, "Passes": PASSES, "Parallelism": LANES, "Salt": salt.hex()}
        cost = ["Key-Derivation: Argon2id", *(f"Argon2-{name}: {value}" for name, value in numbers.items())]
    comment = " ".join(key.comment.split())
    mac = _mac(_File(3, fields, public.blob, sealed), plain, comment, seal)
    lines = [f"PuTTY-User-Key-File-3: {public.algorithm}", f"Encryption: {fields['Encryption']}", f"Comment: {comment}"]
    lines += [*_block("Public", public.blob), *cost, *_block("Private", sealed), f"Private-MAC: {mac.hex()}", ""]
    return "\n".join(lines).encode()


def _block(name: str, data: bytes) -> list[str]:
    text = base64.b64encode(data).decode()
    lines = [text[at : at + 64] for at in range(0, len(text), 64)]
    return [f"{name}-Lines: {len(lines)}", *lines]
