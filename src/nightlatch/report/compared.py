"""Two days compared, as text and as JSON: first what opened, then what closed, then what else changed, with its places."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from nightlatch.audit import documents
from nightlatch.audit.compared import Comparison, Turn, WayChange
from nightlatch.audit.facts import MACHINE_ID, Fact, FactChange, FactKind
from nightlatch.audit.findings import Finding, Severity
from nightlatch.audit.names import Names, by, listed, power_words
from nightlatch.report import blocks
from nightlatch.report.audit_text import count
from nightlatch.report.page import Page
from nightlatch.report.safe import in_one_line
from nightlatch.report.supposed import difference
from nightlatch.report.ways import place_of, shown_by

if TYPE_CHECKING:
    from nightlatch.ops.compare import Compared

STYLES = {Turn.OPENED: "high", Turn.CLOSED: "good", Turn.UNDECIDED: "medium", Turn.HELD: "medium"}
TURNS = {Turn.OPENED: "opened", Turn.CLOSED: "closed", Turn.UNDECIDED: "unsure", Turn.HELD: "held"}
MOST_FACTS = 12
Line = tuple[str, str, str, str, str]  # label, words, place, severity, style


def text(page: Page, result: Compared, source: str) -> None:
    """Guests with the same differences together, those with ways in that opened first; quiet ones in one line."""
    page.wrapped(_days(result))
    lines = {name: list(_of_guest(result, name)) for name in result.guests}
    alike: dict[tuple[Line, ...], list[str]] = {}
    for name, those in lines.items():
        alike.setdefault(tuple(those), []).append(name)
    quiet = alike.pop((), [])
    for same, guests in sorted(alike.items(), key=lambda pair: _rank(pair[0])):
        page.blank()
        page.line((blocks.named(guests), "name"))
        for label, words, place, severity, style in same:
            page.wrapped(words, label=label, indent=2, style=style, right=severity)
            if place:
                page.line(" " * 13, (place, "place"))
    page.blank()
    for name, problem in result.found.unread:
        page.wrapped(in_one_line(problem), label=name, style="high")
    for names, what in ((result.found.came, "is new, and was not compared"), (result.found.went, "is not there any more")):
        if names:
            page.wrapped(f"{blocks.named(names)} {what}.")
    left_out = {*result.found.came, *(name for name, _ in result.found.unread)}
    still = [name for name in quiet if name not in left_out]
    if still:
        page.wrapped(f"{blocks.named(still)}: nothing changed.", style="good")
    page.wrapped(f"{_sum(result)}Next: nightlatch audit {source}")


def _days(result: Compared) -> str:
    new = f"evidence of {_day(result.new)}" if result.new else "the guests now"
    return f"Evidence of {_day(result.old) if result.old else 'an unknown day'} against {new}, both judged by the same grants."


def _day(moments: tuple[str, ...]) -> str:
    short = list(dict.fromkeys(each[:16].replace("T", " ") for each in moments))
    return " to ".join(short)


def _rank(lines: Iterable[Line]) -> int:
    severities = [each[3] for each in lines if each[3]]
    return min((Severity(each).rank for each in severities), default=Severity.NOTE.rank)


def _of_guest(result: Compared, name: str) -> Iterable[Line]:
    ways = [each for each in result.found.ways if each.guest == name]
    for each in sorted(ways, key=lambda each: (list(Turn).index(each.turn), each.severity.rank)):
        severity = each.severity.value if each.turn in (Turn.OPENED, Turn.UNDECIDED) or each.severity is not Severity.NOTE else ""
        loud = each.turn is not Turn.OPENED or each.severity is not Severity.NOTE  # what is granted may open
        yield TURNS[each.turn], _way(each, result.names), place_of(each.way), severity, STYLES[each.turn] if loud else "plain"
    if name in rebuilt(result.found):
        yield "rebuilt", f"It has other host keys and another machine id. {_rebuilt(name)}", "", "high", "high"
    facts = [each for each in result.found.facts if each.guest == name]
    for id in (id for guest, id in result.found.changes if guest == name):
        made = sum(each.change == id for each in facts)
        yield "ours", f"change {id} did {made} of these", "", "", "good"
    for change in facts[:MOST_FACTS]:
        ours = f"   change {change.change}" if change.change else ""
        yield change.fact.kind.value, _fact(change), f"{change.fact.origin}{ours}", "", "plain"
    if facts[MOST_FACTS:]:
        yield "", f"and {len(facts) - MOST_FACTS} more; --format json has them all", "", "", "plain"
    for label, found in (("new", result.found.new), ("gone", result.found.gone)):
        for finding in found:
            if finding.guest == name:
                yield label, finding.text, _place(finding), finding.severity.value if label == "new" else "", "plain"


def rebuilt(found: Comparison) -> list[str]:
    """Guests that were made anew, or in whose place another one answers: other host keys, and another machine id."""
    other = [each for each in found.facts if each.before and each.after]
    keys = {each.guest for each in other if each.fact.kind is FactKind.HOST_KEY}
    machines = {each.guest for each in other if each.fact.kind is FactKind.SYSTEM and each.fact.name == MACHINE_ID}
    return [guest for guest in dict.fromkeys(each.guest for each in other) if guest in keys & machines]


def _rebuilt(name: str) -> str:
    return f"Compare them with its console before anybody logs in: nightlatch meet {name}; then hand out new client entries."


def _way(each: WayChange, names: Names) -> str:
    way = each.way
    who = f" ({listed(way.held_by, 3)})" if way.held_by else ""
    login = f"as {way.account}{by(way.service)} with {shown_by(way, names)}{who}"
    if each.turn is Turn.HELD:
        return f"{login}, held by {listed(each.held, 3) if each.held else 'nobody of the estate'} before"
    return f"{login}: {power_words(each.powers)}, from {each.callers.text}"


def _fact(change: FactChange) -> str:
    was, now = change.before, change.after
    if was is None and now is not None:
        return f"came: {_told(now)}"
    if now is None and was is not None:
        return f"went: {_told(was)}"
    assert was is not None
    assert now is not None
    return f"{now.name}: {was.value or 'nothing'} before, {now.value or 'nothing'} now"


def _told(fact: Fact) -> str:
    return f"{fact.name}, {fact.value}" if fact.value else fact.name


def _place(finding: Finding) -> str:
    place = f"{finding.proofs[0].origin}   " if finding.proofs else ""
    return f"{place}{finding.check}"


def _sum(result: Compared) -> str:
    if result.found.is_empty:
        return ""  # the line of the quiet guests has said so
    turns = [(Turn.OPENED, "opened"), (Turn.CLOSED, "closed")]
    many = [(sum(each.turn is turn for each in result.found.ways), word) for turn, word in turns]
    parts = [f"{count(number, 'way')} in {word}" for number, word in many if number]
    parts += [f"{count(len(result.found.facts), 'other thing')} changed"] if result.found.facts else []
    return f"{', '.join(parts) or 'No way in opened or closed'}.   "


def document(result: Compared) -> dict[str, Any]:
    """The same as JSON (docs/json.md)."""
    return {
        "format": "nightlatch/compared/1",
        "estate": result.estate or None,
        "at": result.at.isoformat(timespec="seconds"),
        "old": list(result.old),
        "new_evidence": list(result.new),
        "guests": list(result.guests),
        "rebuilt": rebuilt(result.found),
        **difference(result.found, result.found.ways),
        "facts": [_fact_document(each) for each in result.found.facts],
        "changes": [{"guest": guest, "change": id} for guest, id in result.found.changes],
    }


def _fact_document(change: FactChange) -> dict[str, Any]:
    return {
        "guest": change.guest,
        "kind": change.fact.kind.value,
        "name": change.fact.name,
        "before": _side(change.before),
        "after": _side(change.after),
        "change": change.change or None,
    }


def _side(fact: Fact | None) -> dict[str, Any] | None:
    return {"value": fact.value, "origin": documents.origin(fact.origin)} if fact is not None else None
