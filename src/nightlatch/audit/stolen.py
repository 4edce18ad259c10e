"""What a stolen key or a taken guest reaches, step by step: from each guest that is reached its private keys, and its address.

A thief calls from outside, unless said from where: from addresses of which the estate knows nothing, and from every guest on
which a shell or a tunnel was reached. Passwords and passphrases are not known to them.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from nightlatch.audit.answers import Callers, WayIn
from nightlatch.audit.checks.registry import Identities
from nightlatch.model.powers import ADMINISTER, SHELL, Power, PowerKind
from nightlatch.model.secrets import Key, Secret
from nightlatch.model.sources import COMMON, AddressSpace, Sources, common_to, joined
from nightlatch.net.addresses import LOOPBACK, NO_ADDRESS, single
from nightlatch.readings.private_halves import PrivateKeyFile

OUTSIDE = "outside"
STANDS_ON = (PowerKind.SHELL, PowerKind.DESKTOP, PowerKind.TUNNEL)


@dataclass(frozen=True, slots=True)
class FoundKey:
    """A private key that a thief has: from the start (`guest` empty), or `found` on a guest that was reached."""

    fingerprint: str
    guest: str = ""
    found: PrivateKeyFile | None = None


@dataclass(frozen=True, slots=True)
class Reached:
    """An account that is reached in one step: `by` which keys (none where nothing is asked), `calling` from outside or from a
    guest. Not `certain` where that or the way in is not sure."""

    step: int
    guest: str
    way: WayIn
    powers: tuple[Power, ...]
    by: tuple[FoundKey, ...]
    calling: str
    certain: bool


@dataclass(frozen=True, slots=True)
class Locked:
    """A private key on a guest that was reached, which opens nothing for somebody who does not know its passphrase."""

    guest: str
    found: PrivateKeyFile


@dataclass(frozen=True)
class Loot:
    """What a thief reaches, in steps; `beyond` are ways in whose keys they have, and for which they call from the wrong places;
    `locked` are keys with a passphrase that they find."""

    reached: tuple[Reached, ...] = ()
    beyond: tuple[tuple[str, WayIn], ...] = ()
    locked: tuple[Locked, ...] = ()


@dataclass
class _Thief:
    """What is held so far: keys, the addresses to call from with their names, accounts, and guests whose root that is."""

    callers: dict[str, Sources]
    keys: dict[str, FoundKey] = field(default_factory=dict)
    locked: dict[tuple[str, str], Locked] = field(default_factory=dict)
    taken: set[tuple[str, str]] = field(default_factory=set)
    rooted: set[str] = field(default_factory=set)


def loot(
    ways: Mapping[str, Sequence[WayIn]],
    guests: Iterable[Identities],
    spaces: Mapping[str, AddressSpace],
    outside: Sources,
    *,
    key: str = "",
    taken: str = "",
) -> Loot:
    """What the thief of a key (its fingerprint), or somebody who is root on a guest, reaches: `ways` are all ways in by guest,
    `spaces` the address space in which each guest's addresses mean something (the common one unless said)."""
    known = {each.guest: each for each in guests}
    thief = _Thief({OUTSIDE: outside})
    if key:
        thief.keys[key] = FoundKey(key)
    if taken:
        _enters(thief, taken, "root", (SHELL, ADMINISTER), known, spaces)
    reached: list[Reached] = []
    seen: set[tuple[str, int]] = set()
    step = 0
    while True:
        step += 1
        found = list(_step(step, ways, thief, seen))
        if not found:
            break
        reached += found
        for each in found:
            seen.add((each.guest, id(each.way)))
        for each in found:
            _enters(thief, each.guest, each.way.account, each.powers, known, spaces)
    beyond = [
        (guest, way)
        for guest, those in ways.items()
        for way in those
        if (guest, id(way)) not in seen and way.shown and _shows(way.shown, thief.keys) and not _is_had(guest, way, thief)
    ]
    return Loot(tuple(reached), tuple(beyond), tuple(thief.locked.values()))


def _step(step: int, ways: Mapping[str, Sequence[WayIn]], thief: _Thief, seen: set[tuple[str, int]]) -> Iterator[Reached]:
    """All ways in that open to what is held now, and were not taken before."""
    for guest, those in ways.items():
        for way in those:
            if (guest, id(way)) in seen or _is_had(guest, way, thief) or not _shows(way.shown, thief.keys):
                continue
            surely = _calling(guest, way.certain, thief.callers)
            calling = surely or _calling(guest, way.possible, thief.callers)
            if calling:
                by = tuple(thief.keys[each.fingerprint] for each in way.shown if isinstance(each, Key))
                yield Reached(step, guest, way, way.powers, by, calling, bool(surely))


def _is_had(guest: str, way: WayIn, thief: _Thief) -> bool:
    """Whether nothing is won by it: the account is had already, or all of the guest is."""
    more = any(power.gives is PowerKind.ADMINISTER for power in way.powers)
    return guest in thief.rooted or ((guest, way.account) in thief.taken and not more)


def _shows(shown: Iterable[Secret], held: Mapping[str, FoundKey]) -> bool:
    return all(isinstance(each, Key) and each.fingerprint in held for each in shown)


def _calling(guest: str, to: Callers, callers: Mapping[str, Sources]) -> str:
    """From where one of these callers is let in: outside first, then the guest that was reached first; empty from nowhere."""
    for name, sources in callers.items():
        own = joined([sources, {COMMON: LOOPBACK}]) if name == guest else sources
        if any(common_to(to.sources, own).values()):
            return name
    return ""


def _enters(
    thief: _Thief,
    guest: str,
    account: str,
    powers: Sequence[Power],
    known: Mapping[str, Identities],
    spaces: Mapping[str, AddressSpace],
) -> None:
    """Note what an account on a guest gives: its private keys, and a place to call from."""
    kinds = {power.gives for power in powers}
    facts = known.get(guest)
    root = PowerKind.ADMINISTER in kinds or account == "root"
    if PowerKind.SHELL in kinds or PowerKind.DESKTOP in kinds:
        thief.taken.add((guest, account))
        thief.rooted |= {guest} if root else set()
        for half in facts.halves if facts is not None else ():
            if root or account in half.readers:
                if half.locked is False:
                    thief.keys.setdefault(half.fingerprint, FoundKey(half.fingerprint, guest, half))
                else:
                    thief.locked.setdefault((guest, half.origin.path), Locked(guest, half))
    if kinds & set(STANDS_ON) and facts is not None:
        own = [single(each.address) for each in facts.addresses]
        space = spaces.get(guest, COMMON)
        thief.callers[guest] = joined([{space: each} for each in own]) or {space: NO_ADDRESS}
