"""Whether a guest's sshd refuses what the estate's list of revoked keys names (sshd_config(5), RevokedKeys)."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass
from enum import StrEnum

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.formats import krl
from nightlatch.formats.krl import KrlFault
from nightlatch.origin import Origin
from nightlatch.services.ssh.entries import SshAccess

PATH = "/etc/ssh/nightlatch_revoked"
NONE = "none"


class State(StrEnum):
    """The state of the list on a guest."""

    THERE = "there"
    OLDER = "older"  # our own file, with other content
    MISSING = "missing"
    OTHER = "another"  # a list of the guest's own
    NOT_ALL = "not for all"  # a Match block names another, or none


@dataclass(frozen=True, slots=True)
class ListRead:
    """The list that sshd reads: its state, the word of the setting, and where that stands."""

    state: State
    word: str
    origin: Origin


def read(server: SshAccess, content: bytes) -> ListRead:
    """What the settings name that hold for all: the same bytes, or a list of the guest's own with all that the estate's has; then
    what Match blocks name in place of it."""
    setting, snapshot = server.effective.top["revokedkeys"], server.reading.snapshot
    if not _has(snapshot, setting.word, content):
        known = {NONE: State.MISSING, PATH: State.OLDER}
        return ListRead(known.get(_plain(setting.word), State.OTHER), setting.word, setting.origin)
    for line in server.effective.reading.directives:
        if line.keyword == "revokedkeys" and line.blocks and not _has(snapshot, line.value[0], content):
            return ListRead(State.NOT_ALL, line.value[0], line.origin)
    return ListRead(State.THERE, setting.word, setting.origin)


def _plain(word: str) -> str:
    return NONE if word.lower() == NONE else word


def _has(snapshot: Snapshot, word: str, content: bytes) -> bool:
    """Whether the list that a setting names refuses all that the estate's does; our own file has to be the estate's as it is."""
    held = snapshot.content(word) if _plain(word) != NONE else None
    if held is None or held == content or word == PATH:
        return held == content
    with suppress(KrlFault):
        return krl.read(held).holds_all_of(krl.read(content))
    return False
