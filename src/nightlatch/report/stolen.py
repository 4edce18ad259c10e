"""What a stolen key or a taken guest reaches, as text and as JSON."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from nightlatch.audit import documents
from nightlatch.audit.names import by, listed, power_words
from nightlatch.audit.stolen import OUTSIDE, FoundKey, Reached
from nightlatch.model.powers import PowerKind
from nightlatch.report import blocks
from nightlatch.report.audit_text import count
from nightlatch.report.page import Page
from nightlatch.report.safe import in_one_line
from nightlatch.report.ways import place_of, shown_by, where_from

if TYPE_CHECKING:
    from nightlatch.ops.stolen import Stolen

LOCKS = {True: "has a passphrase", None: "may have a passphrase"}


def text(page: Page, result: Stolen, source: str) -> None:
    """The steps, what the same keys open from other places, and keys that are locked."""
    page.wrapped(_begin(result))
    for step in dict.fromkeys(each.step for each in result.loot.reached):
        page.blank()
        _step(page, result, step)
    beyond = result.loot.beyond
    if beyond:
        page.blank()
        page.wrapped("The same keys open more to who calls from elsewhere:")
    alike: dict[tuple[str, str], list[str]] = {}
    for guest, way in beyond:
        words = f"as {way.account}{by(way.service)} with {shown_by(way, result.names)}, from {where_from(way)}"
        alike.setdefault((words, place_of(way)), []).append(guest)
    for (words, place), guests in alike.items():
        page.wrapped(f"{blocks.named(guests)}: {words}", label="elsewhere")
        page.line(" " * 11, (place, "place"))
    for each in result.loot.locked:
        page.wrapped(f"{each.guest}:{each.found.origin} {LOCKS[each.found.locked]}", label="locked", style="medium")
    page.blank()
    for guest, problem in result.unread:
        page.wrapped(in_one_line(problem), label=guest, style="high")
    page.wrapped(f"{_sum(result)}   Next: {_next(result, source)}")


def _begin(result: Stolen) -> str:
    where = listed(result.places) if result.places else "outside, which is everywhere that the estate knows nothing of"
    if result.key:
        return f"The key {result.names.key(result.key)} is stolen. The thief calls from {where}, and knows no password."
    return f"Somebody is root on {result.guest}, calls from there and from {where}, and knows no password."


def _step(page: Page, result: Stolen, step: int) -> None:
    alike: dict[tuple[str, str, bool], list[str]] = {}
    for each in result.loot.reached:
        if each.step == step:
            alike.setdefault((_words(each, result), place_of(each.way), each.certain), []).append(each.guest)
    for number, ((words, place, certain), guests) in enumerate(alike.items()):
        label = f"step {step}" if not number else ""
        sure = "" if certain else "perhaps "
        page.wrapped(f"{sure}{blocks.named(guests)}: {words}", label=label or " ", style="high" if certain else "medium")
        page.line(" " * 11, (place, "place"))


def _words(each: Reached, result: Stolen) -> str:
    where = "from outside" if each.calling == OUTSIDE else f"calling from {each.calling}"
    if each.calling == OUTSIDE and result.places:
        where = f"from {listed(result.places)}"
    shown = " and ".join(_key(one, result) for one in each.by) or "nothing asked"
    return f"as {each.way.account}{by(each.way.service)}: {power_words(each.powers)}, {where}, with {shown}"


def _key(found: FoundKey, result: Stolen) -> str:
    name = f"the key {result.names.key(found.fingerprint)}"
    return f"{name}, found in {found.guest}:{found.found.origin}" if found.found is not None else name


def _sum(result: Stolen) -> str:
    reached = result.loot.reached
    if not reached:
        return "Nothing is reached."
    guests = {each.guest for each in reached}
    rooted = {each.guest for each in reached if any(p.gives is PowerKind.ADMINISTER for p in each.powers)}
    accounts = {(each.guest, each.way.account) for each in reached}
    root = f", root on {count(len(rooted), 'guest')}" if rooted else ""
    return f"{count(len(accounts), 'account')} on {count(len(guests), 'guest')} reached{root}."


def _next(result: Stolen, source: str) -> str:
    if result.key:
        return f'nightlatch audit {source} --suppose "key {result.key} is gone"'
    return f"nightlatch access {source} --on {result.guest}"


def document(result: Stolen) -> dict[str, Any]:
    """The same as JSON (docs/json.md)."""
    return {
        "format": "nightlatch/stolen/1",
        "estate": result.estate or None,
        "at": result.at.isoformat(timespec="seconds"),
        "key": result.key or None,
        "guest": result.guest or None,
        "from": list(result.places),
        "reached": [_document_of(each) for each in result.loot.reached],
        "elsewhere": [{"guest": guest, **documents.way(way)} for guest, way in result.loot.beyond],
        "locked": [
            {
                "guest": each.guest,
                "fingerprint": each.found.fingerprint,
                "passphrase": each.found.locked,
                "origin": documents.origin(each.found.origin),
            }
            for each in result.loot.locked
        ],
        "unread": [{"guest": guest, "because": because} for guest, because in result.unread],
    }


def _document_of(each: Reached) -> dict[str, Any]:
    return {
        "step": each.step,
        "guest": each.guest,
        "surely": each.certain,
        "calling_from": each.calling,
        "keys": _keys(each.by),
        **documents.way(each.way),
    }


def _keys(found: Iterable[FoundKey]) -> list[dict[str, Any]]:
    return [
        {
            "fingerprint": each.fingerprint,
            "found_on": each.guest or None,
            "origin": documents.origin(each.found.origin) if each.found is not None else None,
        }
        for each in found
    ]
