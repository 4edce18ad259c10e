"""Obstacles: the reason why each unserved grant is not served, looked for in the order in which a caller meets it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from nightlatch.access.arrivals import Arrival, admitted, met
from nightlatch.access.chains import rule_line
from nightlatch.access.differences import ShutOut
from nightlatch.access.layers import flow_to
from nightlatch.access.paths import GuestAccess
from nightlatch.access.tunnels import opens, shuts_tunnels
from nightlatch.access.verdicts import deciding
from nightlatch.estate.model import Estate
from nightlatch.model.bounds import Addresses
from nightlatch.model.causes import (
    AccountState,
    Cause,
    Condition,
    GrantSentence,
    ListenAddress,
    NoAccount,
    NoServer,
    NoSudoRule,
    PrivateNetwork,
)
from nightlatch.model.obstacles import Obstacle, ObstacleKind
from nightlatch.model.powers import PowerKind
from nightlatch.model.rules import RuleAction
from nightlatch.model.sockets import CONSOLE, Listener
from nightlatch.model.sources import COMMON, Sources, common_to, joined, without
from nightlatch.net.addresses import EVERY_ADDRESS, NO_ADDRESS, AddressSet, union
from nightlatch.origin import Kind, Origin
from nightlatch.services.base import Kinds, ServiceAccess, ServiceCase, ServiceKind


@dataclass(frozen=True)
class ObstacleSearch:
    """One guest on which obstacles are looked for; `estate` is the one whose grants are not served."""

    access: GuestAccess
    estate: Estate
    kinds: Kinds

    def of(self, missing: ShutOut) -> list[tuple[ShutOut, Obstacle]]:
        """The obstacles of a grant, part by part: where others of the same place get in, each part has a line of its own."""
        first = self.first(missing)
        # Where some are let in and others are not, what decides is looked for part by part.
        if first.by not in (ObstacleKind.NARROW, ObstacleKind.PARTLY):
            return [(missing, first)]
        parts: dict[tuple[ObstacleKind, Origin | str], tuple[Obstacle, list[Sources]]] = {}
        left = joined([missing.certain, missing.possible])
        for obstacle, sources in self._hindered(missing):
            inside = common_to(left, sources)
            if inside:
                parts.setdefault(obstacle.key, (obstacle, []))[1].append(inside)
                left = without(left, inside)
        out = [(_within(missing, joined(found)), obstacle) for obstacle, found in parts.values()]
        rest = _within(missing, left)
        return [*out, (rest, self._beside(rest, first))] if any(left.values()) else out

    def first(self, missing: ShutOut) -> Obstacle:
        """The first thing that stands in the way of a grant."""
        direct = (self._unserved, self._proof, self._account, self._filtered, self._refused, self._elsewhere, self._lacking)
        within = (self._unserved, self._proof, self._account, self._on_the_way, self._refused, self._lacking)
        for find in within if missing.grant.shape else direct:
            found = find(missing)
            if found is not None:
                return found
        if missing.served:
            return Obstacle(ObstacleKind.PARTLY, missing.served[0].causes)
        return Obstacle(ObstacleKind.UNEXPLAINED, (GrantSentence(missing.grant.origin),))

    def _asked(self, missing: ShutOut) -> Iterator[tuple[ServiceKind, ServiceCase]]:
        """The servers of the grant's service, each with its kind."""
        kind = self.kinds[missing.grant.service]
        for server in self._servers(missing):
            mine = tuple(path for path in self.access.paths if path.service == server.words.name)
            yield kind, ServiceCase(server, self.access.reading, mine, (missing.grant,), self.estate)

    def _servers(self, missing: ShutOut) -> tuple[ServiceAccess, ...]:
        """The servers of the grant's service that it speaks of; all of them where it speaks of none."""
        every, grant = self.access.of(missing.grant.service), missing.grant
        shown = tuple(each for each in every if each.screen in ("", grant.account))
        meant = tuple(each for each in shown if not each.listeners or any(grant.means(one.port) for one in each.listeners))
        return meant or shown or every

    def _unserved(self, missing: ShutOut) -> Obstacle | None:
        """No server of the service lets anybody in."""
        found = [kind.unserved(case) for kind, case in self._asked(missing)]
        if not found:
            title = self.kinds[missing.grant.service].words.title
            return Obstacle(ObstacleKind.NO_SERVICE, (NoServer(title, Origin(title, kind=Kind.ABSENT)),))
        if all(each is not None for each in found):
            return found[0]
        name, titles = missing.grant.account, [kind.words.title for kind, _ in self._asked(missing)]
        if all(each.screen not in ("", name) for each in self._servers(missing)):
            return Obstacle(ObstacleKind.NO_SCREEN, (NoServer(titles[0], Origin(titles[0], kind=Kind.ABSENT)),), name)
        return None

    def _proof(self, missing: ShutOut) -> Obstacle | None:
        """Nothing that the grant asks for is left: a key that ended or is revoked proves nothing."""
        if missing.grant.proofs:
            return None
        return Obstacle(ObstacleKind.NO_PROOF, (GrantSentence(missing.grant.origin),), missing.grant.who)

    def _account(self, missing: ShutOut) -> Obstacle | None:
        name = missing.grant.account
        if name == CONSOLE or name in self.access.reading.accounts.by_name:
            return None
        return Obstacle(ObstacleKind.NO_ACCOUNT, (NoAccount(name, Origin("/etc/passwd")),))

    def _filtered(self, missing: ShutOut) -> Obstacle | None:
        """The packet filter, or what stands behind it, keeps the whole of where they are shut out from every port of the
        service."""
        sources = missing.certain or missing.possible
        those = [(way, sources[way.space]) for way in self.access.arrivals if sources.get(way.space)]
        sockets = [(each, socket) for each in self._servers(missing) for socket in each.listeners]
        if any(wanted & self._admitted(*each, way).perhaps for each in sockets for way, wanted in those):
            return None
        for each in sockets:
            for way, wanted in those:
                found = self._kept_out(*each, way, wanted)
                if found is not None:
                    return found
        return None if those else self._no_way()

    def _on_the_way(self, missing: ShutOut) -> Obstacle | None:
        """What keeps a login on the guest itself from leading to the service."""
        leg, grant = missing.grant.shape[0], missing.grant
        mine = [path for path in self.access.paths if (path.service, path.account) == (leg.service, leg.account)]
        logins = [path for path in mine if not path.shape and any(path.need <= need for need in grant.before)]
        if not logins:
            return Obstacle(ObstacleKind.ON_THE_WAY, (GrantSentence(grant.origin),), leg.account)
        ports = [socket.port for each in self._servers(missing) for socket in each.listeners if grant.means(socket.port)]
        if any(opens(path.power, port) for path in logins for port in ports):
            return None
        found = shuts_tunnels(self.access.ssh, leg.account, _where(missing)) or GrantSentence(grant.origin)
        return Obstacle(ObstacleKind.NO_TUNNEL, (found,), found.origin)

    def _admitted(self, server: ServiceAccess, socket: Listener, way: Arrival) -> Addresses:
        flow = flow_to(self.access.reading, socket.address, socket.port)
        return admitted(self.access.reading, flow, way, behind=server.behind)

    def _kept_out(self, server: ServiceAccess, socket: Listener, way: Arrival, wanted: AddressSet) -> Obstacle | None:
        """The rule that keeps these callers from a socket, on one way to it."""
        flow = flow_to(self.access.reading, socket.address, socket.port)
        for rules, each, alike in met(self.access.reading, flow, way, behind=server.behind):
            found = deciding(rules, each, alike or wanted, (RuleAction.DROP, RuleAction.REJECT, RuleAction.REWRITE))
            if found is not None:
                line = rule_line(found, rules)
                return Obstacle(ObstacleKind.FILTER, (line, *way.causes), found.origin, port=socket.port)
        return None

    def _no_way(self) -> Obstacle | None:
        """A guest on a network of its own that nothing leads to from where they are."""
        own = next((way.space for way in self.access.arrivals if way.space != COMMON), "")
        if not own:
            return None
        return Obstacle(ObstacleKind.NO_WAY, (PrivateNetwork(own, Origin("the estate file", kind=Kind.ESTATE)),), own)

    def _refused(self, missing: ShutOut) -> Obstacle | None:
        where = _where(missing)
        found = (kind.refused(missing.grant, where, case, served=bool(missing.served)) for kind, case in self._asked(missing))
        return next((each for each in found if each is not None), None)

    def _lacking(self, missing: ShutOut) -> Obstacle | None:
        found = (kind.lacking(missing.grant, _where(missing), case) for kind, case in self._asked(missing))
        return next((each for each in found if each is not None), None)

    def _elsewhere(self, missing: ShutOut) -> Obstacle | None:
        """The proof opens the account, but from other places, or for less than is granted, or together with something else."""
        grant, asked = missing.grant, missing.grant.asked(missing.power)
        here = [path for path in self.access.paths if path.place == grant.place]
        same = [path for path in here if any(need <= path.need for need in asked)]
        more = [path for path in same if not any(path.need <= need for need in asked)]
        exact = [path for path in same if any(path.need <= need for need in asked)]
        wanted = [path for path in exact if missing.power.within(path.power)]
        if wanted:
            return Obstacle(ObstacleKind.NARROW, wanted[0].causes)
        if exact:
            causes = tuple(sorted(exact[0].causes, key=_later))  # what makes it less is told first
            return Obstacle(ObstacleKind.LESS, causes, causes[0].origin, given=tuple(path.power for path in exact))
        if more:
            last = more[0].causes[-1]
            return Obstacle(ObstacleKind.MORE, (last, *more[0].causes[:-1]), last.origin)
        if missing.power.gives is PowerKind.ADMINISTER and any(path.power.gives is PowerKind.SHELL for path in here):
            return Obstacle(ObstacleKind.NO_SUDO, (NoSudoRule(grant.account, Origin("/etc/sudoers")),), grant.account)
        return None

    def _hindered(self, missing: ShutOut) -> Iterator[tuple[Obstacle, Sources]]:
        """Lines that keep the account out from parts of where it is missing, with the callers that each is about."""
        for way, wanted in self._wanted_by_way(missing):
            seen = wanted if way.sees is None else way.sees
            for kind, case in self._asked(missing):
                for socket in case.access.listeners:
                    for each, sources in kind.lines(missing.grant, missing.power, socket, seen, case):
                        obstacle = replace(each, causes=(*each.causes, *way.causes))
                        yield obstacle, self._callers(way, wanted if way.sees is not None else sources)

    def _wanted_by_way(self, missing: ShutOut) -> Iterator[tuple[Arrival, AddressSet]]:
        """The ways to the guest with the addresses by which those who are missing come: behind a translation, as they are
        seen."""
        sources = joined([missing.certain, missing.possible])
        for way in self.access.arrivals:
            wanted = sources.get(way.space, NO_ADDRESS)
            if way.space == COMMON:
                wanted |= union(seen_as for space, _, seen_as in self.access.spaces.inside if sources.get(space))
            if wanted:
                yield way, wanted

    def _callers(self, way: Arrival, seen: AddressSet) -> Sources:
        """Callers of addresses: also those behind a translation who are seen as some of them."""
        inside = self.access.spaces.inside if way.space == COMMON else ()
        return {way.space: seen, **{space: own for space, own, seen_as in inside if seen_as & seen}}

    def _beside(self, missing: ShutOut, first: Obstacle) -> Obstacle:
        """The obstacle for callers that no line of the service explains: a socket, or a filter for a part of them."""
        sockets = [(each, socket) for each in self._servers(missing) for socket in each.listeners]
        for way, wanted in self._wanted_by_way(missing):
            seen = wanted if way.sees is None else way.sees
            if sockets and not any(seen & socket.admits() for _, socket in sockets):
                socket = sockets[0][1]
                origin = socket.origin or Origin("ListenAddress", kind=Kind.DEFAULT)
                return Obstacle(ObstacleKind.NO_SOCKET, (ListenAddress(socket.address or socket.family, origin),), origin)
            for server, socket in sockets:
                part = wanted - self._admitted(server, socket, way).surely
                found = self._kept_out(server, socket, way, part) if part else None
                if found is not None:
                    return found
        return first


def _later(cause: Cause) -> bool:
    return not (isinstance(cause, AccountState) and cause.state is Condition.PASSWORD_DUE)


def _where(missing: ShutOut) -> AddressSet:
    """From where they are shut out, by their own addresses."""
    return (missing.certain or missing.possible).get(COMMON, EVERY_ADDRESS)


def _within(missing: ShutOut, sources: Sources) -> ShutOut:
    return replace(missing, certain=common_to(missing.certain, sources), possible=common_to(missing.possible, sources))
