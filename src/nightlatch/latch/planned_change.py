"""A planned change: everything that is worked out of a proved draft before anything is sent, from one reading of each
snapshot."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from nightlatch.access.paths import guest_access
from nightlatch.draft import identities
from nightlatch.draft.plan import ProvedDraft
from nightlatch.draft.work import Work
from nightlatch.estate.model import Estate
from nightlatch.evidence.opinions import Daemon
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import RefusedError
from nightlatch.model.sockets import ports_of
from nightlatch.net.literal import address_or_none, parse_interface
from nightlatch.readings import guest as readings
from nightlatch.readings.guest import GuestReading
from nightlatch.readings.network.network_reading import NetworkReading
from nightlatch.readings.network.profiles import System
from nightlatch.readings.units import socket_units
from nightlatch.readings.units.daemons import SERVICES
from nightlatch.readings.units.service_reading import SOCKETS, OpenSocket, ServiceReading
from nightlatch.services.base import Kinds
from nightlatch.services.ssh.kind import SSH
from nightlatch.services.ssh.ports import listening
from nightlatch.services.table import KINDS, table

# As the guest's script calls them (latch/net.sh).
SYSTEMS = {
    System.NETPLAN: "netplan",
    System.NETWORKD: "networkd",
    System.MANAGER: "manager",
    System.IFUPDOWN: "ifupdown",
}


@dataclass(frozen=True, slots=True)
class InterfaceMove:
    """The interface that a change moves: its `system` (networkd, netplan, manager, ifupdown), the addresses it is to have, and
    a name that is looked up before and after, where one is known."""

    system: str
    interface: str
    addresses: tuple[str, ...]
    name: str = ""


@dataclass(frozen=True, slots=True)
class Ports:
    """The ports that a change gives SSH, and had before; `unit` is the socket unit that holds them, if one does."""

    before: tuple[int, ...]
    after: tuple[int, ...]
    unit: str = ""


@dataclass(frozen=True, slots=True)
class PlannedServer:
    """The guest's SSH server as it was read: its daemon, the unit that the service manager has it in, all that are sshd's, and
    the files that it will read. `start` are names of a service that is to be enabled and started, of which the guest has one;
    `rebind` is a socket unit that is to be opened anew."""

    daemon: Daemon = field(default_factory=Daemon)
    unit: str = ""
    units: tuple[str, ...] = ()
    main_file: str = "/etc/ssh/sshd_config"
    main_path: str = "/etc/ssh/sshd_config"
    running: bool = True
    files: tuple[str, ...] = ()
    start: tuple[str, ...] = ()
    rebind: str = ""


@dataclass(frozen=True, slots=True)
class Checks:
    """The conditions on the guest: whether its server loads its files anew, what `sshd -T -C` is asked to lines that it must
    say, and local addresses as ss(8) prints them; `was_sockets` are those once it was taken back, where they differ."""

    reload: bool = False
    expected: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    sockets: tuple[str, ...] = ()
    was_sockets: tuple[str, ...] | None = None


@dataclass(frozen=True)
class PlannedChange:
    """A proved draft with all that a running guest needs for it. `goes` is the address by which the guest is to be found then,
    and `port` the port, where these are others than it was read by."""

    proved: ProvedDraft
    server: PlannedServer
    checks: Checks
    move: InterfaceMove | None = None
    ports: Ports | None = None
    goes: str = ""
    port: int = 0

    @property
    def new_host_keys(self) -> tuple[str, ...]:
        """The kinds of host keys that the guest gets anew."""
        return identities.new_host_keys(self.proved.draft.acts)

    @property
    def guest(self) -> str:
        """The guest's name."""
        return self.proved.draft.guest


def planned(estate: Estate, proved: ProvedDraft, *, moves: bool = True, kinds: Kinds = KINDS) -> PlannedChange:
    """The planned change of a proved draft; without `moves` the caller takes care of a new address.

    Raises RefusedError for a daemon that can't be told from others, for a move that no connection could confirm, and for files
    of a server other than sshd, which the guest's script can't have loaded.
    """
    before, after = readings.read(proved.before), readings.read(proved.after)
    ports = _ports(proved, before, after)
    loaded = [name for name, kind in kinds.items() if kind.loads(before, after, proved.changed)]
    loads = SSH.words.name in loaded or bool(identities.new_host_keys(proved.draft.acts))
    for name in loaded:
        if name != SSH.words.name:
            program = kinds[name].words.program
            raise RefusedError(f"{program} can't be told to load its files on the latch yet", guest=proved.draft.guest)
    _known(proved, before.service, loads=loads)
    move = _move(estate, proved, before.network, after.network) if moves else None
    rebind = ports.unit if ports is not None else ""
    was = _held(before)
    checks = Checks(
        loads or bool(rebind),
        _expected(estate, proved, before, after) if loads or rebind else {},
        was if ports is None else tuple(f"any:{port}" for port in ports.after),
        was,
    )
    return PlannedChange(
        proved,
        _server(before, after, rebind),
        checks,
        move,
        ports,
        _goes(proved, before.network, move) if move is not None else "",
        _port(estate, proved, ports) if ports is not None else 0,
    )


def _expected(estate: Estate, proved: ProvedDraft, before: GuestReading, after: GuestReading) -> Mapping[str, tuple[str, ...]]:
    """What the guest's own sshd must say."""
    cases = []
    for reading in (before, after):
        access = guest_access(reading, proved.at, kinds=table([SSH]))
        cases.append(Work(access, (), estate).case(access.ssh))
    return SSH.after_change(*cases).asked


