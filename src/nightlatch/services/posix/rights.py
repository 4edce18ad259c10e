"""Root's rights that an account gets once it is in: by which rule of sudo, and what is asked on top (sudoers(5))."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from nightlatch.model.causes import SudoRule
from nightlatch.model.gaps import Gap
from nightlatch.model.secrets import Need, Password
from nightlatch.readings.accounts import Account
from nightlatch.services.posix.privilege import RootWay, Sudo


@dataclass(frozen=True, slots=True)
class RootRight:
    """One rule that gives root's rights: what is asked on top, and why it may not be so."""

    asked: Need
    rule: SudoRule
    gap: Gap | None = None


def rights(sudo: Sudo, account: Account, guest: str, knows: Callable[[str], bool]) -> Iterator[RootRight]:
    """The rules by which an account becomes root; `knows` says whether an account has a password that opens at all. A single
    command that may be led to more counts as unsure, where no rule gives all."""
    if account.uid == 0:
        return
    ups = sudo.ways(account)
    because = "a sudo rule for a named host may or may not be for this guest"
    for up in [each for each in dict.fromkeys(ups) if each is not None]:
        if not up.password or knows(up.password):
            yield _right(account, guest, up, because if ups[0] != ups[1] else "")
    if ups == (None, None):
        for up in sudo.single(account):
            if not up.password or knows(up.password):
                led = f"sudo lets {account.name} run {up.command[:80]} as root, which can be led to run any command"
                yield _right(account, guest, up, led)


def _right(account: Account, guest: str, up: RootWay, because: str) -> RootRight:
    asked = frozenset([Password(guest, up.password)]) if up.password else frozenset()
    gap = Gap("privilege", because, up.origin) if because else None
    return RootRight(asked, SudoRule(account.name, up.command, up.origin), gap)
