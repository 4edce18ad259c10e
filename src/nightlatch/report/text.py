"""Audits, drafts and changes as text: guests with holes first, quiet ones in one line, nothing said twice."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from nightlatch.audit import names as naming
from nightlatch.audit.findings import Entrance, Finding, Group, GuestAudit, Proof
from nightlatch.draft import diff
from nightlatch.draft.steps import SetAddress, SetRules
from nightlatch.model.grants import GrantKind
from nightlatch.model.outcomes import ChangeState
from nightlatch.origin import Kind
from nightlatch.report import blocks
from nightlatch.report.blocks import AuditLayout, Block
from nightlatch.report.page import Page
from nightlatch.report.safe import in_one_line

if TYPE_CHECKING:
    from nightlatch.draft.acts import Act
    from nightlatch.draft.plan import ProvedDraft
    from nightlatch.draft.steps import AnyStep
    from nightlatch.latch.folder import FolderChange
    from nightlatch.latch.live import LatchReport as Answer
    from nightlatch.latch.live import Pending
    from nightlatch.model.steps import ManualTask
    from nightlatch.ops.audit import Audit
    from nightlatch.ops.enact import Confirmation
    from nightlatch.readings.latch import OnLatch

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
    """What is the same on some guests, with what it comes to on each."""
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
    """What is told comes to; each thing once, however many guests it touches."""
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


def draft(page: Page, proved: ProvedDraft) -> None:
    """A proved draft: the steps, each file's difference with the findings it answers, and what is left."""
    steps = proved.draft.steps
    acts = proved.draft.acts
    if not proved.draft.does and not proved.draft.left:
        page.line((proved.draft.guest, "name"), "   nothing to do")
        return
    many = len(steps) + len(acts)
    page.line((proved.draft.guest, "name"), "   " + (count(many, "step") if many else "no step"))
    for each in diff.of(proved):
        page.line("  ", (each.path, "name"), f"   {each.note}" if each.note else "")
        for why in each.why:
            page.wrapped(why, indent=4, label="because", style="place")
        for line in each.lines:
            style = {"+": "add", "-": "take"}.get(line[:1], "place")
            page.line("      ", (line, style))
    _acts(page, acts)
    _overtaken(page, steps)
    left(page, proved.draft.left)
    moves = [step for step in steps if isinstance(step, SetAddress)]
    if moves and proved.before.is_live:
        page.wrapped(
            f"{moves[0].interface} moves while the guest runs: the connection ends, and a fresh one over the new address has to "
            "find it before anything is kept. The estate file follows then.",
            label="moves",
            indent=2,
        )
    if proved.draft.does:
        page.wrapped(
            "Proved: what is named here is all that is certainly left open or shut; management and emergency access stay.",
            indent=2,
        )


def _overtaken(page: Page, steps: Sequence[AnyStep]) -> None:
    """The guest's own rules that new ones go ahead of, line by line."""
    late = dict.fromkeys(proof for step in steps if isinstance(step, SetRules) for proof in step.ahead_of)
    if late:
        text = "The new rules come before these of its own, which no longer act on the callers that they let in:"
        page.wrapped(text, indent=2, label="ahead of", style="medium")
        page.evidence([(str(proof.origin), proof.text) for proof in late], indent=13)


def _acts(page: Page, acts: Sequence[Act]) -> None:
    """What is done beside files, each reason once."""
    told = ""
    for act in acts:
        if act.why != told:
            page.wrapped(act.why, indent=4, label="because", style="place")
        told = act.why
        page.line("      ", (str(act), "add"))


def left(page: Page, rest: Sequence[ManualTask]) -> None:
    """What no step closes."""
    for each in rest:
        page.wrapped(f"{each.text} By hand: {each.hand}.", indent=2, label="left")


def enacted(page: Page, changed: FolderChange, source: str) -> None:
    """What enact did on one guest."""
    if not changed.paths:
        page.line((changed.guest, "name"), "   nothing to change")
        return
    page.line((changed.guest, "name"), f"   changed {count(len(changed.paths), 'path')}, change {changed.change}")
    for path in changed.paths:
        page.line("  ", path)
    page.wrapped("No daemon checked the result: this guest is a folder. Run sshd -t in it before it is used.", indent=2)
    page.line("  ", (f"To take it back: nightlatch undo {source} --on {changed.guest}", "next"))


