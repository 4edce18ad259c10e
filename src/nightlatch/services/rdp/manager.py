"""Which accounts xrdp's session manager lets in, and what each is asked for (sesman.ini(5); measured: 0.9.21, 0.10.1).

An account that is let in is asked for its password alone: whatever else a stack of PAM wants can't be typed. Its shell does not
matter. Tries count within one connection only, and a limit of sessions passes by itself: neither keeps anybody out here.
"""

from __future__ import annotations

from dataclasses import dataclass

from nightlatch.formats import xrdp_ini
from nightlatch.model.causes import AccountState, Cause, Condition, PamEnd, PamSays, PasswordField, SettingLine, UserList
from nightlatch.model.causes import Effect as ListEffect
from nightlatch.model.gaps import Gap
from nightlatch.origin import Origin
from nightlatch.readings.accounts import Account
from nightlatch.readings.guest import GuestReading
from nightlatch.services.posix.login_stack import PASSWORD, LoginStack
from nightlatch.services.posix.pam import PamOutcome
from nightlatch.services.rdp.settings import FIRST_WITHOUT_COUNT, RdpSettings

STACK = "xrdp-sesman"
GROUPS, ALWAYS = "TerminalServerUsers", "AlwaysGroupCheck"


@dataclass(frozen=True, slots=True)
class Admission:
    """Whether an account is let in: `refused` says why not; `asks` that its password is asked for, else nothing is. `gap` is why
    it is not known."""

    refused: Cause | None = None
    asks: bool = True
    gap: Gap | None = None
    causes: tuple[Cause, ...] = ()


class Manager:
    """The session manager of one guest; `today` is in days since 1970, as shadow(5) counts."""

    def __init__(self, reading: GuestReading, settings: RdpSettings, today: int) -> None:
        self.reading, self.settings = reading, settings
        self.pam = LoginStack(reading, STACK, today)

    def admits(self, account: Account) -> Admission:
        """Whether an account is let in, in the order in which the manager asks."""
        asked = self.pam.asked(account, empty_allowed=True)
        if asked.gap is not None:
            return Admission(gap=asked.gap)
        needs = [need for need in asked.needs if need <= {PASSWORD}]
        if not needs:
            return Admission(_no_password(account))
        verdict = self.pam.account(account, blocked=False)
        if verdict.outcome in (PamOutcome.SHUT, PamOutcome.CHANGE):
            due = verdict.outcome is PamOutcome.CHANGE
            state = Condition.PASSWORD_DUE if due else Condition.EXPIRED_OR_PASSWORD
            if due or self.pam.unix(account) != "success":
                return Admission(AccountState(state, account.password_origin))
            return Admission(PamEnd(PamSays.REFUSED, verdict.origin or account.origin))
        if account.uid == 0 and account.name != "root" and not self._is_older:
            return Admission(gap=Gap("RDP server", "a second account of root's number is taken for root itself", account.origin))
        refused = self._root(account) or self._listed(account) or self._counted()
        if refused is not None:
            return Admission(refused)
        if min(needs, key=len):
            return Admission(gap=verdict.gap)
        end = PamEnd(PamSays.ANY_PASSWORD, asked.by or account.origin)
        open_by = AccountState(Condition.NO_PASSWORD, account.password_origin) if asked.empty else end
        return Admission(asks=False, gap=verdict.gap, causes=(open_by,))

    @property
    def _is_older(self) -> bool:
        return bool(self.settings.version) and self.settings.version < FIRST_WITHOUT_COUNT

    def _root(self, account: Account) -> Cause | None:
        """Only the name root is compared, in the older releases; a second account of its number gets in there."""
        allowed = self.settings.of_sesman("Security", "AllowRootLogin")
        if account.name != "root" or xrdp_ini.is_true(allowed.value):
            return None
        return _line(allowed, "false")

    def _listed(self, account: Account) -> Cause | None:
        """One group. Where the guest has no such group, every account is let in, or no account if `AlwaysGroupCheck` is set."""
        group, always = self.settings.of_sesman("Security", GROUPS), self.settings.of_sesman("Security", ALWAYS)
        groups = self.reading.accounts.groups
        named = next((each for each in groups if each.name == group.value), None) if group.value else None
        if named is None:
            return _line(always, always.value) if xrdp_ini.is_true(always.value) else None
        # It looks for the name first, and then for the members of the first group of that number.
        counts = next(each for each in groups if each.gid == named.gid)
        inside = account.gid == counts.gid or account.name in counts.members
        return None if inside else UserList(GROUPS, ListEffect.LEFT_OUT, group.origin)

    def _counted(self) -> Cause | None:
        """In the older releases a limit of none lets nobody have a session."""
        most = self.settings.of_sesman("Sessions", "MaxSessions")
        return _line(most, most.value or "0") if self._is_older and self.settings.number(most, 0) <= 0 else None


def _line(setting: SettingLine, value: str) -> SettingLine:
    return SettingLine(setting.keyword, value, setting.origin)


def _no_password(account: Account) -> Cause:
    if account.hash_method:
        return PamEnd(PamSays.REFUSED, Origin(f"/etc/pam.d/{STACK}"))
    return PasswordField(account.password or "empty", account.password_origin)
