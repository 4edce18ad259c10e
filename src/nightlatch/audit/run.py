"""One guest's audit: differences, checks, waivers, and the list of ways in."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from datetime import datetime

from nightlatch.access.differences import covers, find_holes, find_shut_out
from nightlatch.access.grants import expand
from nightlatch.access.holdings import hardware, holdings
from nightlatch.access.paths import GuestAccess
from nightlatch.access.waivers import HOLES, SHUT_OUT, Acceptance, acceptances, holes_beside, shut_out_beside
from nightlatch.audit import cause_words, holes, shut_out
from nightlatch.audit.answers import answers
from nightlatch.audit.checks import CATALOGUE, Context, FleetCheck, hygiene
from nightlatch.audit.checks.registry import Fleet, Identities, finding
from nightlatch.audit.findings import DoorState, Entrance, Finding, Group, GuestAudit, Proof, ServiceState
from nightlatch.audit.names import Names, by, comments_of, listed, names_of, powers
from nightlatch.audit.obstacles import ObstacleSearch
from nightlatch.estate.model import Estate, Waiver
from nightlatch.faults import EstateError, Fault, nearest
from nightlatch.model.grants import Grant, GrantKind
from nightlatch.model.paths import AccessPath
from nightlatch.model.secrets import Need
from nightlatch.model.sources import joined
from nightlatch.origin import Kind
from nightlatch.readings import private_halves
from nightlatch.services.base import Kinds, ServerState, ServiceAccess
from nightlatch.services.rdp import seal
from nightlatch.services.rdp.entries import RdpAccess
from nightlatch.services.ssh.entries import SshAccess
from nightlatch.services.table import KINDS

# Checks that often say again what a difference has said of the same line.
ECHOES = (
    "ssh.password-login",
    "ssh.empty-password",
    "ssh.orphan-key",
    "ssh.key-file-refused",
    "ssh.key-line-skipped",
    "ssh.root-login",
    "ssh.does-not-start",
)


def check_waivers(estate: Estate) -> None:
    """Raise EstateError when a waiver names a finding that does not exist, or does not say what it accepts of it."""
    faults = [
        Fault(
            f'there is no finding "{w.finding}"',
            w.origin,
            "an id that nightlatch checks lists",
            nearest(w.finding, list(CATALOGUE)),
        )
        for w in estate.waivers
        if w.finding not in CATALOGUE
    ]
    faults += [Fault(_lacking(w), w.origin, A_HOLE if w.finding in HOLES else SOMEBODY) for w in estate.waivers if _lacking(w)]
    if faults:
        raise EstateError(faults)


# What a waiver of a difference has to say.
A_HOLE = "account, from, and one of key, person and with: what nightlatch audit tells of the hole"
SOMEBODY = "from, and person or account"


def _lacking(waiver: Waiver) -> str:
    """The fault of a waiver's words, or an empty text: it accepts a difference for the people and places that it names."""
    if waiver.finding in HOLES:
        shown = [each for each in (waiver.key, waiver.person, waiver.proof) if each]
        good = waiver.account and waiver.places and len(shown) == 1
        return "" if good else "a waiver of a hole accepts one account, one proof and one place, and this one does not name them"
    if waiver.finding in SHUT_OUT:
        good = waiver.places and (waiver.person or waiver.account) and not (waiver.key or waiver.proof or waiver.administers)
        return "" if good else "a waiver of somebody shut out accepts that for a person and a place; this one does not name them"
    if waiver.places or waiver.proof or waiver.administers:
        return f"only a waiver of a hole or of somebody shut out has from, with and may; {waiver.finding} is neither"
    return ""


