"""Keys that were seen to work before the passwords of their accounts go.

The reasoning says that a key opens; a password is closed only where the guest said so as well: over the connection that came in
by it, by sshd's answer to the query without a signature, or by a line of sshd's log of a login with it.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from enum import StrEnum

from nightlatch.draft.order import by_password
from nightlatch.draft.plan import Desk, ProvedDraft, draft_context
from nightlatch.estate.model import Estate
from nightlatch.faults import RefusedError, UnreadableError
from nightlatch.formats.keys import PublicKey
from nightlatch.model.grants import Grant, GrantKind
from nightlatch.model.paths import AccessPath
from nightlatch.model.secrets import Key, Need
from nightlatch.model.sources import COMMON
from nightlatch.net.addresses import NO_ADDRESS
from nightlatch.readings import guest as readings
from nightlatch.services.ssh import log_lines
from nightlatch.transports import asking
from nightlatch.transports.shell import Shell
from nightlatch.transports.ssh import Ssh

# An OpenSSH from 9.8 on turns an address away for a while that fails to log in a few times (sshd_config(5), PerSourcePenalties):
# ours is then shut out from its own change.
PENALTIES = (9, 8)
MOST_ASKED, FEW_ASKED = 8, 2


class Seen(StrEnum):
    """How a key was seen to work."""

    CAME_BY = "this connection came by it"
    TAKEN = "sshd takes it from here, asked without a signature"
    LOGGED = "sshd's log has a login by it"
    NOT = "not seen to work"


@dataclass(frozen=True, slots=True)
class KeyProof:
    """Somebody's key of an account whose passwords go, and how it was seen to work; `key` names one of theirs."""

    account: str
    who: str
    key: str
    seen: Seen


@dataclass(frozen=True)
class _Due:
    """Somebody who comes in by key to an account whose passwords go: their keys, and the ways that these open."""

    grant: Grant
    keys: tuple[PublicKey, ...]
    paths: tuple[AccessPath, ...]


def gather(estate: Estate, shell: Shell, proved: ProvedDraft) -> tuple[KeyProof, ...]:
    """How each key was seen to work whose account loses its passwords by this draft; asks the guest.

    Raises RefusedError where sshd does not take a key that the reasoning says it takes from here.
    """
    due = list(_due(estate, proved))
    logged = _logged(shell) if due else frozenset()
    asked, out = 0, []
    most = MOST_ASKED if _is_before_penalties(proved) else FEW_ASKED
    for each in due:
        if not _came_by(each, proved) and asked < most and _may_ask(shell, each, proved):
            asked += 1
            taken = _taken(shell, each)
        else:
            taken = None
        out.append(_proof(each, proved, taken, logged))
    return tuple(out)


def unseen(proofs: tuple[KeyProof, ...]) -> str:
    """The people whose keys were not seen to work, in words; empty where all were."""
    return ", ".join(f"{each.key} of {each.who} for {each.account}" for each in proofs if each.seen is Seen.NOT)


def _due(estate: Estate, proved: ProvedDraft) -> Iterator[_Due]:
    desk = Desk(draft_context(estate), proved.before, proved.at)
    after = desk.state(proved.after).access.paths
    gone = _with_password(desk.first.access.paths) - _with_password(after)
    known = {key.fingerprint: key for key in _public_halves(estate, proved.draft.guest)}
    told = set[tuple[str, str]]()
    # Where only some can be asked about, the accounts for the day all else fails come first.
    for grant in sorted(desk.grants, key=lambda grant: grant.kind is not GrantKind.EMERGENCY):
        held = _keys(*grant.proofs)
        paths = tuple(path for path in after if path.account == grant.account and _keys(path.need) & held)
        opening = _keys(*(path.need for path in paths)) & held
        keys = tuple(known[each] for each in sorted(opening) if each in known)
        if grant.account in gone and keys and (grant.who, grant.account) not in told:
            told.add((grant.who, grant.account))
            yield _Due(grant, keys, paths)


def _with_password(paths: Iterable[AccessPath]) -> set[str]:
    return {path.account for path in paths if by_password(path) and any(path.callers.perhaps.values())}


def _keys(*needs: Need) -> set[str]:
    return {secret.fingerprint for need in needs for secret in need if isinstance(secret, Key)}


def _public_halves(estate: Estate, guest: str) -> Iterator[PublicKey]:
    for person in estate.principals.values():
        yield from person.keys
    for kept in estate.emergency:
        yield from kept.keys
    own = estate.guests[guest].via.key
    if own is not None:
        yield own


def _came_by(due: _Due, proved: ProvedDraft) -> bool:
    came = proved.before.told.came
    return came.account == due.grant.account and came.key in {key.fingerprint for key in due.keys}


def _may_ask(shell: Shell, due: _Due, proved: ProvedDraft) -> bool:
    """Whether sshd takes the key from where we come, by the reasoning; asked from elsewhere it would say no, and count it."""
    here = proved.before.told.came.address
    lets = here is not None and any(here in path.callers.surely.get(COMMON, NO_ADDRESS) for path in due.paths)
    return lets and isinstance(shell, Ssh) and asking.can_be_asked(shell)


def _taken(shell: Shell, due: _Due) -> frozenset[str] | None:
    assert isinstance(shell, Ssh)
    try:
        taken = asking.accepted(shell, due.grant.account, due.keys)
    except UnreadableError:
        return None
    if not taken and len(due.keys) > asking.MOST_KEYS:
        return None
    if not taken:
        names = ", ".join(key.comment or key.fingerprint for key in due.keys)
        raise RefusedError(
            f"sshd does not take {names} for {due.grant.account} from here, though its files say that it does; "
            f"its log tells why. Nothing was changed: the passwords of {due.grant.account} stay",
            guest=shell.guest,
        )
    return taken


def _proof(due: _Due, proved: ProvedDraft, taken: frozenset[str] | None, logged: frozenset[tuple[str, str]]) -> KeyProof:
    account = due.grant.account
    seen, key = Seen.NOT, due.keys[0]
    by_log = [each for each in due.keys if (account, each.fingerprint) in logged]
    by_wire = [each for each in due.keys if taken is not None and each.fingerprint in taken]
    if _came_by(due, proved):
        seen = Seen.CAME_BY
    elif by_wire:
        seen, key = Seen.TAKEN, by_wire[0]
    elif by_log:
        seen, key = Seen.LOGGED, by_log[0]
    return KeyProof(account, due.grant.who, key.comment or key.fingerprint, seen)


def _logged(shell: Shell) -> frozenset[tuple[str, str]]:
    try:
        answer = shell.run(log_lines.ACCEPTED)
    except UnreadableError:
        return frozenset()
    return log_lines.by_key(answer.out[: 1 << 20].decode("utf-8", "replace").split("\n"))


def _is_before_penalties(proved: ProvedDraft) -> bool:
    found = re.search(r"(?:^|:)([0-9]{1,3})\.([0-9]{1,3})p", readings.read(proved.before).version)
    return found is not None and (int(found[1]), int(found[2])) < PENALTIES
