"""What keeps somebody out from some addresses who gets in from others: the line that decides, in the order in which sshd does.

Asked of addresses that no path serves. They are parted by where the Match lines hold, and each part has its own answer.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from nightlatch.net.addresses import AddressSet, union
from nightlatch.readings.accounts import Account
from nightlatch.reason.access import Certificate, Key, Need, Password, Proof, Secret
from nightlatch.reason.logins import Logins
from nightlatch.reason.paths import GuestAccess
from nightlatch.reason.permitted import limiting, permitted
from nightlatch.reason.settings import Caller, Effective, Listener, Settings, usable


@dataclass(frozen=True, slots=True)
class Hindrance:
    """A line that keeps an account out from `sources`, as the guest sees them: what it says, and where it stands."""

    text: str
    proof: Proof
    sources: AddressSet


def hindrances(
    access: GuestAccess, account: Account, needs: tuple[Need, ...], socket: Listener, sources: AddressSet
) -> Iterator[Hindrance]:  # fmt: skip
    """What stands in the way of each part of these addresses on the way to one socket; parts without an answer are left out."""
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
            proof = Proof(f"AuthenticationMethods {' '.join(ends.value)}", ends.origin)
            return Hindrance("sshd ends the connection there", proof, here)
        settings = self.effective.settings(self.truth)
        return (
            self._account(settings, here) or self._needs(needs, settings, here) or self._methods(needs, settings, here)
        )

    def _account(self, settings: Settings, here: AddressSet) -> Hindrance | None:
        by_name = self.logins.names_looked_up
        because = permitted(self.account, settings, names_looked_up=by_name)[1]
        limit = limiting(self.account, settings, here, names_looked_up=by_name)
        if because is None and limit is not None:
            because, here = limit
        because = because or self.logins.door(self.account, settings).shut
        return (
            Hindrance(f"{self.account.name} may not log in there: {because.text}", because, here) if because else None
        )

    def _needs(self, needs: tuple[Need, ...], settings: Settings, here: AddressSet) -> Hindrance | None:
        """Why nothing of what the grant asks for is accepted; None where something is."""
        answers = [self._need(need, settings, here) for need in needs]
        found = [each for each in answers if each is not None]
        if not found or len(found) < len(answers):
            return None
        common = here
        for each in found:
            common &= each.sources
        return Hindrance(found[0].text, found[0].proof, common) if common else None

    def _need(self, need: Need, settings: Settings, here: AddressSet) -> Hindrance | None:
        found = (self._secret(secret, settings, here) for secret in sorted(need, key=repr))
        return next((each for each in found if each is not None), None)

    def _secret(self, secret: Secret, settings: Settings, here: AddressSet) -> Hindrance | None:
        if isinstance(secret, Password):
            return self._password(settings, here)
        if not isinstance(secret, Key | Certificate):
            return None
        switch = settings["pubkeyauthentication"]
        if switch.word != "yes":
            proof = Proof(f"PubkeyAuthentication {switch.word}", switch.origin)
            return Hindrance("keys are switched off there", proof, here)
        found = self.logins.offers(self.account, settings)
        mine = [each for each in found.offers if each.secret == secret]
        left_out = here - union(each.perhaps for each in mine)
        if mine:
            text = "the key line lets it in from elsewhere only"
            return Hindrance(text, mine[0].proofs[-1], left_out) if left_out else None
        for turned in found.turned:
            if isinstance(secret, Key) and turned.fingerprint in ("", secret.fingerprint):
                return Hindrance(f"the key is there, but {turned.because}", Proof(turned.because, turned.origin), here)
        place = settings["authorizedkeysfile" if isinstance(secret, Key) else "trustedusercakeys"]
        name = "AuthorizedKeysFile" if isinstance(secret, Key) else "TrustedUserCAKeys"
        return Hindrance("other keys count there", Proof(f"{name} {' '.join(place.value)}", place.origin), here)

    def _password(self, settings: Settings, here: AddressSet) -> Hindrance | None:
        challenge = settings["kbdinteractiveauthentication"].word == "yes" and self.logins.uses_pam
        switch = settings["passwordauthentication"]
        if switch.word != "yes" and not challenge:
            proof = Proof(f"PasswordAuthentication {switch.word}", switch.origin)
            return Hindrance("passwords are switched off there", proof, here)
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
        proof = Proof(f"AuthenticationMethods {' '.join(lists.value)}", lists.origin)
        return Hindrance("more is asked there than the grant says", proof, here)


def _method(secret: Secret) -> str:
    return "password" if isinstance(secret, Password) else "publickey"
