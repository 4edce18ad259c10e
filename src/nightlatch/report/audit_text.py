"""Audits as text: guests with holes first, quiet ones in one line, nothing said twice."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import TYPE_CHECKING

from nightlatch.audit.findings import Entrance, Finding, Group, GuestAudit, Proof
from nightlatch.model.grants import GrantKind
from nightlatch.origin import Kind
from nightlatch.report import blocks
from nightlatch.report.blocks import AuditLayout, Block
from nightlatch.report.page import Page
from nightlatch.report.safe import in_one_line

if TYPE_CHECKING:
    from pathlib import Path

    from nightlatch.ops.audit import Audit

LABELS = {
    Group.LATCH: "latch",
    Group.HOLE: "hole",
    Group.SHUT_OUT: "shut out",
    Group.UNDECIDED: "undecided",
    Group.MANAGEMENT: "management",
    Group.HYGIENE: "hygiene",
    Group.WIRE: "wire",
}
MOST_PROOFS = 4
KEPT = {GrantKind.MANAGEMENT.value: "management"}


def count(number: int, one: str, many: str = "") -> str:
    """A number with its noun."""
    return f"{number} {one if number == 1 else many or one + 's'}"


def audit(page: Page, result: Audit, source: str) -> None:
    """A whole audit."""
    if not result.estate:
        for guest in result.guests:
            first_look(page, guest)
        _end_of_look(page, result, source)
        return
    told = blocks.told(result.guests)
    for number, block in enumerate(told.blocks):
        if number:
            page.blank()
        _block(page, block)
    if told.at_home:
        page.blank()
        page.line((source, "name"))
    for finding, guests in told.at_home:
        _finding(page, replace(finding, text=f"{finding.text} It touches {blocks.named(guests)}."))
    if told.quiet:
        page.blank()
        page.wrapped(blocks.named([g.guest for g in told.quiet]) + ": open as granted.", style="good")
        for guest in told.quiet:
            _undecided(page, guest.undecided, f"{guest.guest}: ")
    _waived(page, result)
    _doors(page, result.guests)
    _sum(page, result, told, source)


def _waived(page: Page, result: Audit) -> None:
    accepted: dict[tuple[str, str], list[str]] = {}
    for guest in result.guests:
        for finding in guest.findings:
            if finding.waived:
                accepted.setdefault((finding.check, finding.waived), []).append(guest.guest)
    for (name, because), where in accepted.items():
        guests = blocks.named(list(dict.fromkeys(where)))
        page.wrapped(f"{name} on {guests}: {because}", label="waived", style="place")


def _block(page: Page, block: Block) -> None:
    """Findings that are the same on some guests."""
    if block.unread:
        _head(page, block, "could not be read")
        page.wrapped(in_one_line(block.unread), indent=2, label="unread")
        return
    holes, out = block.count(Group.HOLE), block.count(Group.SHUT_OUT)
    heads = [count(holes, "hole")] if holes else []
    heads += [f"{out} shut out"] if out else []
    rest = len(block.findings) - holes - out
    heads += [f"{rest} more to look at" if heads else count(rest, "thing") + " to look at"] if rest else []
    _head(page, block, ", ".join(heads) + (" on each" if block.guests[1:] and heads else ""))
    for finding in block.findings:
        _finding(page, finding)
    _undecided(page, block.undecided)
    for note in block.notes:
        page.wrapped(note, indent=2, label="note", style="place")


def _head(page: Page, block: Block, text: str) -> None:
    names = blocks.named(block.guests)
    if block.guests[6:]:
        names += f" ({len(block.guests)} guests)"
    if len(names) + len(text) + 3 <= page.width:
        page.line((names, "name"), f"   {text}")
    else:
        page.wrapped(names, style="name")
        page.wrapped(text, indent=2)


def findings(page: Page, found: Iterable[Finding], source: str = "") -> None:
    """Findings of several guests, each guest's together, what lies in the estate file once; a blank line behind each."""
    by_guest: dict[str, list[Finding]] = {}
    at_home: dict[str, list[Finding]] = {}
    for each in found:
        lies_there = each.proofs[:1] and each.proofs[0].origin.kind is Kind.ESTATE
        (at_home.setdefault(each.text, []) if lies_there else by_guest.setdefault(each.guest, [])).append(each)
    for text, same in at_home.items():
        guests = list(dict.fromkeys(each.guest for each in same))
        touched = f" It touches {', '.join(guests)}." if len(guests) > 1 else ""
        by_guest.setdefault(source or same[0].guest, []).append(replace(same[0], text=text + touched))
    for guest, each_of in sorted(by_guest.items(), key=lambda pair: min(f.severity.rank for f in pair[1])):
        page.line((guest, "name"), "   " + count(len(each_of), "thing") + " to look at")
        for each in sorted(each_of, key=lambda f: f.severity.rank):
            _finding(page, each)
        page.blank()


def _finding(page: Page, finding: Finding) -> None:
    page.wrapped(finding.text, indent=2, label=LABELS[finding.group], right=finding.severity.value)
    rows = [(str(p.origin), p.text) for p in finding.proofs[:MOST_PROOFS]]
    page.evidence(rows, indent=13)
    if finding.group is Group.HYGIENE:
        page.line("             ", (f"check {finding.check}", "place"))


