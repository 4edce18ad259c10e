"""What a search for a guest found, as text and as JSON."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from nightlatch.audit import documents
from nightlatch.ops.find import SearchVerdict
from nightlatch.report.audit_text import count
from nightlatch.report.page import Page

if TYPE_CHECKING:
    from nightlatch.ops.find import SearchResult, SoughtAddress

STYLES = {SearchVerdict.CONFIRMED: "good", SearchVerdict.OTHER_KEY: "high", SearchVerdict.UNPINNED: "medium"}


def text(page: Page, result: SearchResult, source: str) -> None:
    """The candidates, the confirmed one first, each with what speaks for it; then what to do next."""
    by = f", by {', '.join(result.hardware)}" if result.hardware and result.hardware != (result.what,) else ""
    whose = f"   {result.guest}" if result.guest and result.guest != result.what else ""
    page.line((result.what, "name"), f"{whose}   {count(len(result.candidates), 'candidate')}{by}")
    for each in result.candidates:
        _candidate(page, each)
    if not result.candidates:
        page.wrapped("no table, no lease file and no answer speaks of it", indent=2)
    if result.scanned:
        page.wrapped(f"{result.scanned} addresses of the estate's networks were dialled without a sign.", indent=2, style="place")
    for each_text in result.unscanned:
        page.wrapped(each_text, indent=2, label="not looked", style="place")
    page.blank()
    page.line(*_next(result, source))


def _candidate(page: Page, each: SoughtAddress) -> None:
    page.wrapped(f"{each.address}: {each.verdict.value}", indent=2, style=STYLES.get(each.verdict, "plain"))
    for sign in each.signs:
        page.line("      ", (f"{sign.text}   {sign.origin}" if sign.origin.line else sign.text, "place"))
    for proven in each.look.keys if each.look is not None else ():
        page.line("      ", (f"{proven.key.kind} {proven.key.fingerprint}", "place"))


def _next(result: SearchResult, source: str) -> tuple[str | tuple[str, str], ...]:
    where = " and ".join(each.address for each in result.found)
    if result.found and result.twins:
        verb = "show" if len(result.found) > 1 else "shows"
        return (f"Not decided: {where} {verb} its host key, which is pinned for {', '.join(result.twins)}, too.",)
    if len(result.found) > 1:
        return (f"{where} show its host key: it has several addresses, or there are copies of it.",)
    if result.found:
        return (f"It is at {where}.",)
    unpinned = [each for each in result.candidates if each.verdict is SearchVerdict.UNPINNED]
    if unpinned and result.guest:
        return ("Not confirmed: no host key is pinned.", (f"   Next: nightlatch meet {result.guest} {source}", "next"))
    if any(each.verdict is SearchVerdict.OTHER_KEY for each in result.candidates):
        return ("Not found: what answers has another host key: another guest, or rebuilt.",)
    return ("Not found. Is it running, and on one of the estate's networks?",)


def document(result: SearchResult) -> dict[str, Any]:
    """The search as JSON, nightlatch/find/1."""
    return {
        "format": "nightlatch/find/1",
        "what": result.what,
        "guest": result.guest or None,
        "hardware": list(result.hardware),
        "confirmed": [each.address for each in result.found],
        "candidates": [
            {
                "address": each.address,
                "verdict": each.verdict.name.lower().replace("_", " "),
                "signs": [{"text": s.text, "fresh": s.fresh, "origin": documents.origin(s.origin)} for s in each.signs],
                "host_keys": list(each.look.fingerprints) if each.look is not None else [],
            }
            for each in result.candidates
        ],
        "also_pinned_for": list(result.twins),
        "scanned": result.scanned,
        "not_scanned": list(result.unscanned),
    }
