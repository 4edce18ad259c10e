"""The line that has sshd's PAM stack ask for a one-time code (pam_google_authenticator(8), pam.conf(5)).

The module has to be installed, and the account to have a secret that the module takes: who has the phone makes it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import lines as text_lines
from nightlatch.formats import pam
from nightlatch.model.grants import Grant
from nightlatch.model.secrets import Code, Need, Password
from nightlatch.model.steps import InsertAbove
from nightlatch.readings.accounts import Account
from nightlatch.readings.guest import GuestReading
from nightlatch.services.posix import codes

STACK = "/etc/pam.d/sshd"
# Beside the password, which what stands below asks for. With `nullok` accounts without a secret go on with their password alone.
BESIDE = (f"auth required {pam.CODES}", f"auth required {pam.CODES} nullok")
# In its place: `nullok` is not for this one, for an account without a secret might come in with nothing.
ALONE = (f"auth [success=done default=die] {pam.CODES}",)


def asking(reading: GuestReading, account: Account, need: Need, grants: Iterable[Grant], why: str) -> Iterator[InsertAbove]:
    """The lines, one by one, that may have the code of a need asked; none where it is asked already, or could not be. Where
    `grants` let others in by a password alone, the line that leaves them alone comes first."""
    snapshot = reading.snapshot
    wanted = any(isinstance(secret, Code) for secret in need)
    if not wanted or _is_asked(reading, "sshd", set()) or not is_installed(snapshot):
        return
    if codes.read(snapshot, account, ()).state is not codes.CodeState.ASKED:
        return
    place = _first(snapshot)
    if place is not None:
        beside = reversed(BESIDE) if any(_by_password_alone(each) for each in grants) else BESIDE
        for text in beside if any(isinstance(secret, Password) for secret in need) else ALONE:
            yield InsertAbove(snapshot.resolve(STACK).path, why, True, *place, text)


def lacks(reading: GuestReading, grants: Iterable[Grant], accounts: Iterable[str]) -> str:
    """What a person has to do before a code that is granted for one of these accounts can be asked; empty where nothing is."""
    needs = {grant.account: need for grant in grants for need in grant.proofs if any(isinstance(each, Code) for each in need)}
    for name in sorted(needs.keys() & {*accounts}):
        account = reading.accounts.by_name.get(name)
        if account is None or _is_asked(reading, "sshd", set()):
            continue
        found = codes.read(reading.snapshot, account, ())
        if not is_installed(reading.snapshot):
            return f"install the PAM module {pam.CODES}, then survey and draft again"
        if found.state is codes.CodeState.REFUSED and reading.snapshot.resolve(found.origin.path).entry is not None:
            return f"{name} makes a secret, of mode 0400: run google-authenticator as {name}, then draft again"
    return ""


def _by_password_alone(grant: Grant) -> bool:
    return any(all(isinstance(secret, Password) for secret in need) for need in grant.proofs)


def is_installed(snapshot: Snapshot) -> bool:
    """Whether the module is in a folder where PAM looks for it; not, where evidence does not tell."""
    found = (snapshot.resolve(path).entry for path in pam.CODES_PLACES)
    return any(entry is not None and entry.kind is EntryKind.FILE for entry in found)


def _is_asked(reading: GuestReading, service: str, seen: set[str]) -> bool:
    """Whether the stack of a service, or one that it includes, names the module; so it is where a line can't be read."""
    if service in seen:
        return False
    seen.add(service)
    lines = [each.line for each in reading.pam.get(service, ())]
    return any(line.module == pam.CODES or line.fault for line in lines) or any(
        _is_asked(reading, line.include, seen) for line in lines if line.include
    )


def _first(snapshot: Snapshot) -> tuple[str, int] | None:
    """The first line of sshd's stack that has something asked: its text, and how many of that text stand above it."""
    content = snapshot.content(STACK)
    lines = text_lines.split(content or b"")
    for line in pam.parse(content or b""):
        if line.facility == "auth" or (line.include and not line.facility):
            texts = [text_lines.text_of(each).rstrip("\r\n") for each in lines[: line.number]]
            return texts[-1], texts[:-1].count(texts[-1])
    return None
