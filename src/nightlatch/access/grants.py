"""Grants of the estate, expanded: one principal, guest and account each, with concrete secrets and sources in address spaces."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from datetime import datetime

from nightlatch.access.address_spaces import AddressSpaces
from nightlatch.access.arrivals import Arrival, arrivals, images, subnets, ways_to
from nightlatch.estate.model import Emergency, Estate, GrantSpec, PlaceRef, Principal, ViaKind
from nightlatch.evidence.facts import NOT_KNOWN, SurveyLogin
from nightlatch.formats.keys import PublicKey
from nightlatch.model.bounds import Bounds
from nightlatch.model.grants import Grant, GrantKind
from nightlatch.model.powers import ADMINISTER, SHELL, VIEW, Power, PowerKind
from nightlatch.model.routes import Leg, Seal, Tunnelled
from nightlatch.model.secrets import Certificate, Code, Key, Need, Password, ScreenPassword, Secret
from nightlatch.model.services import SSH, VNC
from nightlatch.model.sockets import CONSOLE, CONSOLE_WORD
from nightlatch.model.sources import COMMON, NOWHERE, Sources, joined
from nightlatch.net.literal import AddressError, parse_network

NOTHING_ASKED = ("none",)


def address_spaces(estate: Estate) -> AddressSpaces:
    """The address spaces of the estate: the inside of every place that is seen as other addresses."""
    inside = tuple((p.name, p.inside, p.seen) for p in estate.places.values() if p.inside is not None)
    return AddressSpaces(inside, arrivals(estate), tuple(dict.fromkeys(_tunnelled(estate))))


def _tunnelled(estate: Estate) -> Iterator[Tunnelled]:
    """The places that sentences say are reached through a login on the guest itself."""
    for spec in estate.grants:
        for guest in spec.guests if spec.through is not None else ():
            for who in spec.who:
                person = estate.principals[who]
                yield Tunnelled(_leg(spec, person, guest), spec.by.name, account_of(spec, person, guest))


def _leg(spec: GrantSpec, person: Principal, guest: str) -> Leg:
    assert spec.through is not None
    return Leg(guest, SSH.name, spec.through.account or person.accounts.get(guest, person.name))


def sources_of(estate: Estate, refs: Iterable[PlaceRef]) -> Sources:
    """Where the sentence lets callers be. Who is let in from behind a translation is let in as what it shows, too."""
    parts: list[Sources] = []
    for ref in refs:
        if ref.place:
            place = estate.places[ref.place]
            parts.append({COMMON: place.seen})
            if place.inside is not None:
                parts.append({place.name: place.inside})
        elif ref.network:
            network = estate.networks[ref.network]
            parts.append({network.name if network.private else COMMON: subnets(network)})
        elif ref.addresses is not None:
            parts.append({COMMON: ref.addresses})
            if ref.is_anywhere:
                parts.append({p.name: p.inside for p in estate.places.values() if p.inside is not None})
                parts.append({n.name: subnets(n) for n in estate.networks.values() if n.private})
    return joined(parts)


def expand(estate: Estate, guest: str, at: datetime, came: SurveyLogin = NOT_KNOWN) -> list[Grant]:
    """Every grant for one guest at a moment, management access and emergency accounts included.

    `came` says how a survey came in, for what management access does not state itself.
    """
    out = [grant for spec in estate.of(guest).grants for grant in _sentence(estate, spec, guest, at)]
    out.extend(_own_door(estate, guest, came))
    out.extend(g for kept in estate.of(guest).emergency for g in _emergency(estate, kept, guest))
    return out


def account_of(spec: GrantSpec, person: Principal, guest: str) -> str:
    """The account a sentence means: `as`, else the person's own account on that guest, else their name."""
    if spec.account == CONSOLE_WORD and spec.by == VNC:
        return CONSOLE
    return spec.account or person.accounts.get(guest, person.name)


def _sentence(estate: Estate, spec: GrantSpec, guest: str, at: datetime) -> Iterator[Grant]:
    for who in spec.who:
        person = estate.principals[who]
        account = account_of(spec, person, guest)
        over = estate.over(spec.until, at) or estate.over(person.until, at)
        sources = NOWHERE if over else sources_of(estate, spec.places)
        own: Need = frozenset([Password(guest, account)])
        keys = estate.keys_at(person, at)
        shown = proofs(estate, spec.proofs, person, keys, guest, account, look=spec.view)
        shape: tuple[Leg, ...] = ()
        before: frozenset[Need] = frozenset()
        if spec.through is not None:
            leg = _leg(spec, person, guest)
            before = proofs(estate, spec.through.proofs, person, keys, guest, leg.account)
            yield _on_the_way(spec, leg, who, before, Bounds(sources, sources))
            shape, shown = (leg,), frozenset(one | other for one in before for other in shown)
        yield Grant(
            guest=guest,
            account=account,
            who=who,
            proofs=shown,
            shape=shape,
            before=before,
            gives=gives(spec),
            callers=Bounds(sources, sources),
            origin=spec.origin,
            after=own if spec.after_password else frozenset(),
            service=spec.by.name,
            seal=Seal.CLEAR if shape else spec.seal,  # inside SSH the last leg is sealed, however it is made
            port=spec.by.port + spec.screen if spec.screen is not None else 0,
            text=spec.text,
            where=", ".join(ref.text for ref in spec.places),
        )


