"""Reach: granted ways in, tried on the wire from here, up to the first stage that fails. Nothing is changed anywhere.

Without `login`, nobody is logged in: the host key is proven, and a name without any proof is asked for its methods.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path

from nightlatch.access import book
from nightlatch.access.grants import address_spaces, expand
from nightlatch.access.holdings import holdings
from nightlatch.access.paths import GuestAccess, guest_access
from nightlatch.audit import wire
from nightlatch.audit.findings import Finding, Severity
from nightlatch.audit.names import Names, names_of
from nightlatch.audit.run import check_waivers, waived
from nightlatch.audit.wire import NOT_LET_IN, GrantStanding
from nightlatch.estate.model import READ_AS_FILES, Estate, GuestSpec, ViaKind
from nightlatch.faults import NightlatchError, OwnFaultError, UnreachableError, work_on
from nightlatch.model.grants import Grant
from nightlatch.net.addresses import EVERY_ADDRESS
from nightlatch.ops.survey import chosen, client_for, kept_of, read_kept
from nightlatch.probe import driver
from nightlatch.probe.causes import Cause, causes
from nightlatch.probe.driver import Limits
from nightlatch.probe.stages import FailureMode, Look, Stage, Step, Target
from nightlatch.readings import guest as readings
from nightlatch.readings.network import network_reading
from nightlatch.readings.network.network_reading import NetworkReading
from nightlatch.services.base import Kinds, ServiceKind
from nightlatch.services.table import KINDS
from nightlatch.transports import targets
from nightlatch.transports.ssh import Client, Ssh
from nightlatch.transports.targets import SSH_PORT

__all__ = ["GuestReach", "Limits", "Look", "OtherService", "Reach", "Target", "look_at", "reach"]

AT_ONCE = 64
ASKED_AT_ONCE = 8
PAUSE = 1.0  # between two looks at a guest that is waited for
# How long the first process runs: in a container, /proc/uptime is the host's (proc(5), /proc/pid/stat field 22).
READ_UPTIME = b"cat /proc/uptime /proc/1/stat; getconf CLK_TCK 2>/dev/null || echo 100\n"


@dataclass(frozen=True, slots=True)
class OtherService:
    """A service other than SSH, as the wire shows it on one guest; its findings stand with the guest's."""

    service: str
    look: Look
    stands: tuple[GrantStanding, ...]
    causes: tuple[Cause, ...] = ()


@dataclass(frozen=True, slots=True)
class GuestReach:
    """One guest as the wire shows it, by SSH and by `others`. `problem` says why it was not looked at; `against` what the
    prediction comes from.

    `waited` are seconds until it answered, None when it was not waited for; `changes` what was another then.
    """

    guest: str
    look: Look | None = None
    problem: str = ""
    stands: tuple[GrantStanding, ...] = ()
    findings: tuple[Finding, ...] = ()
    causes: tuple[Cause, ...] = ()
    against: str = ""
    waited: float | None = None
    changes: tuple[str, ...] = ()
    others: tuple[OtherService, ...] = ()

    @property
    def answers(self) -> bool:
        """Whether every stage that was tried went well, over every service."""
        looks = (self.look, *(each.look for each in self.others))
        return all(look is not None and look.failed is None for look in looks)


@dataclass(frozen=True)
class Reach:
    """All guests of one run. `here` maps our own addresses, as they were used, to places of the estate."""

    estate: str
    at: datetime
    guests: tuple[GuestReach, ...]
    here: tuple[tuple[str, str], ...]

    def exit_code(self, fail_at: Severity = Severity.HIGH) -> int:
        """3 when a guest could not be looked at, else 1 for findings at or above `fail_at`, else 0."""
        if any(each.problem for each in self.guests):
            return 3
        found = (f for each in self.guests for f in each.findings if not f.waived)
        return 1 if any(f.severity.at_least(fail_at) for f in found) else 0


@dataclass
class _Way:
    spec: GuestSpec
    grants: list[Grant]
    target: Target
    shell: Ssh | None


def look_at(host: str, port: int = SSH_PORT, *, accounts: Sequence[str] = (), limits: Limits | None = None) -> Look:
    """One look at any SSH server, every type of host key proven."""
    return driver.looks([Target(host, port, tuple(accounts), every_key=True)], limits=limits)[0]


