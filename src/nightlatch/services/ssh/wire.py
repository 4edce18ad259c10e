"""The prediction for a caller who shows nothing: whether the server listens, and which methods it offers.

sshd names the methods that are switched on for this caller; where AuthenticationMethods lists sequences, the first of
each that is usable (auth2.c; measured on 9.2). A deny list does not change what is offered.
"""

from __future__ import annotations

from nightlatch.net.addresses import AddressSet
from nightlatch.origin import Origin
from nightlatch.services.ssh.entries import SshAccess
from nightlatch.services.ssh.settings import SWITCHES, Settings, usable

COMPARED = ("publickey", "password", "keyboard-interactive")


def offered(settings: Settings) -> frozenset[str]:
    """The methods of COMPARED that these settings offer at first."""
    on = {method for method in COMPARED if settings[SWITCHES[method]].word == "yes"}
    lists = settings["authenticationmethods"].value
    if lists in ((), ("any",)):
        return frozenset(on)
    first = {each.split(",")[0].partition(":")[0] for each in lists if usable(each, settings)}
    return frozenset(on & first)


def worlds(access: SshAccess, account: str, caller: AddressSet) -> list[tuple[frozenset[str], Origin]]:
    """What may be offered to an account for a caller: one entry when it is decided; with where the passwords are set."""
    if access.effective.refusal is not None or not access.reading.installed:
        return []
    found = access.settings(account, caller)
    return [(offered(settings), settings["passwordauthentication"].origin) for settings in found]
