"""Nightlatch: who can get into which guest, and why; the smallest change; and a way back.

What this module names is the public interface. Everything is imported when it is first used, so that importing
`nightlatch` costs next to nothing.
"""

from __future__ import annotations

import sys
from importlib import import_module
from types import ModuleType
from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from nightlatch.addressing import AddressBook, Interfaces, addresses, addresses_target
    from nightlatch.api import (
        Audit,
        Client,
        Draft,
        Estate,
        ProvedDraft,
        audit,
        audit_target,
        draft,
        effective_settings,
        load_estate,
        new_estate,
        prove,
        read_evidence,
        survey,
        survey_script,
        survey_target,
        write_evidence,
    )
    from nightlatch.bordering import Border, Bordered, border, enact_border, take_border, undo_border
    from nightlatch.carrying import change_script
    from nightlatch.changing import Changed, Confirmation, Latched, enact, pending
    from nightlatch.demo.story import tell_demo
    from nightlatch.describing import Described, describe
    from nightlatch.exposing import Exposure, exposure, exposure_target
    from nightlatch.keeping import keep
    from nightlatch.meeting import Met, meet, pin
    from nightlatch.reaching import Look, Reach, Reached, look_at, reach
    from nightlatch.seeking import Sought, find
    from nightlatch.undoing import undo

_CHANGING = ("Changed", "Confirmation", "Latched", "enact", "pending")
_HOMES = (
    {
        "tell_demo": "nightlatch.demo.story",
        "change_script": "nightlatch.carrying",
        "undo": "nightlatch.undoing",
        "keep": "nightlatch.keeping",
    }
    | dict.fromkeys(_CHANGING, "nightlatch.changing")
    | dict.fromkeys(("Described", "describe"), "nightlatch.describing")
    | dict.fromkeys(("AddressBook", "Interfaces", "addresses", "addresses_target"), "nightlatch.addressing")
    | dict.fromkeys(
        ("Border", "Bordered", "border", "enact_border", "take_border", "undo_border"), "nightlatch.bordering"
    )
    | dict.fromkeys(("Exposure", "exposure", "exposure_target"), "nightlatch.exposing")
    | dict.fromkeys(("Met", "meet", "pin"), "nightlatch.meeting")
    | dict.fromkeys(("Sought", "find"), "nightlatch.seeking")
    | dict.fromkeys(("Look", "Reach", "Reached", "look_at", "reach"), "nightlatch.reaching")
)

__all__ = [
    "AddressBook",
    "Audit",
    "Border",
    "Bordered",
    "Changed",
    "Client",
    "Confirmation",
    "Described",
    "Draft",
    "Estate",
    "Exposure",
    "Interfaces",
    "Latched",
    "Look",
    "Met",
    "ProvedDraft",
    "Reach",
    "Reached",
    "Sought",
    "__version__",
    "addresses",
    "addresses_target",
    "audit",
    "audit_target",
    "border",
    "change_script",
    "describe",
    "draft",
    "effective_settings",
    "enact",
    "enact_border",
    "exposure",
    "exposure_target",
    "find",
    "keep",
    "load_estate",
    "look_at",
    "meet",
    "new_estate",
    "pending",
    "pin",
    "prove",
    "reach",
    "read_evidence",
    "survey",
    "survey_script",
    "survey_target",
    "take_border",
    "tell_demo",
    "undo",
    "undo_border",
    "write_evidence",
]


class _Package(ModuleType):
    """This package, on which `audit` and `draft` are the public functions and not the rooms of the same name.

    Importing a room sets it as an attribute of its package; that is the one assignment turned away here.
    """

    def __setattr__(self, name: str, value: object) -> None:
        if name in __all__ and isinstance(value, ModuleType):
            return
        super().__setattr__(name, value)


def __getattr__(name: str) -> Any:
    if name not in __all__:
        raise AttributeError(f"module 'nightlatch' has no attribute {name!r}")
    found = getattr(import_module(_HOMES.get(name, "nightlatch.api")), name)
    globals()[name] = found
    return found


sys.modules[__name__].__class__ = _Package
