"""Private halves of keys that lie in the homes of a guest's accounts: what may be told of each, and who can read it.

A survey brings no key, only words about it (formats/keys.py). Of one whose public part is locked as well, the `.pub` file beside
it tells which key it is.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from nightlatch.evidence.snapshot import Entry, EntryKind, Snapshot
from nightlatch.formats import keys
from nightlatch.formats.keys import KeyFault
from nightlatch.origin import Origin
from nightlatch.readings.accounts import Accounts

HOST_KEYS = "/etc/ssh/"


@dataclass(frozen=True, slots=True)
class PrivateKeyFile:
    """A private key on a guest, by the fingerprint of its public half. `locked` says whether a passphrase is on it (None: not
    known); `readers` are the accounts that can read it, besides root."""

    fingerprint: str
    locked: bool | None
    readers: frozenset[str]
    origin: Origin


def read(snapshot: Snapshot, accounts: Accounts) -> tuple[PrivateKeyFile, ...]:
    """The private halves whose public half is known, without the guest's own host keys."""
    return tuple(_found(snapshot, accounts))


def _found(snapshot: Snapshot, accounts: Accounts) -> Iterator[PrivateKeyFile]:
    for path, entry in snapshot.entries.items():
        told = entry.content is not None and entry.content.startswith(keys.REDUCED)
        if not told or entry.kind is not EntryKind.FILE or path.startswith(HOST_KEYS) or path.endswith(".pub"):
            continue
        half = keys.parse_reduced(entry.content or b"")
        fingerprint = (half.fingerprint or _beside(snapshot, path)) if half is not None else ""
        if half is not None and fingerprint:
            yield PrivateKeyFile(fingerprint, half.encrypted, _readers(snapshot, path, entry, accounts), Origin(path))


def _beside(snapshot: Snapshot, path: str) -> str:
    content = snapshot.content(f"{path}.pub")
    try:
        return keys.parse_public(content).fingerprint if content is not None else ""
    except KeyFault:
        return ""


def _readers(snapshot: Snapshot, path: str, entry: Entry, accounts: Accounts) -> frozenset[str]:
    """The accounts that can read a file and go through the folders above it (path_resolution(7)); access lists are not known."""
    above = [snapshot.entries.get(each) for each in snapshot.resolve(path).folders]
    out = set()
    for name, account in accounts.by_name.items():
        groups = account.gids | {account.gid}
        through = all(each is None or _may(each, account.uid, groups, 1) for each in above)
        if account.uid != 0 and through and _may(entry, account.uid, groups, 4):
            out.add(name)
    return frozenset(out)


def _may(entry: Entry, uid: int, groups: frozenset[int], bit: int) -> bool:
    """Whether an account has a right on a path: as its owner, else by its group, else as anybody."""
    shift = 6 if entry.uid == uid else 3 if entry.gid in groups else 0
    return bool(entry.mode >> shift & bit)
