"""A look at a guest from the wire, held against the grants, the pinned host keys and the prediction from evidence. Pure.

A look from one place proves the way from there and no other: what is granted from elsewhere is told as not proven.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from enum import StrEnum

from nightlatch.access.paths import GuestAccess
from nightlatch.audit.findings import Finding, Group, Proof, Severity
from nightlatch.audit.names import Names, by, listed
from nightlatch.estate.model import Estate, GuestSpec
from nightlatch.model.grants import Grant, GrantKind
from nightlatch.model.handshake import RequestedProof
from nightlatch.model.routes import Seal
from nightlatch.model.secrets import Certificate, ClientCertificate, Code, Key, Need, Password, ScreenPassword, Secret
from nightlatch.model.services import SSH
from nightlatch.net.addresses import NO_ADDRESS, AddressSet
from nightlatch.net.literal import AddressError, parse_network
from nightlatch.origin import Kind, Origin
from nightlatch.probe.stages import FailureMode, Look, Stage
from nightlatch.services.base import ServerState as Serving
from nightlatch.services.ssh import wire

_METHODS = {
    Key: ("publickey",),
    Certificate: ("publickey",),
    Password: ("password", "keyboard-interactive"),
    Code: ("keyboard-interactive",),
}
_WORDS = {
    Key: ("key",),
    Certificate: ("certificate",),
    Password: ("password",),
    ScreenPassword: ("screen password",),
    Code: ("code",),
    ClientCertificate: ("certificate",),
}
_ORDER = list(Stage)


class GrantState(StrEnum):
    """How a grant stands after a look."""

    OFFERED = "offered"
    NOT_OFFERED = "not offered"
    NOT_SEALED = "not sealed as granted"
    NOT_REACHED = "not reached"
    ELSEWHERE = "not proven from here"
    NOT_SEEN = "not looked at"


NOT_LET_IN = (GrantState.NOT_OFFERED, GrantState.NOT_SEALED)


@dataclass(frozen=True, slots=True)
class GrantStanding:
    """One grant after the look; `proof` says in words what it asks for, `kind` only of which kinds that is."""

    who: str
    account: str
    proof: str
    where: str
    state: GrantState
    origin: Origin
    kind: str = ""


def caller(address: str) -> AddressSet:
    """Our own address as a set; empty when there is none. A link-local scope is dropped."""
    try:
        return parse_network(address.partition("%")[0])
    except AddressError:
        return NO_ADDRESS


def place_of(estate: Estate, address: str) -> str:
    """The name of the first place that holds an address, or an empty text."""
    own = caller(address)
    for place in estate.places.values():
        if own and (own <= place.seen or (place.inside is not None and own <= place.inside)):
            return place.name
    return ""


def from_here(grant: Grant, address: str) -> bool:
    """Whether the grant lets callers be at this address, in whatever address space."""
    own = caller(address)
    return bool(own) and any(own <= sources for sources in grant.callers.perhaps.values())


def stands(look: Look, grants: list[Grant], names: Names) -> tuple[GrantStanding, ...]:
    """How each grant stands after the look; grants that are over are left out."""
    out = []
    for grant in grants:
        if any(grant.callers.perhaps.values()) and grant.service == look.target.service and not grant.shape:
            proof = " or ".join(sorted(names.need(need) for need in grant.proofs)) or "nothing that it could show"
            out.append(
                GrantStanding(grant.who, grant.account, proof, grant.where, _state(look, grant), grant.origin, _kinds(grant))
            )
    return tuple(out)


_KINDS = {
    Key: "a key",
    Certificate: "a certificate",
    Password: "the password",
    ScreenPassword: "the screen password",
    Code: "a code",
}


def _kinds(grant: Grant) -> str:
    ways = {" and ".join(sorted({_KINDS.get(type(secret), "something unknown") for secret in need})) for need in grant.proofs}
    return " or ".join(sorted(ways)) or "nothing"


def _state(look: Look, grant: Grant) -> GrantState:
    if not from_here(grant, look.here):
        return GrantState.ELSEWHERE
    seen = next((each for each in asked(look) if each.account == grant.account), None)
    if look.failed is None and not _sealed(look, grant):
        return GrantState.NOT_SEALED
    if seen is None:
        return GrantState.NOT_REACHED if look.failed is not None else GrantState.NOT_SEEN
    offered, ways = set(seen.proofs), _METHODS if look.target.service == SSH.name else _WORDS
    fits = any(seen.let_in or _fits(need, offered, ways) for need in grant.proofs)
    return GrantState.OFFERED if fits else GrantState.NOT_OFFERED


def _sealed(look: Look, grant: Grant) -> bool:
    """Whether a connection as good as the grant asks for was served, of a service that was asked for its seals."""
    return not (look.seals or look.unserved) or any(each.seal >= grant.seal for each in look.seals)


def asked(look: Look) -> list[RequestedProof]:
    """The proofs that each account is asked for: SSH's methods, or those of another service."""
    return [*(RequestedProof(each.account, each.methods, each.let_in) for each in look.methods), *look.asks]


