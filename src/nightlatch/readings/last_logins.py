"""When somebody last logged in to each account of a running guest, as its own lastlog(8) or lastlog2(8) prints it in UTC."""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import UTC, datetime

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.origin import Kind, Origin

LISTED = Origin("lastlog", kind=Kind.LISTING)
_LINE = re.compile(r"(\S{1,255}) .*?([A-Z][a-z]{2} [A-Z][a-z]{2} [ 0-9][0-9] [0-9:]{8} \+0000 [0-9]{4})\s*")


def read(snapshot: Snapshot) -> Mapping[str, datetime]:
    """The last login of each account that had one; empty where the guest keeps none, or was not asked."""
    out: dict[str, datetime] = {}
    for line in snapshot.listings.get("lastlog", b"").decode("utf-8", "replace").split("\n"):
        told = _LINE.fullmatch(line)
        if told is not None:
            try:
                out[told[1]] = datetime.strptime(told[2], "%a %b %d %H:%M:%S %z %Y").astimezone(UTC)
            except ValueError:
                continue
    return out