def _on_the_way(spec: GrantSpec, leg: Leg, who: str, shown: frozenset[Need], callers: Bounds[Sources]) -> Grant:
    """The login on the way, which the sentence grants as well."""
    return Grant(
        guest=leg.guest,
        account=leg.account,
        who=who,
        proofs=shown,
        gives=frozenset([SHELL]),
        callers=callers,
        origin=spec.origin,
        text=spec.text,
        where=", ".join(ref.text for ref in spec.places),
    )


def gives(spec: GrantSpec) -> frozenset[Power]:
    """The powers a sentence gives."""
    if spec.view:
        return frozenset([VIEW])
    if spec.command:
        return frozenset([Power(PowerKind.COMMAND, spec.command)])
    if spec.files:
        return frozenset([Power(PowerKind.FILES, spec.files)])
    return frozenset([spec.by.power, *([ADMINISTER] if spec.administer else [])])


def proofs(
    estate: Estate,
    stated: tuple[tuple[str, ...], ...],
    person: Principal | None,
    keys: tuple[PublicKey, ...],
    guest: str,
    account: str,
    *,
    look: bool = False,
) -> frozenset[Need]:
    """All needs that would do, with concrete secrets: each key and principal on its own. `look` says that a screen is only to be
    looked at, for which there is a password of its own."""
    out: set[Need] = set()
    for parts in stated:
        needs: list[Need] = [frozenset()]
        if parts == NOTHING_ASKED:
            out.add(frozenset())
            continue
        for part in parts:
            secrets = list(_secrets(estate, part, person, keys, guest, account, look=look))
            needs = [need | {secret} for need in needs for secret in secrets]
        out.update(needs)
    return frozenset(out)


def _secrets(
    estate: Estate, part: str, person: Principal | None, keys: tuple[PublicKey, ...], guest: str, account: str, *, look: bool
) -> Iterator[Secret]:
    if part in ("key", "hardware key"):
        for key in keys:
            if part == "key" or key.on_hardware:
                yield Key(key.fingerprint)
    elif part == "password":
        yield Password(guest, account)
    elif part == "code":
        yield Code(guest, account)
    elif part == "screen password":
        yield ScreenPassword(guest, account, look)
    elif person is not None and person.certificate is not None:
        authority = estate.authorities[person.certificate.authority].fingerprint
        for principal in person.certificate.principals:
            yield Certificate(authority, principal)


def _own_door(estate: Estate, guest: str, came: SurveyLogin) -> Iterator[Grant]:
    via = estate.guests[guest].via
    account = via.account or came.account
    if not account or via.kind is ViaKind.HERE or not (via.key or via.kind is ViaKind.SSH):
        return
    fingerprint = via.key.fingerprint if via.key is not None else came.key
    need: Need = frozenset([Key(fingerprint) if fingerprint else Password(guest, account)])
    sources, where = sources_of(estate, via.places), ", ".join(ref.text for ref in via.places)
    if not via.places:
        sources, where = _came_from(estate, guest, came)
    if not any(sources.values()):
        return
    # What comes in to change a guest has to be root there.
    powers = [SHELL, ADMINISTER] if via.is_live and account != "root" else [SHELL]
    yield Grant(
        guest=guest,
        account=account,
        who="management access",
        proofs=frozenset([need]),
        gives=frozenset(powers),
        callers=Bounds(sources, sources),
        origin=via.origin,
        kind=GrantKind.MANAGEMENT,
        text="via",
        where=where,
    )


def _came_from(estate: Estate, guest: str, came: SurveyLogin) -> tuple[Sources, str]:
    """The address that a survey came from, as the guest told it; a link-local scope is dropped. Where a forward hides who
    calls, it is not known who did."""
    text = came.address
    try:
        found = parse_network(text)
    except AddressError:
        return NOWHERE, ""
    ways = ways_to(estate, guest)
    if any(way.sees is not None and found <= way.sees for way in ways):
        return NOWHERE, ""
    near = next((way.space for way in ways if way.space != COMMON and found <= way.within), COMMON)
    return {near: found}, text


def seen_over(ways: tuple[Arrival, ...], grant: Grant) -> Grant:
    """The grant with callers as its guest sees them over these ways to it: what a limit written on the guest has to name."""
    if not ways:
        return grant
    surely, perhaps = (images(ways, sources) for sources in (grant.callers.surely, grant.callers.perhaps))
    return replace(grant, callers=Bounds({COMMON: surely} if surely else {}, {COMMON: perhaps} if perhaps else {}))


def _emergency(estate: Estate, kept: Emergency, guest: str) -> Iterator[Grant]:
    if not kept.proofs:
        return
    sources = sources_of(estate, kept.places)
    needs = proofs(estate, kept.proofs, None, kept.keys, guest, kept.account)
    yield Grant(
        guest=guest,
        account=kept.account,
        who=f"emergency account {kept.account}",
        proofs=needs,
        gives=frozenset([SHELL]),
        callers=Bounds(sources, sources),
        origin=kept.origin,
        kind=GrantKind.EMERGENCY,
        text="emergency",
        where=", ".join(ref.text for ref in kept.places),
    )
