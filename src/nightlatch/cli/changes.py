"""The commands that change guests, and the draft they start from."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from nightlatch.cli import handing, prompts
from nightlatch.cli.options import (
    Duration,
    as_of,
    client_of,
    estate_of,
    estate_with,
    faults,
    form_of,
    kept_evidence,
    now,
    on_guests,
    ssh_config,
)

if TYPE_CHECKING:
    from nightlatch.estate.model import Estate
    from nightlatch.ops.enact import Confirmation, Consent
    from nightlatch.readings.latch import OnLatch
    from nightlatch.transports.ssh import Client


YES = "--yes to have it applied, and kept once it is proved"
YES_BACK = "--yes to have it taken back"


def _latch_bounds() -> tuple[int, int]:
    from nightlatch.ops.enact import LONGEST, SHORTEST

    return SHORTEST, LONGEST


ON_THE_LATCH = Duration("a change can be on the latch", _latch_bounds)
latch_time = click.option(
    "--for",
    "seconds",
    type=ON_THE_LATCH,
    default="5m",
    metavar="TIME",
    help="How long a live guest waits before it takes the change back (5m).",
)


@click.command()
@click.argument("source", type=click.Path(path_type=Path), default=Path("estate.yaml"))
@on_guests
@click.option("--script", is_flag=True, help="Print one guest's change as a script for its console.")
@click.option("--check", "checking", is_flag=True, help="Exit with 1 if there is anything to do.")
@kept_evidence
@latch_time
@form_of
@as_of
@ssh_config
def draft(
    source: Path,
    guests: tuple[str, ...],
    script: bool,
    checking: bool,
    evidence: Path | None,
    seconds: int,
    form: str,
    as_of: datetime | None,
    config: Path | None,
) -> None:
    """Work out the fewest changes that close the differences, and prove them. Changes nothing.

    With --script the whole change of one guest is printed as a readable sh script, with its check, its timer and its
    guard against a restart, to be run there by hand. A guest without an SSH server
    gets one that way, open to management access only.
    """
    with faults(), client_of(config) as client:
        estate = estate_with(source, evidence)
        if script:
            _print_script(estate, guests, seconds, now(as_of), client)
            return
        proved, refused, pending = _proved(estate, guests, now(as_of), client)
        if form == "json":
            from nightlatch.report import machine

            click.echo(machine.dumps(machine.drafts(estate.name, proved, refused, pending)))
        else:
            _show_drafts(proved, refused, pending)
            _show_next(proved, estate, source)
    found = any(each.draft.does for each in proved)
    raise SystemExit(4 if refused else 1 if checking and found else 0)


def _print_script(estate: Estate, guests: tuple[str, ...], seconds: int, at: datetime, client: Client) -> None:
    from nightlatch.faults import NightlatchError, UnreadableError
    from nightlatch.ops.script import change_script
    from nightlatch.ops.survey import survey

    names = guests or tuple(estate.guests)
    if len(names) != 1:
        raise NightlatchError("a script is for one guest: name it with --on")
    (found,) = survey(estate, list(names), client=client)
    if found.snapshot is None:
        raise UnreadableError(found.problem, guest=found.guest)
    text = change_script(estate, found.snapshot, at, seconds=seconds)
    if text:
        click.echo(text.encode("utf-8", "surrogateescape"), nl=False)
    else:
        click.echo(f"{names[0]}: nothing to do", err=True)


def _proved(
    estate: Estate, guests: tuple[str, ...], at: datetime, client: Client
) -> tuple[list[Any], dict[str, str], dict[str, OnLatch]]:
    """Proved drafts, guests without one and why, and what is on the latch of guests."""
    from nightlatch.draft.plan import draft_context
    from nightlatch.faults import RefusedError, UnreadableError
    from nightlatch.ops.draft import proved_draft
    from nightlatch.ops.survey import survey
    from nightlatch.readings import latch

    proved, refused, pending = {}, {}, {}
    shared = draft_context(estate)
    for each in survey(estate, list(guests) or None, client=client):
        if each.snapshot is None:
            refused[each.guest] = each.problem
            continue
        waiting = latch.read(each.snapshot)
        if waiting is not None:
            pending[each.guest] = waiting
        try:
            proved[each.guest] = proved_draft(estate, each.snapshot, at, shared=shared)
        except (RefusedError, UnreadableError) as error:
            refused[each.guest] = error.words
    return [proved[name] for name in estate.guests if name in proved], refused, pending


def _show_drafts(proved: list[Any], refused: dict[str, str], pending: dict[str, OnLatch]) -> None:
    from nightlatch.report import change_text, page
    from nightlatch.report.safe import in_one_line

    sheet = page.Page(page.console())
    change_text.pending(sheet, pending)
    for each in proved:
        if each.draft.does or each.draft.left:
            change_text.draft(sheet, each)
            sheet.blank()
    quiet = [e.draft.guest for e in proved if not e.draft.does and not e.draft.left]
    if quiet:
        sheet.wrapped(", ".join(quiet) + ": nothing to do.", style="good")
    for guest, because in refused.items():
        sheet.wrapped(in_one_line(because), label=guest, style="high")


def _show_next(proved: list[Any], estate: Estate, source: Path) -> None:
    """Prints the next command: enact, or the script for guests that no connection changes, and for services that don't run."""
    from nightlatch.faults import RefusedError
    from nightlatch.ops.enact import NOT_THERE
    from nightlatch.ops.script import service_steps
    from nightlatch.report import page

    sheet = page.Page(page.console())
    by_hand = []
    for each in proved:
        name = each.draft.guest
        try:
            service = service_steps(each.before)
        except RefusedError as error:
            sheet.wrapped(str(error), style="high")
            continue
        if service:
            sheet.wrapped(f"{name}: its service: {'; '.join(map(str, service))}.", style="medium")
        if service or (each.draft.does and estate.guests[name].via.kind in NOT_THERE):
            by_hand.append(name)
    if any(e.draft.does and e.draft.guest not in by_hand for e in proved):
        sheet.line((f"Next: nightlatch enact {source}", "next"))
    for name in by_hand:
        sheet.line((f"Next: nightlatch draft {source} --on {name} --script", "next"), "   to be run at its console")


