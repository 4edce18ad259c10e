"""Lines that keep somebody out from some addresses while they get in from others: the first line that decides, in sshd's order.

Asked of addresses that no path serves. They are parted by where the Match lines hold, and each part has its own answer.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from nightlatch.model.causes import Cause, SettingLine
from nightlatch.model.obstacles import Why
from nightlatch.model.secrets import Certificate, Code, Key, Need, Password, Secret
from nightlatch.model.sockets import Listener
from nightlatch.net.addresses import AddressSet, union
from nightlatch.readings.accounts import Account
from nightlatch.services.ssh.entries import SshAccess
from nightlatch.services.ssh.logins import Logins
from nightlatch.services.ssh.settings import Caller, Effective, Settings, usable
from nightlatch.services.ssh.user_lists import limiting, permitted


@dataclass(frozen=True, slots=True)
class Hindrance:
    """A line that keeps an account out from `sources`, as the guest sees them: in what way, and what it says."""

    why: Why
    cause: Cause
    sources: AddressSet


def hindrances(
    access: SshAccess, account: Account, needs: tuple[Need, ...], socket: Listener, sources: AddressSet
) -> Iterator[Hindrance]:
    """The line that keeps out each part of these addresses at one socket; parts without an answer are left out."""
    if access.logins is None:
        return
    worlds, _ = access.effective.worlds(Caller(account.name, account.groups, socket))
    for part in worlds[0]:
        here = part.sources & sources
        within = _Part(access.effective, access.logins, account, part.truth)
        while here:
            found = within.first(needs, here)
            if found is None:
                break
            yield found
            here -= found.sources


@dataclass(frozen=True, slots=True)
class _Part:
    """Addresses for which every Match line has the same truth."""

    effective: Effective
    logins: Logins
    account: Account
    truth: tuple[bool, ...]

    def first(self, needs: tuple[Need, ...], here: AddressSet) -> Hindrance | None:
        """The first line in sshd's order that keeps the account out from some of these addresses."""
        ends = self.effective.ends(self.truth)
        if ends is not None:
            return Hindrance(Why.ENDED, SettingLine("authenticationmethods", " ".join(ends.value), ends.origin), here)
        settings = self.effective.settings(self.truth)
        return self._account(settings, here) or self._needs(needs, settings, here) or self._methods(needs, settings, here)

    def _account(self, settings: Settings, here: AddressSet) -> Hindrance | None:
        by_name = self.logins.names_looked_up
        because = permitted(self.account, settings, names_looked_up=by_name)[1]
        limit = limiting(self.account, settings, here, names_looked_up=by_name)
        if because is None and limit is not None:
            because, here = limit
        because = because or self.logins.door(self.account, settings).shut
        return Hindrance(Why.MAY_NOT, because, here) if because else None

    def _needs(self, needs: tuple[Need, ...], settings: Settings, here: AddressSet) -> Hindrance | None:
        """Why nothing of what the grant asks for is accepted; None where something is."""
        answers = [self._need(need, settings, here) for need in needs]
        found = [each for each in answers if each is not None]
        if not found or len(found) < len(answers):
            return None
        common = here
        for each in found:
            common &= each.sources
        return replace(found[0], sources=common) if common else None

    def _need(self, need: Need, settings: Settings, here: AddressSet) -> Hindrance | None:
        found = (self._secret(secret, settings, here) for secret in sorted(need, key=repr))
        return next((each for each in found if each is not None), None)

    def _secret(self, secret: Secret, settings: Settings, here: AddressSet) -> Hindrance | None:
        if isinstance(secret, Password | Code):
            return self._password(settings, here)
        if not isinstance(secret, Key | Certificate):
            return None
        switch = settings["pubkeyauthentication"]
        if switch.word != "yes":
            return Hindrance(Why.KEYS_OFF, SettingLine("pubkeyauthentication", switch.word, switch.origin), here)
        found = self.logins.offers(self.account, settings)
        mine = [each for each in found.offers if each.secret == secret]
        left_out = here - union(each.perhaps for each in mine)
        if mine:
            return Hindrance(Why.FROM_ELSEWHERE, mine[0].causes[-1], left_out) if left_out else None
        for rejected in found.rejected:
            if isinstance(secret, Key) and rejected.fingerprint in ("", secret.fingerprint):
                return Hindrance(Why.REJECTED, rejected.cause, here)
        keyword = "authorizedkeysfile" if isinstance(secret, Key) else "trustedusercakeys"
        place = settings[keyword]
        return Hindrance(Why.OTHER_KEYS, SettingLine(keyword, " ".join(place.value), place.origin), here)

    def _password(self, settings: Settings, here: AddressSet) -> Hindrance | None:
        challenge = settings["kbdinteractiveauthentication"].word == "yes" and self.logins.uses_pam
        switch = settings["passwordauthentication"]
        if switch.word != "yes" and not challenge:
            return Hindrance(Why.PASSWORDS_OFF, SettingLine("passwordauthentication", switch.word, switch.origin), here)
        return None

    def _methods(self, needs: tuple[Need, ...], settings: Settings, here: AddressSet) -> Hindrance | None:
        lists = settings["authenticationmethods"]
        if lists.value == ("any",):
            return None
        kinds = [{_method(secret) for secret in need} for need in needs]
        for each in lists.value:
            asked = {name.partition(":")[0].replace("keyboard-interactive", "password") for name in each.split(",")}
            if usable(each, settings) and any(asked <= kind for kind in kinds):
                return None
        return Hindrance(Why.MORE_ASKED, SettingLine("authenticationmethods", " ".join(lists.value), lists.origin), here)


def _method(secret: Secret) -> str:
    return "password" if isinstance(secret, Password | Code) else "publickey"
