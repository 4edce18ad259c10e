"""Obstacles: the reason why somebody who is granted can't get in, as a kind with causes and their places. Sentences are
made of them later."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from nightlatch.model.causes import Cause
from nightlatch.model.powers import Power
from nightlatch.origin import Origin


class ObstacleKind(StrEnum):
    """The kinds of obstacles."""

    NO_SERVICE = "no service"
    REFUSED = "settings that are refused"
    STOPPED = "the service does not run"
    NOT_COLLECTED = "the service's files were not collected"
    NO_PROOF = "nothing of theirs counts any more"
    NO_ACCOUNT = "no account"
    FILTER = "filter"
    NO_WAY = "no way there"
    NO_SOCKET = "no socket takes them"
    SHUT = "the account may not log in"
    REJECTED = "the key is not accepted"
    NO_PASSWORD = "no password"
    PASSWORDS_OFF = "passwords off"
    KEYS_OFF = "keys off"
    UNLISTED = "key not listed"
    NO_AUTHORITY = "authority not trusted"
    LESS = "gives less"
    MORE = "asks for more"
    NO_SUDO = "no sudo rule"
    NO_SESSION = "no session starts"
    NO_SCREEN = "no server shows this screen"
    NO_TUNNEL = "no tunnel to its port"
    ON_THE_WAY = "the login on the way does not come through"
    UNSEALED = "not sealed as granted"
    LINE = "a line for some addresses"
    NARROW = "narrower than the grant"
    PARTLY = "open to some of them"
    UNEXPLAINED = "unexplained"


class Why(StrEnum):
    """In what way a line keeps somebody out from some addresses."""

    ENDED = "the connection is ended"
    MAY_NOT = "the account may not log in"
    KEYS_OFF = "keys are switched off"
    FROM_ELSEWHERE = "the key line lets it in from elsewhere only"
    REJECTED = "the key is there, and is not accepted"
    OTHER_KEYS = "other keys count"
    PASSWORDS_OFF = "passwords are switched off"
    MORE_ASKED = "more is asked than the grant says"


@dataclass(frozen=True, slots=True)
class Obstacle:
    """Why a grant is not served: by what, and the causes, the one that counts first. `why` says in what way a line keeps somebody
    out, `given` what is given in place of what is granted, `port` the one that a filter guards. Differences with the same `key`,
    by what and where, are one."""

    by: ObstacleKind
    causes: tuple[Cause, ...]
    at: Origin | str = ""
    why: Why | None = None
    given: tuple[Power, ...] = ()
    port: int = 0

    @property
    def key(self) -> tuple[ObstacleKind, Origin | str]:
        """The kind, and the place of the line or a name."""
        return self.by, self.at
