"""Keeping what is on the latch of a live guest: a fresh connection proves what the change promised, as `enact` proves it."""

from __future__ import annotations

from datetime import datetime

from nightlatch.draft import identities, promises
from nightlatch.estate.model import Estate, GuestSpec
from nightlatch.evidence.extra_paths import ExtraPaths
from nightlatch.faults import PutBackError, RefusedError, work_on
from nightlatch.latch import live, relocation, standing_change
from nightlatch.latch.folder import FolderChange
from nightlatch.latch.live import Pending
from nightlatch.latch.records import CHANGES, PROMISED
from nightlatch.model.outcomes import ChangeState
from nightlatch.ops import identity, seals
from nightlatch.ops.enact import Confirmation, LiveChange, followed_address, followed_port, owner
from nightlatch.ops.seals import SealProof
from nightlatch.ops.survey import chosen, client_for, more_of, survey_live
from nightlatch.readings import guest as readings
from nightlatch.transports import targets
from nightlatch.transports.shell import Shell
from nightlatch.transports.ssh import Client, Ssh

__all__ = ["keep"]


def keep(estate: Estate, guest: str, at: datetime, change: str = "", *, client: Client | None = None) -> LiveChange:
    """Keep what is on the latch of a live guest, by a fresh connection that reads it again; `at` is now, aware.

    Raises RefusedError when nothing is on the latch, or another change than `change`.
    """
    spec = _live_spec(estate, guest)
    with client_for(client) as using, work_on(guest):
        shell = relocation.answering(spec, targets.of_guest(spec, using))
        shell, port = relocation.by_stated_port(estate, shell)
        waiting = _waiting(shell, change)
        changed, seen, fresh = _proved_again(estate, spec, shell, waiting, at)
        outcome = live.decide(shell, waiting.change, "keep", owner())
        if not outcome.kept:
            raise PutBackError(f"{outcome.words}, before it could be kept", guest=guest)
        there = shell.address.host if isinstance(shell, Ssh) and shell.address.host != spec.via.host else ""
        followed = followed_address(estate, guest, spec.via.host, there) if there else ""
        followed = followed or (identity.follow(estate, guest, fresh) if fresh else "")
        followed = followed or (followed_port(estate, guest, spec.via.port or 22, port) if port else "")
        return LiveChange(changed, ChangeState.KEPT, seen, (), there, followed, port, fresh)


def _proved_again(
    estate: Estate, spec: GuestSpec, shell: Shell, waiting: Pending, at: datetime
) -> tuple[FolderChange, Confirmation, tuple[str, ...]]:
    """The change on the latch, this connection's proof of it, and host keys that it made. Raises RefusedError where something
    that was promised does not hold; the change is left on the latch then."""
    place = f"{CHANGES}/{waiting.change}"
    more = more_of(estate, spec) | ExtraPaths(folders=(place,))
    now = survey_live(shell, more)
    found = standing_change.read(now, waiting.change, PROMISED)
    missing = [each.path for each in found.kept if each.path not in now.entries]
    if missing:
        now = survey_live(shell, more | ExtraPaths(tuple(missing)))
    problems = promises.unlike({each.path: each.after for each in found.kept}, now)
    shown: tuple[SealProof, ...] = ()
    if not problems:  # what somebody else has changed can't be taken back in memory
        promise = found.promise(now)
        shown = seals.shown(shell, promise.before, now, at)
        problems = [*promises.broken(estate, promise, now, at), *filter(None, map(seals.problem, shown))]
    if problems:
        wait = f"within {waiting.seconds} s" if waiting.seconds is not None and waiting.seconds > 0 else "in time"
        raise RefusedError(
            "\n".join(
                [
                    "a fresh connection found that it does not hold, so it was not kept:",
                    *(f"  {each}" for each in problems),
                    f"  the guest takes it back by itself {wait}; nightlatch undo takes it back at once",
                ]
            ),
            guest=spec.name,
        )
    proven, unproven = promises.places(estate, now)
    seen = Confirmation(spec.name, waiting.change, now.told.came.source, (), tuple(proven), tuple(unproven), shown)
    paths = tuple(each.path for each in found.kept)
    fresh = [key.fingerprint for key in readings.read(now).host_keys] if identities.new_host_keys(found.acts) else []
    done = FolderChange(spec.name, waiting.change, paths, (), tuple(map(str, (*found.accounts, *found.acts))))
    return done, seen, tuple(fresh)


def _live_spec(estate: Estate, guest: str) -> GuestSpec:
    spec = chosen(estate, [guest])[0]
    if not spec.via.is_live:
        raise RefusedError(f"{guest} is not a live guest: what is enacted there is kept at once")
    return spec


def _waiting(shell: Shell, change: str) -> Pending:
    told = live.ask(shell)
    if told.pending is None or (change and told.pending.change != change):
        last = next((words for name, words in told.outcomes if not change or name == change), "")
        raise RefusedError(
            f"no {'such ' if change else ''}change is on the latch" + (f" ({last})" if last else ""), guest=shell.guest
        )
    if told.pending.unread:
        raise RefusedError(f"change {told.pending.change}: {told.pending.unread}", guest=shell.guest)
    return told.pending