def _undecided(page: Page, proofs: Iterable[Proof], whose: str = "") -> None:
    for proof in proofs:
        page.wrapped(f"{whose}{proof.text}", indent=2, label="undecided")
        page.evidence([(str(proof.origin), "")], indent=13)


def _doors(page: Page, guests: Iterable[GuestAudit]) -> None:
    rows = [(g.guest, way) for g in guests for way in g.doors]
    if rows:
        page.blank()
        page.line(("Management and emergency access", "name"), "  (never drafted away)")
    grouped: dict[tuple[str, str, str, str, str], list[str]] = {}
    for guest, way in rows:
        grouped.setdefault((way.kind, way.account, way.shown, way.gives, way.where), []).append(guest)
    for (kind, account, shown, gives, where), names in grouped.items():
        told = (
            f"{account} on {', '.join(names)}: {shown} gives {gives}, from {where}"
            if where != "shut"
            else f"{account} on {', '.join(names)}: shut"
        )
        page.wrapped(told, indent=2, label=KEPT.get(kind, kind))


def _sum(page: Page, result: Audit, told: AuditLayout, source: str) -> None:
    """The last line: counts of everything told, each finding once, however many guests it touches."""
    found = [finding for block in told.blocks for finding in block.findings] + [each for each, _ in told.at_home]
    holes, out = _count_of(told, Group.HOLE), _count_of(told, Group.SHUT_OUT)
    hygiene = sum(each.group is Group.HYGIENE for each in found)
    unsure = sum(each.group is Group.UNDECIDED for each in found)
    unsure += sum(len(block.undecided) for block in told.blocks) + sum(len(guest.undecided) for guest in told.quiet)
    unread = sum(bool(g.unread) for g in result.guests)
    parts = [f"{count(holes[0], 'hole')}{holes[1]}" if holes[0] else "no holes"]
    parts.append(f"{out[0]} shut out{out[1]}" if out[0] else "nobody shut out")
    parts += [count(hygiene, "finding") + " of hygiene"] if hygiene else []
    parts += [f"{unsure} undecided" if unsure else "nothing undecided"]
    parts += [count(unread, "guest") + " not read"] if unread else []
    page.blank()
    if result.left_out:
        text = f"Held against each other: {count(len(result.guests), 'guest')}, not the {result.left_out} that --on leaves out."
        page.wrapped(text, style="place")
    drafted = holes[0] or out[0] or any(each.check.endswith("as-stated") for each in found)
    then = f"nightlatch draft {source}" if drafted else ""
    page.line(", ".join(parts) + ".", *([("   Next: " + then, "next")] if then else []))


def since(page: Page, baseline: Path, new: list[Finding], gone: int) -> None:
    """What is new since a baseline, finding by finding, and how much of it is gone."""
    lost = f"; {gone} of its findings {'is' if gone == 1 else 'are'} gone." if gone else "."
    if not new:
        page.wrapped(f"Nothing is new since {baseline}{lost}", style="good")
        return
    page.wrapped(f"New since {baseline}: {count(len(new), 'finding')}{lost}")
    for each in sorted(new, key=lambda finding: finding.severity.rank):
        page.wrapped(f"{each.guest}: {each.text}", label="new", indent=2, right=each.severity.value)


def _count_of(told: AuditLayout, group: Group) -> tuple[int, str]:
    """How many findings of a group are told, and on how many guests, where these are more."""
    mine = [(block.count(group), block.guests) for block in told.blocks if block.count(group)]
    guests = {name for _, names in mine for name in names}
    several = any(names[1:] for _, names in mine)
    return sum(number for number, _ in mine), f" on {count(len(guests), 'guest')}" if several else ""


def first_look(page: Page, guest: GuestAudit) -> None:
    """One guest without an estate: all ways in, then what is unhygienic."""
    page.line((guest.guest, "name"), f"   {guest.service or 'nothing read'}")
    if guest.ways:
        page.line("Ways in, as the files stand:")
    elif guest.service:
        because = f": {guest.closed}" if guest.closed else ""
        page.wrapped(f"No way in over SSH, as the files stand{because}.")
    for way in guest.ways:
        _way(page, way)
    if guest.findings:
        page.blank()
        for finding in guest.findings:
            _finding(page, finding)
    _undecided(page, guest.undecided)
    for note in guest.notes[:5]:
        page.wrapped(note, indent=2, label="note", style="place")


def _way(page: Page, way: Entrance) -> None:
    page.wrapped(way.text, indent=2, label=way.account)
    page.evidence([(str(p.origin), p.text) for p in way.proofs[:MOST_PROOFS]], indent=15)


def _end_of_look(page: Page, result: Audit, source: str) -> None:
    ways = sum(len(g.ways) for g in result.guests)
    found = sum(len(g.findings) for g in result.guests)
    page.blank()
    page.line(
        f"{count(ways, 'way')} in, {count(found, 'finding')} of hygiene.",
        ("   Next: nightlatch new estate.yaml, to say who should get in", "next"),
    )
