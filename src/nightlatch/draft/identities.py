"""An identity of its own for a guest that was copied from another: host keys that the estate pins for that one, too.

What two guests hold can't be told apart on the wire: each can pose as the other. The one that stands first in the estate file
keeps what it has; the others get new host keys and, as a copy has that as well, another machine id (machine-id(5)). Pins are what
is compared: evidence of one guest says nothing of another.
"""

from __future__ import annotations

import re
from collections.abc import Iterable

from nightlatch.access.paths import GuestAccess
from nightlatch.draft.acts import HOST_KEY_KINDS, Act, NewIdentity
from nightlatch.draft.partial_draft import PartialDraft
from nightlatch.estate.model import Estate
from nightlatch.readings.guest import GuestReading
from nightlatch.readings.network.profiles import Method

USUAL = re.compile(r"/etc/ssh/ssh_host_([a-z0-9]+)_key\.pub")


def given(estate: Estate, access: GuestAccess) -> PartialDraft:
    """A new identity for a running guest whose host keys are another's; nothing where they are its own."""
    reading, out = access.reading, PartialDraft()
    other = original(estate, reading)
    if not other:
        return out
    why = f"{reading.guest} has host keys of {other}, as a copy has: each can pose as the other."
    usual = [USUAL.fullmatch(key.path) for key in reading.host_keys]
    kinds = tuple(found[1] for found in usual if found is not None)
    if not reading.service.is_live:
        out.leave(why, "rm FOLDER/etc/ssh/ssh_host_*; ssh-keygen -A -f FOLDER; then nightlatch meet pins the new ones")
    elif not all(usual) or not {*kinds} <= {*HOST_KEY_KINDS}:
        out.leave(why, "its host keys lie elsewhere than ssh-keygen -A puts them: make new ones at its console, then meet it")
    elif _is_signed(access):
        out.leave(why, "an authority has signed its host key: make new ones at its console, and have them signed")
    else:
        leased = _leased(reading)
        if leased:
            hand = f"give {leased} a fixed address first: with another id it asks for another lease; then renew /etc/machine-id"
            out.leave(f"{reading.guest} may have the machine id of {other}.", hand)
        out.acts.append(NewIdentity(kinds, not leased and reading.network.machine_id is not None, why))
    return out


def original(estate: Estate, reading: GuestReading) -> str:
    """The first guest before this one in the estate file for which a host key of this one is pinned; empty where none is."""
    held = {key.fingerprint for key in reading.host_keys}
    for name, spec in estate.guests.items():
        if name == reading.guest:
            return ""
        if held & set(spec.host_keys):
            return name
    return ""


def _is_signed(access: GuestAccess) -> bool:
    return any(value.lower() != "none" for value in access.ssh.effective.top["hostcertificate"].value)


def _leased(reading: GuestReading) -> str:
    """An interface whose address is a lease: the machine id is what many clients of DHCP name themselves by (RFC 4361)."""
    leased = [profile.interface or "its interface" for profile in reading.network.counting if profile.has(Method.LEASED)]
    return next(iter(leased), "its interface" if reading.network.leases else "")


def new_host_keys(acts: Iterable[Act]) -> tuple[str, ...]:
    """The kinds of host keys that these acts make anew."""
    return next((each.kinds for each in acts if isinstance(each, NewIdentity)), ())
