"""Make a draft for one guest, and prove it.

Candidates are applied in memory and the whole reasoning runs again; one is kept only when fewer certain differences are
left. At the end every step that the proof does not need is dropped, so that the fewest remain.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from datetime import datetime

from nightlatch.access.address_spaces import AddressSpaces
from nightlatch.access.arrivals import ways_to
from nightlatch.access.desired_state import ssh_ports
from nightlatch.access.differences import Hole, ShutOut, find_holes, find_shut_out
from nightlatch.access.grants import address_spaces, expand, seen_over
from nightlatch.access.paths import GuestAccess, guest_access
from nightlatch.access.waivers import acceptances, holes_beside, shut_out_beside
from nightlatch.audit import cause_words, holes, shut_out
from nightlatch.audit.holes import HoleGroup, kind_of
from nightlatch.audit.names import Names, comments_of, names_of
from nightlatch.audit.obstacles import ObstacleSearch
from nightlatch.draft import (
    addresses,
    filter_steps,
    identities,
    kept_door,
    leavers,
    on_the_way,
    ports,
    revocations,
    rotation,
    services,
)
from nightlatch.draft.acts import Act, Disable, LabelPort, LoadRules, Stop
from nightlatch.draft.left import left_of
from nightlatch.draft.order import Order
from nightlatch.draft.steps import AnyStep, SetRules, StepError, Steps, apply_all
from nightlatch.draft.work import Work
from nightlatch.estate.model import Estate, ViaKind
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import RefusedError
from nightlatch.model.account_steps import AccountStep, AddAccount
from nightlatch.model.grants import Grant, GrantKind, seen_by_guest
from nightlatch.model.paths import AccessPath
from nightlatch.model.sources import COMMON, Sources, joined, without
from nightlatch.model.steps import MakeFolder, ManualTask
from nightlatch.net.addresses import NO_ADDRESS
from nightlatch.readings import guest as readings
from nightlatch.services.base import Kinds
from nightlatch.services.base import ServerState as Serving
from nightlatch.services.table import KINDS

MOST_ROUNDS = 60


@dataclass(frozen=True)
class Draft:
    """The steps for one guest, in order, and what is left undone. Not proved yet.

    `returns` names the kept change that these steps take back; such a draft need not close anything. `acts` are done
    once the files are in place.
    """

    guest: str
    steps: tuple[AnyStep, ...]
    left: tuple[ManualTask, ...] = ()
    returns: str = ""
    acts: tuple[Act, ...] = ()

    @property
    def does(self) -> bool:
        """Whether there is anything to do."""
        return bool(self.steps or self.acts)


@dataclass(frozen=True)
class ProvedDraft:
    """A draft whose effect was worked out on `before` and found good. Only `prove` makes one, and door.prove for a first door."""

    draft: Draft
    before: Snapshot
    after: Snapshot
    at: datetime
    _token: object = field(default=None, repr=False, compare=False)

    def __post_init__(self) -> None:
        if self._token is not _PROVED:
            raise TypeError("only prove() makes a ProvedDraft")

    @property
    def changed(self) -> tuple[str, ...]:
        """The paths that differ, sorted; accounts are no paths of a change (`accounts`)."""
        names = {step.path for step in self.draft.steps if not isinstance(step, AccountStep)}
        return tuple(sorted(p for p in names if self.before.entries.get(p) != self.after.entries.get(p)))

    @property
    def accounts(self) -> tuple[AccountStep, ...]:
        """The steps on accounts, in order."""
        return tuple(step for step in self.draft.steps if isinstance(step, AccountStep))

    @property
    def acted(self) -> tuple[str, ...]:
        """What is done beside files, in words."""
        return tuple(map(str, (*self.accounts, *self.draft.acts)))

    @property
    def does(self) -> bool:
        """Whether it changes anything: a path, an account, or something beside files."""
        return bool(self.changed or self.accounts or self.draft.acts)


_PROVED = object()


@dataclass(frozen=True)
class Differences:
    """The access paths of one snapshot, its holes, and who is shut out."""

    snapshot: Snapshot
    access: GuestAccess
    holes: tuple[Hole, ...]
    shut_out: tuple[ShutOut, ...]

    @property
    def certain(self) -> tuple[list[Hole], list[ShutOut]]:
        return [s for s in self.holes if s.certain], [m for m in self.shut_out if m.certain]

    @property
    def weight(self) -> int:
        s, m = self.certain
        return len(s) + len(m)

    @property
    def unsure(self) -> int:
        """How many differences are possible."""
        found = [*(each.possible for each in self.holes), *(each.possible for each in self.shut_out)]
        return sum(any(each.values()) for each in found)


@dataclass(frozen=True)
class DraftContext:
    """Values that the drafts of all guests share: its address spaces and names, and the table of services."""

    estate: Estate
    spaces: AddressSpaces
    names: Names
    kinds: Kinds


def draft_context(estate: Estate, kinds: Kinds = KINDS) -> DraftContext:
    """Made once for an estate, for it looks through all of it."""
    return DraftContext(estate, address_spaces(estate), names_of(estate), kinds)


class Desk:
    """Works out what evidence lets in against the grants, as often as a draft needs it, but only once for the same steps."""

    def __init__(self, shared: DraftContext, snapshot: Snapshot, at: datetime) -> None:
        self.estate, self.start, self.at, self.kinds = shared.estate, snapshot, at, shared.kinds
        self.spaces, self.known = shared.spaces, shared.names
        estate = shared.estate
        self.grants = tuple(expand(estate, snapshot.guest, at, snapshot.told.came))
        self.ways = ways_to(estate, snapshot.guest)
        # What a limit that is written on the guest has to name.
        self.seen = tuple(seen_over(self.ways, grant) for grant in self.grants)
        self.kept = {g.account for g in self.grants if g.kind is GrantKind.EMERGENCY}
        self.kept |= {e.account for e in estate.of(snapshot.guest).emergency}
        self.accepted = acceptances(estate, snapshot.guest, at)  # a draft leaves alone what a waiver accepts
        self._known: dict[Steps, Differences] = {}
        self.first = self.after(())
        self.order = self._order(())
        self.shut_out = [(m.grant, m.power) for m in self.first.shut_out if m.certain]

    def _order(self, let_in: tuple[ShutOut, ...]) -> Order:
        return Order(self.estate, self.first.access, self.seen, let_in)

    def orders(self, final: Differences) -> bool:
        """Whether steps that come to this state do too much at once: from then on what has to wait is kept."""
        still = {(id(each.grant), each.power) for each in final.shut_out}
        order = self._order(tuple(each for each in self.first.shut_out if (id(each.grant), each.power) not in still))
        if not order.kept(final.access.paths):
            self.order = order
        return self.order is order

    def after(self, steps: Steps) -> Differences:
        """The differences once these steps are done. Raises StepError when one of them does not fit."""
        if steps not in self._known:
            self._known[steps] = self.state(apply_all(self.start, steps))
        return self._known[steps]

    def state(self, snapshot: Snapshot) -> Differences:
        """The differences on another snapshot of the guest."""
        access = guest_access(readings.read(snapshot), self.at, self.spaces, self.kinds)
        over, _ = holes_beside(find_holes(access.paths, self.grants), self.accepted)
        under, _ = shut_out_beside(find_shut_out(access.paths, self.grants, access.reading.accounts), self.accepted)
        return Differences(snapshot, access, tuple(over), tuple(under))

    @property
    def lacks_door(self) -> bool:
        """Whether this is a guest that is entered over SSH, and no management access is known."""
        entered = self.estate.guests[self.start.guest].via.kind is ViaKind.SSH
        return entered and not any(grant.kind is GrantKind.MANAGEMENT for grant in self.grants)

    def door_shrunk(self, before: Differences, after: Differences, *, returns: bool = False) -> bool:
        """Whether management access or an emergency account is narrower than before. What takes a change back (`returns`) may
        make it as narrow again as it was; only from where we come it stays open."""
        here = kept_door.in_use(before.access, self.grants, self.start.told.came.address) if returns else None
        return kept_door.is_narrower(before.access, after.access, self.grants, here)

    def dead(self, state: Differences) -> Iterator[tuple[str, str]]:
        """The programs of services that would not start, each with the reason."""
        work = Work(state.access, self.seen, self.estate)
        for server in state.access.services:
            found = self.kinds[server.words.name].unserved(work.case(server)) if server.state is Serving.BROKEN else None
            if found is not None:
                yield server.words.program, cause_words.words(found.causes[0])

    def tried(self, steps: Steps) -> Differences | None:
        try:
            return self.after(steps)
        except StepError:
            return None

    def names(self, state: Differences) -> Names:
        return self.known.also(comments_of(state.access))

    def candidates(self, state: Differences) -> Iterator[Steps]:
        work = Work(state.access, self.seen, self.estate)
        names = self.names(state)
        over, under = state.certain
        for out in shut_out.grouped(under, ObstacleSearch(state.access, self.estate, self.kinds), names):
            # Somebody who was let in before would be shut out by other steps of the same draft.
            lost_meanwhile = not any((item.grant, item.power) in self.shut_out for item in out.items)
            why = out.promise if lost_meanwhile else out.finding.text
            for item in out.items:
                if item.grant.kind is not GrantKind.EMERGENCY:
                    yield from self._opening(work, seen_over(self.ways, item.grant), why)
        found = [(hole, joined(item.certain for item in hole.items)) for hole in holes.holes(over)]
        at_filter = list(self._at_filter(work, found, names)) if "filter" in self.estate.narrow_at else []
        if self.estate.narrow_at[:1] == ("filter",):
            yield from at_filter
        for hole, certain in found:
            why = holes.sentence(hole, certain, names)
            for each in hole.items:
                if self.order.waits(each.path):
                    continue
                # An emergency account is exempt: what is wrong with it is told, and mended by hand.
                if each.path.account not in self.kept or kind_of(each.path) == "password":
                    yield from self._closing(work, each.path, why)
        yield from at_filter

    def _opening(self, work: Work, grant: Grant, why: str) -> Iterator[Steps]:
        """The filter first, then what the service has; through a login on the guest itself no filter is met."""
        if grant.shape:
            yield from on_the_way.opening(self.kinds, work, grant, why)
            return
        yield from filter_steps.lets_in(work, grant.service, seen_by_guest([grant]), why)
        for server in work.access.of(grant.service):
            yield from self.kinds[grant.service].opening(grant, why, work.case(server))

    def _closing(self, work: Work, path: AccessPath, why: str) -> Iterator[Steps]:
        for server in work.access.of(path.service):
            yield from self.kinds[path.service].closing(path, why, work.case(server))

    def _at_filter(self, work: Work, found: list[tuple[HoleGroup, Sources]], names: Names) -> Iterator[Steps]:
        """Rules that keep out callers that holes let in, service by service."""
        for service in dict.fromkeys(hole.service for hole, _ in found):
            mine = [(hole, certain) for hole, certain in found if hole.service == service]
            open_to = joined(certain for _, certain in mine).get(COMMON, NO_ADDRESS)
            yield from filter_steps.keeps_out(work, service, open_to, holes.sentence(*mine[0], names))


def make(shared: DraftContext, snapshot: Snapshot, at: datetime) -> Draft:
    """The draft for one guest at a moment (aware)."""
    return _made(Desk(shared, snapshot, at))


def made_and_proved(shared: DraftContext, snapshot: Snapshot, at: datetime) -> ProvedDraft:
    """The draft for one guest, and its proof; what is worked out for the one is not worked out again for the other."""
    desk = Desk(shared, snapshot, at)
    return _proved(desk, _made(desk))


def _made(desk: Desk) -> Draft:
    steps = steps_of(desk)
    final = desk.after(steps)
    return _stated(desk, Draft(desk.start.guest, steps, tuple(left_of(desk, final))))


def steps_of(desk: Desk) -> Steps:
    """The fewest steps that close the differences that a desk sees, those that open first. On a running guest, what no connection
    can prove together with them waits; in a folder nobody comes in meanwhile."""
    steps = _closing_all(desk)
    return _closing_all(desk) if desk.start.is_live and desk.orders(desk.after(steps)) else steps


def _closing_all(desk: Desk) -> Steps:
    steps: Steps = ()
    state = best = desk.first
    best_steps = steps
    seen: set[Steps] = set()
    for _ in range(MOST_ROUNDS):
        better = _better(desk, state, steps, seen)
        if better is None:
            break
        steps, state = better
        if state.weight < best.weight:
            best, best_steps = state, steps
    steps = _fewest(desk, best_steps, best)
    ordered = tuple(sorted(steps, key=lambda s: not s.opens))
    return ordered if desk.tried(ordered) is not None else steps


def _stated(desk: Desk, made: Draft) -> Draft:
    """The draft with what the estate states of the guest itself: addresses, services, clock, name, ports of SSH."""
    estate, start = desk.estate, desk.start
    due = rotation.given(estate, desk.after(made.steps).access, desk.seen)
    made = replace(made, steps=(*made.steps, *due.steps))
    due = leavers.given(estate, desk.after(made.steps).access, desk.seen, desk.at, desk.order)
    made = replace(made, steps=(*made.steps, *due.steps), left=(*made.left, *due.left))
    due = revocations.given(estate, desk.after(made.steps).access, desk.seen)
    made = replace(made, steps=(*made.steps, *due.steps), left=(*made.left, *due.left))
    moved = addresses.moved(estate, apply_all(start, made.steps))
    steps, left = (*made.steps, *moved.steps), (*made.left, *moved.left)
    now = desk.after(steps)
    wishes = [services.given(estate, now.snapshot)]
    if moved.steps and estate.guests[made.guest].via.is_live:
        spec, _ = ssh_ports(estate, now.access)
        left += (ManualTask(f"SSH should be on other ports ({spec.origin}).", "enact this draft first"),) if spec else ()
    else:
        wishes.append(ports.given(estate, now.access, desk.seen))
    own = identities.given(estate, now.access)
    if own.acts and (moved.steps or wishes[-1].steps):  # a guest that goes elsewhere is known there by the keys that are pinned
        own.left, own.acts = [ManualTask(act.why, "enact this draft first") for act in own.acts], []
    wishes.append(own)
    steps = filter_steps.merged(steps, tuple(step for each in wishes for step in each.steps))
    wishes.append(filter_steps.loading_acts(desk.first.access.reading, steps))
    left += tuple(entry for each in wishes for entry in each.left)
    # A label comes first: without it sshd can't listen on the port that its files name.
    acts = sorted((act for each in wishes for act in each.acts), key=lambda act: not isinstance(act, LabelPort | LoadRules))
    return Draft(made.guest, steps, left, "", tuple(acts))


def _better(
    desk: Desk, state: Differences, steps: tuple[AnyStep, ...], seen: set[Steps]
) -> tuple[tuple[AnyStep, ...], Differences] | None:
    """The first candidate that helps: one that opens must let somebody in who is granted, even where that opens more
    than it should (later rounds close it again); one that closes must leave fewer differences."""
    for candidate in desk.candidates(state):
        if not candidate or candidate in seen:
            continue
        seen.add(candidate)
        longer = filter_steps.merged(steps, candidate)
        after = desk.tried(longer)
        if after is None or desk.door_shrunk(state, after) or not desk.order.kept(after.access.paths):
            continue
        opens = all(step.opens for step in candidate) and len(after.certain[1]) < len(state.certain[1])
        if opens or after.weight < state.weight:
            return longer, after
    return None


def _fewest(desk: Desk, steps: tuple[AnyStep, ...], whole: Differences) -> tuple[AnyStep, ...]:
    """Drop steps until every one that is left is needed, be it that something stays decided."""
    for group in reversed(filter_steps.together(steps)):
        if any(_is_home(one, steps) for one in group):
            continue
        shorter = tuple(each for each in steps if not any(each is one for one in group))
        after = desk.tried(shorter)
        if after is not None and after.weight <= whole.weight and after.unsure <= whole.unsure:
            return _fewest(desk, shorter, after)
    return steps


def _is_home(step: AnyStep, steps: Steps) -> bool:
    """Whether a step makes the folder of an account that another one makes: needed by whatever proof its person comes in."""
    people = (each for each in steps if isinstance(each, AddAccount))
    return isinstance(step, MakeFolder) and any(
        step.uid == each.uid and step.path.endswith(f"/{each.account}") for each in people
    )


def prove(shared: DraftContext, draft: Draft, snapshot: Snapshot, at: datetime) -> ProvedDraft:
    """Work the draft out on the evidence, state by state. Raises RefusedError, which says what is not good."""
    return _proved(Desk(shared, snapshot, at), draft)


def _proved(desk: Desk, draft: Draft) -> ProvedDraft:
    for act in draft.acts:
        if isinstance(act, Disable | Stop) and services.KEPT.fullmatch(act.unit):
            raise RefusedError(f"{act} is refused: the guest, its network or its SSH server depends on it", guest=draft.guest)
    if draft.does and desk.lacks_door:
        raise RefusedError(
            "nothing tells how Nightlatch comes in there, so management access could be drafted away: this evidence was "
            "not read over SSH; write key and from under via, or survey it over SSH",
            guest=draft.guest,
        )
    state = before = desk.first
    done: Steps = ()
    for step in draft.steps:
        done += (step,)
        try:
            state = desk.after(done)
        except StepError as error:
            raise RefusedError(f"the draft does not fit this evidence: {error}", guest=draft.guest) from None
        for program, because in desk.dead(state):
            if program not in dict(desk.dead(before)):
                raise RefusedError(f'after the step "{step}" {program} would not start: {because}', guest=draft.guest)
        if desk.door_shrunk(before, state, returns=bool(draft.returns)):
            raise RefusedError(
                f'the step "{step}" would shut management access or an emergency account',
                guest=draft.guest,
            )
    if any(isinstance(step, SetRules) for step in draft.steps):
        own = [grant.callers.perhaps for grant in desk.grants if grant.kind is not GrantKind.GRANT]
        because = filter_steps.shut_at_boot(before.access, state.access, joined(own).get(COMMON, NO_ADDRESS))
        if because:
            raise RefusedError(f"{because}", guest=draft.guest)
    if not draft.returns:
        _closed(desk, draft, before, state)
    return ProvedDraft(draft, desk.start, state.snapshot, desk.at, _PROVED)


def _closed(desk: Desk, draft: Draft, before: Differences, state: Differences) -> None:
    known = {entry.mark for entry in draft.left}
    first = next((entry.text for entry in left_of(desk, state) if entry.mark not in known), None)
    if first is not None:
        raise RefusedError(f"the draft does not close everything it says it does: {first}", guest=draft.guest)
    for after_set, before_set, what in (
        (_possible(state.holes), _possible(before.holes), "hole"),
        (_possible(state.shut_out), _possible(before.shut_out), "shut out"),
    ):
        grown = without(after_set, joined([before_set, _certain(before)]))
        if any(grown.values()):
            raise RefusedError(f"the draft would make more undecided than it is now ({what})", guest=draft.guest)


def _possible(items: Iterable[Hole] | Iterable[ShutOut]) -> Sources:
    return joined(item.possible for item in items)


def _certain(state: Differences) -> Sources:
    return joined([*(s.certain for s in state.holes), *(m.certain for m in state.shut_out)])
