"""The ways in by which Nightlatch and the emergency accounts come: no step may make them narrower."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from nightlatch.access.differences import covers
from nightlatch.access.paths import GuestAccess
from nightlatch.model.grants import Grant, GrantKind
from nightlatch.model.powers import PowerKind
from nightlatch.model.sources import COMMON, Sources, joined, without
from nightlatch.net.addresses import prefix
from nightlatch.net.literal import address_or_none


def door(access: GuestAccess, grants: Iterable[Grant]) -> Sources:
    """Where management access and the emergency accounts are open from, as far as that is not ruled out."""
    kept = [g for g in grants if g.kind is not GrantKind.GRANT]
    serving = [p for p in access.paths if p.power.gives is PowerKind.SHELL and any(covers(g, p) for g in kept)]
    return joined(p.callers.perhaps for p in serving)


def is_narrower(before: GuestAccess, after: GuestAccess, grants: Iterable[Grant], here: Sources | None = None) -> bool:
    """Whether management access or an emergency account is open from fewer places than before, among those it states; with `here`
    only whether it is no longer open from there."""
    for grant in grants:
        if grant.kind is not GrantKind.GRANT and without(door(before, [grant]), door(after, [grant])):
            wanted = joined([grant.callers.perhaps])
            lost = without(door(before, [grant]), door(after, [grant]))
            # What the grant itself does not state may go.
            lost = without(lost, without(lost, wanted))
            if without(lost, without(lost, here)) if here is not None else lost:
                return True
    return False


def in_use(access: GuestAccess, grants: Sequence[Grant], came_from: str) -> Sources | None:
    """The one address from which management access is used just now; None where it is not known to be open from there."""
    address = address_or_none(came_from)
    own = [grant for grant in grants if grant.kind is GrantKind.MANAGEMENT]
    if address is None or not own:
        return None
    here = {COMMON: prefix(address.version, int(address), 32 if address.version == 4 else 128)}
    return None if without(here, door(access, own)) else here
