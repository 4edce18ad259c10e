"""The checks of hygiene. Each stands in one place, with its id, severity, reason and reference.

The catalogue, `nightlatch checks` and the spelling check of waivers all come from the registrations here.
"""

from __future__ import annotations

from nightlatch.audit.checks import (
    accounts,
    address_book,
    addresses,
    clock,
    directories,
    estate,
    files,
    filters,
    forwards,
    keys,
    latch,
    listeners,
    perimeters,
    rdp,
    screens,
    service,
    settings,
    sources,
    stated,
    vnc,
)
from nightlatch.audit.checks.registry import CATALOGUE, Check, Context, FleetCheck, hygiene

__all__ = [
    "CATALOGUE",
    "Check",
    "Context",
    "FleetCheck",
    "accounts",
    "address_book",
    "addresses",
    "clock",
    "directories",
    "estate",
    "files",
    "filters",
    "forwards",
    "hygiene",
    "keys",
    "latch",
    "listeners",
    "perimeters",
    "rdp",
    "screens",
    "service",
    "settings",
    "sources",
    "stated",
    "vnc",
]
