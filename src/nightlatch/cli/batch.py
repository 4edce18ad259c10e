"""Enacting drafts, one guest after the other, and reporting the outcome of each."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import UTC, datetime

from nightlatch.estate.model import Estate, ViaKind
from nightlatch.faults import NightlatchError
from nightlatch.latch import live
from nightlatch.latch.folder import changes, new_change_id
from nightlatch.model.outcomes import ChangeState
from nightlatch.ops.enact import Consent, Decide, LiveChange, enact, pending
from nightlatch.ops.giving import HandOver
from nightlatch.report import change_text
from nightlatch.report.page import Page
from nightlatch.report.safe import in_one_line
from nightlatch.transports.ssh import Client


def enact_all(
    sheet: Page,
    estate: Estate,
    order: Sequence[str],
    at: datetime,
    client: Client,
    seconds: int,
    decide: Decide,
    unguarded: bool,
    source: str,
    agreed: Collection[Consent] = (),
    hand_over: HandOver | None = None,
) -> int:
    """Change the guests in this order; the first that fails stops it. Returns the exit code."""
    change = new_change_id(datetime.now(UTC))
    for number, name in enumerate(order):
        try:
            done = enact(
                estate,
                name,
                at,
                change,
                client=client,
                seconds=seconds,
                decide=decide,
                unguarded=unguarded,
                agreed=agreed,
                hand_over=hand_over,
            )
        except NightlatchError as error:
            sheet.wrapped(in_one_line(error.words), label=name, style="high")
            rest = order[number + 1 :]
            if rest:
                sheet.wrapped(f"Stopped here; nothing was begun on {', '.join(rest)}.")
            return error.exit_code
        except KeyboardInterrupt:
            sheet.wrapped("interrupted before anything was begun there; nothing was changed", label=name, style="high")
            return 130
        latched(sheet, done, source)
    return 0


def latched(sheet: Page, done: LiveChange, source: str) -> None:
    """Prints the outcome of a change on one guest."""
    if done.confirmation is None:
        change_text.enacted(sheet, done.changed, source)
    else:
        change_text.latched(
            sheet,
            done.changed,
            done.outcome,
            done.confirmation,
            source,
            moved_to=done.moved_to,
            followed=done.followed,
            port=done.port,
            host_keys=done.host_keys,
            keys=done.keys,
        )


def undone(sheet: Page, done: LiveChange) -> int:
    """Prints the outcome of taking a change back; returns the exit code."""
    if done.outcome is ChangeState.PUT_BACK:
        change_text.undone(sheet, done.changed, done.followed)
        return 5 if done.changed.skipped else 0
    sheet.wrapped(f"change {done.changed.change} stands: it was {done.outcome}", label=done.changed.guest, style="high")
    return 5


def newest(estate: Estate, change: str, client: Client) -> tuple[str, list[str]]:
    """The newest change of all guests, or the one named, and the guests it was made on."""
    kept: dict[str, list[str]] = {
        n: [c.id for c in changes(g.via.path)]
        for n, g in estate.guests.items()
        if g.via.kind is ViaKind.FOLDER and g.via.path.is_dir()
    }
    for name, told in pending(estate, client=client):
        if isinstance(told, str):
            raise NightlatchError(f"{told}\nname the guest to take a change back on with --on", guest=name)
        kept[name] = [told.pending.change] if told.pending is not None else []
        kept[name] += [each for each, words in told.outcomes if live.takes_nothing_back(words)]
    latest = change or max((i for ids in kept.values() for i in ids), default="")
    return latest, [name for name, ids in kept.items() if latest in ids]
