"""How one VNC server serves: where it listens, and which callers its security types let in."""

from __future__ import annotations

from dataclasses import dataclass

from nightlatch.model.bounds import EVERYBODY, Addresses
from nightlatch.model.causes import Cause, SettingLine
from nightlatch.model.gaps import Gap
from nightlatch.model.sockets import CONSOLE, Listener
from nightlatch.services.posix.x_sessions import SessionStart
from nightlatch.services.vnc.security import SecurityType

BASE = 5900  # the port of display 0 (RFC 6143, 7.1; Xvnc(1))


@dataclass(frozen=True, slots=True)
class ScreenSecret:
    """The password of a screen: the `file` that holds it, or "" where it stands in a setting. `whole` says that there is one for
    the whole screen, `view` one for a look at it; each is None where that is not known. `lacking` says why nobody gets in."""

    file: str
    whole: bool | None = True
    view: bool | None = False
    cause: Cause | None = None
    lacking: Cause | None = None


@dataclass(frozen=True, slots=True)
class Door:
    """One security type that is offered, with the line that offers it. `lacking` says why every login by it fails, `gap` why that
    is not known. For accounts: their names, or None for all that the guest has, asked by the stack `service` of PAM."""

    type: SecurityType
    cause: SettingLine
    lacking: Cause | None = None
    gap: Gap | None = None
    accounts: tuple[str, ...] | None = ()
    service: str = ""


@dataclass(frozen=True)
class Serving:
    """One server: `account` is the one that its process runs as, `screen` the account whose session is shown. `touches` says
    that callers' keys and pointer count; where they don't, all that is given is a look. `fault` says why it does not start."""

    account: str
    screen: str
    display: int | None
    listeners: tuple[Listener, ...] = ()
    doors: tuple[Door, ...] = ()
    secret: ScreenSecret | None = None
    touches: bool = True
    fault: str = ""
    gaps: tuple[Gap, ...] = ()
    session: SessionStart | None = None  # that of the wrapper, with which the server ends
    lockout: Cause | None = None  # why it turns nobody away after wrong passwords; None where it does
    once: bool = False  # it ends after the first caller
    callers: Addresses = EVERYBODY  # addresses that the server itself accepts, as it sees them

    @property
    def ends(self) -> Cause | None:
        """Why it ends as soon as it is started, with its session."""
        return self.session.refused if self.session is not None else None

    @property
    def mirrors(self) -> bool:
        """Whether it shows a display that another program serves."""
        return self.screen == CONSOLE
