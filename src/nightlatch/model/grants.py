"""A grant: one principal, guest and account, with the access that the estate means them to have. Access paths say what
they have."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from nightlatch.model.bounds import Bounds
from nightlatch.model.powers import ADMINISTER, Power, PowerKind, implied
from nightlatch.model.routes import Leg, Seal
from nightlatch.model.secrets import Need
from nightlatch.model.services import SSH
from nightlatch.model.sources import COMMON, Sources
from nightlatch.net.addresses import NO_ADDRESS, AddressSet, union
from nightlatch.origin import Origin


class GrantKind(StrEnum):
    """Why something is granted."""

    GRANT = "grant"
    MANAGEMENT = "management access"
    EMERGENCY = "emergency"


@dataclass(frozen=True, slots=True, kw_only=True)
class Grant:
    """One sentence of the estate for one principal, guest and account. `after` is what root's rights ask on top.

    `who` and `text` are for people; `origin` is the place in the estate file; `seal` is the least that the connection must have;
    `port` the one port that is meant, 0 where any is; `before` the proofs of the login on the way (`shape`), whose secrets are
    among those of `proofs` as well.
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
    service: str = SSH.name
    shape: tuple[Leg, ...] = ()
    seal: Seal = Seal.TLS
    port: int = 0
    before: frozenset[Need] = frozenset()
    text: str = ""
    where: str = ""
    names: Mapping[str, str] = field(default_factory=dict, compare=False)

    @property
    def place(self) -> tuple[str, str, tuple[Leg, ...], str]:
        """The part of a grant that must equal that of a path which serves it."""
        return (self.guest, self.service, self.shape, self.account)

    def means(self, port: int) -> bool:
        """Whether it speaks of a server on this port."""
        return self.port in (0, port)

    @property
    def allows(self) -> frozenset[Power]:
        """All that the grant allows. Management access and emergency accounts may become root: that is what they are for."""
        return implied(self.gives if self.kind is GrantKind.GRANT else self.gives | {ADMINISTER})

    def asked(self, power: Power) -> frozenset[Need]:
        """The needs for a power: root's rights ask for `after` as well."""
        if power.gives is PowerKind.ADMINISTER:
            return frozenset(need | self.after for need in self.proofs)
        return self.proofs


def seen_by_guest(grants: Iterable[Grant]) -> AddressSet:
    """Where the grants' callers come from in the guest's eyes."""
    return union(grant.callers.surely.get(COMMON, NO_ADDRESS) for grant in grants)