@click.command()
@click.argument("source", type=click.Path(path_type=Path), default=Path("estate.yaml"))
@on_guests
@click.option("--dry-run", is_flag=True, help="Show what would be done, and in which order; do nothing.")
@click.option("--yes", is_flag=True, help="Don't ask; keep what a fresh connection has proved.")
@click.option("--leave", is_flag=True, help="Leave it on the latch, for nightlatch keep or undo later.")
@latch_time
@click.option("--install", is_flag=True, help="Install the packages that it asks for; that can't be taken back.")
@click.option(
    "--new-host-keys", is_flag=True, help="Make the new host keys of a guest that was copied; the old ones are gone then."
)
@click.option("--unseen-keys", is_flag=True, help="Close passwords though no key of their accounts was seen to work.")
@click.option(
    "--passwords",
    "passwords",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Write passwords that it makes to this new file, which only you may read; else they are shown once.",
)
@click.option(
    "--no-boot-guard",
    "unguarded",
    is_flag=True,
    help="Go on where nothing could take the change back after a restart of the guest.",
)
@as_of
@ssh_config
def enact(
    source: Path,
    guests: tuple[str, ...],
    dry_run: bool,
    yes: bool,
    leave: bool,
    seconds: int,
    install: bool,
    new_host_keys: bool,
    unseen_keys: bool,
    passwords: Path | None,
    unguarded: bool,
    as_of: datetime | None,
    config: Path | None,
) -> None:
    """Survey, draft and prove again, show the difference, and apply it. Copies are kept on the guest for undo.

    A live guest takes the change back by itself unless a fresh connection proves management access and it is kept in
    time. Several guests are changed one after the other: those labelled test first, jump hosts last; the first failure
    stops it.
    """
    with faults(), client_of(config) as client:
        from nightlatch.cli.batch import enact_all
        from nightlatch.ops.enact import Consent, in_order, pending_says
        from nightlatch.report import change_text, page
        from nightlatch.report.safe import in_one_line

        at = now(as_of)
        estate = estate_of(source)
        hand_over = handing.taker(passwords)
        proved, refused, pending = _proved(estate, guests, at, client)
        sheet = page.Page(page.console())
        if not dry_run and pending:
            proved = [each for each in proved if each.draft.guest not in pending]
            refused |= {guest: pending_says(each) for guest, each in pending.items()}
        doing = {each.draft.guest: each for each in proved if each.draft.does}
        order = in_order(estate, list(doing), client)
        if dry_run:
            _show_drafts(proved, refused, pending)
            if any(each.draft.does for each in proved):
                sheet.line((f"Next: nightlatch enact {source}", "next"))
            if len(order) > 1:
                sheet.wrapped(f"In this order: {', '.join(order)}.")
            raise SystemExit(4 if refused else 0)
        for name in order:
            change_text.draft(sheet, doing[name])
            sheet.blank()
        for guest, because in refused.items():
            sheet.wrapped(in_one_line(because), label=guest, style="high")
        code = 4 if refused else 0
        if not doing:
            sheet.line("Nothing was changed." if refused else "Nothing to change.")
            raise SystemExit(code)
        if not yes:
            _ask(f"Apply this to {', '.join(order)}?", YES)
        agreed = _agreed(doing, yes, install, new_host_keys) | ({Consent.UNSEEN_KEYS} if unseen_keys else set())
        choice = _choice(yes, leave)
        done = enact_all(sheet, estate, order, at, client, seconds, choice, unguarded, str(source), agreed, hand_over)
        code = max(code, done)
    raise SystemExit(code)


