"""What opens a way in through a login on the guest itself: the tunnel, and the service at its end."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from nightlatch.draft.steps import Steps
from nightlatch.draft.work import Work
from nightlatch.model.grants import Grant
from nightlatch.model.powers import Power, PowerKind
from nightlatch.services.base import Kinds


def opening(kinds: Kinds, work: Work, grant: Grant, why: str) -> Iterator[Steps]:
    """Candidates for a grant that names a login on the way: no filter is met behind it."""
    leg = grant.shape[0]
    ports = {grant.port} if grant.port else {socket.port for _, socket in work.access.sockets(grant.service)}
    tunnels = frozenset(Power(PowerKind.TUNNEL, f"localhost:{port}") for port in ports)
    login = replace(grant, service=leg.service, account=leg.account, shape=(), gives=tunnels, proofs=grant.before)
    for server in work.access.of(leg.service):
        yield from kinds[leg.service].opening(login, why, work.case(server))
    for server in work.access.of(grant.service):
        yield from kinds[grant.service].opening(grant, why, work.case(server))
