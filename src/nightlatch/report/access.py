"""Who gets in: a list by person, a matrix of guests and people, JSON and CSV."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any

from nightlatch.audit import documents
from nightlatch.audit.names import by, power_words
from nightlatch.model.grants import GrantKind
from nightlatch.model.powers import PowerKind
from nightlatch.ops.access import AccessQuestion
from nightlatch.report import blocks
from nightlatch.report.audit_text import count
from nightlatch.report.page import Page
from nightlatch.report.rows import cell
from nightlatch.report.safe import in_one_line
from nightlatch.report.ways import place_of, shown_by, where_from

if TYPE_CHECKING:
    from nightlatch.audit.answers import WayIn
    from nightlatch.ops.access import Access, Entry

KEPT = (GrantKind.MANAGEMENT.value, GrantKind.EMERGENCY.value)
NOBODY, ANYBODY = "nobody in the estate file", "anybody"
# What a matrix says of the most that somebody gets, the most first.
SHORT = {
    PowerKind.ADMINISTER: "root",
    PowerKind.DESKTOP: "desktop",
    PowerKind.SHELL: "shell",
    PowerKind.COMMAND: "command",
    PowerKind.FILES: "files",
    PowerKind.TUNNEL: "tunnel",
    PowerKind.LISTEN: "tunnel",
    PowerKind.CONNECT: "port",
    PowerKind.VIEW: "view",
    PowerKind.AGENT: "agent",
    PowerKind.CHANGE_PASSWORD: "password",
}
MOST_UNDECIDED = 5
COLUMNS = ("guest", "account", "held_by", "by", "shown", "certain", "possible", "powers", "seal", "place")
Row = tuple[str, str, str, str]


def text(page: Page, result: Access, source: str) -> None:
    """Who holds what a way in asks for, and under each name the guests with the ways in; alike guests together."""
    _latched(page, result)
    for number, (holder, entries) in enumerate(_held(result).items()):
        if number:
            page.blank()
        if holder:
            page.line((holder, "name"))
        for guests, found in _alike(entries, result).items():
            page.line("  " if holder else "", (guests, "next"))
            page.table(found, ["plain", "plain", "plain", "place"], indent=4 if holder else 2)
    _end(page, result, source)


def _latched(page: Page, result: Access) -> None:
    for guest, words in result.latched:
        page.wrapped(words, label=guest, style="high")
    if result.latched:
        page.blank()


def _held(result: Access) -> dict[str, list[Entry]]:
    """The entries under everybody who holds what they ask for, people in the order of the estate."""
    if not result.estate:
        return {"": list(result.entries)} if result.entries else {}
    out: dict[str, list[Entry]] = {name: [] for name in (ANYBODY, *result.people, *KEPT, NOBODY)}
    asked = set(result.asked.who) & set(result.people)
    for each in result.entries:
        for name in each.way.held_by or (each.kept or (NOBODY if each.way.shown else ANYBODY),):
            if name not in result.people or not asked or name in asked:
                out[name].append(each)
    return {name: found for name, found in out.items() if found}


def _alike(entries: list[Entry], result: Access) -> dict[str, list[Row]]:
    """The ways in of each guest as rows; guests with the same rows are told together."""
    of_guest: dict[str, dict[Row, None]] = {}
    for each in entries:
        of_guest.setdefault(each.guest, {})[_row(each.way, result)] = None
    alike: dict[tuple[Row, ...], list[str]] = {}
    for guest, found in of_guest.items():
        alike.setdefault(tuple(found), []).append(guest)
    return {blocks.named(guests): list(found) for found, guests in alike.items()}


def _row(way: WayIn, result: Access) -> Row:
    account = f"as {way.account}{by(way.service)}"
    return (account, shown_by(way, result.names), power_words(way.powers), f"from {where_from(way)}   {place_of(way)}")


def _end(page: Page, result: Access, source: str) -> None:
    for each in result.remarks:
        page.wrapped(each)
    if result.entries:
        page.blank()
    for guest, problem in result.unread:
        page.wrapped(in_one_line(problem), label=guest, indent=2, style="high")
    for guest, proof in result.undecided[:MOST_UNDECIDED]:
        page.wrapped(f"{guest}: {proof.text} ({proof.origin})", label="undecided", indent=2, style="medium")
    if len(result.undecided) > MOST_UNDECIDED:
        page.wrapped(f"and {len(result.undecided) - MOST_UNDECIDED} more", label="undecided", indent=2, style="medium")
    if not result.entries:
        whole = result.asked == AccessQuestion()
        page.wrapped(f"Nobody gets in{'' if whole else ' that way'}.   Next: nightlatch audit {source}")
        return
    people = {name for each in result.entries for name in each.way.held_by}
    strangers = len(_held(result).get(NOBODY, [])) if result.estate else 0
    parts = [f"{count(len(result.entries), 'way')} in on {count(len({each.guest for each in result.entries}), 'guest')}"]
    parts += [f"held by {count(len(people), 'person or robot', 'people and robots')}"] if people else []
    parts += [f"{strangers} held by nobody in the estate file"] if strangers else []
    page.wrapped(f"{', '.join(parts)}.   Next: nightlatch audit {source}")


def matrix(page: Page, result: Access, source: str) -> None:
    """Guests down, people across, and the most that each gets; alike guests in one row, as many people side by side as fit."""
    _latched(page, result)
    held = _held(result)
    cells: dict[str, dict[str, list[Entry]]] = {guest: {} for guest in result.guests}
    for name, entries in held.items():
        for each in entries:
            cells[each.guest].setdefault(name, []).append(each)
    alike: dict[tuple[str, ...], list[str]] = {}
    for guest, found in cells.items():
        alike.setdefault(tuple(_most(found.get(name, [])) for name in held), []).append(guest)
    names = {row: blocks.named(guests) for row, guests in alike.items()}
    first = max(map(len, names.values()), default=0)
    heads = [name or "somebody" for name in held]
    for part in _side_by_side(heads, alike, page.width - first):
        rows = [("", *(heads[at] for at in part)), *((names[row], *(row[at] for at in part)) for row in alike)]
        page.table(rows, ["name", *["plain"] * len(part)])
        page.blank()
    if held:
        page.wrapped('The most that each gets; "?" where nobody surely gets in by it, "-" where there is no way in.')
    _end(page, result, source)


def _most(entries: list[Entry]) -> str:
    """The strongest power of some ways in, in a word."""
    for kind, word in SHORT.items():
        found = [each for each in entries if any(power.gives is kind for power in each.way.powers)]
        if found:
            return word if any(each.certain for each in found) else f"{word}?"
    return "-"


def _side_by_side(heads: list[str], rows: Iterable[tuple[str, ...]], room: int) -> Iterator[list[int]]:
    """The columns of each part of the matrix, by their numbers."""
    part: list[int] = []
    used = 0
    for at, head in enumerate(heads):
        width = 2 + max(len(head), *(len(row[at]) for row in rows))
        if part and used + width > room:
            yield part
            part, used = [], 0
        part.append(at)
        used += width
    if part:
        yield part


def document(result: Access) -> dict[str, Any]:
    """The whole as JSON (docs/json.md)."""
    asked = result.asked
    return {
        "format": "nightlatch/access/1",
        "estate": result.estate or None,
        "at": result.at.isoformat(timespec="seconds"),
        "asked": {
            "who": list(asked.who),
            "keys": list(asked.keys),
            "from": list(asked.places),
            "by": list(asked.services),
            "can": [each.value for each in asked.powers],
        },
        "ways_in": [{"guest": each.guest, "surely": each.certain, **documents.way(each.way)} for each in result.entries],
        "guests": list(result.guests),
        "unread": [{"guest": guest, "because": because} for guest, because in result.unread],
        "on_the_latch": [{"guest": guest, "text": words} for guest, words in result.latched],
        "undecided": [{"guest": guest, **one} for guest, proof in result.undecided for one in documents.evidence([proof])],
    }


def rows(result: Access) -> str:
    """One row for each way in as CSV (RFC 4180)."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(COLUMNS)
    for each in result.entries:
        way = each.way
        row = (
            each.guest,
            way.account,
            " ".join(way.held_by),
            way.service,
            shown_by(way, result.names),
            way.certain.text,
            way.possible.text,
            "; ".join(str(power) for power in way.powers),
            way.seal.words,
            place_of(way),
        )
        writer.writerow([cell(text) for text in row])
    return out.getvalue()
