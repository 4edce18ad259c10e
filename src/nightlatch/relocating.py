"""A change that moves the guest: where it is to be found afterwards, waiting for it there, and the estate file that follows."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterator
from dataclasses import dataclass, replace

from nightlatch.draft.plan import ProvedDraft
from nightlatch.estate.editing import rewrite, with_address, with_port
from nightlatch.estate.model import Estate, GuestSpec
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import NightlatchError, PutBackError, RefusedError, UnreadableError
from nightlatch.latch import live
from nightlatch.latch.transaction import Move
from nightlatch.net.literal import address_or_none, parse_interface
from nightlatch.net.numbers import whole
from nightlatch.readings import guest as readings
from nightlatch.readings import network, sockets
from nightlatch.readings.network import NetworkReading
from nightlatch.readings.profiles import System
from nightlatch.services.ssh import listening
from nightlatch.transports.shell import Shell
from nightlatch.transports.ssh import Ssh

LONGEST_WAIT = 120
PAUSE = 0.5
# As the guest's script calls them (latch/net.sh).
SYSTEMS = {
    System.NETPLAN: "netplan", System.NETWORKD: "networkd", System.MANAGER: "manager", System.IFUPDOWN: "ifupdown",
}  # fmt: skip


def move_of(proved: ProvedDraft, estate: Estate) -> Move | None:
    """What a change moves on a running guest, or None where it moves nothing.

    Raises RefusedError for one that can't be confirmed: several interfaces at once, a system that is not told to load
    its files while it runs, or back to a lease, whose address nobody knows beforehand.
    """
    before, after = network.read(proved.before), network.read(proved.after)
    if not before.is_live:
        return None
    names = [name for name in after.interfaces if _stored(before, name) != _stored(after, name)]
    if not names:
        return None
    guest, interface = proved.draft.guest, names[0]
    systems = {profile.system for profile in after.profiles_of(interface)}
    if len(names) > 1 or len(systems) != 1 or not systems <= SYSTEMS.keys():
        raise RefusedError(
            f"{', '.join(names)} can't be moved on the latch; change it at the guest's console", guest=guest
        )
    addresses = sorted(_stored(after, interface))
    if not addresses:
        raise RefusedError(
            f"{interface} would be given an address by lease, which nobody knows beforehand, so no connection could "
            "confirm it; change it at the guest's console",
            guest=guest,
        )
    dialled = (spec.dial for spec in estate.guests.values() if spec.dial)
    name = next((text for text in dialled if address_or_none(text, scope=True) is None), "")
    return Move(SYSTEMS[systems.pop()], interface, tuple(addresses), name)


def _stored(reading: NetworkReading, name: str) -> set[str]:
    return {str(placed.value) for profile in reading.profiles_of(name) for placed in profile.addresses}


def goes_to(proved: ProvedDraft, move: Move) -> str:
    """The address by which the guest is to be found, empty where the one that the survey came to stays.

    Among the interface's new addresses that of the same family comes first.
    """
    came_to = proved.before.facts.get("came_to", "")
    others = (each for each in network.read(proved.before).live if each.link.name != move.interface)
    kept = {str(held.address.ip) for each in others for held in each.addresses}
    fresh = [str(parse_interface(each).ip) for each in move.addresses]
    if not came_to or came_to in kept or came_to in fresh:
        return ""
    fresh.sort(key=lambda each: (":" in each) != (":" in came_to))
    return fresh[0]


@dataclass(frozen=True, slots=True)
class Ports:
    """The ports that a change gives SSH, and had before; `unit` is the socket unit that holds them, if one does."""

    before: tuple[int, ...]
    after: tuple[int, ...]
    unit: str = ""


def ports_of(proved: ProvedDraft) -> Ports | None:
    """The ports that a change moves SSH to on a running guest, or None where they stay."""
    unit = readings.read(proved.before).service.socket
    name = unit.name if unit is not None else ""
    before, after = (_ports(snapshot, name) for snapshot in (proved.before, proved.after))
    if before == after or not proved.before.is_live:
        return None
    return Ports(before, after, name)


def _ports(snapshot: Snapshot, unit: str) -> tuple[int, ...]:
    """What the files say: the socket unit's where one holds the port, else sshd's."""
    stored = sockets.stored(snapshot, unit) if unit else None
    if stored is not None:
        return tuple(sorted({port for _, port in stored}))
    return listening.ports(readings.read(snapshot))


def port_to(estate: Estate, proved: ProvedDraft, ports: Ports) -> int:
    """The port by which the fresh connection has to come in: the stated one where Nightlatch comes by another, and another
    where its own goes; 0 where it stays."""
    text = proved.before.facts.get("came_to_port", "")
    came = whole(text, 5) or 0
    stated = next((each.ports for each in estate.of(proved.draft.guest).services if each.unit == "ssh"), ())
    wanted = [port for port in stated if port in ports.after]
    if not proved.draft.returns and wanted and came not in stated:
        return wanted[0]
    return 0 if came in ports.after or not came else min(ports.after, default=0)


def at(shell: Shell, address: str = "", port: int = 0) -> Shell:
    """The same guest, dialled at another address or port; the same keys, account and pins."""
    assert isinstance(shell, Ssh)
    where = replace(shell.address, host=address or shell.address.host, port=port or shell.address.port)
    return Ssh(shell.guest, where, shell.client, pins=shell.pins, key=shell.key)


def by_stated_port(estate: Estate, shell: Shell) -> tuple[Shell, int]:
    """The shell by the port that the estate states, where `via` names another and this one answers, and that port; else
    the shell itself and 0."""
    stated = next((each.ports for each in estate.of(shell.guest).services if each.unit == "ssh"), ())
    if not stated or not isinstance(shell, Ssh) or shell.address.port in stated:
        return shell, 0
    there = at(shell, port=stated[0])
    try:
        live.ask(there)
    except UnreadableError:
        return shell, 0
    return there, stated[0]


def arrive(shell: Shell, old: Shell, change: str, seconds: int) -> None:
    """Wait until the change is on the latch, seen over the new address. Raises PutBackError when it does not come to that,
    as soon as the guest tells so over the old one."""
    started = time.monotonic()
    last = "nothing answered"
    while time.monotonic() - started < min(seconds, LONGEST_WAIT):
        try:
            told = live.ask(shell)
        except UnreadableError as error:
            last = error.words
            words = _ended(old, change)
            if words:
                raise PutBackError(f"{shell.guest} is back at its old address: {words}") from None
        else:
            if told.pending is None or told.pending.change != change:
                words = dict(told.outcomes).get(change, "it is not on the latch any more")
                raise PutBackError(f"{words}", guest=shell.guest)
            if told.pending.state == "on-the-latch":
                return
            last = f"it got as far as: {told.pending.state}"
        time.sleep(PAUSE)
    raise PutBackError(
        f"it does not answer over its new address ({last}). The guest takes the change back by itself within "
        f"{seconds} s, and has its old address then; nightlatch pending shows it",
        guest=shell.guest,
    )


def _ended(old: Shell, change: str) -> str:
    """How the change ended, as the guest tells it over its old address; empty where it does not."""
    try:
        return dict(live.ask(old).outcomes).get(change, "")
    except UnreadableError:
        return ""


def taken_back(old: Shell, new: Shell, change: str, by: str) -> live.Outcome:
    """Take a move back: the connection that says so goes with the address, so its outcome is asked for over the old one.

    Raises UnreadableError when no answer comes over either.
    """
    started = time.monotonic()
    while time.monotonic() - started < LONGEST_WAIT:
        with contextlib.suppress(NightlatchError):  # said again: the guest may not have heard it
            return live.decide(new, change, "back", by)
        words = _ended(old, change)
        if words:
            return live.outcome_of(words)
        time.sleep(PAUSE)
    raise UnreadableError("no answer over either address; its timer takes the change back", guest=old.guest)


def answering(spec: GuestSpec, shell: Shell) -> Shell:
    """The shell that answers: at the address of `via`, or, where that fails, at one that the estate gives the guest."""
    places = [shell, *_given(spec, shell)]
    for each in places[:-1]:
        try:
            live.ask(each)
            return each
        except UnreadableError:
            continue
    return places[-1]


def _given(spec: GuestSpec, shell: Shell) -> Iterator[Shell]:
    if isinstance(shell, Ssh):
        yield from (at(shell, str(a.address.ip)) for a in spec.addresses if str(a.address.ip) != shell.address.host)


def follow(estate: Estate, guest: str, old: str, new: str) -> int:
    """Write the new address wherever the estate file names the old one; returns how many places that were.

    Raises RefusedError, UnreadableError; the guest is moved all the same.
    """
    before = _text(estate)
    after, count = with_address(before, guest, old, new, str(estate.path))
    if count:
        rewrite(estate.path, before, after)
    return count


def follow_port(estate: Estate, guest: str, old: int, new: int) -> int:
    """Write the new port under `via` and `dial` of a guest; returns how many places that were.

    Raises RefusedError, UnreadableError; the guest listens there all the same.
    """
    before = _text(estate)
    after, count = with_port(before, guest, old, new, str(estate.path))
    rewrite(estate.path, before, after)
    return count


def _text(estate: Estate) -> str:
    try:
        return estate.path.read_bytes().decode()
    except (OSError, UnicodeDecodeError) as error:
        raise UnreadableError(f"{estate.path} can't be read: {error}") from None
