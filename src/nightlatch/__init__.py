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
    from nightlatch.demo.story import tell_demo
    from nightlatch.draft.plan import Draft, ProvedDraft
    from nightlatch.estate.load import load as load_estate
    from nightlatch.estate.model import Estate
    from nightlatch.latch.folder import FolderChange
    from nightlatch.ops.access import Access, AccessQuestion, Entry, access, access_target
    from nightlatch.ops.addresses import AddressBook, Interfaces, addresses, addresses_target
    from nightlatch.ops.adopt import Addition, add_guests
    from nightlatch.ops.audit import Audit, audit, audit_target
    from nightlatch.ops.baseline import Baseline, read_baseline
    from nightlatch.ops.compare import Compared, compare, compare_targets
    from nightlatch.ops.describe import Description, describe
    from nightlatch.ops.draft import draft, prove
    from nightlatch.ops.enact import Confirmation, Consent, LiveChange, enact, pending
    from nightlatch.ops.evidence import read_evidence, write_evidence
    from nightlatch.ops.exposure import Exposure, exposure, exposure_target
    from nightlatch.ops.find import SearchResult, find
    from nightlatch.ops.keep import keep
    from nightlatch.ops.key import ConvertedKey, InspectedFile, NewKey, convert_key, inspect_key, make_key
    from nightlatch.ops.meet import FirstContact, meet, pin
    from nightlatch.ops.new import new_estate
    from nightlatch.ops.password import JudgedPassword, judge_password
    from nightlatch.ops.perimeter import (
        PerimeterChange,
        PerimeterDraft,
        draft_perimeter,
        enact_perimeter,
        take_perimeter,
        undo_perimeter,
    )
    from nightlatch.ops.reach import GuestReach, Look, Reach, look_at, reach
    from nightlatch.ops.revoke import Revocation, revoke_keys
    from nightlatch.ops.script import change_script
    from nightlatch.ops.settings import effective_settings
    from nightlatch.ops.sign import SignedHostKey, SignedKey, sign_host_key, sign_key
    from nightlatch.ops.stolen import Stolen, stolen
    from nightlatch.ops.suppose import Supposed, suppose, suppose_target
    from nightlatch.ops.survey import survey, survey_script, survey_target
    from nightlatch.ops.undo import undo
    from nightlatch.ops.why import Why, WhyQuestion, why, why_target
    from nightlatch.transports.ssh import Client

# Where each public name is.
_NAMES = {
    "demo.story": ("tell_demo",),
    "draft.plan": ("Draft", "ProvedDraft"),
    "estate.model": ("Estate",),
    "latch.folder": ("FolderChange",),
    "ops.access": ("Access", "AccessQuestion", "Entry", "access", "access_target"),
    "ops.adopt": ("Addition", "add_guests"),
    "ops.addresses": ("AddressBook", "Interfaces", "addresses", "addresses_target"),
    "ops.audit": ("Audit", "audit", "audit_target"),
    "ops.baseline": ("Baseline", "read_baseline"),
    "ops.compare": ("Compared", "compare", "compare_targets"),
    "ops.describe": ("Description", "describe"),
    "ops.draft": ("draft", "prove"),
    "ops.enact": ("Confirmation", "Consent", "LiveChange", "enact", "pending"),
    "ops.evidence": ("read_evidence", "write_evidence"),
    "ops.exposure": ("Exposure", "exposure", "exposure_target"),
    "ops.find": ("SearchResult", "find"),
    "ops.keep": ("keep",),
    "ops.password": ("JudgedPassword", "judge_password"),
    "ops.key": ("ConvertedKey", "InspectedFile", "NewKey", "convert_key", "inspect_key", "make_key"),
    "ops.meet": ("FirstContact", "meet", "pin"),
    "ops.new": ("new_estate",),
    "ops.perimeter": (
        "PerimeterDraft",
        "PerimeterChange",
        "draft_perimeter",
        "enact_perimeter",
        "take_perimeter",
        "undo_perimeter",
    ),
    "ops.reach": ("Look", "Reach", "GuestReach", "look_at", "reach"),
    "ops.script": ("change_script",),
    "ops.settings": ("effective_settings",),
    "ops.revoke": ("Revocation", "revoke_keys"),
    "ops.sign": ("SignedHostKey", "SignedKey", "sign_host_key", "sign_key"),
    "ops.stolen": ("Stolen", "stolen"),
    "ops.suppose": ("Supposed", "suppose", "suppose_target"),
    "ops.survey": ("survey", "survey_script", "survey_target"),
    "ops.undo": ("undo",),
    "ops.why": ("Why", "WhyQuestion", "why", "why_target"),
    "transports.ssh": ("Client",),
}
_HOMES = {name: (module, name) for module, names in _NAMES.items() for name in names} | {"load_estate": ("estate.load", "load")}

__all__ = [
    "Access",
    "AccessQuestion",
    "Addition",
    "AddressBook",
    "Audit",
    "Baseline",
    "Client",
    "Compared",
    "Confirmation",
    "Consent",
    "ConvertedKey",
    "Description",
    "Draft",
    "Entry",
    "Estate",
    "Exposure",
    "FirstContact",
    "FolderChange",
    "GuestReach",
    "InspectedFile",
    "Interfaces",
    "JudgedPassword",
    "LiveChange",
    "Look",
    "NewKey",
    "PerimeterChange",
    "PerimeterDraft",
    "ProvedDraft",
    "Reach",
    "Revocation",
    "SearchResult",
    "SignedHostKey",
    "SignedKey",
    "Stolen",
    "Supposed",
    "Why",
    "WhyQuestion",
    "__version__",
    "access",
    "access_target",
    "add_guests",
    "addresses",
    "addresses_target",
    "audit",
    "audit_target",
    "change_script",
    "compare",
    "compare_targets",
    "convert_key",
    "describe",
    "draft",
    "draft_perimeter",
    "effective_settings",
    "enact",
    "enact_perimeter",
    "exposure",
    "exposure_target",
    "find",
    "inspect_key",
    "judge_password",
    "keep",
    "load_estate",
    "look_at",
    "make_key",
    "meet",
    "new_estate",
    "pending",
    "pin",
    "prove",
    "reach",
    "read_baseline",
    "read_evidence",
    "revoke_keys",
    "sign_host_key",
    "sign_key",
    "stolen",
    "suppose",
    "suppose_target",
    "survey",
    "survey_script",
    "survey_target",
    "take_perimeter",
    "tell_demo",
    "undo",
    "undo_perimeter",
    "why",
    "why_target",
    "write_evidence",
]


class _Package(ModuleType):
    """This package, on which `audit` and `draft` are the public functions and not the packages of the same name.

    Importing a package sets it as an attribute of its package; that is the one assignment refused here.
    """

    def __setattr__(self, name: str, value: object) -> None:
        if name in __all__ and isinstance(value, ModuleType):
            return
        super().__setattr__(name, value)


def __getattr__(name: str) -> Any:
    if name not in __all__:
        raise AttributeError(f"module 'nightlatch' has no attribute {name!r}")
    module, attribute = _HOMES[name]
    found = getattr(import_module(f"nightlatch.{module}"), attribute)
    globals()[name] = found
    return found


sys.modules[__name__].__class__ = _Package
