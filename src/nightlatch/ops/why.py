"""Why: the whole chain of links by which somebody gets into a guest, or what stands in the way, and the smallest step that mends
it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

from nightlatch.access.chains import Chain
from nightlatch.access.differences import Hole, ShutOut
from nightlatch.access.grants import address_spaces
from nightlatch.access.paths import GuestAccess, guest_access
from nightlatch.audit import supposed
from nightlatch.audit import why as asking
from nightlatch.audit.names import Names, comments_of, names_of, pending
from nightlatch.audit.supposed import Supposition, parse
from nightlatch.audit.symptoms import Scene, Suspicion, Symptom, suspicions
from nightlatch.audit.why import Answer, AskerKind, Standing, WhyQuestion
from nightlatch.estate.model import Estate, GuestSpec, Via, ViaKind
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import NightlatchError, UnreadableError, nearest, words_of, work_on
from nightlatch.model.gaps import Gap
from nightlatch.model.secrets import Key
from nightlatch.model.steps import ManualTask
from nightlatch.ops.places import callers_from, known_services
from nightlatch.ops.survey import chosen, client_for, survey, survey_target
from nightlatch.origin import Kind, Origin
from nightlatch.readings import guest as readings
from nightlatch.readings import latch
from nightlatch.services.base import Kinds
from nightlatch.services.ssh import log_lines
from nightlatch.services.ssh.log_lines import LogLine
from nightlatch.services.table import KINDS

if TYPE_CHECKING:
    from nightlatch.draft.mending import Mending
    from nightlatch.draft.plan import DraftContext
    from nightlatch.ops.reach import Reach
    from nightlatch.transports.ssh import Client

__all__ = ["Why", "WhyQuestion", "why", "why_target"]


@dataclass(frozen=True)
class Why:
    """The answer to a question: the chains, each with how it stands; `mend` is what mends that, where something has to be;
    `unread` why nothing was read of the guest, `latched` that a change is on the latch there, `wire` what was seen of it.

    Where something was `supposed` this is the answer as it would be, and `now` the one as things are; `is_down` says that the
    guest itself would not be there. `suspicions` are what a `symptom` may come from, `log` lines of the guest's own."""

    estate: str
    at: datetime
    asked: WhyQuestion
    answer: Answer
    mend: Mending | None = None
    unread: str = ""
    latched: str = ""
    undecided: tuple[Gap, ...] = ()
    remarks: tuple[str, ...] = ()
    wire: Reach | None = None
    supposed: tuple[str, ...] = ()
    now: Why | None = None
    is_down: bool = False
    symptom: Symptom | None = None
    suspicions: tuple[Suspicion, ...] = ()
    log: tuple[LogLine, ...] = ()
    names: Names = field(default_factory=Names)

    @property
    def standing(self) -> Standing:
        """How the whole stands: shut out before open to more than is granted, and that before what can't be decided."""
        if any(each.certain for each in self.answer.missing):
            return Standing.SHUT_OUT
        found = {standing for standing, _ in self.answer.chains}
        if Standing.HOLE in found:
            return Standing.HOLE
        if self.answer.missing or Standing.UNDECIDED in found:
            return Standing.UNDECIDED
        good = (Standing.AS_GRANTED, Standing.GETS_IN)
        return next((each for each in good if each in found), Standing.KEPT_OUT)

    @property
    def exit_code(self) -> int:
        """3 when the guest was not read or the answer is not decided, 1 when it is not as granted, else 0."""
        if self.unread or self.standing is Standing.UNDECIDED:
            return 3
        return 1 if self.standing in (Standing.SHUT_OUT, Standing.HOLE) else 0


def why(
    estate: Estate,
    at: datetime,
    asked: WhyQuestion,
    *,
    places: tuple[str, ...] = (),
    client: Client | None = None,
    kinds: Kinds = KINDS,
    wire: Callable[[], Reach] | None = None,
    sentences: Sequence[str] = (),
    symptom: Symptom | None = None,
) -> Why:
    """Read one guest and say why somebody gets in there, or does not. `places` are names or addresses that callers come from;
    `wire` looks at the guest from here; `sentences` are what is supposed. Raises NightlatchError for a guest, place or service
    that is not there, and a sentence that is not understood."""
    those = tuple(parse(each, estate) for each in sentences)
    chosen(estate, [asked.guest])
    known_services(asked.services, kinds)
    asked = replace(asked, sources=callers_from(estate, places))
    seen = wire() if wire is not None else None
    (found,) = survey(estate, [asked.guest], client=client, kinds=kinds)  # to its end: who leaves early stops the client
    if found.snapshot is None:
        return Why(estate.name, at, asked, Answer(asking.asker_of(estate, asked.who), ()), unread=found.problem, wire=seen)
    now = why_of(estate, found.snapshot, at, asked, kinds, symptom)
    if symptom is not None and estate.guests[asked.guest].via.is_live:
        now = replace(now, log=tuple(_log(estate, asked.guest, now, client)))
    return replace(_supposed(estate, found.snapshot, now, those, sentences, kinds) if those else now, wire=seen)


