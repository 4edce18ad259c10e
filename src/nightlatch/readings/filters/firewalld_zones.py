"""Which zone of firewalld an interface is given to: by the zone's own file, or by NetworkManager as it brings the interface up.

NetworkManager names a zone for every interface that it brings up: the connection's, or the default one where the connection names
none, whatever the zones' files say. One that is not there changes nothing (measured in both orders of starting: NetworkManager
1.42, firewalld 1.3). An interface that something else set up stays where it was.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.model.gaps import Gap
from nightlatch.origin import Origin
from nightlatch.readings.network import network_reading
from nightlatch.readings.network.network_reading import NetworkReading
from nightlatch.readings.network.profiles import Profile, System

AREA = "packet filter"
PROGRAM = "/usr/sbin/NetworkManager"
PASSED_ON = b"connection.zone"  # how netplan passes it on to NetworkManager


@dataclass(frozen=True, slots=True)
class InterfaceZone:
    """An interface (a `+` at its end stands for any rest of a name) and the zone that it is given to."""

    interface: str
    zone: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class ZoneAssignments:
    """Interfaces with their zones, what is not known of them, and whether others than these may be given to the default zone by
    name, which policies heed."""

    bound: tuple[InterfaceZone, ...]
    gaps: tuple[Gap, ...] = ()
    more: bool = False


def given(snapshot: Snapshot, written: Sequence[InterfaceZone], names: Collection[str], default: str) -> ZoneAssignments:
    """The zones of interfaces once the guest is up; `written` is what zones' own files say, `names` are the zones there are."""
    reading = network_reading.read(snapshot)
    profiles = [each for each in reading.profiles if _is_managers(each, reading) and not (each.refused or each.set_aside)]
    named = [each for each in profiles if each.zone is not None]
    started = reading.starts.get(System.MANAGER)
    if snapshot.resolve(PROGRAM).entry is None and not named:  # nobody looked, and nothing speaks of it
        started = False
    if started is not True:
        doubt = "whether NetworkManager is started, and gives an interface to this zone, is not known"
        gaps = [Gap(AREA, doubt, each.zone.origin) for each in named if each.zone is not None and started is None]
        old = "only the old network scripts give an interface to this zone, and they are not followed"
        gaps += [
            Gap(AREA, old, each.zone.origin)
            for each in named
            if each.zone is not None and started is False and each.system is System.IFCFG
        ]
        return ZoneAssignments(tuple(written), tuple(gaps), more=started is None)
    return _by_manager(snapshot, reading, [each for each in profiles if each.at_boot], written, names, default)


def _by_manager(
    snapshot: Snapshot,
    reading: NetworkReading,
    profiles: Sequence[Profile],
    written: Sequence[InterfaceZone],
    names: Collection[str],
    default: str,
) -> ZoneAssignments:
    gaps = [
        Gap(AREA, "what netplan passes on to NetworkManager is not followed", each.origin)
        for each in profiles
        if each.system is System.NETPLAN and PASSED_ON in (snapshot.content(each.origin.path) or b"")
    ]
    told: dict[str, InterfaceZone] = {}
    nameless = False
    for each in profiles:
        zone = each.zone.value if each.zone is not None else default
        place = each.zone.origin if each.zone is not None else each.origin
        if not each.interface or each.match.more:
            nameless = True
            if zone != default or written:
                text = f"which interface this profile is for, which gives it to the zone {zone[:40]}, is not known"
                gaps.append(Gap(AREA, text, place))
        elif each.interface in told and told[each.interface].zone != zone:
            text = f"which of two profiles for {each.interface[:40]}, with different zones, is used is not known"
            gaps.append(Gap(AREA, text, place))
        else:
            told[each.interface] = InterfaceZone(each.interface, zone, place)
    kept = [each for each in written if each.interface not in told or told[each.interface].zone not in names]
    gaps += _left_to_itself(reading, [each for each in kept if each.interface not in told], told)
    bound = [each for each in told.values() if each.zone in names]
    return ZoneAssignments((*bound, *kept), tuple(gaps), more=nameless or not profiles)


def _left_to_itself(reading: NetworkReading, kept: Sequence[InterfaceZone], told: Collection[str]) -> Iterator[Gap]:
    """Interfaces of a zone's file for which nobody has a profile: NetworkManager makes one of its own, or leaves them alone."""
    for each in kept:
        start, more = each.interface.removesuffix("+"), each.interface.endswith("+")
        others = [p.interface for p in reading.counting if not _is_managers(p, reading)]
        if not any(name == each.interface or (more and name.startswith(start)) for name in (*others, *told)):
            text = f"whether NetworkManager brings up {each.interface[:40]}, and gives it to the default zone, is not known"
            yield Gap(AREA, text, each.origin)


def _is_managers(profile: Profile, reading: NetworkReading) -> bool:
    if profile.system is System.NETPLAN:
        return reading.renderers.get(profile.interface) == "NetworkManager"
    return profile.system in (System.MANAGER, System.IFCFG)
