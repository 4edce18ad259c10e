"""What would change: ways in that would open and close, and findings that would come and go, as text and as JSON."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from nightlatch.audit import documents
from nightlatch.audit.compared import Comparison, Turn, WayChange
from nightlatch.audit.findings import Finding, Group
from nightlatch.audit.names import Names, by, listed, power_words
from nightlatch.report import blocks
from nightlatch.report.audit_text import count
from nightlatch.report.page import Page
from nightlatch.report.safe import in_one_line
from nightlatch.report.ways import place_of, shown_by

if TYPE_CHECKING:
    from nightlatch.ops.suppose import Supposed

STYLES = {Turn.OPENED: "high", Turn.CLOSED: "good", Turn.UNDECIDED: "medium", Turn.HELD: "medium"}
WOULD = {Turn.OPENED: "opens", Turn.CLOSED: "closes", Turn.UNDECIDED: "unsure", Turn.HELD: "held"}
NOBODY = "nobody of the estate"


def text(page: Page, result: Supposed, ways: Sequence[WayChange], source: str, *, findings: bool = True) -> None:
    """What would change, guests with the same change together."""
    page.wrapped(f"Supposing that {listed(result.sentences, 10)}; nothing is touched.")
    page.blank()
    changes(page, ways, result.names)
    new, gone = (result.changes.new, result.changes.gone) if findings else ((), ())
    told(page, new, "new")
    told(page, gone, "gone")
    lost = {each.guest: len(each.answers) for each in result.before.guests}
    for guest in result.changes.went:
        page.wrapped(f"is down, with its {count(lost[guest], 'way')} in", label=guest, style="medium")
    for guest, problem in result.changes.unread:
        page.wrapped(in_one_line(problem), label=guest, style="high")
    if not (ways or new or gone or result.changes.went):
        page.wrapped(f"Nothing would change.   Next: nightlatch audit {source}")
        return
    page.blank()
    page.wrapped(f"{summed(result.changes, ways, findings=findings)}.   Next: nightlatch audit {source}")


def summed(found: Comparison, ways: Sequence[WayChange], *, findings: bool) -> str:
    """How much changes, in a few words."""
    opened, closed = (sum(each.turn is turn for each in ways) for turn in (Turn.OPENED, Turn.CLOSED))
    parts = [f"{count(opened, 'way')} in {'opens' if opened == 1 else 'open'}"] if opened else []
    parts += [f"{count(closed, 'way')} in {'closes' if closed == 1 else 'close'}"] if closed else []
    parts += [f"{count(len(found.went), 'guest')} down"] if found.went else []
    if findings:
        holes, out = (sum(each.group is group for each in found.new) for group in (Group.HOLE, Group.SHUT_OUT))
        parts += [count(holes, "new hole")] if holes else []
        parts += [f"{out} more shut out"] if out else []
    return ", ".join(parts) or "No way in opens or closes"


def changes(page: Page, ways: Iterable[WayChange], names: Names) -> None:
    """Ways in that changed, the same change of several guests once."""
    alike: dict[tuple[Turn, str, str], list[str]] = {}
    for each in ways:
        alike.setdefault((each.turn, _words(each, names), place_of(each.way)), []).append(each.guest)
    for (turn, words, place), guests in sorted(alike.items(), key=lambda pair: list(Turn).index(pair[0][0])):
        page.wrapped(f"{blocks.named(guests)}: {words}", label=WOULD[turn], style=STYLES[turn])
        if place:
            page.line(" " * 11, (place, "place"))


def _words(each: WayChange, names: Names) -> str:
    way = each.way
    proof = shown_by(way, names)
    if each.turn is Turn.HELD:
        held = f"held by {_held(each.held)} before, and by {_held(way.held_by)} now"
        return f"as {way.account}{by(way.service)} with {proof}, {held}"
    return f"as {way.account}{by(way.service)} with {proof}: {power_words(each.powers)}, from {each.callers.text}"


def _held(names: Sequence[str]) -> str:
    return listed(names) if names else NOBODY


def told(page: Page, found: Iterable[Finding], label: str) -> None:
    """Findings that came or went, the same on several guests once."""
    alike: dict[tuple[str, str, str, str], list[str]] = {}
    for each in found:
        place = str(each.proofs[0].origin) if each.proofs else ""
        alike.setdefault((each.severity.value, each.check, each.text, place), []).append(each.guest)
    for (severity, check, words, place), guests in alike.items():
        page.wrapped(f"{blocks.named(guests)}: {words}", label=label, right=severity if label == "new" else "")
        page.line(" " * 11, (f"{place}   {check}" if place else check, "place"))


def document(result: Supposed, ways: Sequence[WayChange]) -> dict[str, Any]:
    """The same as JSON (docs/json.md)."""
    return {
        "format": "nightlatch/supposed/1",
        "estate": result.before.estate or None,
        "at": result.before.at.isoformat(timespec="seconds"),
        "supposed": list(result.sentences),
        **difference(result.changes, ways),
    }


def difference(found: Comparison, ways: Sequence[WayChange]) -> dict[str, Any]:
    """The difference, as it stands in every document."""
    return {
        "ways_in": [_way(each) for each in ways],
        "new": [{"guest": each.guest, **one} for each in found.new for one in documents.findings([each])],
        "gone": [{"guest": each.guest, **one} for each in found.gone for one in documents.findings([each])],
        "came": list(found.came),
        "went": list(found.went),
        "unread": [{"guest": guest, "because": because} for guest, because in found.unread],
    }


def _way(each: WayChange) -> dict[str, Any]:
    return {
        "guest": each.guest,
        "turn": each.turn.value,
        "severity": each.severity.value,
        "powers_changed": [documents.power(power) for power in each.powers],
        "callers_changed": documents.callers(each.callers),
        "held_before": list(each.held) if each.turn is Turn.HELD else None,
        **documents.way(each.way),
    }
