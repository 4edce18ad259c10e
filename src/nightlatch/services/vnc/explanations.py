"""Why somebody who is granted gets no screen over VNC, in the order in which a server decides."""

from __future__ import annotations

from nightlatch.evidence.vnc_files import PROGRAMS
from nightlatch.model.causes import Cause, NoServer, SettingLine
from nightlatch.model.gaps import Gap
from nightlatch.model.grants import Grant
from nightlatch.model.obstacles import Obstacle, ObstacleKind
from nightlatch.model.powers import DESKTOP
from nightlatch.model.secrets import Password, ScreenPassword
from nightlatch.model.services import VNC
from nightlatch.net.addresses import AddressSet
from nightlatch.origin import Kind, Origin, default
from nightlatch.services.base import ServerState, ServiceCase
from nightlatch.services.vnc.entries import VncAccess
from nightlatch.services.vnc.security import Asks
from nightlatch.services.vnc.serving import Door

NOTHING_KNOWN = SettingLine("SecurityTypes", "no known type", default("SecurityTypes"))


def unserved(case: ServiceCase) -> Obstacle | None:
    """Why one server lets nobody in at all."""
    access = of(case)
    if access.state is ServerState.ABSENT:
        return Obstacle(ObstacleKind.NO_SERVICE, (NoServer(VNC.title, Origin(PROGRAMS[0], kind=Kind.ABSENT)),))
    if access.state is ServerState.NOT_COLLECTED:
        return Obstacle(ObstacleKind.NOT_COLLECTED, (Gap("VNC server", "its files were not collected", Origin(PROGRAMS[0])),))
    at = access.start.origin if access.start is not None else Origin(PROGRAMS[0])
    if access.state is ServerState.BROKEN and access.serving is not None:
        return Obstacle(ObstacleKind.REFUSED, (Gap("VNC server", access.serving.fault, at, refused=True),), at)
    if access.state is ServerState.STOPPED and access.serving is not None and access.serving.ends is not None:
        return Obstacle(ObstacleKind.NO_SESSION, (access.serving.ends,), at=access.serving.ends.origin)
    if access.state is ServerState.STOPPED:
        because = "nothing starts it" if access.start is None else "it is not started"
        return Obstacle(ObstacleKind.STOPPED, (Gap("VNC server", because, at),), at)
    if not access.listeners:
        return Obstacle(ObstacleKind.NO_SOCKET, (Gap("VNC server", "it takes no connection over the network", at),), at)
    return None


def refused(grant: Grant, where: AddressSet, case: ServiceCase, *, served: bool) -> Obstacle | None:
    """The obstacle in the screen, what is asked for it, or the seal."""
    access = of(case)
    if not is_meant(grant, access) or access.serving is None or not access.is_known:
        return None
    doors = [door for door in access.serving.doors if asked_by(grant, door)]
    if not doors:
        offered = next((door.cause for door in access.serving.doors), NOTHING_KNOWN)
        return Obstacle(ObstacleKind.PASSWORDS_OFF, (offered,), at=offered.origin)
    lacking = next((door.lacking for door in doors if door.lacking is not None), None)
    good = [door for door in doors if door.lacking is None]
    if not [door for door in good if door.type.seal >= grant.seal]:
        causes: tuple[Cause, ...] = (*([lacking] if lacking is not None else []), doors[0].cause)
        return Obstacle(ObstacleKind.UNSEALED, causes, at=causes[0].origin)
    secret = access.serving.secret
    if any(door.type.asks is Asks.SCREEN for door in good) and secret is not None and secret.lacking is not None:
        return Obstacle(ObstacleKind.NO_PASSWORD, (secret.lacking,), at=access.serving.screen)
    if not access.serving.touches and DESKTOP in grant.gives:
        at = access.start.origin if access.start is not None else Origin("viewonly")
        return Obstacle(ObstacleKind.LESS, (SettingLine("viewonly", "set", at),), at=at)
    return None


def is_meant(grant: Grant, access: VncAccess) -> bool:
    """Whether a grant speaks of this server: of its screen, and of its port where it names one."""
    return access.screen == grant.account and any(grant.means(each.port) for each in access.listeners)


def asked_by(grant: Grant, door: Door) -> bool:
    """Whether a type asks for what the grant has its people show, or for nothing."""
    if door.type.asks is Asks.NOTHING:
        return True
    wanted = Password if door.type.asks is Asks.ACCOUNT or door.accounts != () else ScreenPassword
    return any(isinstance(secret, wanted) for need in grant.proofs for secret in need)


def of(case: ServiceCase) -> VncAccess:
    """VNC's own access of a case."""
    assert isinstance(case.access, VncAccess)
    return case.access