def _fits(need: Need, offered: set[str], ways: Mapping[type[Secret], tuple[str, ...]]) -> bool:
    """Whether one of the ways in which the proof is shown is offered. Of several proofs, only the first is seen."""
    return any(set(ways.get(type(secret), ())) & offered for secret in need)


def judged(look: Look, spec: GuestSpec, told: tuple[GrantStanding, ...], access: GuestAccess | None) -> tuple[Finding, ...]:
    """All findings of one look."""
    against = _against(look, spec, access) if access is not None else ()
    found = (
        *_not_reached(look, spec, told),
        *_host_key(look, spec),
        *_not_offered(look, spec, told),
        *_not_sealed(look, spec, told),
        *_open(look, spec),
        *against,
    )
    return tuple(replace(each, service=look.target.service) for each in found)


def _seen(look: Look, text: str) -> Proof:
    return Proof(text, Origin(f"{look.target.text} from {look.here or 'here'}", kind=Kind.WIRE))


def _finding(
    check: str, severity: Severity, spec: GuestSpec, text: str, *proofs: Proof, subjects: tuple[str, ...] = ()
) -> Finding:
    return Finding(check, severity, spec.name, Group.WIRE, text, proofs, subjects)


def _not_reached(look: Look, spec: GuestSpec, told: tuple[GrantStanding, ...]) -> Iterator[Finding]:
    if look.failed is None or look.failed is Stage.LOGIN or look.how in (FailureMode.OTHER_KEY, FailureMode.NOT_OFFERED):
        return
    touched = tuple(dict.fromkeys(s.who for s in told if s.state is GrantState.NOT_REACHED))
    proof = _seen(look, f"{look.failed}: {look.how}")
    if touched:
        text = f"{listed(touched)} can't get in{by(look.target.service)} from here: it ends at {_end(look)}."
        yield _finding("reach.not-reached", Severity.HIGH, spec, text, proof, subjects=touched)
    else:
        text = f"It ends{by(look.target.service)} at {_end(look)}. Nobody is let in from here, so that may be meant."
        yield _finding("reach.not-reached", Severity.LOW, spec, text, proof)


def _end(look: Look) -> str:
    return f"{look.failed} ({look.how}{f': {look.why}' if look.why else ''})"


