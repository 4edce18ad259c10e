"""An access path: who shows `need` at `service` of `guest` from `callers` gets `power` as `account`."""

from __future__ import annotations

from dataclasses import dataclass

from nightlatch.model.bounds import Bounds
from nightlatch.model.causes import Cause
from nightlatch.model.powers import Power
from nightlatch.model.routes import DIALLED, Leg, Route, Seal
from nightlatch.model.secrets import Need
from nightlatch.model.services import SSH
from nightlatch.model.sources import Sources


@dataclass(frozen=True, slots=True)
class AccessPath:
    """One way in, by a `route` to a listening socket; `shape` are logins on the way (none when it is direct); `alike` is the
    address as which the guest sees all who come by it, where it can't tell them apart."""

    guest: str
    account: str
    need: Need
    power: Power
    callers: Bounds[Sources]
    causes: tuple[Cause, ...]
    route: Route = DIALLED
    service: str = SSH.name
    shape: tuple[Leg, ...] = ()
    seal: Seal = Seal.TLS
    alike: str = ""

    @property
    def place(self) -> tuple[str, str, tuple[Leg, ...], str]:
        """The part of a path that must equal that of a grant which speaks of it."""
        return (self.guest, self.service, self.shape, self.account)
