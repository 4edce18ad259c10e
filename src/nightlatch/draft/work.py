"""The input of every search for steps: one guest as it stands, with its grants."""

from __future__ import annotations

from dataclasses import dataclass

from nightlatch.access.paths import GuestAccess
from nightlatch.estate.model import Estate
from nightlatch.model.grants import Grant
from nightlatch.services.base import ServiceAccess, ServiceCase


@dataclass(frozen=True)
class Work:
    """A guest's access and grants, whose callers are as the guest sees them."""

    access: GuestAccess
    grants: tuple[Grant, ...]
    estate: Estate

    def of(self, service: str) -> tuple[Grant, ...]:
        """The grants of a direct way by one service."""
        return tuple(grant for grant in self.grants if grant.service == service and not grant.shape)

    def case(self, server: ServiceAccess) -> ServiceCase:
        """The case of one server: what its service needs to know of the guest."""
        name = server.words.name
        mine = tuple(path for path in self.access.paths if path.service == name)
        return ServiceCase(server, self.access.reading, mine, self.of(name), self.estate)
