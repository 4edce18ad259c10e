"""What waits for another draft, since no connection proves both in one change: the new comes first, the old goes after it.

- A password stays open where the same draft brings its account the key that is granted.
- Administrators stay where the same draft makes another one.
- A key stays until the one that takes its place opens (rotation.py).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property

from nightlatch.access.differences import ShutOut
from nightlatch.access.paths import GuestAccess
from nightlatch.draft import rotation
from nightlatch.estate.model import Estate
from nightlatch.model.grants import Grant, GrantKind
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import PowerKind
from nightlatch.model.secrets import Certificate, Key, Password

BY_KEY = "enact this draft, which brings {} a key, and try that key; the next draft closes the password"
BY_OTHER = "enact this draft, which makes {} an administrator, and try that; the next draft goes on"


@dataclass(frozen=True)
class Order:
    """What one guest's first state has to keep until another draft, where a draft lets in those who were `shut` out."""

    estate: Estate
    access: GuestAccess
    grants: tuple[Grant, ...]
    shut: tuple[ShutOut, ...]

    @cached_property
    def newly_by_key(self) -> dict[str, str]:
        """The accounts to which a draft brings a key, and whose it is."""
        mine = (each.grant for each in self.shut if each.certain and each.grant.kind is GrantKind.GRANT)
        return {grant.account: grant.who for grant in mine if any(_by_key(need) for need in grant.proofs)}

    @cached_property
    def new_administrators(self) -> dict[str, str]:
        """The accounts that a draft makes administrators, and whose they are."""
        mine = (each for each in self.shut if each.certain and each.grant.kind is GrantKind.GRANT)
        return {each.grant.account: each.grant.who for each in mine if each.power.gives is PowerKind.ADMINISTER}

    @cached_property
    def passwords_kept(self) -> frozenset[tuple[str, frozenset[object]]]:
        """The ways in by a password that have to stay for now: account and need."""
        return frozenset((path.account, path.need) for path in self.access.paths if self._password_waits(path))

    def waits(self, path: AccessPath) -> str:
        """Why a way in has to stay for now, and what to do; empty where it may go."""
        if rotation.waits(self.estate, self.access, self.grants, path):
            return rotation.HAND
        if self._password_waits(path):
            return BY_KEY.format(self.newly_by_key[path.account])
        goes = path.power.gives is PowerKind.ADMINISTER or (
            path.account not in self._granted and self.is_administrator(path.account)
        )
        return self.administrators_stay() if goes and path.account not in self.new_administrators else ""

    def administrators_stay(self) -> str:
        """Why no administrator goes with this draft; empty where they may."""
        names = sorted(set(self.new_administrators.values()))
        return BY_OTHER.format(", ".join(names)) if names else ""

    def is_administrator(self, account: str) -> bool:
        """Whether an account may become root, by any way in."""
        return account in self._administrators(self.access.paths)

    def kept(self, paths: Iterable[AccessPath]) -> bool:
        """Whether all passwords and administrators that have to stay are among the ways in of another state."""
        if self.passwords_kept and not self.passwords_kept <= {(path.account, path.need) for path in paths}:
            return False
        if not self.new_administrators:
            return True
        return self._administrators(self.access.paths) <= self._administrators(paths) | self.new_administrators.keys()

    @cached_property
    def _granted(self) -> frozenset[str]:
        """The accounts that a grant opens for somebody now."""
        return frozenset(grant.account for grant in self.grants if any(grant.callers.perhaps.values()))

    def _administrators(self, paths: Iterable[AccessPath]) -> set[str]:
        return {each.account for each in paths if each.power.gives is PowerKind.ADMINISTER and any(each.callers.perhaps.values())}

    def _password_waits(self, path: AccessPath) -> bool:
        return path.account in self.newly_by_key and by_password(path) and any(path.callers.perhaps.values())


def by_password(path: AccessPath) -> bool:
    """Whether a login asks for a password and for no key; what sudo asks behind it is another matter."""
    asked = any(isinstance(secret, Password) for secret in path.need) and not _by_key(path.need)
    return asked and path.power.gives is not PowerKind.ADMINISTER


def _by_key(need: Iterable[object]) -> bool:
    return any(isinstance(secret, Key | Certificate) for secret in need)
