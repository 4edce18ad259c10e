"""How a check is registered, and what it gets to see."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property

from nightlatch.access.holdings import Holding, holdings
from nightlatch.access.paths import GuestAccess
from nightlatch.audit.findings import Finding, Group, Proof, Severity
from nightlatch.audit.names import Names
from nightlatch.estate.model import Estate, GuestEstate
from nightlatch.model.grants import Grant
from nightlatch.model.services import SERVICES
from nightlatch.net.literal import IPAddress
from nightlatch.origin import Origin
from nightlatch.readings.private_halves import PrivateKeyFile


@dataclass(frozen=True)
class Context:
    """The input of a check of one guest; `estate` is None for a first look without one. `at` is aware."""

    access: GuestAccess
    names: Names
    at: datetime
    estate: Estate | None = None
    grants: tuple[Grant, ...] = ()

    @property
    def guest(self) -> str:
        """The guest's name."""
        return self.access.guest

    @property
    def said(self) -> GuestEstate | None:
        """The estate file's words about the guest; None for a first look."""
        return self.estate.of(self.guest) if self.estate is not None else None

    @cached_property
    def holdings(self) -> tuple[Holding, ...]:
        """The addresses of the guest; worked out once for all checks that ask."""
        spec = self.estate.guests[self.guest] if self.estate is not None else None
        return holdings(self.access.reading.network, self.guest, spec)


@dataclass(frozen=True, slots=True)
class CheckResult:
    """The result of a check; the rest of the finding comes from the registration."""

    text: str
    proofs: tuple[Proof, ...]
    subjects: tuple[str, ...] = ()
    severity: Severity | None = None


@dataclass(frozen=True, slots=True)
class Identities:
    """The facts of one guest that the fleet checks compare: small, so that estates of any size fit."""

    guest: str
    host_keys: tuple[tuple[str, str, str], ...] = field(default=())  # path, kind, fingerprint
    addresses: tuple[Holding, ...] = ()
    hardware: tuple[tuple[str, str, Origin], ...] = ()  # address, interface, place
    machine_id: str = ""
    names: tuple[tuple[str, IPAddress, int], ...] = ()  # what its hosts file says of names, with the line
    interfaces: tuple[str, ...] = ()
    halves: tuple[PrivateKeyFile, ...] = ()  # private keys in the homes of its accounts
    certificates: tuple[tuple[str, str], ...] = ()  # of its remote desktop: path, fingerprint


@dataclass(frozen=True, slots=True)
class Fleet:
    """The input of a check over all guests; `estate` is None without one."""

    guests: tuple[Identities, ...]
    estate: Estate | None = None


NAMES = frozenset(each.name for each in SERVICES)  # of services: the first word of the ids of their checks
CheckBody = Callable[[Context], Iterable[CheckResult]]
FleetBody = Callable[[Fleet], Iterable[tuple[str, CheckResult]]]


@dataclass(frozen=True, slots=True)
class Check:
    """One check: `reason` is the first line of its docstring, `source` where the rule comes from."""

    id: str
    severity: Severity
    reason: str
    source: str
    body: CheckBody | None = None
    group: Group = Group.HYGIENE


@dataclass(frozen=True, slots=True)
class FleetCheck:
    """One check over all guests; it yields (guest, what it tells)."""

    id: str
    severity: Severity
    reason: str
    source: str
    body: FleetBody


CATALOGUE: dict[str, Check | FleetCheck] = {}


def check(id: str, severity: Severity, *, source: str, group: Group = Group.HYGIENE) -> Callable[[CheckBody], CheckBody]:
    """Register a check of one guest."""

    def register(body: CheckBody) -> CheckBody:
        assert id not in CATALOGUE, f"{id} is registered twice"
        CATALOGUE[id] = Check(id, severity, _reason(body), source, body, group)
        return body

    return register


def fleet_check(id: str, severity: Severity, *, source: str) -> Callable[[FleetBody], FleetBody]:
    """Register a check over all guests."""

    def register(body: FleetBody) -> FleetBody:
        assert id not in CATALOGUE, f"{id} is registered twice"
        CATALOGUE[id] = FleetCheck(id, severity, _reason(body), source, body)
        return body

    return register


def difference(id: str, severity: Severity, reason: str) -> None:
    """Enter one of the differences into the catalogue, so that it can be listed and waived."""
    CATALOGUE[id] = Check(id, severity, reason, "reasoning of the two differences")


def _reason(body: object) -> str:
    return (getattr(body, "__doc__", "") or "").strip().split("\n")[0]


def hygiene(context: Context) -> Iterator[Finding]:
    """All findings of all checks of one guest."""
    for each in CATALOGUE.values():
        if isinstance(each, Check) and each.body is not None:
            for told in each.body(context):
                yield finding(each, context.guest, told)


def finding(each: Check | FleetCheck, guest: str, told: CheckResult) -> Finding:
    """A finding from what a check tells and what it is registered as."""
    severity = told.severity or each.severity
    group = each.group if isinstance(each, Check) else Group.HYGIENE
    service = each.id.partition(".")[0]
    return Finding(
        each.id,
        severity,
        guest,
        group,
        told.text,
        told.proofs,
        told.subjects,
        each.source,
        service=service if service in NAMES else "",
    )


def on_the_wire(id: str, severity: Severity, reason: str) -> None:
    """Enter a finding of `reach` into the catalogue; its severity is that of the usual case."""
    CATALOGUE[id] = Check(id, severity, reason, "seen on the wire: nightlatch reach")


difference("hole", Severity.HIGH, "A way in is open that no grant covers.")
difference("hole.possible", Severity.LOW, "A way in may be open that no grant covers.")
difference("shut-out", Severity.HIGH, "Somebody who is granted a way in can't get in.")
difference("shut-out.possible", Severity.LOW, "Somebody who is granted a way in may not get in.")
on_the_wire("reach.not-reached", Severity.HIGH, "Somebody who is let in from here does not get through to the login.")
on_the_wire(
    "reach.not-pinned", Severity.MEDIUM, "No host key of the guest is pinned, so any server that answers is taken for it."
)
on_the_wire("reach.other-host-key", Severity.CRITICAL, "The server that answers proves another host key than the pinned one.")
on_the_wire("reach.type-not-pinned", Severity.NOTE, "One type of the guest's host keys is not pinned.")
on_the_wire("reach.proof-not-offered", Severity.HIGH, "The proof that a grant asks for is not offered from here.")
on_the_wire("reach.not-sealed", Severity.HIGH, "No connection as well sealed as a grant asks for is served from here.")
on_the_wire("reach.no-proof-asked", Severity.CRITICAL, "An account is let in without showing anything.")
on_the_wire("reach.not-as-read", Severity.MEDIUM, "The wire shows something else than the evidence predicts.")
on_the_wire("reach.not-the-guest-read", Severity.HIGH, "Another guest answers than the one that was read.")
