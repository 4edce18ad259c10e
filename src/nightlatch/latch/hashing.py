"""Hashes of passwords that are given in a folder guest: made by this machine's crypt(3), in the scheme that its files name.

A running guest hashes them itself.
"""

from __future__ import annotations

import ctypes
import ctypes.util
import re

from nightlatch.evidence.snapshot import EntryKind
from nightlatch.faults import RefusedError
from nightlatch.formats import pam
from nightlatch.transports.folder import Folder

PREFIXES = {
    "yescrypt": b"$y$",
    "gost_yescrypt": b"$gy$",
    "blowfish": b"$2b$",
    "bcrypt": b"$2b$",
    "sha512": b"$6$",
    "sha256": b"$5$",
}
STACKS = ("common-password", "system-auth", "base-password", "passwd")  # where the families keep it
LOGIN_DEFS = "/etc/login.defs"
USUAL = "sha512"
MOST = 1 << 20


def scheme(folder: Folder) -> str:
    """The name of the scheme that a new password gets there: pam_unix's (pam_unix(8)), else that of login.defs(5)."""
    for name in STACKS:
        for line in pam.parse(_content(folder, f"/etc/pam.d/{name}")):
            stated = [word for word in line.arguments if word in PREFIXES]
            if line.facility == "password" and line.module == "pam_unix.so" and stated:
                return stated[0]
    found = re.search(rb"(?m)^[ \t]*ENCRYPT_METHOD[ \t]+(\w+)", _content(folder, LOGIN_DEFS))
    named = found[1].decode().lower() if found else USUAL
    return named if named in PREFIXES else USUAL  # des and md5 are not made any more


def hashed(password: str, name: str) -> bytes:
    """The hash of a password in a scheme, as crypt(5) has it. Raises RefusedError where this machine can't make it."""
    found = ctypes.util.find_library("crypt")
    library = ctypes.CDLL(found) if found else None
    if library is None or not hasattr(library, "crypt_gensalt"):
        raise RefusedError("this machine has no libcrypt that hashes passwords; install it (libxcrypt), or enact elsewhere")
    library.crypt_gensalt.restype = library.crypt.restype = ctypes.c_char_p
    setting = library.crypt_gensalt(PREFIXES[name], ctypes.c_ulong(0), None, 0)
    done = library.crypt(password.encode(), setting) if setting else None
    if not done or not done.startswith(PREFIXES[name]):
        raise RefusedError(f"this machine's libcrypt makes no {name} hash, which the guest's files name")
    return bytes(done)


def _content(folder: Folder, path: str) -> bytes:
    entry = folder.look(path)
    return folder.read(path, MOST).content or b"" if entry.kind is EntryKind.FILE else b""
