"""The secrets that grants ask for on one account: keys with their options, passwords, and from where."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from nightlatch.model.grants import Grant, seen_by_guest
from nightlatch.model.powers import SHELL, PowerKind
from nightlatch.model.secrets import Password, Secret
from nightlatch.net.addresses import EVERY_ADDRESS, AddressSet


@dataclass(frozen=True, slots=True)
class WantedSecret:
    """One secret on one account: addresses as the guest sees them, and what it may do there."""

    sources: AddressSet
    command: str = ""
    files: str = ""
    shell: bool = False

    @property
    def limit(self) -> str | None:
        """The value of from=, or None when there is no limit."""
        if self.sources == EVERY_ADDRESS:
            return None
        return ",".join(self.sources.prefixes())


def of_secret(secret: Secret, account: str, grants: Iterable[Grant]) -> WantedSecret | None:
    """The grants' demand on a secret of an account, or None when no grant names it."""
    mine = [g for g in grants if g.account == account and any(secret in need for need in g.proofs)]
    sources = seen_by_guest(mine)
    if not sources:
        return None
    powers = [power for g in mine for power in g.gives]
    command = next((p.what for p in powers if p.gives is PowerKind.COMMAND), "")
    files = next((p.what for p in powers if p.gives is PowerKind.FILES), "")
    return WantedSecret(sources, command, files, SHELL in powers)


def passwords(account: str, grants: Iterable[Grant]) -> AddressSet:
    """From where a password alone is wanted on an account."""
    return seen_by_guest(g for g in grants if g.account == account and any(_alone(need) for need in g.proofs))


def _alone(need: frozenset[Secret]) -> bool:
    return bool(need) and all(isinstance(secret, Password) for secret in need)


def options(wanted: WantedSecret) -> dict[str, str | None]:
    """Options for a key line, as `authorized_keys.with_options` takes them."""
    out: dict[str, str | None] = {"from": wanted.limit}
    if wanted.shell:
        out.update({"command": None, "restrict": None})
    elif wanted.command:
        out.update({"restrict": "", "command": wanted.command})
    elif wanted.files:
        out.update({"restrict": "", "command": None})
    return out
