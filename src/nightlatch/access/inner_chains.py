"""Chains of a login that is reached through another one on the guest itself: the links of that one, the tunnel, and those of what
listens at its end."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace

from nightlatch.access.chains import Chain, chains, let_in
from nightlatch.access.paths import GuestAccess
from nightlatch.access.tunnels import opens, shuts_tunnels
from nightlatch.estate.model import Estate
from nightlatch.model.bounds import EVERYBODY, NOBODY, Bounds
from nightlatch.model.causes import Cause, GrantSentence
from nightlatch.model.grants import Grant
from nightlatch.model.links import Break, LinkKind, link
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import Power
from nightlatch.model.sources import COMMON, Sources, joined
from nightlatch.net.addresses import LOOPBACK, AddressSet, union
from nightlatch.services.base import Kinds, Login

BEHIND = (LinkKind.LISTENER, LinkKind.SETTINGS, LinkKind.ACCOUNT, LinkKind.PROOF, LinkKind.SESSION)  # links at the end


def through(access: GuestAccess, kinds: Kinds, estate: Estate, login: Login, grant: Grant, sources: Sources) -> Iterator[Chain]:
    """The chains of a login that is reached through another one on the guest itself: the links of that one, the tunnel, and what
    the service at its end says to a caller that is the guest."""
    leg = grant.shape[0]
    before = next((need for need in sorted(grant.before, key=repr) if need <= login.need), frozenset())
    outer = chains(access, kinds, estate, Login(leg.account, before), leg.service, sources)
    inner = [each for each in chains(access, kinds, estate, login, grant.service, {COMMON: LOOPBACK}) if grant.means(each.port)]
    paths = [path for path in access.paths if path.place == grant.place]
    for way in outer:
        for end in inner[:1]:
            logins = [p for p in access.paths if (p.service, p.account, p.shape) == (leg.service, leg.account, ())]
            lets = [p for p in logins if opens(p.power, end.port)]
            asked = union(way.asked.values())
            admits = EVERYBODY if lets else NOBODY
            breaks = () if lets else (Break(_no_tunnel(access, leg.account, asked, grant), asked),)
            tunnel = link(LinkKind.TUNNEL, asked, admits, lets[0].causes[-1:] if lets else (), breaks)
            behind = [each for each in end.links if each.kind in BEHIND]
            mine = [path for path in paths if path.route.port == end.port]
            certain, possible = let_in(mine, login.need, way.asked)
            serves = tuple((power, _given(mine, power, login, way.asked)) for power in login.gives)
            yield replace(
                way,
                service=grant.service,
                login=login,
                port=end.port,
                certain=certain,
                possible=possible,
                links=(*way.links, tunnel, *behind),
                serves=serves,
            )


def _given(paths: Iterable[AccessPath], power: Power, login: Login, asked: Sources) -> Bounds[Sources]:
    surely, beyond = let_in([each for each in paths if each.power.offers(power)], login.shown_for(power), asked)
    return Bounds(surely, joined([surely, beyond]))


def _no_tunnel(access: GuestAccess, account: str, asked: AddressSet, grant: Grant) -> Cause:
    return shuts_tunnels(access.ssh, account, asked) or GrantSentence(grant.origin)
