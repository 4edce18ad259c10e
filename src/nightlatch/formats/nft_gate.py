"""What nightlatch itself has put into a listing of nftables: a chain and a table of that name, and rules that jump there."""

from __future__ import annotations

import re

OWN = "nightlatch"
FILE = f"/etc/{OWN}.nft"
_BLOCK = re.compile(rb"(\t?)(table|chain)\s+(?:(?:ip6?|inet)\s+)?([^\s{]+)\s*\{\s*")


def without(listing: bytes) -> bytes:
    """What `nft list ruleset` told, without these objects."""
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
