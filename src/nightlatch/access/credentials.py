"""What a person's certificate has to say: it opens what the estate grants by certificate, and is limited as far as it can be."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from enum import Enum

from nightlatch.access.arrivals import ways_to
from nightlatch.access.grants import expand, seen_over
from nightlatch.estate.model import Estate, GrantSpec, Principal, ViaKind
from nightlatch.model.grants import Grant
from nightlatch.model.powers import SHELL, Power, PowerKind
from nightlatch.model.secrets import Certificate
from nightlatch.model.sources import COMMON
from nightlatch.net.addresses import EVERY_ADDRESS, NO_ADDRESS, AddressSet, union

MOST_PREFIXES = 100  # of callers in one certificate; a list that long is better kept on the guests


class Unlimited(Enum):
    """Why a certificate does not limit callers or powers, though the grants do."""

    HIDDEN_CALLERS = "hidden callers"
    MANY_CALLERS = "many callers"
    SEVERAL_POWERS = "several powers"
    FOLDER = "folder"


@dataclass(frozen=True, slots=True)
class WantedCertificate:
    """A certificate of a person that serves all grants by certificate: authority and principals as the estate has them, `callers`
    as the guests see them (None: no limit), a forced `command` (empty: none), what it `allows` besides, and the last moment."""

    person: str
    authority: str
    principals: tuple[str, ...]
    guests: tuple[str, ...]
    callers: AddressSet | None
    command: str
    allows: tuple[str, ...]
    until: datetime | None
    unlimited: tuple[Unlimited, ...] = ()


def wanted_certificate(estate: Estate, person: Principal, at: datetime) -> WantedCertificate | None:
    """What a certificate of this person says; None where no grant that counts at the moment asks for one."""
    right = person.certificate
    if right is None:
        return None
    sentences = [spec for spec in estate.grants if _counts(estate, spec, person, at)]
    grants = [grant for name in estate.guests for grant in expand(estate, name, at) if _opens(grant, person)]
    if not sentences or not grants:
        return None
    callers, hidden = _callers(estate, grants)
    powers = {power for grant in grants for power in grant.gives} - {Power(PowerKind.ADMINISTER)}
    command, allows, loose = _session(powers)
    guests = tuple(dict.fromkeys(grant.guest for grant in grants))
    ends = [_end(estate, spec.until, person) for spec in sentences]
    until = None if None in ends else max(end for end in ends if end is not None)
    return WantedCertificate(
        person.name, right.authority, right.principals, guests, callers, command, allows, until, (*hidden, *loose)
    )


def _counts(estate: Estate, spec: GrantSpec, person: Principal, at: datetime) -> bool:
    over = estate.over(spec.until, at) or estate.over(person.until, at)
    return person.name in spec.who and not over and any("certificate" in proof for proof in spec.proofs)


def _opens(grant: Grant, person: Principal) -> bool:
    """Whether a grant is this person's and served by a certificate, for some caller."""
    shown = any(isinstance(secret, Certificate) for need in grant.proofs for secret in need)
    return grant.who == person.name and shown and any(grant.callers.perhaps.values())


def _end(estate: Estate, last: date | None, person: Principal) -> datetime | None:
    """The end of the last day on which a sentence and its person count; None where there is no such day."""
    days = [day for day in (last, person.until) if day is not None]
    return datetime.combine(min(days) + timedelta(days=1), time(), estate.zone) if days else None


def _callers(estate: Estate, grants: Sequence[Grant]) -> tuple[AddressSet | None, tuple[Unlimited, ...]]:
    """The callers of all grants as their guests see them; None with the reason, where there is one, for no limit."""
    seen = [seen_over(ways_to(estate, grant.guest), grant).callers.perhaps for grant in grants]
    # Callers behind a translation are among them by the addresses it shows; those inside another network reach no such guest.
    found = union(each.get(COMMON, NO_ADDRESS) for each in seen)
    if not found:
        return None, (Unlimited.HIDDEN_CALLERS,)
    if found == EVERY_ADDRESS:
        return None, ()
    if len(found.prefixes(MOST_PREFIXES + 1)) > MOST_PREFIXES:
        return None, (Unlimited.MANY_CALLERS,)
    return found, ()


def _session(powers: set[Power]) -> tuple[str, tuple[str, ...], tuple[Unlimited, ...]]:
    """The forced command, what is allowed besides (PROTOCOL.certkeys of OpenSSH), and what can't be said there."""
    if SHELL in powers:
        # As a key line without options lets it: all that a shell implies, and no more.
        return "", ("permit-agent-forwarding", "permit-port-forwarding", "permit-pty", "permit-user-rc"), ()
    tunnel = any(power.gives in (PowerKind.TUNNEL, PowerKind.LISTEN) for power in powers)
    allows = ("permit-port-forwarding",) if tunnel else ()
    sessions = [power for power in powers if power.gives in (PowerKind.COMMAND, PowerKind.FILES)]
    if len(sessions) != 1:
        return "", allows, (Unlimited.SEVERAL_POWERS,) if len(sessions) > 1 else ()
    if sessions[0].gives is PowerKind.COMMAND:
        return sessions[0].what, allows, ()
    return "internal-sftp", allows, () if sessions[0].what == "/" else (Unlimited.FOLDER,)


def host_names(estate: Estate, guest: str) -> tuple[str, ...]:
    """The names that a guest's certificate has to bear: all by which the estate has it dialled, names and addresses, in small
    letters as ssh compares them (ssh_config(5), HostKeyAlias; a port is no part of them)."""
    said = estate.of(guest)
    spec = said.spec
    via = spec.via.host if spec.via.kind is ViaKind.SSH else ""
    addresses = [str(each.address.ip) for each in spec.addresses]
    behind = [str(each.at) for each in said.forwards if each.at is not None]
    found = [spec.dial, via.rpartition("@")[2], spec.host_name, *addresses, *behind]
    return tuple(dict.fromkeys(each.lower() for each in found if each))
