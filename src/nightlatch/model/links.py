"""Links: the things that all have to hold so that somebody gets in, one after the other, each with its places.

Each link is asked by itself of the same callers, whatever the links before it say: so all that stand in the way are known, not
only the first.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

from nightlatch.model.bounds import Addresses, Bounds, in_any, inside
from nightlatch.model.causes import Cause
from nightlatch.model.powers import Power
from nightlatch.net.addresses import AddressSet, union


class LinkKind(StrEnum):
    """The links, in the order in which a caller meets them."""

    GRANT = "grant"
    ROUTE = "route"
    PERIMETER = "perimeter"
    FORWARD = "forward"
    FILTER = "filter"
    LISTENER = "listener"
    TUNNEL = "tunnel"
    SETTINGS = "settings"
    ACCOUNT = "account"
    PROOF = "proof"
    SESSION = "session"
    RIGHTS = "rights"


class Holds(StrEnum):
    """Whether a link holds for the callers that were asked for."""

    YES = "holds"
    PARTLY = "holds for some"
    UNDECIDED = "undecided"
    NO = "broken"


@dataclass(frozen=True, slots=True)
class Break:
    """A cause for which a link does not hold, and for which callers, by their addresses at this link."""

    cause: Cause
    sources: AddressSet


@dataclass(frozen=True, slots=True)
class Link:
    """One link, asked of callers by the addresses that are seen there (`asked`): those that it `admits`, the causes `by` which it
    does, and its `breaks`. `powers` are what a session gives, `passing` causes that stand in the way just now and pass by
    themselves."""

    kind: LinkKind
    asked: AddressSet
    admits: Addresses
    by: tuple[Cause, ...] = ()
    breaks: tuple[Break, ...] = ()
    powers: tuple[Power, ...] = ()
    passing: tuple[Cause, ...] = ()

    @property
    def holds(self) -> Holds:
        """Whether it holds for all of them, for some, for none, or can't be decided."""
        if self.asked <= self.admits.surely:
            return Holds.YES
        if not self.asked & self.admits.perhaps:
            return Holds.NO
        if self.admits.surely != self.admits.perhaps and not self.breaks:
            return Holds.UNDECIDED
        return Holds.PARTLY


def link(kind: LinkKind, asked: AddressSet, admits: Addresses, by: Iterable[Cause] = (), breaks: Iterable[Break] = ()) -> Link:
    """A link that is narrowed to what was asked; breaks of nobody are left out, and those of one cause are one."""
    told: dict[Cause, list[AddressSet]] = {}
    for each in breaks:
        if each.sources & asked:
            told.setdefault(each.cause, []).append(each.sources & asked)
    found = tuple(Break(cause, union(sources)) for cause, sources in told.items())
    return Link(kind, asked, inside(admits, asked), tuple(dict.fromkeys(by)), found)


def together(chains: Sequence[Sequence[Link]]) -> Iterator[Link]:
    """The same links asked of several parts of the callers, as one each. Chains are alike in their kinds."""
    for same in zip(*chains, strict=True):
        if len(same) == 1:
            yield same[0]
            continue
        whole = link(
            same[0].kind,
            union(each.asked for each in same),
            in_any(each.admits for each in same),
            (cause for each in same for cause in each.by),
            (each for part in same for each in part.breaks),
        )
        powers = tuple(dict.fromkeys(power for each in same for power in each.powers))
        passing = tuple(dict.fromkeys(cause for each in same for cause in each.passing))
        yield replace(whole, powers=powers, passing=passing)


def admitted(links: Iterable[Link]) -> Addresses:
    """The callers that every one of these links admits; all links see callers by the same addresses."""
    found = list(links)
    surely, perhaps = found[0].asked, found[0].asked
    gaps = {}
    for each in found:
        surely, perhaps = surely & each.admits.surely, perhaps & each.admits.perhaps
        gaps.update(dict.fromkeys(each.admits.because))
    return Bounds(surely, perhaps, tuple(gaps) if surely != perhaps else ())
