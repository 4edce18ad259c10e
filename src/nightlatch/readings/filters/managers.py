"""Managers of packet filters on a guest: those with stored rules, and whether each is started at boot.

A manager's rules are what a boot would load; what runs now is the kernel's word (readings/filters/filter_reading.py).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from nightlatch.evidence.remembered import remembered
from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.model.gaps import Gap
from nightlatch.origin import Origin
from nightlatch.readings.filters import ifup_rules, places
from nightlatch.readings.filters.rules import Chain, Rules
from nightlatch.readings.network import network_reading
from nightlatch.readings.network.profiles import System
from nightlatch.systems import posix

TARGETS = ("sysinit", "basic", "multi-user")
AREA = "packet filter"


@dataclass(frozen=True)
class StoredRules:
    """Rules that a manager has on disk. `place` is where they begin, `unit` what loads them at boot, `started` whether that is
    started then (None: not known)."""

    manager: str
    place: Origin
    unit: str
    started: bool | None
    rules: Rules


@remembered(64)
def at_boot(snapshot: Snapshot) -> tuple[StoredRules, ...]:
    """Everything that is stored and filters something, in the order in which a boot loads it."""
    return tuple(each for look in LOOKS for each in look(snapshot))


def is_started(snapshot: Snapshot, unit: str) -> bool | None:
    """Whether a unit is started at boot, by its links; None where they were not looked at."""
    own = snapshot.resolve(f"{posix.UNIT_FOLDERS[0]}/{unit}", follow_last=False).entry
    if own is not None and own.kind is EntryKind.LINK and own.target == "/dev/null":
        return False
    entries = [
        snapshot.resolve(f"{posix.UNIT_FOLDERS[0]}/{each}.target.wants/{unit}", follow_last=False).entry for each in TARGETS
    ]
    if any(entry is not None and entry.kind is not EntryKind.ABSENT for entry in entries):
        return True
    return None if any(entry is None for entry in entries) else False


def filters_something(rules: Rules) -> bool:
    """Whether anybody could be kept out by these rules."""
    return bool(rules.gaps) or any(chain.rules or not chain.accepts for chain in rules.chains.values())


def _nftables(snapshot: Snapshot) -> list[StoredRules]:
    for path in places.NFT_FILES:
        if snapshot.content(path) is not None:
            from nightlatch.readings.filters import nftables

            rules = nftables.stored(snapshot, path)
            if filters_something(rules):
                unit = "nftables.service"
                return [StoredRules("nftables", Origin(path), unit, is_started(snapshot, unit), rules)]
    return []


def _iptables(snapshot: Snapshot) -> list[StoredRules]:
    out = []
    sets: tuple[tuple[str, tuple[tuple[str, str], ...]], ...] = (
        ("netfilter-persistent.service", places.IPTABLES_DEBIAN),
        *((unit, (pair,)) for unit, pair in zip(("iptables.service", "ip6tables.service"), places.IPTABLES_RPM, strict=True)),
    )
    for unit, files in sets:
        held = tuple(pair for pair in files if snapshot.content(pair[0]) is not None)
        if not held:
            continue
        from nightlatch.readings.filters import iptables

        rules = iptables.stored(snapshot, held)
        if filters_something(rules):
            out.append(StoredRules("iptables", Origin(held[0][0]), unit, is_started(snapshot, unit), rules))
    return out


def _ufw(snapshot: Snapshot) -> list[StoredRules]:
    if snapshot.content(places.UFW_SWITCH) is None:
        return []
    from nightlatch.readings.filters import ufw

    place = ufw.is_on(snapshot)
    if place is None:
        return []
    return [StoredRules("ufw", place, "ufw.service", is_started(snapshot, "ufw.service"), ufw.stored(snapshot))]


def _firewalld(snapshot: Snapshot) -> list[StoredRules]:
    """Its settings alone are no sign of it: zones came with the package, and are what it loads."""
    started = is_started(snapshot, "firewalld.service")
    if snapshot.content(places.FIREWALLD) is None or not started:
        return []
    from nightlatch.readings.filters import firewalld

    return [StoredRules("firewalld", Origin(places.FIREWALLD), "firewalld.service", started, firewalld.stored(snapshot))]


def _ifupdown(snapshot: Snapshot) -> list[StoredRules]:
    """Rules that are loaded as interfaces come up, those that do so by themselves."""
    found = [each for each in ifup_rules.read(snapshot) if each.started and filters_something(each.rules)]
    started = dict(network_reading.starts(snapshot))[System.IFUPDOWN] if found else None
    return [StoredRules("ifupdown", each.origin, "networking.service", started, each.rules) for each in found]


LOOKS: tuple[Callable[[Snapshot], list[StoredRules]], ...] = (_nftables, _iptables, _ufw, _firewalld, _ifupdown)


def together(stored: tuple[StoredRules, ...]) -> Rules:
    """The rules that all of them load. Where two write to the same chain, the order is not known."""
    if len(stored) == 1:
        return stored[0].rules
    chains: dict[str, Chain] = {}
    answers: dict[str, Chain] = {}
    gaps: list[Gap] = []
    for each in stored:
        shared = sorted(set(chains) & set(each.rules.chains))
        if shared:
            text = f"{each.manager} writes to {shared[0]}, as another manager does; which comes last is not known"
            gaps.append(Gap(AREA, text, each.place))
        chains |= each.rules.chains
        answers |= each.rules.answers
        gaps += each.rules.gaps
    return Rules(chains, tuple(gaps), answers)
