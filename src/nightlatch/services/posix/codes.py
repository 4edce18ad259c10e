"""One-time codes as a PAM module asks them (pam_google_authenticator(8)): which accounts have a secret, and which get by without.

The secret stands in a file of the account's own, of which only the mode and the owner are ever read. Other modules for codes keep
their secrets in files of root's; they would have to run.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import pam
from nightlatch.origin import Origin
from nightlatch.readings.accounts import Account

# With these one prompt is for password and code together, the secret stands elsewhere (that place is taken out on reading),
# another account reads it, or its mode does not matter.
OTHERWISE = ("forward_pass", "try_first_pass", "use_first_pass", "secret", "user", "allowed_perm", "no_strict_owner")
MODE = 0o3577  # of these bits only the owner's right to read may be set


class CodeState(StrEnum):
    """How an account stands towards the module."""

    ASKED = "asked"
    WITHOUT = "gets by without"
    REFUSED = "refused"
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class CodeReading:
    """The state, and the file of the account's secret."""

    state: CodeState
    origin: Origin


def read(snapshot: Snapshot, account: Account, arguments: tuple[str, ...]) -> CodeReading:
    """What the module does with an account."""
    found = snapshot.resolve(f"{account.home}/{pam.CODE_FILE}")
    where = Origin(found.path)
    if any(each.partition("=")[0] in OTHERWISE for each in arguments) or found.entry is None:
        return CodeReading(CodeState.UNKNOWN, where)
    if found.entry.kind is EntryKind.ABSENT:
        return CodeReading(CodeState.WITHOUT if "nullok" in arguments else CodeState.REFUSED, where)
    kept = found.entry.kind is EntryKind.FILE and found.entry.mode & MODE == 0o400 and found.entry.uid == account.uid
    return CodeReading(CodeState.ASKED if kept else CodeState.REFUSED, where)
