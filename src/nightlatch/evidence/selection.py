"""Which files' contents are carried, and how: only what the reasoning reads. Of all others: name, mode and kind.

collector.sh selects alike on a live guest; a test holds them together.
"""

from __future__ import annotations

from dataclasses import replace
from enum import StrEnum
from hashlib import sha256

from nightlatch.evidence.snapshot import Entry, Snapshot
from nightlatch.formats import accounts, dpkg_status, keys, network_secrets, text_secrets
from nightlatch.systems import posix

ALWAYS = ("/etc/shadow", "/etc/gshadow", "/etc/passwd", "/etc/group", "/var/lib/dpkg/status")
OURS = "/var/lib/nightlatch/"  # records and originals of changes: compared by their digests, so never altered
REVOKED = b"SSHKRL\n\0"  # PROTOCOL.krl
LARGEST_KEPT = 16 << 10  # bytes of a text that is remembered, so that it is gone through once
MOST_KEPT = 1024
NOT_CARRIED = "holds nothing that is read for an audit, so it was not carried"
NO_TEXT = "holds no text, so it was not carried"
PRIVATE = "holds a private key, so it was not carried"


class Purpose(StrEnum):
    """What a file is read for."""

    TEXT = "text"  # settings, in which single values may be secret
    KEYS = "keys"  # public keys, one on a line, as sshd(8) reads them
    PUBLIC = "public"  # the public half of a key, by its name
    JOBS = "jobs"  # an account's table of cron(8), of which only what runs at a boot is carried
    FACTS = "facts"  # nothing but what may be told of a private half
    NAME = "name"  # nothing


def taken_from(snapshot: Snapshot) -> list[str]:
    """The paths of texts out of which single secrets were taken. Hashes, the list of packages and private halves,
    which are always reduced, are left out."""
    return sorted(
        path
        for path, entry in snapshot.entries.items()
        if entry.reduced and path not in ALWAYS and not (entry.content or b"").startswith(keys.REDUCED)
    )


def in_account(name: str) -> Purpose:
    """Of a file in an account's .ssh that no setting names."""
    if name in ("authorized_keys", "authorized_keys2"):
        return Purpose.KEYS
    if name.endswith(".pub"):
        return Purpose.PUBLIC
    if name in ("known_hosts", "known_hosts.old"):
        return Purpose.NAME
    return Purpose.TEXT if name == "config" else Purpose.FACTS


def in_folder(folder: str, name: str) -> Purpose:
    """Of a file in one of the system's folders that are listed."""
    if folder == "/etc/ssh":
        if name.endswith(".pub"):
            return Purpose.PUBLIC
        return Purpose.TEXT if name in ("sshd_config", "ssh_config") else Purpose.NAME if name == "moduli" else Purpose.FACTS
    if folder in ("/etc/ssh/sshd_config.d", "/etc/ssh/ssh_config.d"):
        return Purpose.TEXT if name.endswith(".conf") else Purpose.FACTS
    if folder in posix.JOB_FOLDERS:
        return Purpose.JOBS if folder in posix.CRON_FOLDERS else Purpose.NAME
    if folder.endswith(".wants"):
        return Purpose.NAME
    if folder in ("/var/lib/dhcp", "/var/lib/NetworkManager"):
        return Purpose.TEXT if "lease" in name else Purpose.NAME
    if folder in ("/etc/sysconfig/network-scripts", "/etc/sysconfig/network") and name.startswith("keys-"):
        return Purpose.NAME
    return Purpose.TEXT


def reduced(path: str, entry: Entry, use: Purpose) -> Entry:
    """The entry without its secrets; without its content, and with a note, where nothing of it is needed or fit to be carried."""
    assert entry.content is not None
    content = entry.content
    if path in ("/etc/shadow", "/etc/gshadow"):
        return _with(entry, accounts.reduce_shadow(content))
    if path in ("/etc/passwd", "/etc/group"):
        return _with(entry, accounts.reduce_passwd(content))
    if path == "/var/lib/dpkg/status":
        return _with(entry, dpkg_status.only(content))
    if path.startswith(OURS):
        return entry
    carried, note = _once(use, content, network_secrets.applies(path))
    return _with(entry, carried) if carried is not None else replace(entry, content=None, note=note)


def _carried(use: Purpose, content: bytes, of_network: bool) -> tuple[bytes | None, str]:
    """What is carried of a file's content, or why nothing is."""
    if use is Purpose.KEYS:
        return text_secrets.reduce_keys(content), ""
    half = keys.private_kind(content)
    if use in (Purpose.FACTS, Purpose.PUBLIC) and half is not None:
        return keys.REDUCED + half.text.encode() + b"\n", ""
    if use in (Purpose.FACTS, Purpose.NAME):
        return None, NOT_CARRIED
    if use is Purpose.PUBLIC:
        return text_secrets.reduce_keys(content, only_keys=True), ""
    if half is not None:
        return None, PRIVATE
    if use is Purpose.JOBS and not text_secrets.BINARY.search(content):
        return text_secrets.reduce_jobs(content), ""
    if text_secrets.BINARY.search(content):
        return (content, "") if content.startswith(REVOKED) else (None, NO_TEXT)
    return (network_secrets if of_network else text_secrets).reduce(content), ""


_GONE_THROUGH: dict[tuple[Purpose, bool, bytes], tuple[bytes | None, str]] = {}


def _once(use: Purpose, content: bytes, of_network: bool) -> tuple[bytes | None, str]:
    """The same, of a small text worked out once: guests of one kind share most of their files. Remembered by its digest, so that
    no secret stays in memory."""
    if len(content) > LARGEST_KEPT:
        return _carried(use, content, of_network)
    key = (use, of_network, sha256(content).digest())
    found = _GONE_THROUGH.get(key)
    if found is None:
        if len(_GONE_THROUGH) >= MOST_KEPT:
            _GONE_THROUGH.clear()
        found = _GONE_THROUGH[key] = _carried(use, content, of_network)
    return found


def _with(entry: Entry, content: bytes) -> Entry:
    return entry if content == entry.content else replace(entry, content=content, reduced=True)
