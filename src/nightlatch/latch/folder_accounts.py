"""Steps on the accounts of a folder guest: one field of its own databases, whose secrets are moved along and kept nowhere else.

No copy of a database is made for undo: each step has an inverse, which is one field as well.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, Sequence
from datetime import date

from nightlatch.draft import account_changes
from nightlatch.draft.plan import ProvedDraft
from nightlatch.evidence.snapshot import EntryKind
from nightlatch.faults import RefusedError
from nightlatch.formats import accounts as formats
from nightlatch.formats.account_fields import FieldFault
from nightlatch.latch import hashing
from nightlatch.model import account_steps
from nightlatch.model.account_steps import DATABASES, SHADOW, AccountStep
from nightlatch.transports.folder import Folder

LARGEST = 64 << 20


def compare(folder: Folder, proved: ProvedDraft) -> None:
    """Raise RefusedError where a database is not as it was read, its hashes aside."""
    for path, raw in _held(folder).items():
        seen = proved.before.entries.get(path)
        reduce = formats.reduce_shadow if path in (SHADOW, account_changes.GSHADOW) else formats.reduce_passwd
        if seen is not None and seen.content is not None and reduce(raw) != seen.content:
            raise RefusedError(
                f"{path} was changed since it was read; survey again. Nothing was written", guest=proved.draft.guest
            )


def hashes_of(folder: Folder, passwords: Mapping[str, str]) -> dict[str, bytes]:
    """The hashes of passwords, by account, in the scheme that the guest's files name. Raises RefusedError."""
    return {account: hashing.hashed(password, hashing.scheme(folder)) for account, password in passwords.items()}


def worked_out(
    folder: Folder, steps: Sequence[AccountStep], today: date, guest: str, hashes: Mapping[str, bytes]
) -> dict[str, bytes]:
    """What each database becomes by these steps, with the `hashes` of passwords that they give. Raises RefusedError where one
    does not fit."""
    files: dict[str, bytes] = _held(folder)
    made: dict[str, bytes] = {}
    for step in steps:
        try:
            changed = account_changes.changed(files, step, today, hashes)
        except FieldFault as fault:
            raise RefusedError(f"{step}: {fault}", guest=guest) from None
        files |= changed
        made |= changed
    return made


def write(folder: Folder, made: Mapping[str, bytes], staged: str) -> None:
    """Put databases in place, each with its owner, mode and attributes: staged beside it, then renamed."""
    for path, raw in made.items():
        with folder.parent(path) as (above, name):
            _replace(above, name, raw, staged)


def taken_back(folder: Folder, words: Iterable[Sequence[str]], guest: str) -> tuple[dict[str, bytes], tuple[str, ...]]:
    """What each database becomes once the steps of a record are taken back, as far as they were done, and these in words.

    Raises RefusedError where somebody has changed since what they made.
    """
    files, made, told = _held(folder), dict[str, bytes](), []
    for each in reversed([*words]):
        step = account_steps.parse(each)
        try:
            back = account_changes.undone(files, step)
        except FieldFault as fault:
            raise RefusedError(f"{account_steps.inverse(step)}: {fault}", guest=guest) from None
        files |= back
        made |= back
        told += [str(account_steps.inverse(step))] if back else []
    return made, tuple(told)


def _held(folder: Folder) -> dict[str, bytes]:
    out: dict[str, bytes] = {}
    for path in DATABASES:
        if folder.look(path).kind is EntryKind.FILE:
            out[path] = folder.read(path, LARGEST).content or b""
    return out


def _replace(above: int, name: str, raw: bytes, staged: str) -> None:
    was = os.open(name, os.O_RDONLY | os.O_NOFOLLOW, dir_fd=above)
    try:
        status = os.fstat(was)
        descriptor = os.open(staged, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600, dir_fd=above)
        try:
            with os.fdopen(descriptor, "wb") as stream:
                if os.geteuid() == 0:  # before a byte of it is there
                    os.fchown(stream.fileno(), status.st_uid, status.st_gid)
                os.fchmod(stream.fileno(), status.st_mode & 0o7777)
                for key in os.listxattr(was):
                    os.setxattr(stream.fileno(), key, os.getxattr(was, key))
                stream.write(raw)
                stream.flush()
                os.fsync(stream.fileno())
            os.rename(staged, name, src_dir_fd=above, dst_dir_fd=above)
        except BaseException:
            os.unlink(staged, dir_fd=above)
            raise
    finally:
        os.close(was)
