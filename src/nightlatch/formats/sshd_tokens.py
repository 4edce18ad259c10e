"""The % tokens in sshd's own paths (sshd_config(5), TOKENS)."""

from __future__ import annotations

import re


def expand(text: str, *, user: str, uid: int, home: str) -> str | None:
    """`text` with %h, %u, %U and %% filled in; None for a token that sshd does not know there."""
    unknown = False

    def fill(found: re.Match[str]) -> str:
        nonlocal unknown
        known = {"%": "%", "h": home, "u": user, "U": str(uid)}
        unknown = unknown or found[1] not in known
        return known.get(found[1], "")

    out = re.sub(r"%(.?)", fill, text)
    return None if unknown else out


def file_for(text: str, *, user: str, uid: int, home: str) -> str | None:
    """A per-account file: tokens filled in, a relative path counted from the home folder (auth.c, expand_authorized_keys)."""
    out = expand(text, user=user, uid=uid, home=home)
    if out is None or out.startswith("/"):
        return out
    return f"{home}/{out}"