def _host_key(look: Look, spec: GuestSpec) -> Iterator[Finding]:
    if not look.keys:
        return
    shown = ", ".join(f"{proven.key.kind} {proven.key.fingerprint}" for proven in look.keys)
    if not spec.host_keys:
        text = f"No host key is pinned, so any server that answers is taken for {spec.name}. Pin it: nightlatch meet {spec.name}."
        yield _finding("reach.not-pinned", Severity.MEDIUM, spec, text, _seen(look, shown))
        return
    strange = [proven for proven in look.keys if proven.key.fingerprint not in spec.host_keys]
    if len(strange) == len(look.keys):
        text = (
            f"The server that answers proves another host key than the one pinned for {spec.name}: it was rebuilt, the address "
            "leads to another guest, or somebody answers in its place. Send nothing there before its console was compared."
        )
        yield _finding("reach.other-host-key", Severity.CRITICAL, spec, text, _seen(look, shown), Proof("pinned", spec.origin))
    elif strange:
        kinds = listed(tuple(proven.key.kind for proven in strange))
        text = f"Its {kinds} host key is not pinned; a client that prefers that type will ask: nightlatch meet {spec.name}."
        yield _finding("reach.type-not-pinned", Severity.NOTE, spec, text, _seen(look, shown))


def _not_offered(look: Look, spec: GuestSpec, told: tuple[GrantStanding, ...]) -> Iterator[Finding]:
    for account in dict.fromkeys(s.account for s in told if s.state is GrantState.NOT_OFFERED):
        touched = [s for s in told if s.account == account and s.state is GrantState.NOT_OFFERED]
        offered = next(", ".join(each.proofs) or "no method" for each in asked(look) if each.account == account)
        who = tuple(dict.fromkeys(s.who for s in touched))
        text = f"{listed(who)} can't get in{by(look.target.service)} as {account} with {touched[0].proof}: "
        text += f"from here, {offered} is offered."
        yield _finding(
            "reach.proof-not-offered",
            Severity.HIGH,
            spec,
            text,
            _seen(look, f"{account}: {offered}"),
            Proof("granted", touched[0].origin),
            subjects=who,
        )


def _not_sealed(look: Look, spec: GuestSpec, told: tuple[GrantStanding, ...]) -> Iterator[Finding]:
    touched = [each for each in told if each.state is GrantState.NOT_SEALED]
    if touched:
        who = tuple(dict.fromkeys(each.who for each in touched))
        served = _seals(each.seal for each in look.seals)
        why = "".join(f" ({each.why})" for each in look.unserved[:1])
        text = f"{listed(who)} can't get in{by(look.target.service)}: from here {served} is served{why}."
        proof = _seen(look, f"served: {served}")
        yield _finding("reach.not-sealed", Severity.HIGH, spec, text, proof, Proof("granted", touched[0].origin), subjects=who)


def _seals(seals: Iterable[Seal]) -> str:
    """Seals in words, the weaker first."""
    found = sorted(set(seals))
    return listed(each.words for each in found) if found else "nothing"


def _seals_against(look: Look, spec: GuestSpec, access: GuestAccess) -> Iterator[Finding]:
    """The seals on the wire are others than those that the evidence foretells."""
    mine = [path for path in access.paths if path.service == look.target.service and path.route.port == look.target.port]
    foretold = {path.seal for path in mine}
    seen = {each.seal for each in look.seals}
    if foretold and (look.seals or look.unserved) and foretold != seen:
        ours, theirs = _seals(foretold), _seals(seen)
        text = f"The wire shows {theirs}{by(look.target.service)}; by the evidence it would be {ours}. "
        text += "What runs is not what was read."
        proof = Proof(f"foretold: {ours}", mine[0].causes[-1].origin)
        yield _finding("reach.not-as-read", Severity.MEDIUM, spec, text, _seen(look, theirs), proof)


def _open(look: Look, spec: GuestSpec) -> Iterator[Finding]:
    for seen in asked(look):
        if seen.let_in:
            text = f"{seen.account} is let in{by(look.target.service)} without showing anything at all."
            proof = _seen(look, "none: success" if look.methods else "nothing is asked")
            yield _finding("reach.no-proof-asked", Severity.CRITICAL, spec, text, proof, subjects=(seen.account,))


