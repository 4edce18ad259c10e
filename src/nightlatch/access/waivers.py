"""Differences that waivers accept: a waiver of a hole names account, proof and place, and covers nothing beside these.

The accepted part of a difference is separated from the rest, so that a wider place, another key or another account of
the same guest is still a hole.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from datetime import datetime
from functools import partial
from typing import TypeVar

from nightlatch.access.differences import Hole, ShutOut
from nightlatch.access.grants import sources_of
from nightlatch.estate.model import Estate, Waiver
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import PowerKind
from nightlatch.model.secrets import Certificate, Code, Key, Need, Password, ScreenPassword, UnknownSecret
from nightlatch.model.sources import Sources, common_to, without

HOLES = ("hole", "hole.possible")
SHUT_OUT = ("shut-out", "shut-out.possible")
KINDS = {
    "password": Password,
    "screen password": ScreenPassword,
    "code": Code,
    "certificate": Certificate,
    "unknown": UnknownSecret,
}


@dataclass(frozen=True, slots=True)
class Acceptance:
    """A waiver in force on one guest, with the addresses and keys that it names."""

    waiver: Waiver
    sources: Sources
    needs: tuple[Need, ...] = ()

    def takes(self, path: AccessPath) -> bool:
        """Whether it accepts that this path is open: its account, by what it names, for no more than it says."""
        waiver = self.waiver
        if (path.service, path.account) != (waiver.by, waiver.account):
            return False
        if path.power.gives is PowerKind.ADMINISTER and not waiver.administers:
            return False
        if waiver.proof == "none":
            return not path.need
        kind = KINDS.get(waiver.proof)
        if kind is not None:
            return any(isinstance(secret, kind) for secret in path.need)
        return any(need <= path.need for need in self.needs)

    def takes_back(self, item: ShutOut) -> bool:
        """Whether it accepts that this person is shut out."""
        waiver, grant = self.waiver, item.grant
        same = waiver.person in ("", grant.who) and waiver.account in ("", grant.account)
        return same and waiver.by == grant.service


def acceptances(estate: Estate | None, guest: str, at: datetime) -> tuple[Acceptance, ...]:
    """The waivers of differences that hold on a guest at a moment (aware)."""
    if estate is None:
        return ()
    return tuple(
        Acceptance(each, sources_of(estate, each.places), tuple(_needs(estate, each)))
        for each in estate.of(guest).waivers
        if each.finding in (*HOLES, *SHUT_OUT) and not estate.over(each.until, at)
    )


def _needs(estate: Estate, waiver: Waiver) -> Iterable[Need]:
    if waiver.key:
        yield frozenset([Key(waiver.key)])
    if waiver.person:
        person = estate.principals[waiver.person]
        yield from (frozenset([Key(key.fingerprint)]) for key in person.keys)
        if person.certificate is not None:
            authority = estate.authorities[person.certificate.authority].fingerprint
            yield from (frozenset([Certificate(authority, name)]) for name in person.certificate.principals)


def holes_beside(items: Iterable[Hole], those: Iterable[Acceptance]) -> tuple[list[Hole], list[tuple[Waiver, Hole]]]:
    """The parts of these holes that no waiver accepts, and those that each waiver accepts."""
    mine = [each for each in those if each.waiver.finding in HOLES]
    return _parted(items, mine, lambda each, item: each.takes(item.path))


def shut_out_beside(items: Iterable[ShutOut], those: Iterable[Acceptance]) -> tuple[list[ShutOut], list[tuple[Waiver, ShutOut]]]:
    """The parts of these shut-outs that no waiver accepts, and those that each waiver accepts."""
    mine = [each for each in those if each.waiver.finding in SHUT_OUT]
    return _parted(items, mine, Acceptance.takes_back)


Item = TypeVar("Item", Hole, ShutOut)


def _parted(
    items: Iterable[Item], those: list[Acceptance], takes: Callable[[Acceptance, Item], bool]
) -> tuple[list[Item], list[tuple[Waiver, Item]]]:
    left: list[Item] = []
    taken: list[tuple[Waiver, Item]] = []
    for item in items:
        rest = item
        only_possible = not any(item.certain.values())
        for each in those:
            if takes(each, item) and (only_possible or not each.waiver.finding.endswith(".possible")):
                part = _kept(rest, partial(common_to, b=each.sources))
                if _is_any(part):
                    taken.append((each.waiver, part))
                rest = _kept(rest, partial(without, b=each.sources))
        if _is_any(rest):
            left.append(rest)
    return left, taken


def _kept(item: Item, of: Callable[[Sources], Sources]) -> Item:
    return replace(item, certain=of(item.certain), possible=of(item.possible))


def _is_any(item: Hole | ShutOut) -> bool:
    return any(item.certain.values()) or any(item.possible.values())
