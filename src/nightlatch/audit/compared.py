"""Two audits compared by their meaning: ways in that opened and closed, who holds them, and findings that came and went."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from enum import StrEnum

from nightlatch.audit.answers import Callers, WayIn, callers
from nightlatch.audit.facts import FactChange
from nightlatch.audit.findings import Finding, Group, GuestAudit, Severity, identified
from nightlatch.audit.names import Names
from nightlatch.model.powers import Power
from nightlatch.model.secrets import Key
from nightlatch.model.sources import AddressSpace, Sources, joined, without
from nightlatch.net.addresses import AddressSet


class Turn(StrEnum):
    """What became of a way in."""

    OPENED = "opened"
    CLOSED = "closed"
    UNDECIDED = "undecided now"
    HELD = "held by others"


@dataclass(frozen=True, slots=True)
class WayChange:
    """A way in that opened or closed for some `callers`; `way` is as it is now, or as it was where it closed. `held` names its
    holders before, where they changed. `severity` is that of the hole that it opened, or of the finding of a person shut out.
    """

    guest: str
    turn: Turn
    way: WayIn
    powers: tuple[Power, ...]
    callers: Callers
    held: tuple[str, ...] = ()
    severity: Severity = Severity.NOTE


@dataclass(frozen=True, slots=True)
class Comparison:
    """What differs between two audits of the same guests. `unread` are guests that one of them could not read, `came` and `went`
    guests that only one of them has; `facts` what else changed on a guest, `changes` the ids of ours that it was given meanwhile.
    """

    ways: tuple[WayChange, ...] = ()
    new: tuple[Finding, ...] = ()
    gone: tuple[Finding, ...] = ()
    unread: tuple[tuple[str, str], ...] = ()
    came: tuple[str, ...] = ()
    went: tuple[str, ...] = ()
    facts: tuple[FactChange, ...] = ()
    changes: tuple[tuple[str, str], ...] = ()

    @property
    def is_empty(self) -> bool:
        """Whether nothing differs."""
        return self == Comparison()


def compared(before: Iterable[GuestAudit], after: Iterable[GuestAudit], names: Names) -> Comparison:
    """What differs after from before, guest by guest in their order."""
    old, new = ({each.guest: each for each in those} for those in (before, after))
    both = [name for name in new if name in old and not (old[name].unread or new[name].unread)]
    unread = dict.fromkeys((n, each.unread) for those in (old, new) for n, each in those.items() if each.unread)
    found: list[WayChange] = []
    came: list[Finding] = []
    gone: list[Finding] = []
    for name in both:
        turned = _ways(name, old[name].answers, new[name].answers, names)
        found += (replace(each, severity=_severity(each, new[name])) for each in turned)
        then, now = (dict(identified(each.findings)) for each in (old[name], new[name]))
        came += [each for id, each in now.items() if id not in then]
        gone += [each for id, each in then.items() if id not in now]
    return Comparison(
        tuple(found),
        tuple(came),
        tuple(gone),
        tuple(unread),
        tuple(name for name in new if name not in old),
        tuple(name for name in old if name not in new),
    )


def joined_up(parts: Iterable[Comparison]) -> Comparison:
    """Comparisons of single guests as one."""
    found = list(parts)
    return Comparison(
        tuple(one for each in found for one in each.ways),
        tuple(one for each in found for one in each.new),
        tuple(one for each in found for one in each.gone),
        tuple(one for each in found for one in each.unread),
        tuple(one for each in found for one in each.came),
        tuple(one for each in found for one in each.went),
        tuple(one for each in found for one in each.facts),
        tuple(one for each in found for one in each.changes),
    )


def _severity(change: WayChange, now: GuestAudit) -> Severity:
    """How bad the finding is to which a change leads; a way in that asks for nothing is the worst of all."""
    if change.turn in (Turn.OPENED, Turn.UNDECIDED) and not change.way.shown:
        return Severity.CRITICAL
    group = Group.SHUT_OUT if change.turn is Turn.CLOSED else Group.HOLE
    about = (each for each in now.findings if each.group is group and not each.waived and _is_about(each, change.way))
    return min((each.severity for each in about), key=lambda severity: severity.rank, default=Severity.NOTE)


def _is_about(found: Finding, way: WayIn) -> bool:
    keys = {each.fingerprint for each in way.shown if isinstance(each, Key)}
    same = (each for each in found.about if (each.account, each.service) == (way.account, way.service))
    return any(not each.key or each.key in keys for each in same)


_Key = tuple[object, ...]


def _ways(guest: str, old: Iterable[WayIn], new: Iterable[WayIn], names: Names) -> Iterator[WayChange]:
    """The changes of one guest's ways in, power by power, those with the same callers together."""
    then, now = _by_login(old), _by_login(new)
    for key in dict.fromkeys([*now, *then]):
        was, held = then.get(key, []), now.get(key, [])
        turns: dict[tuple[Turn, tuple[tuple[AddressSpace, AddressSet], ...]], list[Power]] = {}
        for power in dict.fromkeys(power for way in (*held, *was) for power in way.powers):
            for turn, sources in _turned(_of(was, power), _of(held, power)):
                turns.setdefault((turn, tuple(sorted(sources.items()))), []).append(power)
        for (turn, those), powers in turns.items():
            way = was[0] if turn is Turn.CLOSED else held[0]
            yield WayChange(guest, turn, way, tuple(powers), callers(dict(those), names))
        if was and held and was[0].held_by != held[0].held_by:
            all_ = callers(joined(each.certain.sources for each in held), names)
            yield WayChange(guest, Turn.HELD, held[0], held[0].powers, all_, was[0].held_by)


def _by_login(ways: Iterable[WayIn]) -> Mapping[_Key, list[WayIn]]:
    out: dict[_Key, list[WayIn]] = {}
    for way in ways:
        forward = way.route.forward.dialled if way.route.forward is not None else ""
        key = (way.account, way.service, way.route.port, forward, way.through, frozenset(map(_known, way.shown)), way.seal)
        out.setdefault(key, []).append(way)
    return out


def _known(secret: object) -> object:
    """A secret without the place where something unknown was met: that moves with lines."""
    return replace(secret, origin=None) if hasattr(secret, "origin") else secret  # type: ignore[type-var]


def _of(ways: Iterable[WayIn], power: Power) -> tuple[Sources, Sources]:
    """The callers who get a power, surely, and surely or perhaps."""
    those = [each for each in ways if power in each.powers]
    certain = joined(each.certain.sources for each in those)
    return certain, joined([certain, *(each.possible.sources for each in those)])


def _turned(was: tuple[Sources, Sources], now: tuple[Sources, Sources]) -> Iterator[tuple[Turn, Sources]]:
    opened = without(now[0], was[0])
    closed = without(was[1], now[1])
    unsure = without(without(now[1], was[1]), now[0])
    for turn, sources in ((Turn.OPENED, opened), (Turn.CLOSED, closed), (Turn.UNDECIDED, unsure)):
        if sources:
            yield turn, sources