def _against(look: Look, spec: GuestSpec, access: GuestAccess) -> Iterator[Finding]:
    """Where the wire and what the evidence predicts differ: one of the two is not as it was read."""
    own = caller(look.here)
    held = [each for each in access.of(look.target.service) if each.state not in (Serving.ABSENT, Serving.NOT_COLLECTED)]
    if not own or not held or (look.target.service == SSH.name and access.reading.sshd.gaps):
        return
    every = [(each, socket) for each in held for socket in each.listeners]
    port, program = look.target.port, held[0].words.program
    sockets = [socket for _, socket in every if socket.port == port and socket.admits() & own]
    answered = look.identified is not None or bool(look.answered)
    if sockets and look.failed is Stage.CONNECT:
        origin = sockets[0].origin or Origin("Port", kind=Kind.DEFAULT)
        text = (
            f"By the evidence {program} listens on port {port} for callers like this one, and the wire says: {look.how}. "
            "A filter is on the way, the service does not run as it was read, or the evidence is old."
        )
        yield _finding(
            "reach.not-as-read", Severity.MEDIUM, spec, text, _seen(look, str(look.how)), Proof(f"port {port}", origin)
        )
    if answered and not sockets and every:
        first = every[0][1]
        text = f"Something answers on port {port}, where by the evidence {program} does not listen: "
        text += "a forward, or another service."
        proof = Proof(f"port {first.port}", first.origin or Origin("Port", kind=Kind.DEFAULT))
        yield _finding("reach.not-as-read", Severity.MEDIUM, spec, text, _seen(look, "answered"), proof)
    if look.target.service == SSH.name:
        yield from _keys_against(look, spec, access)
        yield from _methods_against(look, spec, access, own)
    else:
        yield from _seals_against(look, spec, access)


def _keys_against(look: Look, spec: GuestSpec, access: GuestAccess) -> Iterator[Finding]:
    held = {key.fingerprint for key in access.reading.host_keys}
    if held and look.keys and not held & set(look.fingerprints):
        shown = ", ".join(f"{proven.key.kind} {proven.key.fingerprint}" for proven in look.keys)
        text = "The evidence does not hold the host key on the wire: another guest answers than the one that was read."
        proof = Proof("held there", Origin(access.reading.host_keys[0].path))
        yield _finding("reach.not-the-guest-read", Severity.HIGH, spec, text, _seen(look, shown), proof)


def _methods_against(look: Look, spec: GuestSpec, access: GuestAccess, own: AddressSet) -> Iterator[Finding]:
    told: dict[tuple[str, str], tuple[list[str], Proof, Proof]] = {}
    for seen in look.methods:
        predicted = wire.worlds(access.ssh, seen.account, own)
        shown = frozenset(seen.methods) & frozenset(wire.COMPARED)
        if seen.let_in or not predicted or any(methods == shown for methods, _ in predicted):
            continue
        ours, theirs = ", ".join(sorted(predicted[0][0])) or "none", ", ".join(sorted(shown)) or "none"
        entry = told.setdefault((ours, theirs), ([], _seen(look, theirs), Proof(f"predicted: {ours}", predicted[0][1])))
        entry[0].append(seen.account)
    for (ours, theirs), (accounts, *proofs) in told.items():
        text = f"{listed(accounts)} is offered {theirs}; by the evidence it would be {ours}. What runs is not what was read."
        yield _finding("reach.not-as-read", Severity.MEDIUM, spec, text, *proofs, subjects=tuple(accounts))


def granted_accounts(grants: list[Grant], service: str = SSH.name) -> tuple[str, ...]:
    """The accounts that grants by a service speak of, management access last."""
    ordered = sorted(grants, key=lambda grant: grant.kind is GrantKind.MANAGEMENT)
    return tuple(dict.fromkeys(grant.account for grant in ordered if grant.service == service))


def stage_is_before(one: Stage, other: Stage) -> bool:
    """Whether a stage comes before another."""
    return _ORDER.index(one) < _ORDER.index(other)
