"""Whether a guest's sshd refuses what the estate's list of revoked keys names (sshd_config(5), RevokedKeys)."""

from __future__ import annotations

from contextlib import suppress
from enum import StrEnum

from nightlatch.formats import krl
from nightlatch.formats.krl import KrlFault
from nightlatch.services.ssh.entries import SshAccess

PATH = "/etc/ssh/nightlatch_revoked"


class State(StrEnum):
    """The state of the list on a guest."""

    THERE = "there"
    OLDER = "older"  # our own file, with other content
    MISSING = "missing"
    OTHER = "another"  # a list of the guest's own


def state(server: SshAccess, content: bytes) -> State:
    """What the settings that hold for all name: the same bytes, or a list of the guest's own with all that the estate's has."""
    word = server.effective.top["revokedkeys"].word
    if word.lower() == "none":
        return State.MISSING
    held = server.reading.snapshot.content(word)
    if held == content:
        return State.THERE
    if word == PATH:
        return State.OLDER
    with suppress(KrlFault):
        if held is not None and krl.read(held).holds_all_of(krl.read(content)):
            return State.THERE
    return State.OTHER