def _server(before: GuestReading, after: GuestReading, rebind: str) -> PlannedServer:
    service = before.service
    daemon = Daemon(options=tuple(f"-o{text}" for text, _ in before.options))
    if service.daemon is not None:
        daemon = replace(daemon, program=service.daemon.program, pid=service.daemon.pid, started=service.daemon.started)
    return PlannedServer(
        daemon,
        _unit(service),
        _units(service),
        before.main_file,
        before.main_path,
        service.is_running,
        tuple(after.sshd.files),
        (),
        rebind,
    )


def _held(before: GuestReading) -> tuple[str, ...]:
    """The sockets by which callers come in, of those that the files state."""
    held = [socket for socket in before.service.sockets if before.service.is_door(socket)]
    stated = {socket.port for socket in listening(before)}
    return tuple(dict.fromkeys(_local(each) for each in held if each.port in stated))


def _known(proved: ProvedDraft, service: ServiceReading, *, loads: bool) -> None:
    """Refuse what would have to be loaded by a daemon that can't be told from others."""
    unclear = not service.is_running if service.strangers else service.daemon is None and len(service.daemons) > 1
    if loads and unclear:
        seen = next(iter((*service.strangers, *service.daemons)))
        why = seen.doubt or "there are several"
        raise RefusedError(
            f"which process is its sshd can't be told (process {seen.pid}: {why}), so nothing could be "
            "loaded safely; start it by its service, end what else bears its name, and survey again",
            guest=proved.draft.guest,
        )


def _unit(service: ServiceReading) -> str:
    """The unit whose main process is sshd, as the service manager itself says."""
    own = service.daemon.unit if service.daemon is not None else ""
    return own or (service.service.name if service.service is not None else "")


def _units(service: ServiceReading) -> tuple[str, ...]:
    """All units of SSH, by their own names."""
    known = (service.units[name] for name in (*SERVICES, *SOCKETS) if name in service.units)
    return tuple(dict.fromkeys([*(unit.name for unit in known if unit.loaded), *filter(None, [_unit(service)])]))


def _local(socket: OpenSocket) -> str:
    """As ss(8) prints it."""
    return f"[{socket.address}]:{socket.port}" if ":" in socket.address else f"{socket.address or '*'}:{socket.port}"


def _move(estate: Estate, proved: ProvedDraft, before: NetworkReading, after: NetworkReading) -> InterfaceMove | None:
    """What a change moves on a running guest, or None where it moves nothing.

    Raises RefusedError for one that can't be confirmed: several interfaces at once, a system that is not told to load
    its files while it runs, or back to a lease, whose address nobody knows beforehand.
    """
    if not before.is_live:
        return None
    names = [name for name in after.interfaces if _stored(before, name) != _stored(after, name)]
    if not names:
        return None
    guest, interface = proved.draft.guest, names[0]
    systems = {profile.system for profile in after.profiles_of(interface)}
    if len(names) > 1 or len(systems) != 1 or not systems <= SYSTEMS.keys():
        raise RefusedError(f"{', '.join(names)} can't be moved on the latch; change it at the guest's console", guest=guest)
    addresses = sorted(_stored(after, interface))
    if not addresses:
        raise RefusedError(
            f"{interface} would be given an address by lease, which nobody knows beforehand, so no connection could "
            "confirm it; change it at the guest's console",
            guest=guest,
        )
    dialled = (spec.dial for spec in estate.guests.values() if spec.dial)
    name = next((text for text in dialled if address_or_none(text, scope=True) is None), "")
    return InterfaceMove(SYSTEMS[systems.pop()], interface, tuple(addresses), name)


def _stored(reading: NetworkReading, name: str) -> set[str]:
    return {str(placed.value) for profile in reading.profiles_of(name) for placed in profile.addresses}


def _goes(proved: ProvedDraft, before: NetworkReading, move: InterfaceMove) -> str:
    """The address by which the guest is to be found, empty where the one that the survey came to stays.

    Among the interface's new addresses that of the same family comes first.
    """
    came_to = proved.before.told.came.to
    others = (each for each in before.live if each.link.name != move.interface)
    kept = {str(held.address.ip) for each in others for held in each.addresses}
    fresh = [str(parse_interface(each).ip) for each in move.addresses]
    if not came_to or came_to in kept or came_to in fresh:
        return ""
    fresh.sort(key=lambda each: (":" in each) != (":" in came_to))
    return fresh[0]


def _ports(proved: ProvedDraft, before: GuestReading, after: GuestReading) -> Ports | None:
    """The ports that a change moves SSH to on a running guest, or None where they stay."""
    unit = before.service.socket
    name = unit.name if unit is not None else ""
    was, now = _said(proved.before, before, name), _said(proved.after, after, name)
    return Ports(was, now, name) if was != now and proved.before.is_live else None


def _said(snapshot: Snapshot, reading: GuestReading, unit: str) -> tuple[int, ...]:
    """The sockets that the files state: the socket unit's where one holds the port, else sshd's."""
    stored = socket_units.stored(snapshot, unit) if unit else None
    return tuple(sorted({port for _, port in stored})) if stored is not None else ports_of(listening(reading))


def _port(estate: Estate, proved: ProvedDraft, ports: Ports) -> int:
    """The port by which the fresh connection has to come in: the stated one where Nightlatch comes by another, and another
    where its own goes; 0 where it stays."""
    came = proved.before.told.came.port
    stated = next((each.ports for each in estate.of(proved.draft.guest).services if each.unit == "ssh"), ())
    wanted = [port for port in stated if port in ports.after]
    if not proved.draft.returns and wanted and came not in stated:
        return wanted[0]
    return 0 if came in ports.after or not came else min(ports.after, default=0)
