"""Checks of the guest's packet filter."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.audit.checks.registry import Context, Told, check
from nightlatch.audit.findings import Severity
from nightlatch.reason.access import Proof


@check("filter.not-at-boot", Severity.MEDIUM, source="nft(8); iptables-restore(8); ufw(8); systemctl(1): is-enabled")
def not_at_boot(context: Context) -> Iterator[Told]:
    """Rules of a packet filter are stored, and nothing loads them at boot: everybody comes through."""
    for each in context.access.reading.filter.idle:
        text = f"{each.place.path} holds rules of {each.manager}, and nothing loads them at boot: they keep nobody out."
        yield Told(text, (Proof(f"{each.unit} is not enabled", each.place),), (each.unit,))


@check("filter.two-managers", Severity.MEDIUM, source="nft(8); iptables-restore(8); ufw(8)")
def two_managers(context: Context) -> Iterator[Told]:
    """Two managers load rules at boot, and each may take away what the other has loaded, or overrule it."""
    booted = context.access.reading.filter.booted
    if len({each.manager for each in booted}) > 1:
        names = [each.manager for each in booted]
        text = f"{', '.join(names[:-1])} and {names[-1]} load rules at boot, and each may overrule what another has loaded."
        yield Told(text, tuple(Proof(f"loaded by {each.unit}", each.place) for each in booted), tuple(names))
