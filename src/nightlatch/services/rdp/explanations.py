"""Why somebody who is granted gets no desktop over RDP, in the order in which the server decides."""

from __future__ import annotations

from nightlatch.evidence.screen_files import MAIN, PROGRAM
from nightlatch.model.causes import Cause, NoServer, PasswordField, SettingLine
from nightlatch.model.gaps import Gap
from nightlatch.model.grants import Grant
from nightlatch.model.obstacles import Obstacle, ObstacleKind
from nightlatch.model.routes import Seal
from nightlatch.model.services import RDP
from nightlatch.net.addresses import AddressSet
from nightlatch.origin import Kind, Origin
from nightlatch.services.base import ServerState, ServiceCase
from nightlatch.services.rdp.entries import RdpAccess


def unserved(case: ServiceCase) -> Obstacle | None:
    """Why the server lets nobody in at all."""
    access = of(case)
    if access.state is ServerState.ABSENT:
        return Obstacle(ObstacleKind.NO_SERVICE, (NoServer(RDP.title, Origin(PROGRAM, kind=Kind.ABSENT)),))
    if access.state is ServerState.NOT_COLLECTED:
        return Obstacle(ObstacleKind.NOT_COLLECTED, (Gap("RDP server", "its files were not collected", Origin(PROGRAM)),))
    if access.state is ServerState.BROKEN:
        return Obstacle(ObstacleKind.REFUSED, (Gap("RDP server", access.fault, Origin(MAIN), refused=True),))
    if not access.listeners and access.settings is not None:
        ports = access.settings.ports
        return Obstacle(ObstacleKind.NO_SOCKET, (SettingLine("port", ports.value or "not set", ports.origin),), ports.origin)
    return None


def refused(grant: Grant, where: AddressSet, case: ServiceCase, *, served: bool) -> Obstacle | None:
    """The obstacle in the account, its password, its session, or the seal."""
    access = of(case)
    cause = among(access.shut, grant.account)
    if isinstance(cause, PasswordField):
        return Obstacle(ObstacleKind.NO_PASSWORD, (cause,), at=grant.account)
    if cause is not None:
        return Obstacle(ObstacleKind.SHUT, (cause,), at=cause.origin)
    cause = among(access.without, grant.account)
    if cause is not None:
        return Obstacle(ObstacleKind.NO_SESSION, (cause,), at=cause.origin)
    return _unsealed(grant, access)


def _unsealed(grant: Grant, access: RdpAccess) -> Obstacle | None:
    """The server has no seal as good as the grant asks for."""
    if access.seals is None or access.seals.tls or grant.seal is Seal.CLEAR:
        return None
    causes = (*access.seals.lacking, *access.seals.causes)
    return Obstacle(ObstacleKind.UNSEALED, causes, at=causes[0].origin)


def among(causes: tuple[tuple[str, Cause], ...], account: str) -> Cause | None:
    """The cause that is told of an account."""
    return next((cause for name, cause in causes if name == account), None)


def of(case: ServiceCase) -> RdpAccess:
    """RDP's own access of a case."""
    assert isinstance(case.access, RdpAccess)
    return case.access
