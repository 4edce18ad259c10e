"""The public functions that change guests: enact, and what is pending.

A guest in a folder is changed in one go; a live one by way of its latch (latch/live.py): the guest takes a change back
by itself unless a fresh connection has proved management access and keeps it.
"""

from __future__ import annotations

import contextlib
import getpass
import re
import socket
import time
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from enum import StrEnum
from pathlib import Path

from nightlatch.audit.names import pending as pending_words
from nightlatch.draft import identities, promises, services
from nightlatch.draft.acts import Install
from nightlatch.draft.plan import ProvedDraft
from nightlatch.estate.model import Estate, GuestSpec, ViaKind
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import NightlatchError, PutBackError, RefusedError, UnreadableError, work_on
from nightlatch.latch import folder, live, relocation
from nightlatch.latch.folder import FolderChange, new_change_id
from nightlatch.latch.live import Pending
from nightlatch.latch.planned_change import planned
from nightlatch.latch.transaction import SEAM, Terms, Transaction
from nightlatch.model.outcomes import ChangeState
from nightlatch.ops import identity, key_proofs, seals
from nightlatch.ops.draft import proved_draft
from nightlatch.ops.evidence import TOOL
from nightlatch.ops.giving import HandOver, handed_over, refuse_unheard
from nightlatch.ops.key_proofs import KeyProof
from nightlatch.ops.seals import SealProof
from nightlatch.ops.survey import chosen, client_for, more_of, survey_live, survey_target
from nightlatch.readings import latch
from nightlatch.readings.latch import OnLatch
from nightlatch.transports import targets
from nightlatch.transports.shell import Shell
from nightlatch.transports.ssh import Client, Ssh

LATCH_SECONDS = 300
SHORTEST, LONGEST = 5, 86_400
FRESH_TRIES = 4  # a reload refuses connections for a moment (measured: 26 ms)
TEST_LABEL = "test"

NOT_THERE = {ViaKind.EVIDENCE: "an evidence archive", ViaKind.BY_HAND: "a survey carried over by hand"}


@dataclass(frozen=True, slots=True)
class Confirmation:
    """The findings of a fresh connection while a change is on the latch: `problems` are reasons not to keep it.

    `proven` names the places of grants that the connection came from, `unproven` the others; `source` its address. `seals` are
    those of services that the change touches, as the wire shows them.
    """

    guest: str
    change: str
    source: str
    problems: tuple[str, ...]
    proven: tuple[str, ...]
    unproven: tuple[str, ...]
    seals: tuple[SealProof, ...] = ()


@dataclass(frozen=True, slots=True)
class LiveChange:
    """A change on the latch or decided, and what became of it.

    `moved_to` is the address at which the guest is to be found now, where that is another, `port` the port; `followed` says
    what the estate file took over of it; `host_keys` are the fingerprints of new ones. `keys` says how keys were seen to work
    whose accounts lose their passwords.
    """

    changed: FolderChange
    outcome: ChangeState
    confirmation: Confirmation | None = None
    steps: tuple[str, ...] = ()
    moved_to: str = ""
    followed: str = ""
    port: int = 0
    host_keys: tuple[str, ...] = ()
    keys: tuple[KeyProof, ...] = ()

    @property
    def change(self) -> str:
        """The change's id, empty where there was nothing to change."""
        return self.changed.change

    @property
    def paths(self) -> tuple[str, ...]:
        """The paths that were changed, or given back."""
        return self.changed.paths

    @property
    def skipped(self) -> tuple[str, ...]:
        """Paths that somebody else changed meanwhile, left as they are."""
        return self.changed.skipped


class Consent(StrEnum):
    """What needs a yes of its own: what nothing takes back once it is kept, and to close passwords without seeing a key work."""

    PACKAGES = "packages"
    IDENTITY = "new host keys"
    UNSEEN_KEYS = "unseen keys"


Decide = Callable[[Confirmation], bool | None]


def keep_when_proved(confirmation: Confirmation) -> bool:
    """Keep whatever a fresh connection has proved, take back all else."""
    return not confirmation.problems


@contextmanager
def told() -> Iterator[None]:
    """Turn an error of the folder's file system into one that names the path."""
    try:
        yield
    except OSError as error:
        raise UnreadableError(f"{error.filename or 'the guest'}: {error.strerror}") from error


