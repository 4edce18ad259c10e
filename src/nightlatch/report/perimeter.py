"""Rows that the filters outside of guests should have: as text and JSON."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

from nightlatch.report import page
from nightlatch.report.audit_text import count

if TYPE_CHECKING:
    from nightlatch.draft.perimeter import RowChange, TableDraft
    from nightlatch.ops.perimeter import PerimeterChange, PerimeterDraft


def text(sheet: page.Page, result: PerimeterDraft, source: str) -> None:
    """Table by table: each row with its reason, what is left, and what to do next."""
    for each in result.drafts:
        _table(sheet, each)
    for network in result.claimed:
        sheet.wrapped("What it lets in is claimed, and not read: no rows can be drafted.", label=network)
    for guest, problem in result.unread:
        sheet.wrapped(problem, label=guest, indent=2, style="high")
    if not (result.drafts or result.claimed or result.unread):
        sheet.wrapped(f"No network of {source} has a perimeter: write one under networks, read from its filter's table.")
        return
    changes = sum(len(each.changes) for each in result.drafts)
    served = any(each.changes and each.perimeter.service for each in result.drafts)
    if not changes:
        after = f"Next: nightlatch audit {source}"
    elif served:
        after = f"Next: nightlatch perimeter {source} --enact"
    else:
        after = "Next: have them written by the people who keep that filter."
    sheet.wrapped(f"{count(len(result.drafts), 'table')}, {count(changes, 'row')} to change.   {after}")


def _table(sheet: page.Page, each: TableDraft) -> None:
    taken = f"{each.perimeter.path.rpartition('/')[2]}, taken {each.perimeter.taken}"
    if not each.changes and not each.left:
        sheet.wrapped(f"as the grants want it ({taken})", label=each.network)
    else:
        sheet.line((each.network, "name"), f"   {taken}")
    for change in each.changes:
        sheet.wrapped(_row(change), label=_verb(change), indent=2)
        sheet.wrapped(change.why, label="because", indent=4)
    for left in each.left:
        sheet.wrapped(f"{left.text} {left.hand[:1].upper()}{left.hand[1:]}.", label="left", indent=2, style="medium")
    sheet.blank()


def _verb(change: RowChange) -> str:
    return "add" if change.before is None else "take away" if change.after is None else "change"


def _row(change: RowChange) -> str:
    before, after = change.before or {}, change.after or {}
    if change.before is None or change.after is None:
        said = ", ".join(f"{key} {_said(value)}" for key, value in (after or before).items() if value not in ("", None))
        return said if change.before is None or not change.line else f"line {change.line}: {said}"
    changed = [key for key in after if before.get(key) != after[key]]
    return f"{_place(change)}: " + ", ".join(f"{key} {_said(after[key])}, was {_said(before.get(key))}" for key in changed)


def _place(change: RowChange) -> str:
    return f"line {change.line}" if change.line else f"row {change.number}"


def _said(value: object) -> str:
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)


def done(sheet: page.Page, found: list[PerimeterChange], verb: str) -> None:
    """The changes of tables at their services."""
    for each in found:
        how = (
            f"{verb}, version {each.version}, {count(each.rows, 'row')}" if each.changed or each.version else "nothing to change"
        )
        sheet.wrapped(how, label=each.network)


def document(result: PerimeterDraft) -> dict[str, Any]:
    """The whole as JSON (docs/json.md)."""
    return {
        "format": "nightlatch/perimeter/1",
        "estate": result.estate,
        "at": result.at.isoformat(),
        "tables": [
            {
                "network": each.network,
                "file": each.perimeter.path,
                "service": each.perimeter.service,
                "changes": [
                    {"row": c.number, "line": c.line, "before": c.before, "after": c.after, "because": c.why}
                    for c in each.changes
                ],
                "rows": list(each.rows),
                "left": [{"text": left.text, "hand": left.hand} for left in each.left],
            }
            for each in result.drafts
        ],
        "claimed": list(result.claimed),
        "unread": [{"guest": guest, "because": because} for guest, because in result.unread],
    }