def latched(
    page: Page,
    changed: FolderChange,
    outcome: ChangeState,
    seen: Confirmation,
    source: str,
    *,
    moved_to: str = "",
    followed: str = "",
    port: int = 0,
) -> None:
    """What a change on the latch of a live guest came to, from where it was proven, and where the guest is now if it moved."""
    guest = f"--on {changed.guest}"
    paths = f", {_done(changed)}" if changed.paths or changed.acts else ""
    page.line((changed.guest, "name"), f"   {outcome}: change {seen.change}{paths}")
    for each in (*changed.paths, *changed.acts):
        page.line("  ", each)
    if outcome is not ChangeState.PUT_BACK:
        here = f" ({', '.join(seen.proven)})" if seen.proven else ""
        page.wrapped(f"Proven by a fresh connection from {seen.source or 'this machine'}{here}.", indent=2)
    if seen.unproven and outcome is not ChangeState.PUT_BACK:
        page.wrapped(
            f"Not proven from {', '.join(seen.unproven)}: a connection from here says nothing of the way there.",
            indent=2,
        )
    _theirs(page, changed, "meanwhile")
    if moved_to:
        page.wrapped(f"It is at {moved_to} now.", indent=2)
    if port and outcome is ChangeState.KEPT:
        page.wrapped(f"Connections come in by port {port} now; nightlatch draft closes what else is open.", indent=2)
    if followed:
        page.wrapped(followed + ".", indent=2)
    if outcome is ChangeState.KEPT and not moved_to:  # what was given by lease before can't be given back over a connection
        page.line("  ", (f"To take it back: nightlatch undo {source} {guest}", "next"))
    elif outcome is ChangeState.ON_THE_LATCH:
        page.line("  ", (f"Now decide: nightlatch keep {source} {guest}, or nightlatch undo {source} {guest}", "next"))


def latches(page: Page, told: Sequence[tuple[str, Answer | str]], source: str) -> None:
    """What is on the latch of each guest."""
    quiet: list[str] = []
    for guest, each in told:
        if isinstance(each, str):
            page.wrapped(each, label=guest, style="high")
        elif each.pending is None:
            quiet.append(guest)
        else:
            _waiting(page, each.pending, source)
    if quiet:
        page.wrapped(f"{', '.join(quiet)}: nothing on the latch.", style="good")
    for guest, each in told:
        last = each.outcomes[:1] if not isinstance(each, str) else ()
        for change, words in last:
            page.wrapped(f"last change {change}: {words}", label=guest, style="place")
    if not told:
        page.line("No guest of this estate is a live one; what is enacted in a folder is kept at once.")


def pending(page: Page, found: Mapping[str, OnLatch]) -> None:
    """What is on the latch of guests, before anything that goes back with it."""
    for guest, each in found.items():
        page.wrapped(f"A change is {naming.pending(each)}: nightlatch keep.", label=guest, style="high")
    if found:
        page.wrapped("What follows holds only until then.")
        page.blank()


def _waiting(page: Page, each: Pending, source: str) -> None:
    since = f", since {_time(each.since)}" if each.since is not None else ""
    page.line(
        (each.guest, "name"),
        f"   on the latch: change {each.change or 'without a name'}, by {each.who or 'somebody'}{since}",
    )
    if each.seconds is not None and each.seconds >= 0 and each.timer and not each.stuck:
        page.wrapped(f"The guest takes it back in {_time(each.seconds)}, unless it is kept.", indent=2)
    elif each.stuck:
        page.wrapped(f"{each.stuck}; all else was put back. The guest tries on until that is, too.", indent=2, style="high")
    elif each.timer:
        page.wrapped("Its time is over; the guest is taking it back.", indent=2)
    else:
        page.wrapped("No timer runs for it: whoever began it was cut off. nightlatch undo clears it.", indent=2, style="high")
    if each.unread:
        page.wrapped(f"It can't be kept or taken back from here: {each.unread}.", indent=2, style="high")
        return
    if each.stuck:
        page.line("  ", (f"Once that is mended: nightlatch pending {source} --on {each.guest}", "next"))
        return
    page.line("  ", (f"nightlatch keep {source} --on {each.guest}, or nightlatch undo {source} --on {each.guest}", "next"))


def _time(seconds: int) -> str:
    if seconds < 90:
        return f"{seconds} s"
    return f"{seconds // 60} min" + (f" {seconds % 60} s" if seconds % 60 and seconds < 3600 else "")


def _done(changed: FolderChange) -> str:
    """How many paths, and acts beside them."""
    parts = [count(len(changed.paths), "path")] if changed.paths or not changed.acts else []
    return " and ".join([*parts, *([count(len(changed.acts), "act")] if changed.acts else [])])


def _theirs(page: Page, changed: FolderChange, when: str) -> None:
    """What somebody else had changed."""
    for path in changed.merged:
        page.line("  ", (path, "medium"), f"   touched by somebody else {when}: our lines went back, theirs stay")
    for path in changed.whole:
        kept = f"theirs is kept in /var/lib/nightlatch/changes/{changed.change}"
        page.line("  ", (path, "medium"), f"   as it was, for sshd refused what somebody else had made of it; {kept}")
    for path in changed.skipped:
        page.line("  ", (path, "high"), f"   changed by somebody else {when}: left as it is")


def undone(page: Page, changed: FolderChange, followed: str = "") -> None:
    """What undo did on one guest, and what the estate file took over of it."""
    counted = f": {_done(changed)}" if changed.paths or changed.acts else ""
    page.line((changed.guest, "name"), f"   change {changed.change} taken back{counted}")
    for path in changed.paths:
        page.line("  ", path, "   removed: it was not there before" if path in changed.removed else "   as it was")
    for act in changed.acts:
        page.line("  ", act)
    _theirs(page, changed, "since")
    if followed:
        page.wrapped(f"{followed}.", indent=2)
