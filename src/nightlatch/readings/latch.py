"""What is on the latch of a guest: a change that it takes back unless somebody keeps it. All else that is read of the guest
holds for as long as that lasts.

The lock is root's alone, so it is seen only where root reads (docs/live-guests.md). A lock without a running timer is what a cut
connection leaves; `nightlatch pending` asks the guest and tells the two apart.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.origin import Origin

ID, WHO = "/var/lib/nightlatch/lock/id", "/var/lib/nightlatch/lock/who"
_SINCE = re.compile(r"(.{0,200}), change [0-9-]{1,40}, since uptime ([0-9]{1,9}) s for ([0-9]{1,6}) s")


@dataclass(frozen=True, slots=True)
class OnLatch:
    """A change that is not kept yet. `left` are the seconds until the guest takes it back, None where that is not known."""

    change: str
    who: str
    left: int | None
    origin: Origin


def read(snapshot: Snapshot) -> OnLatch | None:
    """The change on the guest's latch; None where there is none, or where the lock could not be seen."""
    named = snapshot.content(ID)
    if named is None:
        return None
    found = _SINCE.match((snapshot.content(WHO) or b"")[:400].decode("utf-8", "replace"))
    change = named[:40].decode("ascii", "replace").strip()
    if found is None:
        return OnLatch(change, "", None, Origin(ID, 1))
    now, since, lasts = snapshot.told.uptime, int(found[2]), int(found[3])
    left = since + lasts - now if now is not None and since <= now else None
    return OnLatch(change, found[1], left, Origin(WHO, 1))
