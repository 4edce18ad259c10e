"""The words of the reasoning: secrets, needs, powers, sources in realms, bounds, access paths and grants.

An access path says: who shows `need` at `service` of `guest` from `callers` gets `power` as `account`. A grant says the
same of what is meant to be. `differences.py` holds the two against each other.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from functools import lru_cache

from nightlatch.model.bounds import Bounds
from nightlatch.model.causes import Cause
from nightlatch.net.addresses import NO_ADDRESS, AddressSet, union
from nightlatch.origin import Origin

Realm = str
COMMON: Realm = ""  # the realm in which addresses mean the same everywhere
Sources = Mapping[Realm, AddressSet]
NOWHERE: Sources = {}


def joined(all_sources: Iterable[Sources]) -> Sources:
    """The union of source sets, realm by realm."""
    found = [sources for sources in all_sources if sources]
    if len(found) == 1:
        return found[0]
    parts: dict[Realm, list[AddressSet]] = {}
    for sources in found:
        for realm, addresses in sources.items():
            parts.setdefault(realm, []).append(addresses)
    return {realm: union(sets) for realm, sets in parts.items()}


def without(a: Sources, b: Sources) -> Sources:
    """What is in `a` and not in `b`, without realms that came out empty."""
    if not b or not a:
        return a
    out = {realm: addresses - b.get(realm, NO_ADDRESS) for realm, addresses in a.items()}
    return {realm: addresses for realm, addresses in out.items() if addresses}


def common_to(a: Sources, b: Sources) -> Sources:
    """What is in both, without empty realms."""
    out = {realm: addresses & b.get(realm, NO_ADDRESS) for realm, addresses in a.items()}
    return {realm: addresses for realm, addresses in out.items() if addresses}


@dataclass(frozen=True, slots=True)
class Key:
    """The private half of a key, by its SHA256 fingerprint."""

    fingerprint: str


@dataclass(frozen=True, slots=True)
class Certificate:
    """A certificate that an authority (by fingerprint) signed for a principal; None is one that names no principal."""

    authority: str
    principal: str | None


@dataclass(frozen=True, slots=True)
class Password:
    """The password of an account, where `realm` is the guest or the directory that knows it."""

    realm: str
    account: str


@dataclass(frozen=True, slots=True)
class Unknown:
    """Something that has to be shown and can't be read from files."""

    why: str
    origin: Origin


Secret = Key | Certificate | Password | Unknown
Need = frozenset[Secret]


class Gives(StrEnum):
    """The kinds of power."""

    SHELL = "shell"
    COMMAND = "command"
    FILES = "files"
    TUNNEL = "tunnel"
    LISTEN = "listen"
    AGENT = "agent"
    ADMINISTER = "administer"
    CHANGE_PASSWORD = "change password"


@dataclass(frozen=True, slots=True)
class Power:
    """One thing a login gives; `what` is the command, the root folder of files, or the target of a tunnel."""

    gives: Gives
    what: str = ""

    def within(self, other: Power) -> bool:
        """Whether this power is no more than `other`."""
        if self.gives is not other.gives:
            return False
        if self.gives is Gives.FILES:
            root = other.what.rstrip("/")
            return self.what == other.what or self.what.startswith(root + "/")
        return self.what == other.what or other.what == "*"

    def __str__(self) -> str:
        shown = {
            Gives.COMMAND: f"runs {self.what}",
            Gives.FILES: f"files under {self.what}",
            Gives.TUNNEL: "tunnels to anywhere" if self.what == "*" else f"a tunnel to {self.what}",
            Gives.LISTEN: "tunnels back from anywhere" if self.what == "*" else f"a tunnel back from {self.what}",
            Gives.AGENT: "agent forwarding",
            Gives.SHELL: "a shell",
            Gives.ADMINISTER: "root's rights",
            Gives.CHANGE_PASSWORD: "a change of the password",
        }
        return shown[self.gives]


SHELL = Power(Gives.SHELL)
ADMINISTER = Power(Gives.ADMINISTER)
IMPLIED_BY_SHELL = (
    SHELL, Power(Gives.COMMAND, "*"), Power(Gives.FILES, "/"), Power(Gives.TUNNEL, "*"), Power(Gives.LISTEN, "*"),
    Power(Gives.AGENT), Power(Gives.CHANGE_PASSWORD),
)  # fmt: skip


@lru_cache(maxsize=1024)
def implied(gives: frozenset[Power]) -> frozenset[Power]:
    """What a grant allows: a shell implies files, commands, tunnels and the agent."""
    return gives | frozenset(IMPLIED_BY_SHELL) if SHELL in gives else gives


@dataclass(frozen=True, slots=True)
class AccessPath:
    """One way in. `route` names the listening socket, and the forward that leads there; `shape` are logins on the way (none
    when it is direct); `alike` is the address as which the guest sees all who come by it, where it can't tell them apart."""

    guest: str
    account: str
    need: Need
    power: Power
    callers: Bounds[Sources]
    causes: tuple[Cause, ...]
    route: str = ""
    service: str = "ssh"
    shape: tuple[str, ...] = ()
    alike: str = ""

    @property
    def place(self) -> tuple[str, str, tuple[str, ...], str]:
        """What must be the same for a grant to speak of this path."""
        return (self.guest, self.service, self.shape, self.account)


class GrantKind(StrEnum):
    """Why something is granted."""

    GRANT = "grant"
    OWN_DOOR = "own door"
    EMERGENCY = "emergency"


@dataclass(frozen=True, slots=True)
class Grant:
    """One sentence of the estate for one principal, guest and account. `after` is what root's rights ask on top.

    `who` and `text` are for people; `origin` is the place in the estate file.
    """

    guest: str
    account: str
    who: str
    proofs: frozenset[Need]
    gives: frozenset[Power]
    callers: Bounds[Sources]
    origin: Origin
    after: Need = frozenset()
    kind: GrantKind = GrantKind.GRANT
    service: str = "ssh"
    shape: tuple[str, ...] = ()
    text: str = ""
    where: str = ""
    names: Mapping[str, str] = field(default_factory=dict, compare=False)

    @property
    def place(self) -> tuple[str, str, tuple[str, ...], str]:
        """What must be the same for a path to serve this grant."""
        return (self.guest, self.service, self.shape, self.account)

    @property
    def allows(self) -> frozenset[Power]:
        """All that the grant allows. The own door and emergency accounts may become root: that is what they are for."""
        return implied(self.gives if self.kind is GrantKind.GRANT else self.gives | {ADMINISTER})

    def asked(self, power: Power) -> frozenset[Need]:
        """What has to be shown for a power: root's rights ask for `after` as well."""
        if power.gives is Gives.ADMINISTER:
            return frozenset(need | self.after for need in self.proofs)
        return self.proofs