def reach(
    estate: Estate,
    at: datetime,
    guests: Sequence[str] | None = None,
    *,
    who: Sequence[str] = (),
    login: bool = False,
    wait: float = 0,
    evidence: Path | None = None,
    client: Client | None = None,
    at_once: int = AT_ONCE,
    limits: Limits | None = None,
    told: Callable[[str], None] | None = None,
    kinds: Kinds = KINDS,
) -> Reach:
    """Look at guests of the estate from here and hold what is seen against grants, pins and evidence.

    `who` narrows the grants to people, robots or accounts; `login` logs in to the management account, too; `wait` are seconds to
    wait for guests that don't answer; `evidence` is a folder of archives to predict from. `told` gets each guest's name
    once it was looked at. Raises NightlatchError for names that the estate does not have.
    """
    picked = chosen(estate, guests)
    check_waivers(estate)
    _check_who(estate, who)
    names = names_of(estate)
    with client_for(client) as using:
        with ThreadPoolExecutor(ASKED_AT_ONCE) as pool:  # the client is asked where it would connect to, one process each
            found = pool.map(lambda spec: _way(estate, spec, at, who, using, evidence), picked)
            ways: dict[str, _Way | str] = {spec.name: way for spec, way in zip(picked, found, strict=True)}
        tried = [way for way in ways.values() if isinstance(way, _Way)]
        seen = _looked(tried, wait, at_once, limits, told)
        asked = [each for way in tried for each in _others(estate, way, at, evidence, kinds)]
        others = list(zip(asked, driver.looks([each.target for each in asked], at_once=at_once, limits=limits), strict=True))
        done = []
        for spec in picked:
            way = ways[spec.name]
            if isinstance(way, str):
                done.append(GuestReach(spec.name, problem=way))
                continue
            try:
                with work_on(spec.name):
                    mine = [(each, look) for each, look in others if each.spec == spec]
                    evident = _predicted(estate, spec, at, evidence, kinds)
                    found_there = _judged(estate, way, seen[spec.name], names, at, evident, login=login)
                    done.append(_with_others(estate, found_there, mine, names, at, evident.access))
            except OwnFaultError as error:
                done.append(GuestReach(spec.name, problem=error.words))
    here = dict.fromkeys(each.look.here for each in done if each.look is not None and each.look.here)
    return Reach(estate.name, at, tuple(done), tuple((address, wire.place_of(estate, address)) for address in here))


def _check_who(estate: Estate, who: Sequence[str]) -> None:
    known = {*estate.principals, *(g.account for g in estate.grants), *(e.account for e in estate.emergency)}
    known |= {a for p in estate.principals.values() for a in p.accounts.values()}
    for name in who:
        if name not in known:
            raise NightlatchError(f'nobody called "{name}" is let in by {estate.path} ({", ".join(sorted(known - {""}))})')


def known_address(estate: Estate, spec: GuestSpec, evidence: Path | None) -> tuple[str, int] | None:
    """The address that `addresses` would have dialled: of those that the estate states or the guest's evidence holds the best
    that lasts, or the forward that leads to it; None where none is known."""
    forwards = [each for network in estate.networks.values() for each in network.forwards if each.guest == spec.name]
    try:
        snapshot = read_kept(estate, spec, evidence)
    except (NightlatchError, OSError):  # told where it is held against the wire
        snapshot = None
    read = network_reading.read(snapshot) if snapshot is not None else NetworkReading()
    best = next(iter(book.choices(estate, holdings(read, spec.name, spec), EVERY_ADDRESS)), None)
    if best is not None and best.way is not book.Reachability.NO:
        return str(best.holding.address), SSH_PORT
    to_ssh = next((each for each in forwards if each.at is not None), None)
    return (str(to_ssh.at), to_ssh.port) if to_ssh is not None else None


def _way(estate: Estate, spec: GuestSpec, at: datetime, who: Sequence[str], client: Client, evidence: Path | None) -> _Way | str:
    """Where and what to look at, or why a guest can't be looked at."""
    grants = [grant for grant in expand(estate, spec.name, at) if not who or grant.who in who or grant.account in who]
    try:
        known = known_address(estate, spec, evidence) if spec.via.kind in READ_AS_FILES and not spec.dial else None
        host, port = known or targets.wire_of(spec, client)
    except NightlatchError as error:
        return error.words
    shell = targets.of_guest(spec, client) if spec.via.kind is ViaKind.SSH else None
    assert shell is None or isinstance(shell, Ssh)
    accounts = wire.granted_accounts(grants)
    if not who and spec.via.account and spec.via.account not in accounts:
        accounts += (spec.via.account,)
    return _Way(spec, grants, Target(host, port, accounts, spec.host_keys), shell)