def _agreed(doing: dict[str, Any], yes: bool, install: bool, new_host_keys: bool) -> set[Consent]:
    """A yes of its own for what can't be taken back, asked once; nobody is asked with --yes, so that it is refused there."""
    from nightlatch.draft import identities, services
    from nightlatch.ops.enact import Consent

    packages = {f"{each.package} on {name}" for name, p in doing.items() for each in services.installs(p.draft.acts)}
    copies = {name for name, p in doing.items() if identities.new_host_keys(p.draft.acts)}
    given = {Consent.PACKAGES: install, Consent.IDENTITY: new_host_keys}
    for what, wanted, question, option in (
        (Consent.PACKAGES, packages, "Install {}? That can't be taken back.", "--install to have it installed"),
        (
            Consent.IDENTITY,
            copies,
            "Make new host keys for {}? Clients that know the old ones will warn.",
            "--new-host-keys to have them made",
        ),
    ):
        if wanted and not given[what] and not yes:
            given[what] = prompts.agreed(question.format(", ".join(sorted(wanted))), option)
    return {what for what, is_given in given.items() if is_given}


def _choice(yes: bool, leave: bool):  # type: ignore[no-untyped-def]
    """What to do with a change that a fresh connection has looked at: leave it, keep it, or ask."""

    def choose(seen: Confirmation) -> bool | None:
        if seen.problems:
            return False
        if leave:
            return None
        return yes or prompts.agreed(_question(seen), YES, default=True)

    return choose


def _question(seen: Confirmation) -> str:
    proven = f"{seen.guest}: a fresh connection from {seen.source or 'here'} comes in, and all that was proved holds"
    missing = f"; not proven from {', '.join(seen.unproven)}" if seen.unproven else ""
    return f"{proven}{missing}. Keep it?"


