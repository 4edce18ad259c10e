"""Default routes of a guest: those that its files hold, and those that come with a lease at the next boot."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from nightlatch.origin import Origin
from nightlatch.readings.network.network_reading import NetworkReading
from nightlatch.readings.network.profiles import Method


@dataclass(frozen=True, slots=True)
class DefaultRoute:
    """Something that brings a default route at boot."""

    interface: str
    text: str
    origin: Origin
    metric: int | None = None


def leading(network: NetworkReading, version: int) -> Iterator[DefaultRoute]:
    """Every default route that the next boot brings for one family, written down or by a lease."""
    for profile in network.counting:
        if not profile.at_boot:
            continue
        name = profile.interface or profile.origin.path.rpartition("/")[2]
        for gateway in profile.gateways:
            if gateway.address.version == version:
                yield DefaultRoute(name, f"{gateway.address} on {name}", gateway.origin, gateway.metric)
        lease = next((m for m in profile.methods if m.version == version and m.method is Method.LEASED), None)
        if lease is not None and profile.lease_routes and version == 4:
            yield DefaultRoute(name, f"the lease of {name}", lease.origin)
