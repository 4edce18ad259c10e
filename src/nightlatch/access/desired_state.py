"""What the estate says of a guest's services, clock and name, held against what the guest has.

A sentence holds when nothing that it asks for is absent. What is not known (a folder doesn't say what runs) does not
count as absent.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import Enum

from nightlatch.access.paths import GuestAccess
from nightlatch.estate.model import Estate, ServiceSpec
from nightlatch.readings.guest import GuestReading
from nightlatch.readings.units.unit_state import UnitState


class Lack(Enum):
    """A property that a unit should have by its sentence and has not; the words follow the unit's name."""

    THERE = "is not installed"
    UNMASKED = "is masked"
    AT_BOOT = "is not started at boot"
    RUNNING = "does not run"
    NOT_AT_BOOT = "is started at boot"
    NOT_RUNNING = "runs"


@dataclass(frozen=True, slots=True)
class StatedUnit:
    """One unit that a sentence speaks of, as it is, and what it lacks."""

    spec: ServiceSpec
    state: UnitState
    lacks: tuple[Lack, ...]


def of_units(estate: Estate, reading: GuestReading) -> Iterator[StatedUnit]:
    """Every sentence about a unit of this guest; of one that is stopped its socket, too, which would start it again."""
    for spec in estate.of(reading.guest).services:
        if spec.unit == "ssh":
            continue
        for name in members(spec):
            state = reading.unit(name)
            if name == spec.unit or state.there:
                yield StatedUnit(spec, state, tuple(_lacks(spec, state)))


def members(spec: ServiceSpec) -> tuple[str, ...]:
    """The units that a sentence is about, in the order in which they are acted on."""
    if spec.runs or not spec.unit.endswith(".service"):
        return (spec.unit,)
    return (f"{spec.unit.removesuffix('.service')}.socket", spec.unit)


def _lacks(spec: ServiceSpec, state: UnitState) -> Iterator[Lack]:
    if not spec.runs:
        if state.at_boot and not state.by_others:
            yield Lack.NOT_AT_BOOT
        if state.running:
            yield Lack.NOT_RUNNING
        return
    if state.there is False:
        yield Lack.THERE
    elif state.masked:
        yield Lack.UNMASKED
    else:
        if state.at_boot is False and not state.by_others:
            yield Lack.AT_BOOT
        if state.running is False:
            yield Lack.RUNNING


def ssh_ports(estate: Estate, access: GuestAccess) -> tuple[ServiceSpec | None, frozenset[int]]:
    """The sentence about this guest's SSH ports, and the ports on which connections come in as it stands."""
    spec = next((each for each in estate.of(access.guest).services if each.unit == "ssh" and each.ports), None)
    return spec, frozenset(each.port for each in access.ssh.listeners)
