"""The names and comments by which nightlatch recognises its own rules, in files and in listings of packet filters."""

from __future__ import annotations

import re

OWN = "nightlatch"
COMMENT = OWN.encode().hex()  # of a rule of ufw, as its files have it
ACCEPTING, REFUSING = -4141, -4140  # priorities of rich rules of firewalld: no others are likely to have these
FILE = f"/etc/{OWN}.nft"
_BLOCK = re.compile(rb"(\t?)(table|chain)\s+(?:(?:ip6?|inet)\s+)?([^\s{]+)\s*\{\s*")


def is_own(line: bytes) -> bool:
    """Whether a line of ufw's rules or of a zone of firewalld is one of these."""
    return COMMENT.encode() in line or any(f'priority="{each}"'.encode() in line for each in (ACCEPTING, REFUSING))


def without(listing: bytes) -> bytes:
    """What `nft list ruleset` told, without the chains and the table of that name, and the rules that jump there."""
    out: list[bytes] = []
    closing = b""
    for line in listing.split(b"\n"):
        if closing:
            closing = b"" if line.rstrip() == closing else closing
            continue
        found = _BLOCK.fullmatch(line)
        if found and found[3] == OWN.encode():
            closing = found[1] + b"}"
        elif not re.search(rb"\bjump nightlatch\s*$", line):
            out.append(line)
    return b"\n".join(out)
