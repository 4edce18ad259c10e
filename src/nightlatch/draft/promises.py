"""What a proved draft promises about a live guest: lines that its own sshd must say, and what must hold once it is in."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime

from nightlatch.access.grants import sources_of
from nightlatch.access.paths import GuestAccess, guest_access
from nightlatch.draft import services
from nightlatch.draft.acts import Act
from nightlatch.draft.plan import Desk, ProvedDraft, common, door_shrunk, left_of
from nightlatch.estate.model import Estate
from nightlatch.evidence.opinions import Question, unpacked
from nightlatch.evidence.snapshot import ABSENT, Entry, Snapshot
from nightlatch.model.sources import COMMON
from nightlatch.net.addresses import NO_ADDRESS
from nightlatch.readings.guest import GuestReading
from nightlatch.services.ssh.opinion import NOT_COMPARED, questions
from nightlatch.services.ssh.settings import SWITCHES, Caller, Settings, dump

MOST_ASKED = 60


def expected(proved: ProvedDraft, was: GuestReading, becomes: GuestReading) -> dict[str, tuple[str, ...]]:
    """What `sshd -T -C` must say for each caller whose settings the draft changes: question to lines.

    Keywords that this guest's sshd does not print are left out, as its own word in the evidence shows them.
    """
    before, after = (guest_access(each, proved.at) for each in (was, becomes))
    printed = _printed(proved.before)
    out: dict[str, tuple[str, ...]] = {}
    for question in questions(after.ssh, after.accounts)[:MOST_ASKED]:
        old, new = _lines(before, question), _lines(after, question)
        if old is not None and new is not None and old != new:
            changed = [line for line in new if line not in old]
            out[question.words] = tuple(line for line in changed if not printed or line.partition(" ")[0] in printed)
    return out


def _printed(snapshot: Snapshot) -> set[str]:
    listing = snapshot.listings.get("opinions", b"")
    found = next(unpacked(listing), None) if listing else None
    return {line.partition(" ")[0] for line in found.lines} if found is not None else set()


def _lines(access: GuestAccess, question: Question) -> list[str] | None:
    settings = _settings(access, question.user, question.address, question.local_port)
    if settings is None:
        return None
    return [line for line in dump(settings) if line.partition(" ")[0] not in NOT_COMPARED]


def _settings(access: GuestAccess, user: str, address: str, port: int) -> Settings | None:
    account = access.reading.accounts.by_name.get(user)
    socket = next((s for s in access.ssh.listeners if s.port == port), None)
    if account is None or socket is None:
        return None
    worlds, _ = access.ssh.effective.worlds(Caller(account.name, account.groups, socket))
    part = next((p for p in worlds[0] if address in p.sources), None)
    return access.ssh.effective.settings(part.truth) if part is not None and len(worlds) == 1 else None


def reloads(proved: ProvedDraft, was: GuestReading, becomes: GuestReading) -> bool:
    """Whether sshd has to read its files again: what it reads at its start or reload is among what changes."""
    files = set(was.sshd.files) | set(becomes.sshd.files)
    return any(path in files for path in proved.changed)


@dataclass(frozen=True)
class Promise:
    """What a change said that it would come to: what every path is, on a guest that was as `before`; the marks of the differences
    that stay; the acts beside files; and whether it takes an earlier change back. Of a change that another release made only
    how `many` differences stay may be known."""

    before: Snapshot
    made: Mapping[str, Entry]
    left: frozenset[str]
    acts: tuple[Act, ...]
    returns: bool
    many: int = 0


def of(proved: ProvedDraft) -> Promise:
    """The promise of a proved draft."""
    draft = proved.draft
    made = {path: proved.after.entries.get(path, ABSENT) for path in proved.changed}
    return Promise(proved.before, made, frozenset(each.mark for each in draft.left), draft.acts, bool(draft.returns))


def broken(estate: Estate, promise: Promise, now: Snapshot, at: datetime) -> list[str]:
    """What does not hold on fresh evidence, in words; empty when all that was promised is so."""
    out = unlike(promise.made, now)
    work = Desk(common(estate), promise.before, at)
    before, state = work.state(promise.before), work.state(now)
    out += [f"{program} would not start again: {because}" for program, because in work.dead(state)]
    if door_shrunk(work, before, state, returns=promise.returns):
        out.append("the door that Nightlatch comes in by, or an emergency account, is narrower than before")
    if not promise.returns:
        due = services.given(estate, now)
        out += [f"still to be done: {act}" for act in due.acts if act in promise.acts]
    if not promise.returns:
        more = [entry.text for entry in left_of(work, state) if entry.mark not in promise.left]
        out += more if len(more) > promise.many else []
    return out + list(_methods(now, state.access))


def unlike(made: Mapping[str, Entry], now: Snapshot) -> list[str]:
    """The paths that are not as a change made them, in words."""
    return [f"{path} is not as it was made" for path, entry in made.items() if _differs(entry, now, path)]


def _differs(wanted: Entry, now: Snapshot, path: str) -> bool:
    found = now.entries.get(path, ABSENT)
    return (wanted.kind, wanted.mode, wanted.uid, wanted.gid, wanted.digest) != (
        found.kind, found.mode, found.uid, found.gid, found.digest
    )  # fmt: skip


def _methods(now: Snapshot, access: GuestAccess) -> Iterator[str]:
    """Whether the methods that the guest offered us are those its settings name (RFC 4252, 5.1)."""
    offered = set(now.told.came.offered)
    ports = access.ssh.listeners[:1]
    settings = _settings(access, now.told.came.account, now.told.came.source, ports[0].port) if ports else None
    if not offered or settings is None or settings["authenticationmethods"].value != ("any",):
        return
    named = {method for method, keyword in SWITCHES.items() if settings[keyword].word == "yes"}
    for method in sorted(offered - named):
        yield f"the guest still offers {method}, which its files switch off"
    for method in sorted(named & {"publickey", "password"} - offered):
        yield f"the guest does not offer {method}, which its files switch on"


def places(estate: Estate, now: Snapshot) -> tuple[list[str], list[str]]:
    """The places of grants on this guest: those that the fresh connection came from, and those it says nothing of."""
    source = now.told.came.address
    proven: dict[str, None] = {}
    unproven: dict[str, None] = {}
    for spec in estate.of(now.guest).grants:
        for ref in spec.places:
            inside = source and source in sources_of(estate, [ref]).get(COMMON, NO_ADDRESS)
            (proven if inside else unproven)[ref.text] = None
    return list(proven), list(unproven)