def _ask(question: str, without: str) -> None:
    try:
        agreed = prompts.agreed(question, without)
    except KeyboardInterrupt:
        click.echo("\nNothing was changed.", err=True)
        raise SystemExit(130) from None
    if not agreed:
        click.echo("Nothing was changed.")
        raise SystemExit(0)


@click.command()
@click.argument("source", type=click.Path(path_type=Path), default=Path("estate.yaml"))
@on_guests
@click.option("--change", default="", help="Only this change.")
@ssh_config
def keep(source: Path, guests: tuple[str, ...], change: str, config: Path | None) -> None:
    """Keep what is on the latch, once a fresh connection has proved what the change promised.

    A promise that does not hold is named, and the change stays on the latch until its time is over.

    Without --on, it does so on every live guest that has something on the latch.
    """
    with faults(), client_of(config) as client:
        from nightlatch.cli.batch import latched
        from nightlatch.faults import RefusedError
        from nightlatch.ops.enact import pending as pending_changes
        from nightlatch.ops.keep import keep as keep_changes
        from nightlatch.report import page

        estate = estate_of(source)
        sheet = page.Page(page.console())
        chosen = list(guests) or [
            n for n, told in pending_changes(estate, client=client) if not isinstance(told, str) and told.pending is not None
        ]
        if not chosen:
            raise RefusedError("nothing is on the latch of any live guest")
        for name in chosen:
            latched(sheet, keep_changes(estate, name, now(None), change, client=client), str(source))


@click.command()
@click.argument("source", type=click.Path(path_type=Path), default=Path("estate.yaml"))
@on_guests
@form_of
@ssh_config
def pending(source: Path, guests: tuple[str, ...], form: str, config: Path | None) -> None:
    """List what is on the latch: where, whose, since when, and how long until the guest takes it back."""
    code = 0
    with faults(), client_of(config) as client:
        from nightlatch.ops.enact import pending as pending_changes
        from nightlatch.report import change_text, machine, page

        told = list(pending_changes(estate_of(source), list(guests) or None, client=client))
        if form == "json":
            click.echo(machine.dumps(machine.pending(told)))
        else:
            change_text.latches(page.Page(page.console()), told, str(source))
        code = 3 if any(isinstance(each, str) for _, each in told) else 0
    raise SystemExit(code)


@click.command()
@click.argument("source", type=click.Path(path_type=Path), default=Path("estate.yaml"))
@on_guests
@click.option("--change", default="", help="This change, not the newest.")
@click.option("--yes", is_flag=True, help="Don't ask; of use where no guest is named.")
@latch_time
@ssh_config
def undo(source: Path, guests: tuple[str, ...], change: str, yes: bool, seconds: int, config: Path | None) -> None:
    """Take the newest change back (or the one named): every byte, mode and owner.

    What is on the latch is taken back at once. A kept change of a live guest is taken back by way of the latch, as long
    as nothing newer touches the same lines. Without --on, the newest change of all guests is taken back wherever it was
    made: the guests are listed first, and you are asked.
    """
    code = 0
    with faults(), client_of(config) as client:
        from nightlatch.cli.batch import newest, undone
        from nightlatch.faults import RefusedError
        from nightlatch.ops.undo import undo as undo_changes
        from nightlatch.report import page

        estate = estate_of(source)
        sheet = page.Page(page.console())
        chosen = list(guests)
        if not chosen:
            change, chosen = newest(estate, change, client)
            if not chosen:
                raise RefusedError("no change is kept on any guest; there is nothing to take back")
            sheet.wrapped(f"Change {change}, the newest, was made on {', '.join(chosen)}.")
            if not yes:
                _ask(f"Take it back on {'all of them' if chosen[1:] else chosen[0]}?", YES_BACK)
        for name in chosen:
            result = undo_changes(estate, name, now(None), change, client=client, seconds=seconds)
            code = max(code, undone(sheet, result))
    raise SystemExit(code)