def _supposed(
    estate: Estate, snapshot: Snapshot, now: Why, those: tuple[Supposition, ...], sentences: Sequence[str], kinds: Kinds
) -> Why:
    """The answer as it would be, with that of now in it."""
    changed = supposed.of_estate(estate, those)
    who = now.asked.who
    if who in estate.principals and who not in changed.principals:  # who has left still holds what they held
        changed = replace(changed, principals={**changed.principals, who: estate.principals[who]})
    if snapshot.guest not in changed.guests:
        nothing = replace(now.answer, chains=(), missing=())
        return replace(now, answer=nothing, now=now, supposed=tuple(sentences), mend=None, is_down=True)
    with work_on(snapshot.guest):
        would = why_of(changed, supposed.of_guest(snapshot, those), now.at, now.asked, kinds)
    return replace(would, now=now, supposed=tuple(sentences))


def why_target(
    target: Path | str | Snapshot, at: datetime, asked: WhyQuestion, *, places: tuple[str, ...] = (), kinds: Kinds = KINDS
) -> Why:
    """The same of one guest without an estate: of a key or an account. Raises UnreadableError."""
    known_services(asked.services, kinds)
    snapshot = target if isinstance(target, Snapshot) else survey_target(target)
    estate = of_one(snapshot.guest)
    return why_of(estate, snapshot, at, replace(asked, guest=snapshot.guest, sources=callers_from(None, places)), kinds)


def of_one(guest: str) -> Estate:
    """An estate of one guest, of which nothing is written down."""
    nowhere = Origin("no estate file", kind=Kind.ESTATE)
    spec = GuestSpec(guest, Via(ViaKind.FOLDER, nowhere), nowhere)
    return Estate("", Path(), ZoneInfo("UTC"), {}, {}, {}, {}, {guest: spec}, (), (), (), ("filter", "service", "key"))


def _log(estate: Estate, guest: str, found: Why, client: Client | None) -> Iterator[LogLine]:
    """What the running guest's own log says of the logins that were asked about; nothing where it can't be asked."""
    from nightlatch.transports import targets

    with client_for(client) as using:
        try:
            answer = targets.of_guest(estate.guests[guest], using).run(log_lines.READ)
        except UnreadableError:
            return
    lines = answer.out[: 1 << 20].decode("utf-8", "replace").split("\n")
    told: dict[LogLine, None] = {}
    for account in dict.fromkeys(chain.login.account for _, chain in found.answer.chains):
        logins = [chain.login for _, chain in found.answer.chains if chain.login.account == account]
        keys = [each.fingerprint for login in logins for each in login.need if isinstance(each, Key)]
        told.update(dict.fromkeys(log_lines.telling(lines, account, keys, "/root" if account == "root" else f"/home/{account}")))
    yield from told


def why_of(
    estate: Estate, snapshot: Snapshot, at: datetime, asked: WhyQuestion, kinds: Kinds = KINDS, symptom: Symptom | None = None
) -> Why:
    """The answer from evidence of the guest. Raises OwnFaultError."""
    with work_on(snapshot.guest):
        spaces, names = address_spaces(estate), names_of(estate)
        access = guest_access(readings.read(snapshot), at, spaces, kinds)
        answer = asking.answer(estate, access, asked, at, kinds)
        on_latch = latch.read(snapshot)
        found = Why(
            estate.name,
            at,
            asked,
            answer,
            latched=f"A change is {pending(on_latch)}." if on_latch is not None else "",
            undecided=access.gaps,
            remarks=tuple(_remarks(estate, access, asked)),
            names=names.also(comments_of(access)),
            symptom=symptom,
            suspicions=tuple(_suspicions(estate, access, answer, symptom)),
        )
        if not estate.name or found.standing not in (Standing.SHUT_OUT, Standing.HOLE):
            return found
        from nightlatch.draft.plan import DraftContext  # most answers end without

        shared = DraftContext(estate, spaces, names, kinds)
        return replace(found, mend=_mending(shared, snapshot, at, found))


def _suspicions(estate: Estate, access: GuestAccess, answer: Answer, symptom: Symptom | None) -> tuple[Suspicion, ...]:
    if symptom is None:
        return ()
    granted = tuple(chain for _, chain in answer.chains if chain.grants)
    return suspicions(Scene(estate, access, granted or tuple(chain for _, chain in answer.chains)), symptom)


def _mending(shared: DraftContext, snapshot: Snapshot, at: datetime, found: Why) -> Mending | None:
    """The smallest change that puts right what was asked about; none where a draft can't be worked out."""
    from nightlatch.draft.mending import Mending, mending

    grants = [each.grant for each in found.answer.missing]  # they hold mappings, so they can't be looked up by hash
    open_ = [chain for standing, chain in found.answer.chains if standing is Standing.HOLE]

    def about(each: Hole | ShutOut) -> bool:
        return each.grant in grants if isinstance(each, ShutOut) else any(_is_of(chain, each) for chain in open_)

    try:
        return mending(shared, snapshot, at, about)
    except NightlatchError as error:
        return Mending((), (ManualTask(words_of(error), "nightlatch draft says more"),))


def _is_of(chain: Chain, hole: Hole) -> bool:
    path = hole.path
    return (path.service, path.account) == (chain.service, chain.login.account) and path.need == chain.login.need


def _remarks(estate: Estate, access: GuestAccess, asked: WhyQuestion) -> Iterator[str]:
    if asking.asker_of(estate, asked.who) is AskerKind.ACCOUNT and asked.who not in access.reading.accounts.by_name:
        near = nearest(asked.who, [*estate.principals, *access.reading.accounts.by_name])
        meant = f'; did you mean "{near}"?' if near else ""
        yield f'"{asked.who}" is no person and no robot of the estate, so it is taken for an account{meant}'