@dataclass(frozen=True, slots=True)
class _Seen:
    """A look; `waited` are the seconds until it answered, from `since` on (time.monotonic), None when it was not waited for."""

    look: Look
    waited: float | None = None
    since: float = 0.0
    changes: tuple[str, ...] = ()


def _looked(
    ways: Sequence[_Way], wait: float, at_once: int, limits: Limits | None, told: Callable[[str], None] | None
) -> dict[str, _Seen]:
    """A look at each; those that don't answer are looked at again until `wait` seconds are over."""
    names: dict[Target, list[str]] = {}  # two guests may be dialled alike
    for way in ways:
        names.setdefault(way.target, []).append(way.spec.name)

    def note(look: Look) -> None:
        if told is not None:
            told(names[look.target].pop(0))

    start = time.monotonic()
    first = driver.looks([way.target for way in ways], at_once=at_once, limits=limits, told=note)
    out = {w.spec.name: _Seen(look) for w, look in zip(ways, first, strict=True)}
    waiting = [(way, look) for way, look in zip(ways, first, strict=True) if wait and _may_come_back(look)]
    while waiting and time.monotonic() - start < wait:
        time.sleep(min(PAUSE, max(0.0, wait - (time.monotonic() - start))))
        again = driver.looks([way.target for way, _ in waiting], at_once=at_once, limits=limits)
        still = []
        for (way, before), look in zip(waiting, again, strict=True):
            out[way.spec.name] = _Seen(look, time.monotonic() - start, start, tuple(_moved(before, look)))
            if _may_come_back(look):
                still.append((way, before))
        waiting = still
    return out


def _may_come_back(look: Look) -> bool:
    return look.failed is not None and wire.stage_is_before(look.failed, Stage.HOST_KEY)


def _moved(before: Look, after: Look) -> Iterator[str]:
    if before.addresses and after.addresses and set(before.addresses) != set(after.addresses):
        yield f"its name leads to {', '.join(after.addresses)} now, and to {', '.join(before.addresses)} before"


def _judged(estate: Estate, way: _Way, seen: _Seen, names: Names, at: datetime, evident: _Evident, *, login: bool) -> GuestReach:
    spec, look, changes = way.spec, seen.look, seen.changes
    if look.keys and spec.host_keys and not set(look.fingerprints) & set(spec.host_keys):
        look = replace(look, failed=Stage.HOST_KEY, how=FailureMode.OTHER_KEY, why="")
    elif login and look.failed is None and way.shell is not None:
        look, more = _login(way.shell, look, seen)
        changes += more
    told = wire.stands(look, way.grants, names)
    if look.failed is None and any(s.state in NOT_LET_IN for s in told):
        look = replace(look, failed=Stage.METHODS, how=FailureMode.NOT_OFFERED, why="")
    findings = tuple(waived(each, estate, at) for each in wire.judged(look, spec, told, evident.access))
    return GuestReach(spec.name, look, evident.problem, told, findings, causes(look), evident.against, seen.waited, changes)


def _others(estate: Estate, way: _Way, at: datetime, evidence: Path | None, kinds: Kinds) -> Iterator[_Way]:
    """The other services that grants speak of, each where it listens by the evidence, or else at its usual port."""
    direct = [grant for grant in way.grants if not grant.shape]  # what goes through a login is not dialled from here
    granted = {grant.service for grant in direct}
    for kind in (each for name, each in kinds.items() if name in granted):
        service, handshake = kind.words.name, kind.handshake
        if handshake is None:
            continue
        access = _predicted(estate, way.spec, at, evidence, kinds).access
        for port, screens in _ports(kind, direct, access):
            mine = [grant for grant in direct if grant.service == service and {"", grant.account} & screens]
            meant = [grant for grant in mine if grant.means(port)]
            accounts = wire.granted_accounts(meant, service)
            if accounts:
                host, at_port = _dialled(estate, way, port)
                yield _Way(way.spec, meant, Target(host, at_port, accounts, service=service, handshake=handshake), None)


