"""Places and services as people name them in a question: names of the estate, or addresses."""

from __future__ import annotations

from collections.abc import Sequence

from nightlatch.access.grants import sources_of
from nightlatch.estate.model import Estate, PlaceRef
from nightlatch.faults import NightlatchError, nearest
from nightlatch.model.sources import COMMON, Sources, joined
from nightlatch.net.literal import AddressError, parse_network
from nightlatch.services.base import Kinds


def known_services(services: Sequence[str], kinds: Kinds) -> None:
    """Raise NightlatchError for a service that there is not."""
    for name in services:
        if name not in kinds:
            raise NightlatchError(f'there is no service "{name[:40]}"; known are: {", ".join(kinds)}')


def callers_from(estate: Estate | None, places: Sequence[str]) -> Sources | None:
    """Where the callers are that were asked for; None for wherever they are. Raises NightlatchError."""
    return joined(_sources(estate, place) for place in places) if places else None


def _sources(estate: Estate | None, text: str) -> Sources:
    if estate is not None and text in estate.places:
        return sources_of(estate, [PlaceRef(text, place=text)])
    if estate is not None and text in estate.networks:
        return sources_of(estate, [PlaceRef(text, network=text)])
    try:
        return {COMMON: parse_network(text)}
    except AddressError:
        if estate is None:
            raise NightlatchError(f'"{text[:60]}" is no address, and places stand in an estate file') from None
        known = [*estate.places, *estate.networks]
        near = nearest(text, known)
        listed = f"; places are: {', '.join(known)}" if known else ""
        meant = f'; did you mean "{near}"?' if near else listed
        raise NightlatchError(f'"{text[:60]}" is no place of the estate and no address{meant}') from None