def enact(
    estate: Estate,
    guest: str,
    at: datetime,
    change: str = "",
    *,
    client: Client | None = None,
    seconds: int = LATCH_SECONDS,
    decide: Decide = keep_when_proved,
    unguarded: bool = False,
    agreed: Collection[Consent] = (),
    hand_over: HandOver | None = None,
) -> LiveChange:
    """Survey one guest again, draft and prove again, and apply.

    On a live guest the change is on the latch for `seconds`; `decide` gets what a fresh connection found and says True
    to keep it, False to take it back, None to leave it to its time. What can't be taken back has to be `agreed` to, packages
    and new host keys, and so has a password that goes while no key of its account was seen to work. `hand_over` takes the
    passwords that are made, each before it counts.
    Raises RefusedError, PutBackError, UnreadableError.
    """
    spec = chosen(estate, [guest])[0]
    if spec.via.kind in NOT_THERE:
        raise RefusedError(f"{guest} is {NOT_THERE[spec.via.kind]}: only the guest it was made from can be changed")
    change = change or new_change_id(datetime.now(UTC))
    if not spec.via.is_live:
        snapshot = survey_target(spec.via.path, spec.name, more_of(estate, spec))
        proved = proved_draft(estate, snapshot, at)
        return LiveChange(apply(proved, spec.via.path, at, change, hand_over=hand_over), ChangeState.KEPT)
    with client_for(client) as using, work_on(guest):
        shell = targets.of_guest(spec, using)
        snapshot = survey_live(shell, more_of(estate, spec))
        not_pending(snapshot)
        proved = proved_draft(estate, snapshot, at)
        packages = services.installs(proved.draft.acts)
        _refuse_unagreed(proved, agreed)
        refuse_unheard(proved, hand_over)
        if packages:
            _install(shell, packages)
            snapshot = survey_live(shell, more_of(estate, spec))
            proved = proved_draft(estate, snapshot, at)
        keys = key_proofs.gather(estate, shell, proved)
        if key_proofs.unseen(keys) and Consent.UNSEEN_KEYS not in agreed:
            raise RefusedError(_unseen(key_proofs.unseen(keys), installed=bool(packages)), guest=guest)
        on = terms(at, change, seconds, unguarded=unguarded)
        done = put_on_latch(estate, shell, proved, at, on, decide=decide, hand_over=hand_over)
        return replace(done, keys=keys)


def not_pending(snapshot: Snapshot) -> None:
    """Raise RefusedError where a change is on the guest's latch: a second one would be proved on what goes back."""
    found = latch.read(snapshot)
    if found is not None:
        raise RefusedError(pending_says(found), guest=snapshot.guest)


def pending_says(found: OnLatch) -> str:
    """Why no second change is begun on a guest."""
    by = f", by {found.who}" if found.who else ""
    return (
        f"change {found.change}{by} is {pending_words(found)}. Nothing was changed; nightlatch keep keeps it, "
        "nightlatch undo takes it back at once"
    )


def _refuse_unagreed(proved: ProvedDraft, agreed: Collection[Consent]) -> None:
    """Raise RefusedError for what can't be taken back and has no yes of its own."""
    guest, acts = proved.draft.guest, proved.draft.acts
    names = ", ".join(each.package for each in services.installs(acts))
    if names and Consent.PACKAGES not in agreed:
        raise RefusedError(f"it would install {names}, which can't be taken back: --install agrees to that", guest=guest)
    if identities.new_host_keys(acts) and Consent.IDENTITY not in agreed:
        raise RefusedError(
            "it would make new host keys, which can't be taken back once they are kept, and of which every client that knows "
            "the old ones warns: --new-host-keys agrees to that",
            guest=guest,
        )


def _unseen(names: str, *, installed: bool) -> str:
    but = " but what was installed" if installed else ""
    return (
        f"passwords would go before a key was seen to work: {names}. Nothing was changed{but}. A login by that key shows it in "
        "the guest's log; --unseen-keys closes the passwords without"
    )


def _install(shell: Shell, packages: Sequence[Install]) -> None:
    """Bring packages, each kept from starting anything: what it is for comes with the change. Not on the latch, for
    nothing could take it back."""
    for each in packages:
        live.install(shell, each)


def apply(proved: ProvedDraft, root: Path, at: datetime, change: str = "", *, hand_over: HandOver | None = None) -> FolderChange:
    """Apply a proved draft to the folder it was proved on; `hand_over` takes the passwords that are made."""
    with told():
        passwords = handed_over(proved, hand_over)
        return folder.enact(proved, root, at, TOOL, change or new_change_id(datetime.now(UTC)), passwords)


