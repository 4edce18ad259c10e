"""Put keys and certificates on a list of revoked ones, for `RevokedKeys` of sshd: whole or not at all.

sshd refuses every key where this list is missing or damaged (sshd_config(5)): what is written is read back before it takes the
place of the list.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from nightlatch.estate.whole_file import rewrite
from nightlatch.faults import NightlatchError, UnreadableError
from nightlatch.formats import krl
from nightlatch.formats.keys import KeyFault, PublicKey
from nightlatch.formats.krl import KrlFault, RevocationList, RevokedCertificate
from nightlatch.keys.forms import read_public
from nightlatch.keys.told import certificate_of
from nightlatch.ops.key import PUBLIC_MODE, content_of, put_new

__all__ = ["Revocation", "revoke_keys"]


@dataclass(frozen=True, slots=True)
class RevokedFile:
    """One file of a revocation: what it holds, and whether that was on the list before."""

    path: Path
    key: PublicKey | None
    certificate: RevokedCertificate | None
    was_there: bool


@dataclass(frozen=True, slots=True)
class Revocation:
    """A list as it is now, and what each file had to do with it; `is_new` where there was none."""

    path: Path
    list: RevocationList
    files: tuple[RevokedFile, ...]
    is_new: bool


def revoke_keys(path: Path, files: Sequence[Path], at: datetime) -> Revocation:
    """Put the keys and certificates of files on the list at `path`, which is made where there is none. Without files nothing is
    written: the list is read.

    Raises UnreadableError, and NightlatchError where a file holds no single key or certificate, or the list is none.
    """
    is_new = not os.path.lexists(path)
    if is_new and not files:
        raise UnreadableError(f"{path}: there is no such list; name the keys to put on it")
    raw = b"" if is_new else content_of(path)
    try:
        before = krl.EMPTY if is_new else krl.parse(raw)
    except KrlFault as error:
        raise NightlatchError(f"{path}: {error}") from None
    found = tuple(_file(each, before) for each in files)
    if all(each.was_there for each in found):
        return Revocation(path, before, found, is_new)
    keys = [each.key for each in found if each.key is not None]
    certificates = [each.certificate for each in found if each.certificate is not None]
    try:
        content = krl.extended(before, keys, certificates, at)
        after = krl.parse(content)
    except KrlFault as error:
        raise NightlatchError(f"{path}: {error}") from None
    assert all(after.has_key(key) for key in keys)
    assert all(after.has(each) for each in certificates)
    if is_new:
        put_new(path, content, PUBLIC_MODE)
    else:
        rewrite(path, raw, content)
    return Revocation(path, after, found, is_new)


def _file(path: Path, before: RevocationList) -> RevokedFile:
    """What a file puts on a list. Raises NightlatchError, UnreadableError."""
    raw = content_of(path)
    try:
        signed = certificate_of(raw)
        if signed is not None:
            return RevokedFile(path, None, signed, before.has(signed))
        key = read_public(raw)
    except KeyFault as error:
        raise NightlatchError(f"{path}: {error}") from None
    return RevokedFile(path, key, None, before.has_key(key))
