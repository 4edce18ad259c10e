"""Sign keys: a person's certificate says what the estate grants by certificate, and ends with it; a guest's, its names."""

from __future__ import annotations

import os
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

from nightlatch.access.credentials import WantedCertificate, host_names, wanted_certificate
from nightlatch.estate.model import Estate
from nightlatch.faults import NightlatchError, RefusedError, nearest
from nightlatch.formats.keys import KeyFault, PublicKey
from nightlatch.keys.forms import read_public
from nightlatch.keys.halves import PrivateKey
from nightlatch.keys.signed import NewCertificate, sign
from nightlatch.keys.told import ToldKey, told
from nightlatch.ops.key import PUBLIC_MODE, Ask, content_of, opened_key, put_new
from nightlatch.ops.survey import chosen

__all__ = ["SignedHostKey", "SignedKey", "sign_host_key", "sign_key"]

DAYS, HOST_DAYS, MOST_DAYS = 30, 365, 3650
EARLY = timedelta(minutes=5)  # for clocks that differ


@dataclass(frozen=True, slots=True)
class SignedKey:
    """A certificate that was made: its file, what it says as it was read back, and what the grants wanted of it."""

    path: Path
    key: ToldKey
    wanted: WantedCertificate
    days: int
    ends_with_grants: bool


@dataclass(frozen=True, slots=True)
class SignedHostKey:
    """A guest's certificate that was made: its file, what it says as it was read back, and the authority with its public half as
    a line of known_hosts has it."""

    path: Path
    key: ToldKey
    guest: str
    authority: str
    line: str


def certificate_path(path: Path) -> Path:
    """Where ssh looks for the certificate of a key in this file (ssh_config(5), CertificateFile)."""
    return path.with_name(f"{path.name.removesuffix('.pub')}-cert.pub")


def sign_key(
    estate: Estate,
    person: str,
    path: Path,
    authority: Path,
    at: datetime,
    passphrase: Ask,
    *,
    days: int = DAYS,
    out: Path | None = None,
) -> SignedKey:
    """Sign the public half in `path` for a person of the estate, with the authority's private half, which has a passphrase.

    Raises RefusedError where the certificate's file is there, the key is not the person's, the authority is not the
    estate's or has no passphrase, or no grant asks for a certificate; NightlatchError, UnreadableError for all else.
    """
    wanted = _wanted(estate, person, at)
    key = _public(path, days)
    own = estate.principals[person].keys
    if own and key.blob not in {each.blob for each in own}:
        raise RefusedError(f"{path} is not a key that {person} has in the estate file")
    signer = opened_key(authority, passphrase)
    if signer.public.blob != estate.authorities[wanted.authority].blob:
        other = estate.authorities[wanted.authority].fingerprint
        is_ = f"{authority} is {signer.public.fingerprint}"
        raise RefusedError(f"{is_}: it is not the key of authority {wanted.authority} in the estate file, {other}")
    _must_be_locked(signer, authority)
    last = at + timedelta(days=days)
    until = min(last, wanted.until) if wanted.until is not None else last
    said = NewCertificate(
        f"{person} of {estate.name}",
        int.from_bytes(os.urandom(8), "big") >> 1,
        wanted.principals,
        at - EARLY,
        until,
        wanted.callers.prefixes() if wanted.callers is not None else (),
        wanted.command,
        wanted.allows,
    )
    target, made = _put(path, key, said, signer, out, at)
    return SignedKey(target, made, wanted, days, until < last)


def sign_host_key(
    estate: Estate,
    guest: str,
    path: Path,
    authority: Path,
    at: datetime,
    passphrase: Ask,
    *,
    days: int = HOST_DAYS,
    out: Path | None = None,
) -> SignedHostKey:
    """Sign the public half of a guest's host key, with an authority of the estate, for every name by which that has it dialled.

    Raises RefusedError where the certificate's file is there, the key is not one that is pinned for the guest, or the authority
    is not the estate's or has no passphrase; NightlatchError, UnreadableError for all else.
    """
    (spec,) = chosen(estate, [guest])
    key = _public(path, days)
    if key.fingerprint not in spec.host_keys:
        pinned = "another is pinned" if spec.host_keys else "none is"
        raise RefusedError(f"{path} is {key.fingerprint}, which is not pinned for {guest} ({pinned}): nightlatch meet {guest}")
    names = host_names(estate, guest)
    if not names:
        raise RefusedError(f"nothing in the estate file says by which name or address {guest} is dialled: write dial: NAME")
    signer = opened_key(authority, passphrase)
    known = next((name for name, each in estate.authorities.items() if each.blob == signer.public.blob), "")
    if not known:
        raise RefusedError(f"{authority} is {signer.public.fingerprint}, which is no authority of the estate file")
    _must_be_locked(signer, authority)
    number = int.from_bytes(os.urandom(8), "big") >> 1
    said = NewCertificate(f"{guest} of {estate.name}", number, names, at - EARLY, at + timedelta(days=days), of_host=True)
    target, made = _put(path, key, said, signer, out, at)
    return SignedHostKey(target, made, guest, known, estate.authorities[known].line)


def _public(path: Path, days: int) -> PublicKey:
    if not 1 <= days <= MOST_DAYS:
        raise NightlatchError(f"a certificate is made for 1 to {MOST_DAYS} days, not for {days}")
    try:
        return read_public(content_of(path))
    except KeyFault as error:
        raise NightlatchError(f"{path}: {error}") from None


def _must_be_locked(signer: PrivateKey, authority: Path) -> None:
    """Raise RefusedError for an authority's private half without a passphrase."""
    if not signer.locked:
        lock = f"nightlatch key convert {authority} --to openssh --lock --out FILE"
        raise RefusedError(f"{authority} has no passphrase: anybody with that file could sign certificates. {lock} puts one on")


def _put(
    path: Path, key: PublicKey, said: NewCertificate, signer: PrivateKey, out: Path | None, at: datetime
) -> tuple[Path, ToldKey]:
    """Write the certificate, and read it back."""
    try:
        line = sign(key, said, signer)
    except KeyFault as error:
        raise NightlatchError(f"{path}: {error}") from None
    target = out or certificate_path(path)
    put_new(target, line, PUBLIC_MODE)
    (made,) = told(line, at)
    return target, made


def _wanted(estate: Estate, person: str, at: datetime) -> WantedCertificate:
    """What a certificate of the person has to say. Raises NightlatchError, RefusedError."""
    found = estate.principals.get(person)
    if found is None:
        near = nearest(person, sorted(estate.principals))
        raise NightlatchError(
            f'nobody is called "{person[:40]}" in the estate file' + (f'; did you mean "{near}"?' if near else "")
        )
    if found.certificate is None:
        raise RefusedError(
            f"{found.origin}: {person} has no certificate; write certificate: {{authority: ..., principals: [...]}}"
        )
    wanted = wanted_certificate(estate, found, at)
    if wanted is None:
        raise RefusedError(f"no grant that counts on {at:%Y-%m-%d} lets {person} in with a certificate")
    return wanted