def guest_audit(
    access: GuestAccess, at: datetime, estate: Estate | None = None, known: Names | None = None, kinds: Kinds = KINDS
) -> GuestAudit:
    """The audit of one guest; without an estate, ways in and hygiene only. `known` saves making the estate's names."""
    names = (known or names_of(estate)).also(comments_of(access))
    grants = tuple(expand(estate, access.guest, at, access.reading.snapshot.told.came)) if estate is not None else ()
    found: list[Finding] = []
    if estate is not None:
        found += _differences(ObstacleSearch(access, estate, kinds), grants, names, acceptances(estate, access.guest, at))
    found += hygiene(Context(access, names, at, estate, grants))
    found = [waived(each, estate, at) for each in _once(found)]
    found.sort(key=lambda f: (bool(f.waived), list(Group).index(f.group), f.severity.rank))
    undecided = tuple(dict.fromkeys(Proof(f"{g.area}: {g.because}", g.origin) for g in access.gaps))
    return GuestAudit(
        access.guest,
        tuple(found),
        tuple(ways(access.paths, names)),
        undecided,
        access.reading.snapshot.notes,
        service=_service(access),
        closed=_closed(access),
        doors=tuple(doors(access.paths, grants, names)),
        digests=tuple(_digests(access, found)),
        answers=tuple(answers(access.paths, names, estate)),
        services=tuple(_state(each) for each in access.services),
    )


def _differences(
    search: ObstacleSearch, grants: tuple[Grant, ...], names: Names, those: tuple[Acceptance, ...]
) -> Iterator[Finding]:
    """Both differences; what a waiver accepts of one is a finding of its own."""
    access = search.access
    over, kept = holes_beside(find_holes(access.paths, grants), those)
    yield from holes.findings(over, access.guest, names)
    under, lost = shut_out_beside(find_shut_out(access.paths, grants, access.reading.accounts), those)
    yield from shut_out.findings(under, search, names)
    for waiver in dict.fromkeys(each.waiver for each in those):
        told = holes.findings((item for by, item in kept if by is waiver), access.guest, names)
        out = shut_out.findings((item for by, item in lost if by is waiver), search, names)
        yield from (replace(each, waived=_reason(waiver)) for each in (*told, *out))


def _reason(waiver: Waiver) -> str:
    return f"{waiver.because} ({waiver.owner}, until {waiver.until})"


def _digests(access: GuestAccess, found: Iterable[Finding]) -> Iterator[tuple[str, str]]:
    """The files that findings rest on, so that a report can be held against the evidence later."""
    places = {p.origin.path for each in found for p in each.proofs if p.origin.kind is Kind.FILE}
    for path in sorted(places):
        entry = access.reading.snapshot.entries.get(path)
        if entry is not None and entry.digest:
            yield path, entry.digest


def _state(server: ServiceAccess) -> ServiceState:
    return ServiceState(server.words.name, server.words.program, server.state.value, server.listeners)


def _service(access: GuestAccess) -> str:
    others = [
        _server(each) for each in access.services if not isinstance(each, SshAccess) and each.state is not ServerState.ABSENT
    ]
    return "; ".join([_ssh(access), *others])


def _server(server: ServiceAccess) -> str:
    """A server beside SSH's, in a few words."""
    sockets = dict.fromkeys(f"{s.address or 'all addresses'} port {s.port}" for s in server.listeners)
    return f"{server.words.program} {'on ' + ', '.join(sockets) if sockets else server.state.value}"


def _ssh(access: GuestAccess) -> str:
    if not access.reading.installed:
        return "no SSH server is installed"
    if access.ssh.effective.refusal is not None:
        return "sshd does not start"
    sockets = dict.fromkeys(f"{s.address or 'all addresses'} port {s.port}" for s in access.ssh.listeners)
    version = access.reading.version
    return f"sshd{' ' + version if version else ''} on {', '.join(sockets)}"


def _closed(access: GuestAccess) -> str:
    """Why there is no way in, in a few words; empty when there is one."""
    if access.paths or not access.ssh.listeners:
        return ""
    known = access.reading.accounts.by_name.values()
    passwords = [a.name for a in known if a.hash_method or a.has_empty_password]
    parts = ["no key is authorised" if not access.ssh.rejected else "no key that stands in a file is accepted"]
    if not passwords:
        parts.append("no account has a password that opens")
    else:
        parts.append(f"the {'password' if len(passwords) == 1 else 'passwords'} of {listed(passwords)} are not asked for")
    return " and ".join(parts)


def _once(found: Iterable[Finding]) -> Iterator[Finding]:
    """A cause that stands among the holes already is not told again as hygiene."""
    told: set[tuple[str, int]] = set()
    for each in found:
        places = {(p.origin.path, p.origin.line) for p in each.proofs if p.origin.line or each.check in ECHOES}
        if each.group is not Group.HYGIENE:
            told.update((p.origin.path, p.origin.line) for p in each.proofs[:1])
            yield each
        elif each.check not in ECHOES or not places & told:
            yield each