def _ports(kind: ServiceKind, grants: Sequence[Grant], access: GuestAccess | None) -> Iterator[tuple[int, set[str]]]:
    """The ports of a service, each with the accounts whose screens are there ("" for all), by the evidence or the grants."""
    held: dict[int, set[str]] = {}
    for server, socket in access.sockets(kind.words.name) if access is not None else ():
        held.setdefault(socket.port, set()).add(server.screen)
    mine = [grant for grant in grants if grant.service == kind.words.name]
    yield from sorted(held.items()) or sorted({grant.port or kind.words.port: {"", grant.account} for grant in mine}.items())


def _dialled(estate: Estate, way: _Way, port: int) -> tuple[str, int]:
    """Where a port of a guest is dialled: a forward to it where there is one, else the address that SSH is dialled at."""
    for each in estate.of(way.spec.name).forwards:
        if each.to_port == port and each.at is not None:
            return str(each.at), each.port
    return way.target.host, port


def _with_others(
    estate: Estate, found: GuestReach, others: list[tuple[_Way, Look]], names: Names, at: datetime, access: GuestAccess | None
) -> GuestReach:
    """The reached guest with the findings of its other services."""
    told, findings = [], list(found.findings)
    for way, look in others:
        stands = wire.stands(look, way.grants, names)
        if look.failed is None and any(s.state in NOT_LET_IN for s in stands):
            look = replace(look, failed=Stage.METHODS, how=FailureMode.NOT_OFFERED, why="")
        findings += [waived(each, estate, at) for each in wire.judged(look, way.spec, stands, access)]
        told.append(OtherService(look.target.service, look, stands, causes(look)))
    return replace(found, findings=tuple(findings), others=tuple(told))


@dataclass(frozen=True, slots=True)
class _Evident:
    """The prediction of the evidence, its source, and why it could not be read."""

    access: GuestAccess | None = None
    against: str = ""
    problem: str = ""


def _login(shell: Ssh, look: Look, seen: _Seen) -> tuple[Look, tuple[str, ...]]:
    """A real login to the management account, by the system's own client; what the guest's uptime tells about a restart."""
    start = time.monotonic()
    account = shell.address.account or "the account of your ssh"
    try:
        answer = shell.run(READ_UPTIME)
    except UnreachableError as error:
        text = error.words
        step = Step(Stage.LOGIN, time.monotonic() - start, f"{account}: {text}")
        if error.stage in ("sudo", "read"):  # the login itself was good
            return replace(look, steps=(*look.steps, step)), ()
        return replace(look, steps=(*look.steps, step), failed=Stage.LOGIN, how=FailureMode.REJECTED, why=text), ()
    up = _uptime(answer.out)
    text = f"{answer.door.account or account}, who can become root" + (f"; up for {duration(up)}" if up is not None else "")
    step = Step(Stage.LOGIN, time.monotonic() - start, text)
    # Between its answer and this login time went by, in which it has been up, too.
    restarted = up is not None and seen.waited is not None and up < time.monotonic() - seen.since
    changes = (f"it was restarted while it was waited for: it is up for {duration(up)}",) if restarted and up is not None else ()
    return replace(look, steps=(*look.steps, step)), changes


def _uptime(raw: bytes) -> float | None:
    try:
        machine, first, ticks = raw.decode("ascii", "replace").splitlines()
        return float(machine.split()[0]) - int(first.rpartition(")")[2].split()[19]) / int(ticks)
    except (ValueError, IndexError, ZeroDivisionError):
        return None


def duration(seconds: float) -> str:
    """A length of time in words, to the unit that matters."""
    for size, unit in ((86400, "days"), (3600, "hours"), (60, "minutes")):
        if seconds >= 2 * size:
            return f"{seconds / size:.0f} {unit}"
    return f"{seconds:.0f} s" if seconds >= 10 else f"{seconds:.1f} s"


def _predicted(estate: Estate, spec: GuestSpec, at: datetime, folder: Path | None, kinds: Kinds) -> _Evident:
    try:
        with work_on(spec.name):
            snapshot = read_kept(estate, spec, folder, kinds)
            if snapshot is None:
                return _Evident()
            access = guest_access(readings.read(snapshot), at, address_spaces(estate), kinds)
            return _Evident(access, str(kept_of(spec, folder)))
    except OwnFaultError as error:
        return _Evident(problem=error.words)
    except (NightlatchError, OSError) as error:
        return _Evident(problem=f"its evidence can't be read: {error}")
