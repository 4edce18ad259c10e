"""What one stolen key, or one taken guest, reaches in an estate, step by step."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING

from nightlatch.audit.names import Names, names_of
from nightlatch.audit.stolen import Loot, loot
from nightlatch.estate.model import Estate
from nightlatch.faults import NightlatchError, nearest
from nightlatch.model.sources import COMMON
from nightlatch.net.addresses import EVERY_ADDRESS, LOOPBACK
from nightlatch.ops.audit import audited
from nightlatch.ops.places import callers_from
from nightlatch.services.base import Kinds
from nightlatch.services.table import KINDS

if TYPE_CHECKING:
    from nightlatch.transports.ssh import Client

__all__ = ["Stolen", "stolen"]


@dataclass(frozen=True)
class Stolen:
    """What the thief of a `key` (its fingerprint), or somebody who has taken a `guest`, reaches; `places` are where they call
    from at the start, outside of all that the estate knows where nothing is said. `unread` are guests that were not read."""

    estate: str
    at: datetime
    loot: Loot
    key: str = ""
    guest: str = ""
    places: tuple[str, ...] = ()
    unread: tuple[tuple[str, str], ...] = ()
    names: Names = field(default_factory=Names)

    @property
    def exit_code(self) -> int:
        """3 when a guest could not be read, else 0."""
        return 3 if self.unread else 0


def stolen(
    estate: Estate,
    at: datetime,
    what: str,
    *,
    places: Sequence[str] = (),
    client: Client | None = None,
    kinds: Kinds = KINDS,
) -> Stolen:
    """Read all guests and say what is reached with a key (SHA256:...), or from a guest that somebody is root on. Raises
    NightlatchError for a guest or place that is not there."""
    key = what if what.startswith("SHA256:") else ""
    if not key and what not in estate.guests:
        near = nearest(what, list(estate.guests))
        meant = f'; did you mean "{near}"?' if near else ""
        raise NightlatchError(f'"{what[:60]}" is no guest of {estate.path}, no fingerprint and no file with a key{meant}')
    names = names_of(estate)
    beyond = {COMMON: EVERY_ADDRESS - names.known - LOOPBACK}
    found, facts = audited(estate, at, client=client, kinds=kinds)
    networks = {spec.name: estate.networks.get(spec.network) for spec in estate.guests.values()}
    return Stolen(
        estate.name,
        at,
        loot(
            {each.guest: each.answers for each in found.guests},
            facts,
            {guest: of.name for guest, of in networks.items() if of is not None and of.private},
            callers_from(estate, places) or beyond,
            key=key,
            taken="" if key else what,
        ),
        key,
        "" if key else what,
        tuple(places),
        tuple((each.guest, each.unread) for each in found.guests if each.unread),
        names,
    )
