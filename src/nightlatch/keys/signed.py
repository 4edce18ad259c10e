"""Certificates of OpenSSH for users and hosts: made and signed (PROTOCOL.certkeys of OpenSSH)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from cryptography.hazmat.primitives.serialization import SSHCertificateBuilder, SSHCertificateType

from nightlatch.formats.keys import KeyFault, PublicKey
from nightlatch.keys.halves import PrivateKey, public_numbers


@dataclass(frozen=True, slots=True)
class NewCertificate:
    """What a certificate says: its principals (of a host its names), its time, its limits and what it allows."""

    key_id: str
    serial: int
    principals: Sequence[str]
    since: datetime
    until: datetime
    sources: Sequence[str] = ()
    command: str = ""
    allows: Sequence[str] = ()
    of_host: bool = False


def sign(key: PublicKey, said: NewCertificate, authority: PrivateKey) -> bytes:
    """The certificate of a public half as a line of a file. Raises KeyFault for keys that can't be signed here."""
    if key.algorithm.startswith("sk-") or key.kind == "DSA":
        raise KeyFault(f"a public half of {key.kind} can't be signed here; Ed25519, RSA and ECDSA can")
    if not said.principals:
        # sshd and ssh of old releases take it so.
        raise KeyFault("a certificate without principals would be good for every account, or for every host")
    critical = {"force-command": said.command, "source-address": ",".join(said.sources)}
    builder = (
        SSHCertificateBuilder()
        .public_key(public_numbers(key))  # type: ignore[arg-type]
        .type(SSHCertificateType.HOST if said.of_host else SSHCertificateType.USER)
        .serial(said.serial)
        .key_id(said.key_id.encode())
        .valid_principals([each.encode() for each in said.principals])
        .valid_after(int(said.since.timestamp()))
        .valid_before(int(said.until.timestamp()))
    )
    for name, value in critical.items():
        builder = builder.add_critical_option(name.encode(), value.encode()) if value else builder
    for name in sorted(said.allows):
        builder = builder.add_extension(name.encode(), b"")
    line = builder.sign(authority.secret).public_bytes()
    return line + (f" {' '.join(key.comment.split())}" if key.comment else "").encode() + b"\n"