def put_on_latch(
    estate: Estate,
    shell: Shell,
    proved: ProvedDraft,
    at: datetime,
    on: Terms,
    *,
    decide: Decide = keep_when_proved,
    hand_over: HandOver | None = None,
) -> LiveChange:
    """Carry out a proved draft on a live guest on these terms, prove it by a fresh connection, and decide.

    Ctrl-C or a dead connection at any moment leaves the guest to take the change back by itself.
    """
    change, seconds = on.change, _bounded(on.seconds)
    changed = FolderChange(
        shell.guest, change, tuple(proved.changed), (), tuple(map(str, (*proved.accounts, *proved.draft.acts)))
    )
    if not proved.does:
        return LiveChange(FolderChange(shell.guest, "", ()), ChangeState.KEPT)
    if services.installs(proved.draft.acts):
        raise RefusedError("a package is still missing after it was installed; look at the guest", guest=shell.guest)
    plan = planned(estate, proved)
    made = Transaction(plan, on)
    goes, port, ports = plan.goes, plan.port if isinstance(shell, Ssh) else 0, plan.ports
    there = relocation.at(shell, goes, port) if goes or port else shell
    passwords = handed_over(proved, hand_over)  # where nobody can take them, nothing is begun
    try:
        begun = live.begin(shell, made)
        renewed = identity.renewed(estate, there, begun.host_keys) if begun.host_keys else None
        there = renewed.shell if renewed is not None else there
        if plan.move is not None:
            relocation.arrive(there, shell, change, seconds)
        not_given = _give(there, change, passwords)
        confirmation = confirm(estate, there, proved, at, change)
        doubts = renewed.problems if renewed is not None else ()
        confirmation = replace(confirmation, problems=(*not_given, *doubts, *confirmation.problems))
        answer = decide(confirmation)
        if answer is None:
            return LiveChange(changed, ChangeState.ON_THE_LATCH, confirmation, begun.steps, goes, port=port)
        if goes and not answer:
            outcome = relocation.taken_back(shell, there, change, owner())
        else:  # what was not reached over its new port is taken back over the old one, which is open yet
            old = port and not answer and ports is not None and proved.before.told.came.port in ports.after
            outcome = _decided(shell if old else there, change, answer, seconds, confirmation)
        pins = renewed.fingerprints if renewed is not None and outcome.kept else estate.guests[shell.guest].host_keys
        pinned = identity.follow(estate, shell.guest, pins) if renewed is not None else ""
    except KeyboardInterrupt:
        raise PutBackError(
            f"interrupted. If change {change} was begun, the guest takes it back by itself within {seconds} s; "
            "nightlatch pending shows it, nightlatch undo takes it back at once",
            guest=shell.guest,
        ) from None
    if answer and not outcome.kept:
        raise PutBackError(f"{outcome.words}, before it could be kept", guest=shell.guest)
    if not answer and confirmation.problems:
        raise PutBackError(_problems(confirmation, outcome), guest=confirmation.guest)
    done = changed if outcome.kept else returned(changed, outcome)
    if not outcome.kept:
        return LiveChange(done, ChangeState.PUT_BACK, confirmation, begun.steps, followed=pinned)
    came = proved.before.told.came
    if goes:
        pinned = followed_address(estate, shell.guest, came.to, goes)
    elif port:
        pinned = followed_port(estate, shell.guest, came.port, port)
    return LiveChange(done, ChangeState.KEPT, confirmation, begun.steps, goes, pinned, port, begun.host_keys)


def _bounded(seconds: int) -> int:
    if not SHORTEST <= seconds <= LONGEST:
        raise NightlatchError(f"a change can be on the latch from {SHORTEST} s to {LONGEST // 3600} hours, not {seconds} s")
    return seconds


def _give(shell: Shell, change: str, passwords: Mapping[str, str]) -> list[str]:
    """Give accounts their passwords while the change is on the latch; why one was not given is a reason not to keep it."""
    out = []
    for account, password in passwords.items():
        try:
            live.give(shell, change, account, password)
        except UnreadableError as error:
            out.append(error.words)
    return out


def returned(changed: FolderChange, outcome: live.Outcome) -> FolderChange:
    """The parts of a change that really went back, as the guest told."""
    return replace(
        changed,
        paths=(*outcome.back, *outcome.removed),
        skipped=outcome.left,
        merged=outcome.merged,
        whole=outcome.whole,
        removed=outcome.removed,
    )


def followed_address(estate: Estate, guest: str, old: str, new: str) -> str:
    """Whether the estate file was changed to the new address, in words; where it dials a name, it can't be."""
    try:
        count = relocation.follow(estate, guest, old, new)
    except NightlatchError as error:
        return f"the estate file still names {old}: {error}"
    said = "place that named {} now names {}" if count == 1 else "places that named {} now name {}"
    if not count:
        return f"{estate.path} names {estate.guests[guest].via.host}, which has to lead to {new} from now on"
    return f"{estate.path}: {count} {said.format(old, new)}"


def followed_port(estate: Estate, guest: str, old: int, new: int) -> str:
    """Whether the estate file was changed to SSH's new port, in words."""
    try:
        count = relocation.follow_port(estate, guest, old, new)
    except NightlatchError as error:
        return f"the estate file does not name port {new} yet: {error}"
    said = "via and dial of {} now name" if count > 1 else "via of {} now names"
    return f"{estate.path}: {said.format(guest)} port {new}"


