"""Drafts and changes as text: what would be done, what was done, and what waits on the latch."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from nightlatch.audit import names as naming
from nightlatch.draft import diff
from nightlatch.draft.steps import SetAddress, SetRules
from nightlatch.model.outcomes import ChangeState
from nightlatch.report.audit_text import count
from nightlatch.report.page import Page

if TYPE_CHECKING:
    from nightlatch.draft.acts import Act
    from nightlatch.draft.plan import ProvedDraft
    from nightlatch.draft.steps import AnyStep
    from nightlatch.latch.folder import FolderChange
    from nightlatch.latch.live import LatchReport as Answer
    from nightlatch.latch.live import Pending
    from nightlatch.model.account_steps import AccountStep
    from nightlatch.model.steps import ManualTask
    from nightlatch.ops.enact import Confirmation
    from nightlatch.ops.key_proofs import KeyProof
    from nightlatch.ops.seals import SealProof
    from nightlatch.readings.latch import OnLatch


def draft(page: Page, proved: ProvedDraft) -> None:
    """A proved draft: the steps, each file's difference with the findings it answers, and what is left."""
    steps = proved.draft.steps
    acts = proved.draft.acts
    if not proved.draft.does and not proved.draft.left:
        page.line((proved.draft.guest, "name"), "   nothing to do")
        return
    many = len(steps) + len(acts)
    page.line((proved.draft.guest, "name"), "   " + (count(many, "step") if many else "no step"))
    if proved.accounts:
        page.line("  ", ("accounts", "name"))
    _acts(page, proved.accounts)
    told: tuple[str, ...] = ()
    for each in diff.of(proved):
        page.line("  ", (each.path, "name"), f"   {each.note}" if each.note else "")
        for why in each.why if each.why != told else ():
            page.wrapped(why, indent=4, label="because", style="place")
        told = each.why
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
            "Proved: no certain difference from the grants is left but those named here; management and emergency access stay.",
            indent=2,
        )


def _overtaken(page: Page, steps: Sequence[AnyStep]) -> None:
    """The guest's own rules that new ones go ahead of, line by line."""
    late = dict.fromkeys(proof for step in steps if isinstance(step, SetRules) for proof in step.ahead_of)
    if late:
        text = "The new rules come before these of its own, which no longer act on the callers that they let in:"
        page.wrapped(text, indent=2, label="ahead of", style="medium")
        page.evidence([(str(proof.origin), proof.text) for proof in late], indent=13)


def _acts(page: Page, acts: Sequence[Act | AccountStep]) -> None:
    """Print the acts on accounts, or beside files, each reason once."""
    told = ""
    for act in acts:
        if act.why != told:
            page.wrapped(act.why, indent=4, label="because", style="place")
        told = act.why
        page.line("      ", (str(act), "add"))


def left(page: Page, rest: Sequence[ManualTask]) -> None:
    """Print the differences that no step closes."""
    for each in rest:
        page.wrapped(f"{each.text} By hand: {each.hand}.", indent=2, label="left")


def enacted(page: Page, changed: FolderChange, source: str) -> None:
    """Print the changes of enact on one guest."""
    if not changed.paths and not changed.acts:
        page.line((changed.guest, "name"), "   nothing to change")
        return
    page.line((changed.guest, "name"), f"   changed {_done(changed)}, change {changed.change}")
    for each in (*changed.paths, *changed.acts):
        page.line("  ", each)
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
    host_keys: Sequence[str] = (),
    keys: Sequence[KeyProof] = (),
) -> None:
    """Print the outcome of a change on the latch of a live guest: where it was proven from, and where a moved guest is now."""
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
    for proof in seen.seals if outcome is not ChangeState.PUT_BACK else ():
        page.wrapped(_sealed(proof), indent=2)
    if keys and outcome is not ChangeState.PUT_BACK:
        page.line("  Keys that stand in for passwords:")
        for key in keys:
            page.wrapped(f"{key.account} by the key {key.key}: {key.seen}", indent=4)
    _theirs(page, changed, "meanwhile")
    if moved_to:
        page.wrapped(f"It is at {moved_to} now.", indent=2)
    if port and outcome is ChangeState.KEPT:
        page.wrapped(f"Connections come in by port {port} now; nightlatch draft closes what else is open.", indent=2)
    if followed:
        page.wrapped(followed + ".", indent=2)
    if host_keys:
        page.wrapped("Clients that know its old host keys warn: tell their people these fingerprints.", indent=2)
    takes_back = bool(changed.paths) or len(changed.acts) > bool(host_keys)
    if (
        outcome is ChangeState.KEPT and not moved_to and takes_back
    ):  # what was given by lease before can't be given back over a connection
        page.line("  ", (f"To take it back: nightlatch undo {source} {guest}", "next"))
    elif outcome is ChangeState.ON_THE_LATCH:
        page.line("  ", (f"Now decide: nightlatch keep {source} {guest}, or nightlatch undo {source} {guest}", "next"))


def latches(page: Page, told: Sequence[tuple[str, Answer | str]], source: str) -> None:
    """Print the changes on the latch of each guest."""
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
    """Print the changes on the latch of guests, before anything that goes back with them."""
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
        page.wrapped(
            "No timer runs for it: the connection that began it was cut. nightlatch undo clears it.", indent=2, style="high"
        )
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


def _sealed(proof: SealProof) -> str:
    """How a service is sealed on the wire, by a look from here."""
    if not proof.looked:
        return f"How {proof.service} on port {proof.port} is sealed was not looked at from here: nightlatch reach does."
    seen = " and ".join(each.words for each in proof.seen) or "nothing"
    return f"On the wire {proof.service} on port {proof.port} is served over {seen}{', as was proved' if proof.holds else ''}."


def _theirs(page: Page, changed: FolderChange, when: str) -> None:
    """Print the paths that somebody else had changed."""
    for path in changed.merged:
        page.line("  ", (path, "medium"), f"   touched by somebody else {when}: our lines went back, theirs stay")
    for path in changed.whole:
        kept = f"theirs is kept in /var/lib/nightlatch/changes/{changed.change}"
        page.line("  ", (path, "medium"), f"   as it was, for sshd refused what somebody else had made of it; {kept}")
    for path in changed.skipped:
        page.line("  ", (path, "high"), f"   changed by somebody else {when}: left as it is")


def undone(page: Page, changed: FolderChange, followed: str = "") -> None:
    """Print the changes of undo on one guest, and those in the estate file."""
    counted = f": {_done(changed)}" if changed.paths or changed.acts else ""
    page.line((changed.guest, "name"), f"   change {changed.change} taken back{counted}")
    for path in changed.paths:
        page.line("  ", path, "   removed: it was not there before" if path in changed.removed else "   as it was")
    for act in changed.acts:
        page.line("  ", act)
    _theirs(page, changed, "since")
    if followed:
        page.wrapped(f"{followed}.", indent=2)
