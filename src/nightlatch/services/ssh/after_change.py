"""What the guest's own sshd must say once a change is in, and what it must offer on the wire."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.evidence.opinions import Question, unpacked
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.services.base import Expected, ServiceCase
from nightlatch.services.ssh.entries import SshAccess
from nightlatch.services.ssh.opinion import NOT_COMPARED, questions
from nightlatch.services.ssh.settings import SWITCHES, Caller, Settings, dump

MOST_ASKED = 60


def after_change(before: ServiceCase, after: ServiceCase) -> Expected:
    """The lines that `sshd -T -C` must print for each caller whose settings a change touches.

    Keywords that this guest's sshd does not print are left out, as its own word in the evidence shows them.
    """
    was, becomes = _ssh(before), _ssh(after)
    printed = _printed(before.reading.snapshot)
    out: dict[str, tuple[str, ...]] = {}
    for question in questions(becomes, frozenset(path.account for path in after.paths))[:MOST_ASKED]:
        old, new = _lines(was, question), _lines(becomes, question)
        if old is not None and new is not None and old != new:
            changed = [line for line in new if line not in old]
            out[question.words] = tuple(line for line in changed if not printed or line.partition(" ")[0] in printed)
    return Expected(out)


def on_the_wire(access: SshAccess) -> Iterator[str]:
    """Whether the methods that the guest offered us are those its settings name (RFC 4252, 5.1), in words where they are not."""
    came = access.reading.snapshot.told.came
    offered, first = set(came.offered), access.listeners[:1]
    settings = _settings(access, came.account, came.source, first[0].port) if first else None
    if not offered or settings is None or settings["authenticationmethods"].value != ("any",):
        return
    named = {method for method, keyword in SWITCHES.items() if settings[keyword].word == "yes"}
    for method in sorted(offered - named):
        yield f"the guest still offers {method}, which its files switch off"
    for method in sorted(named & {"publickey", "password"} - offered):
        yield f"the guest does not offer {method}, which its files switch on"


def _ssh(case: ServiceCase) -> SshAccess:
    assert isinstance(case.access, SshAccess)
    return case.access


def _printed(snapshot: Snapshot) -> set[str]:
    listing = snapshot.listings.get("opinions", b"")
    found = next(unpacked(listing), None) if listing else None
    return {line.partition(" ")[0] for line in found.lines} if found is not None else set()


def _lines(access: SshAccess, question: Question) -> list[str] | None:
    settings = _settings(access, question.user, question.address, question.local_port)
    if settings is None:
        return None
    return [line for line in dump(settings) if line.partition(" ")[0] not in NOT_COMPARED]


def _settings(access: SshAccess, user: str, address: str, port: int) -> Settings | None:
    account = access.reading.accounts.by_name.get(user)
    socket = next((s for s in access.listeners if s.port == port), None)
    if account is None or socket is None:
        return None
    worlds, _ = access.effective.worlds(Caller(account.name, account.groups, socket))
    part = next((p for p in worlds[0] if address in p.sources), None)
    return access.effective.settings(part.truth) if part is not None and len(worlds) == 1 else None
