"""Nightlatch: who can get into which guest, and why; the smallest change; and a way back.

What this module names is the public interface. Everything is imported when it is first used, so that importing
`nightlatch` costs next to nothing.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from nightlatch.api import (
        Audit,
        Changed,
        Draft,
        Estate,
        ProvedDraft,
        audit,
        audit_target,
        draft,
        effective_settings,
        enact,
        load_estate,
        new_estate,
        prove,
        read_evidence,
        survey,
        survey_target,
        undo,
        write_evidence,
    )
    from nightlatch.demo.story import tell_demo

_HOMES = {"tell_demo": "nightlatch.demo.story"}

__all__ = [
    "Audit",
    "Changed",
    "Draft",
    "Estate",
    "ProvedDraft",
    "__version__",
    "audit",
    "audit_target",
    "draft",
    "effective_settings",
    "enact",
    "load_estate",
    "new_estate",
    "prove",
    "read_evidence",
    "survey",
    "survey_target",
    "tell_demo",
    "undo",
    "write_evidence",
]


def __getattr__(name: str) -> Any:
    if name not in __all__:
        raise AttributeError(f"module 'nightlatch' has no attribute {name!r}")
    return getattr(import_module(_HOMES.get(name, "nightlatch.api")), name)
