"""The formats that this release writes and reads: one table, so that a newer file is told from a damaged one.

What is read back carries its version in its own text: `nightlatch: 1` in an estate file, `nightlatch/NAME/NUMBER` elsewhere.
docs/formats.md says what each of them holds.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from types import MappingProxyType

READS: Mapping[str, tuple[int, ...]] = MappingProxyType(
    {"estate": (1,), "evidence": (1,), "change": (1,), "latch": (1,), "stream": (1,)}
)
WHAT = MappingProxyType(
    {
        "estate": "estate file",
        "evidence": "evidence archive",
        "change": "record of a change",
        "latch": "script of a change",
        "stream": "survey by hand",
    }
)


def name(form: str) -> str:
    """The form as this release writes it, such as nightlatch/evidence/1."""
    return f"nightlatch/{form}/{READS[form][-1]}"


def unread(form: str, found: str) -> str:
    """Why something that says of itself to be `found` is not read; empty where it is."""
    number = re.fullmatch(rf"(?:nightlatch/{form}/)?([1-9][0-9]{{0,5}})", found)
    if number is None:
        return f'"{found[:60]}" is no version of the {WHAT[form]}; {_known(form)}'
    if int(number[1]) in READS[form]:
        return ""
    if int(number[1]) > READS[form][-1]:
        made = f"it is version {number[1]} of the {WHAT[form]}, made by a newer Nightlatch"
        return f"{made}; {_known(form)}: install the newer release"
    return f"it is version {number[1]} of the {WHAT[form]}; {_known(form)}: read it with the release that made it"


def of_json(raw: bytes) -> str | None:
    """The `format` that a JSON object names; None where there is none to be read."""
    try:
        found = json.loads(raw)
    except (ValueError, RecursionError):
        return None
    told = found.get("format") if isinstance(found, dict) else None
    return told if isinstance(told, str) else None


def _known(form: str) -> str:
    return f"this release reads {' and '.join(map(str, READS[form]))}"