def _decided(shell: Shell, change: str, answer: bool, seconds: int, seen: Confirmation) -> live.Outcome:
    """The decision carried to the guest; where it can't be, the guest's own timer decides."""
    try:
        return live.decide(shell, change, "keep" if answer else "back", owner())
    except UnreadableError as error:
        wish, heard = ("keep it", "Unless it heard that, the guest") if answer else ("take it back", "The guest")
        found = f" A fresh connection had found: {'; '.join(seen.problems)}." if seen.problems else ""
        raise PutBackError(
            f"change {change} is on the latch, and the guest can't be told to {wish} ({error}).{found} "
            f"{heard} takes it back by itself within {seconds} s; nightlatch pending shows it",
            guest=shell.guest,
        ) from error


def _problems(confirmation: Confirmation, outcome: live.Outcome) -> str:
    parts = ["a fresh connection found that it does not hold, so everything was put back:"]
    if outcome.by_hand:
        parts += [f"  {problem}" for problem in confirmation.problems]
    elif outcome.kept:
        parts = [f"{outcome.words}, by somebody else, though a fresh connection found:"]
        parts += [f"  {problem}" for problem in confirmation.problems]
    else:  # the guest was first: what the connection saw is the state from before
        parts = [f"no fresh connection proved it in time. {outcome.words[:1].upper()}{outcome.words[1:]}"]
    parts += [f"  {path} was changed by somebody else meanwhile and is left as it is" for path in outcome.left]
    parts += [f"  {path} was touched by somebody else meanwhile: our lines went back, theirs stay" for path in outcome.merged]
    parts += [f"  {path} is as it was; sshd refused what somebody else had made of it" for path in outcome.whole]
    return "\n".join(parts)


def terms(at: datetime, change: str, seconds: int, *, unguarded: bool = False, forget: str = "", seam: str = SEAM) -> Terms:
    """The terms on which this process changes a guest."""
    time_text = at.isoformat(timespec="seconds")
    return Terms(change, TOOL, time_text, owner(), seconds, unguarded, forget, not forget, seam)


def owner() -> str:
    """Who makes the change, for the next administrator to read."""
    name = "somebody"
    with contextlib.suppress(OSError, KeyError):
        name = getpass.getuser()
    return re.sub(r"[^A-Za-z0-9@._-]", "-", f"{name}@{socket.gethostname()}")[:80]


def confirm(estate: Estate, shell: Shell, proved: ProvedDraft, at: datetime, change: str) -> Confirmation:
    """Come in afresh, read the guest again, and say what does not hold."""
    spec = estate.guests[proved.draft.guest]
    problem = ""
    for attempt in range(FRESH_TRIES):
        if attempt:
            time.sleep(0.2 * 2**attempt)
        try:
            now = survey_live(shell, more_of(estate, spec))
            break
        except UnreadableError as error:
            problem = error.words
    else:
        return Confirmation(shell.guest, change, "", (f"no fresh connection comes in: {problem}",), (), ())
    proven, unproven = promises.places(estate, now)
    shown = seals.shown(shell, proved.before, now, at)
    problems = (*promises.broken(estate, promises.of(proved), now, at), *filter(None, map(seals.problem, shown)))
    return Confirmation(shell.guest, change, now.told.came.source, problems, tuple(proven), tuple(unproven), shown)


def pending(
    estate: Estate, guests: Sequence[str] | None = None, *, client: Client | None = None
) -> Iterator[tuple[str, live.LatchReport | str]]:
    """The change on the latch of each live guest, and the outcomes of its last changes; or why it can't be asked."""
    with client_for(client) as using:
        for spec in chosen(estate, guests):
            if spec.via.is_live:
                try:
                    with work_on(spec.name):
                        found: live.LatchReport | str = live.ask(relocation.answering(spec, targets.of_guest(spec, using)))
                except UnreadableError as error:
                    found = error.words
                yield spec.name, found


def in_order(estate: Estate, guests: Sequence[str], client: Client) -> list[str]:
    """The order for changing several guests: those labelled test first, the one that others are reached through last."""
    jumps = {jump for name in guests for jump in _jumps(estate.guests[name], client)}

    def rank(name: str) -> tuple[bool, bool]:
        spec = estate.guests[name]
        return name in jumps or spec.via.host in jumps, TEST_LABEL not in spec.labels

    return sorted(guests, key=rank)


def _jumps(spec: GuestSpec, client: Client) -> list[str]:
    """The hosts that ssh goes through to a guest, as its own configuration says (ssh(1), -G)."""
    if spec.via.kind is not ViaKind.SSH:
        return []
    shell = targets.of_guest(spec, client)
    return shell.through() if isinstance(shell, Ssh) else []


__all__ = [
    "Confirmation",
    "FolderChange",
    "LiveChange",
    "Pending",
    "apply",
    "enact",
    "in_order",
    "new_change_id",
    "pending",
]
