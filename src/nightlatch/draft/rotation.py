"""Keys that take the place of others: the new one comes in wherever its person is granted a key, and the old one goes after it.

No connection proves both in one change: a draft that brings the new key leaves the old one, and says so; the next takes it out.
"""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.access.paths import GuestAccess
from nightlatch.draft.partial_draft import PartialDraft
from nightlatch.draft.work import Work
from nightlatch.estate.model import Estate, KeyEnd, Principal
from nightlatch.formats.keys import PublicKey
from nightlatch.model.grants import Grant, GrantKind
from nightlatch.model.paths import AccessPath
from nightlatch.model.secrets import Key
from nightlatch.services.ssh import opening_steps

HAND = "enact this draft first: it brings the key that takes its place, and the next draft takes the old one out"


def given(estate: Estate, access: GuestAccess, grants: tuple[Grant, ...]) -> PartialDraft:
    """The successors that are due on one guest: each where its person is granted a key, and where it is not yet."""
    out = PartialDraft()
    work = Work(access, grants, estate)
    for grant in grants:
        person = estate.principals.get(grant.who)
        account = access.reading.accounts.by_name.get(grant.account)
        if person is None or account is None or grant.kind is not GrantKind.GRANT or not any(grant.callers.surely.values()):
            continue
        for end, successor in _successions(person):
            secret = Key(successor.fingerprint)
            if not any(secret in need for need in grant.proofs) or _opens(access, grant.account, successor):
                continue
            why = f"{person.name}'s key {_name(end.key)} counts until {end.last}; {_name(successor)} takes its place."
            for server in access.of(grant.service):
                steps = opening_steps.added_key(work.case(server), secret, account, why)
                out.steps += [step for step in steps if step not in out.steps]
    return out


def waits(estate: Estate, access: GuestAccess, grants: tuple[Grant, ...], path: AccessPath) -> bool:
    """Whether a way in has to stay for now: it is by a key that ended, and the one that takes its place does not open yet what
    its person is granted."""
    for person in estate.principals.values():
        for end, successor in _successions(person):
            if Key(end.key.fingerprint) in path.need and not _opens(access, path.account, successor):
                return any(_grants(grant, person, path.account, successor) for grant in grants)
    return False


def _grants(grant: Grant, person: Principal, account: str, key: PublicKey) -> bool:
    by_key = any(Key(key.fingerprint) in need for need in grant.proofs)
    return grant.who == person.name and grant.account == account and by_key and any(grant.callers.surely.values())


def _successions(person: Principal) -> Iterator[tuple[KeyEnd, PublicKey]]:
    return ((end, end.successor) for end in person.ends if end.successor is not None)


def _opens(access: GuestAccess, account: str, key: PublicKey) -> bool:
    """Whether a key opens an account from anywhere at all."""
    mine = (path for path in access.paths if path.account == account and Key(key.fingerprint) in path.need)
    return any(any(path.callers.perhaps.values()) for path in mine)


def _name(key: PublicKey) -> str:
    return key.comment or key.fingerprint
