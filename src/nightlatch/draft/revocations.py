"""The estate's list of revoked keys, put where each guest's sshd reads it (sshd_config(5), RevokedKeys).

A key whose line was taken away may come back with the next copy of an old file; on this list it opens nothing all the same.
"""

from __future__ import annotations

from nightlatch.access.paths import GuestAccess
from nightlatch.draft.partial_draft import PartialDraft
from nightlatch.draft.steps import Rewrite
from nightlatch.draft.work import Work
from nightlatch.estate.model import Estate
from nightlatch.evidence.snapshot import EntryKind
from nightlatch.formats import lines as text_lines
from nightlatch.model.grants import Grant
from nightlatch.model.services import SSH
from nightlatch.model.steps import MakeFile
from nightlatch.services.base import ServerState
from nightlatch.services.ssh import revoked
from nightlatch.services.ssh.closing_steps import ClosingSteps
from nightlatch.services.ssh.entries import SshAccess

HANDS = {
    revoked.State.OTHER: "put them on {path}, this guest's own list, by nightlatch key revoke; or take that setting away",
    revoked.State.NOT_ALL: "take RevokedKeys {path} out of its Match block ({origin}), where it counts in place of the other",
}
MODE = 0o644  # public keys and numbers; sshd reads it as root


def given(estate: Estate, access: GuestAccess, grants: tuple[Grant, ...]) -> PartialDraft:
    """The steps for one guest; nothing where its sshd has the list already, or there is none."""
    out = PartialDraft()
    stated = estate.revoked
    for server in access.of(SSH.name) if stated is not None else ():
        assert stated is not None
        if not isinstance(server, SshAccess) or server.state is not ServerState.SERVES:
            continue
        found = revoked.read(server, stated.content)
        why = f"{stated.origin} names keys that open nothing any more, and this guest's sshd does not refuse them all."
        if found.state is revoked.State.THERE:
            continue
        if found.state in HANDS:
            out.leave(why, HANDS[found.state].format(path=found.word, origin=found.origin))
            continue
        snapshot = access.reading.snapshot
        entry = snapshot.resolve(revoked.PATH).entry
        if entry is None or entry.kind is EntryKind.ABSENT:
            out.steps.append(MakeFile(revoked.PATH, why, False, text_lines.text_of(stated.content), MODE, 0, 0))
        elif entry.kind is not EntryKind.FILE or entry.content is None:
            out.leave(why, f"take {revoked.PATH} away, which is no file that can be read")
            continue
        elif entry.content != stated.content:
            out.steps.append(Rewrite(revoked.PATH, why, False, entry, stated.content, "the estate's list of revoked keys"))
        if found.state is revoked.State.MISSING:
            work = ClosingSteps(Work(access, grants, estate).case(server))
            out.steps += work.setting("revokedkeys", revoked.PATH, found.origin, why)
    return out
