"""Checks of the guest's packet filter."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.audit.checks.registry import Context, Told, check
from nightlatch.audit.findings import Severity
from nightlatch.reason.access import Proof


@check("filter.not-at-boot", Severity.MEDIUM, source="nft(8); systemctl(1): is-enabled")
def not_at_boot(context: Context) -> Iterator[Told]:
    """Rules of a packet filter are stored, and nothing loads them at boot: everybody comes through."""
    place = context.access.reading.filter.idle
    if place is not None:
        text = f"{place.path} holds rules of a packet filter, and nothing loads them at boot: it keeps nobody out."
        yield Told(text, (Proof("nftables.service is not enabled", place),), ("nftables.service",))
