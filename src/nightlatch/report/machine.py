"""JSON for machines: documented, versioned. The format name stands first in every document."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from nightlatch.audit.documents import evidence
from nightlatch.draft import diff
from nightlatch.draft.acts import Act, inverse, words

if TYPE_CHECKING:
    from nightlatch.draft.plan import ProvedDraft
    from nightlatch.latch.live import LatchReport
    from nightlatch.ops.audit import Audit
    from nightlatch.readings.latch import OnLatch


def dumps(document: dict[str, Any]) -> str:
    """The document as text; characters outside ASCII are escaped, so that nothing odd reaches a terminal."""
    return json.dumps(document, indent=2, ensure_ascii=True)


def audit(result: Audit) -> dict[str, Any]:
    """`nightlatch/audit/2`."""
    return result.to_dict()


def latched(found: Mapping[str, OnLatch]) -> list[dict[str, Any]]:
    """Changes that guests take back unless they are kept."""
    return [
        {"guest": guest, "change": each.change, "by": each.who or None, "seconds_left": each.left}
        for guest, each in found.items()
    ]


def drafts(estate: str, proved: list[ProvedDraft], refused: dict[str, str], pending: Mapping[str, OnLatch]) -> dict[str, Any]:
    """`nightlatch/draft/1`."""
    return {
        "format": "nightlatch/draft/1",
        "estate": estate,
        "guests": [
            {
                "guest": each.draft.guest,
                "steps": [
                    {"act": str(s), "path": s.path, "because": s.why, "ahead_of": evidence(getattr(s, "ahead_of", ()))}
                    for s in each.draft.steps
                ],
                "acts": [_act(act) for act in each.draft.acts],
                "files": [{"path": d.path, "note": d.note, "difference": list(d.lines)} for d in diff.of(each)],
                "left": [{"text": entry.text, "by_hand": entry.hand} for entry in each.draft.left],
            }
            for each in proved
        ],
        "refused": [{"guest": guest, "because": because} for guest, because in refused.items()],
        "on_the_latch": latched(pending),
    }


def _act(act: Act) -> dict[str, Any]:
    back = inverse(act)
    taken = str(back) if back is not None else None
    return {"act": str(act), "words": list(words(act)), "because": act.why, "taken_back_by": taken}


def pending(told: Sequence[tuple[str, LatchReport | str]]) -> dict[str, Any]:
    """`nightlatch/pending/1`."""
    return {"format": "nightlatch/pending/1", "guests": [_latch(guest, each) for guest, each in told]}


def _latch(guest: str, told: LatchReport | str) -> dict[str, Any]:
    if isinstance(told, str):
        return {"guest": guest, "unread": told}
    out: dict[str, Any] = {
        "guest": guest,
        "unread": None,
        "on_the_latch": None,
        "outcomes": [{"change": change, "outcome": words} for change, words in told.outcomes],
    }
    if told.pending is not None:
        each = told.pending
        out["on_the_latch"] = {
            "change": each.change,
            "by": each.who,
            "state": each.state,
            "timer": each.timer,
            "stuck": each.stuck or None,
            "other_release": each.unread or None,
            "since_seconds": each.since,
            "seconds_left": each.seconds,
        }
    return out


def checks() -> dict[str, Any]:
    """`nightlatch/checks/1`."""
    from nightlatch.audit.checks import CATALOGUE

    return {
        "format": "nightlatch/checks/1",
        "checks": [
            {"id": c.id, "severity": c.severity.value, "reason": c.reason, "source": c.source} for c in CATALOGUE.values()
        ],
    }
