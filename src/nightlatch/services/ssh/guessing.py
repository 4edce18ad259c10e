"""How fast a guest lets passwords of one account be guessed over SSH: by its own locks and delays, as its files have them."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from nightlatch.model.powers import PowerKind
from nightlatch.model.secrets import Password
from nightlatch.net.addresses import EVERY_ADDRESS
from nightlatch.origin import Origin
from nightlatch.readings import lockouts
from nightlatch.readings.accounts import Account
from nightlatch.services.base import ServiceCase
from nightlatch.services.posix.pam import stack
from nightlatch.services.ssh.entries import SshAccess

HOUR = 3600
DELAY = 1.5  # seconds: pam_unix asks for two after a wrong password, and libpam varies them by a quarter (pam_fail_delay(3))


class LimitKind(StrEnum):
    """What slows guesses."""

    NOT_ASKED = "no password is asked"
    LOCK = "lock"
    DELAY = "delay"
    NOTHING = "nothing"
    UNDECIDED = "undecided"


@dataclass(frozen=True, slots=True)
class GuessLimit:
    """At most `an_hour` guesses (None: not known), or so many `ever`, and where that stands."""

    kind: LimitKind
    origin: Origin | None = None
    an_hour: int | None = None
    ever: int | None = None


def limit(case: ServiceCase, account: Account) -> GuessLimit:
    """What slows guesses of an account's password."""
    access = case.access
    assert isinstance(access, SshAccess)
    # With root's rights it is sudo that asks, and that is behind the login.
    mine = (path for path in case.paths if path.account == account.name and path.power.gives is not PowerKind.ADMINISTER)
    asked = any(isinstance(each, Password) for path in mine for each in path.need)
    settings = access.settings(account.name, EVERY_ADDRESS)[0]
    if not asked:
        shut = settings["passwordauthentication"]
        return GuessLimit(LimitKind.UNDECIDED if case.reading.accounts.gaps else LimitKind.NOT_ASKED, shut.origin, ever=0)
    if settings["usepam"].word != "yes":
        return GuessLimit(LimitKind.NOTHING, settings["usepam"].origin)
    auth = stack(case.reading.pam, "sshd", "auth").lines
    for each in auth:
        rule = lockouts.rule(case.reading.snapshot, each.line.arguments) if each.line.module == lockouts.MODULE else None
        if rule is not None and rule.deny and (account.uid or rule.root):
            seconds = rule.seconds if account.uid or rule.root_seconds is None else rule.root_seconds
            if seconds == lockouts.NEVER:
                return GuessLimit(LimitKind.LOCK, each.origin, ever=rule.deny)
            return GuessLimit(LimitKind.LOCK, each.origin, -(-rule.deny * HOUR // seconds))
    for each in auth:
        if each.line.module == "pam_unix.so" and "nodelay" not in each.line.arguments:
            most = settings["maxstartups"].value[-1]
            at_once = int(most) if most.isdigit() else 100
            return GuessLimit(LimitKind.DELAY, each.origin, int(at_once * HOUR / DELAY))
    return GuessLimit(LimitKind.NOTHING, settings["usepam"].origin)
