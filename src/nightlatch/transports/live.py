"""Read a live guest over one connection: run the collector, again with what its answer showed to be missing, then ask."""

from __future__ import annotations

import secrets
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace

from nightlatch.evidence import opinions
from nightlatch.evidence.collect import collect
from nightlatch.evidence.extra_paths import NO_MORE, ExtraPaths
from nightlatch.evidence.opinions import Question
from nightlatch.evidence.script import CollectorRequest, collector
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.evidence.stream import Stream, StreamSource, parse
from nightlatch.faults import UnreadableError
from nightlatch.transports.shell import Answer, Shell

Mains = Callable[[Snapshot], Iterable[str]]
MOST_ROUNDS = 4
NOT_ASKED = "the guest's own sshd could not be asked for its settings"


@dataclass(frozen=True, slots=True)
class OpinionRequest:
    """The questions to the guest's own sshd: for which callers, and which daemon."""

    questions: tuple[Question, ...]
    daemon: opinions.Daemon


def survey(
    shell: Shell,
    more: ExtraPaths = NO_MORE,
    *,
    mains: Mains = lambda told: (),
    to_ask: Callable[[Snapshot], OpinionRequest | None] | None = None,
) -> Snapshot:
    """The evidence of a live guest, and `more` of it than always.

    `mains` is given the listings and says which configurations running daemons were started with; `to_ask` is given the
    evidence and says what the guest's own sshd is asked. Raises UnreadableError, UnreachableError.

    All goes over one connection. Where the guest's files name others (an Include elsewhere, key files in a place of
    their own), the whole is read again with those, so that every round is one look.
    """
    work = _Survey(shell.guest, more, mains, to_ask)
    begun = int(time.time())
    answer = shell.run(work.script(), follow=work)
    if work.snapshot is None:
        parse(answer.out, work.nonce, shell.guest)  # says what is wrong with it
        raise UnreadableError("what was read ends too early", guest=shell.guest)
    assert work.stream is not None
    notes = work.snapshot.notes + work.stream.notes
    if work.asking and "opinions" not in work.listings:
        notes = (*notes, NOT_ASKED)
    return replace(work.snapshot, notes=notes, facts=_facts(shell, answer, work.stream, begun), listings=work.listings)


class _Survey:
    """The dialogue of a survey: what is sent next, and the answers so far (the transports' `Follow`)."""

    def __init__(
        self,
        guest: str,
        more: ExtraPaths,
        mains: Mains,
        to_ask: Callable[[Snapshot], OpinionRequest | None] | None,
    ) -> None:
        self.guest, self.more, self.mains, self.to_ask = guest, more, mains, to_ask
        self.wanted = CollectorRequest().more(more.files, more.looked, more.folders, accounts=more.accounts, every=more.every)
        self.nonce = secrets.token_hex(12)
        self.round, self.asking = 1, False
        self.stream: Stream | None = None
        self.snapshot: Snapshot | None = None
        self.listings: dict[str, bytes] = {}

    @property
    def mark(self) -> bytes:
        """The last line of the part now running."""
        return b"@end " + self.nonce.encode() + b"\n"

    def script(self) -> bytes:
        """The collector, for what is wanted now."""
        return collector(self.wanted, self.nonce)

    def next(self, out: bytes) -> bytes:
        """The next part. Raises UnreadableError when the answer is no such stream."""
        if self.asking:
            told = opinions.packed(out, self.nonce)
            if told is not None:
                self.listings["opinions"] = told
            return b""
        stream = parse(out, self.nonce, self.guest)
        source = StreamSource(stream)
        snapshot = collect(
            source, self.guest, self.more, self.mains(_heard(stream, self.guest)), stream.listings.get("directory", b"")
        )
        wider = self.wanted.more(*(source.missed[kind] for kind in ("contents", "looked", "folders", "keys")))
        self.nonce = secrets.token_hex(12)
        if wider != self.wanted and self.round < MOST_ROUNDS:
            self.wanted, self.round = wider, self.round + 1
            return self.script()
        self.stream, self.listings = stream, dict(stream.listings)
        self.snapshot = replace(snapshot, facts=stream.facts, listings=stream.listings)
        asked = self.to_ask(self.snapshot) if self.to_ask is not None else None
        if asked is None or not asked.questions:
            return b""
        self.asking = True
        return opinions.script(asked.questions, asked.daemon, self.nonce)


def _heard(stream: Stream, guest: str) -> Snapshot:
    """The guest's facts and listings, without its files."""
    return Snapshot(guest, {}, facts=stream.facts, listings=stream.listings)


def _facts(shell: Shell, answer: Answer, stream: Stream, begun: int) -> dict[str, str]:
    """How we came in, between which moments of our own clock, and what the guest says of itself."""
    words = stream.facts.get("connection", "none").split(" ")  # as SSH_CONNECTION has it (ssh(1))
    source = words[0]
    own = {
        "transport": shell.kind,
        "came_as": answer.door.account,
        "came_with": answer.door.key,
        "came_from": "" if source == "none" else source,
        "came_to": words[2] if len(words) == 4 else "",
        "came_to_port": words[3] if len(words) == 4 else "",
        "offered": ",".join(answer.door.offered),
        "asked_from": str(begun),
        "asked_until": str(int(time.time()) + 1),
    }
    return {**{name: text for name, text in stream.facts.items() if name != "connection"}, **own}