def waived(each: Finding, estate: Estate | None, at: datetime) -> Finding:
    """The finding, accepted where a waiver in force names it. Differences are parted by what a waiver names of them before."""
    if estate is None or each.check in (*HOLES, *SHUT_OUT):
        return each
    touched = dict.fromkeys((each.guest, *(each.subjects if isinstance(CATALOGUE[each.check], FleetCheck) else ())))
    for waiver in (waiver for name in touched if name in estate.guests for waiver in estate.of(name).waivers):
        named = {name for name in (waiver.account, waiver.person, waiver.key) if name}
        mine = waiver.finding == each.check and named <= set(each.subjects)
        if mine and not estate.over(waiver.until, at):
            return replace(each, waived=_reason(waiver))
    return each


def ways(paths: Iterable[AccessPath], names: Names) -> Iterator[Entrance]:
    """Every way in, one line for each account and proof."""
    grouped: dict[tuple[str, str, Need], list[AccessPath]] = {}
    for path in paths:
        grouped.setdefault((path.service, path.account, path.need), []).append(path)
    for (service, account, need), found in grouped.items():
        sources = joined(p.callers.surely for p in found)
        where = names.where(sources)
        if not any(sources.values()):
            where = f"perhaps {names.where(joined(p.callers.perhaps for p in found))}"
        proofs = cause_words.proofs(cause for path in found for cause in path.causes)
        yield Entrance(account, names.need(need), f"{powers(found)}{by(service)}", where, proofs, service=service)


def doors(paths: Iterable[AccessPath], grants: tuple[Grant, ...], names: Names) -> Iterator[DoorState]:
    """Management access and the emergency accounts, as they stand."""
    by_place: dict[object, list[AccessPath]] = {}
    for path in paths:
        by_place.setdefault(path.place, []).append(path)
    for grant in grants:
        if grant.kind is GrantKind.GRANT:
            continue
        serving = [p for p in by_place.get(grant.place, ()) if covers(grant, p)]
        where = names.where(joined(p.callers.perhaps for p in serving)) if serving else "shut"
        shown = names.need(next(iter(grant.proofs))) if grant.proofs else ""
        proofs = cause_words.proofs(cause for path in serving for cause in path.causes)
        given = f"{powers(serving)}{by(grant.service)}" if serving else "nothing"
        yield DoorState(grant.account, shown, given, where, proofs, grant.service, grant.kind.value)


def identities(access: GuestAccess, estate: Estate | None = None) -> Identities:
    """The facts of a guest that the fleet checks compare."""
    network = access.reading.network
    spec = estate.guests.get(access.guest) if estate is not None else None
    wanted = estate.known_as if network.hosts and estate is not None else frozenset()
    names = [
        (name, line.address, line.number)
        for line in network.hosts
        for name in line.names
        if line.address is not None and name.lower() in wanted
    ]
    return Identities(
        access.guest,
        tuple((k.path, k.kind, k.fingerprint) for k in access.reading.host_keys),
        holdings(network, access.guest, spec),
        tuple(hardware(network)),
        network.machine_id.value if network.machine_id is not None else "",
        tuple(names),
        network.interfaces,
        private_halves.read(access.reading.snapshot, access.reading.accounts),
        tuple(_certificates(access)),
    )


def _certificates(access: GuestAccess) -> Iterator[tuple[str, str]]:
    """The certificates that a guest's services of screens show."""
    for each in access.services:
        if isinstance(each, RdpAccess) and each.settings is not None and each.seals is not None and each.seals.tls:
            found = seal.certificate_of(each.settings, access.reading.snapshot)
            if found is not None:
                yield found


def fleet(guests: list[Identities], estate: Estate | None, at: datetime) -> dict[str, list[Finding]]:
    """Findings over all guests, by the guest they are told with."""
    out: dict[str, list[Finding]] = {}
    seen = Fleet(tuple(guests), estate)
    for each in CATALOGUE.values():
        if isinstance(each, FleetCheck):
            for guest, told in each.body(seen):
                out.setdefault(guest, []).append(waived(finding(each, guest, told), estate, at))
    return out
