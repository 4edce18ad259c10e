"""Checks of everything that listens: every exposed listener is granted or a finding, and no two share a port."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.access.exposure import reached
from nightlatch.audit.checks.registry import CheckResult, Context, check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.audit.names import listed
from nightlatch.model.services import SSH as SSH_WORDS
from nightlatch.net.addresses import LOOPBACK
from nightlatch.readings.units.service_reading import OpenSocket, ServiceReading

MEDIUM, LOW = Severity.MEDIUM, Severity.LOW
SSH = ("ssh.service", "sshd.service")  # these have checks of their own
# Ports that give control of a machine or its screen, by IANA's registry and the programs' own manuals.
CONTROL = {
    23: "telnet",
    111: "rpcbind",
    512: "rexec",
    513: "rlogin",
    514: "rsh",
    2375: "a container engine",
    3389: "a remote desktop",
    5985: "remote management",
    5986: "remote management",
    9090: "a console in the browser",
    10000: "a console in the browser",
    **{5900 + n: "a screen" for n in range(100)},
}
CLIENTS = {("udp", 68), ("udp", 546)}  # clients of DHCP wait for their answers there (RFC 2131, 4.1; RFC 8415, 7.2)


def _name(socket: OpenSocket, service: ServiceReading) -> str:
    """The program that listens and its unit, where they are known."""
    if not socket.programs:
        return "a program that is not known"
    program, pid = socket.programs[0]
    unit = service.owners.get(pid, "")
    return f"{program} ({unit})" if unit else program


def _is_ssh(socket: OpenSocket, service: ServiceReading, ports: set[int]) -> bool:
    strangers = {each.pid for each in service.strangers}  # service.second-server tells of these
    told = service.is_door(socket) or any(pid in strangers for _, pid in socket.programs)
    return socket.protocol == "tcp" and (told or (not socket.programs and socket.port in ports))


@check("service.exposed-listener", LOW, source="ss(8); design: each exposed listener is expected by a grant or a finding")
def exposed_listener(context: Context) -> Iterator[CheckResult]:
    """Something other than SSH listens for everybody, and no sentence of the estate speaks of it."""
    service = context.access.reading.service
    unit = service.socket
    ports = {port for _, port in unit.listens} if unit is not None else set()
    if not any(socket.programs for socket in service.sockets):  # nothing told who holds them: sshd's ports are taken for its own
        ports |= {listener.port for listener in context.access.ssh.listeners}
    found: dict[tuple[str, int, str], list[OpenSocket]] = {}
    judged = {each.port for server in context.access.services if server.words.name != SSH_WORDS.name for each in server.listeners}
    stated = {each.unit for each in context.estate.of(context.guest).services if each.runs} if context.estate else set()
    for socket in (*service.sockets, *service.datagrams):
        if any(service.owners.get(pid) in stated for _, pid in socket.programs):
            continue  # the estate says that it runs
        if socket.protocol == "tcp" and socket.port in judged:
            continue  # who gets in there is told by its own service
        if socket.is_exposed and (socket.protocol, socket.port) not in CLIENTS and not _is_ssh(socket, service, ports):
            found.setdefault((socket.protocol, socket.port, _name(socket, service)), []).append(socket)
    for (protocol, port, who), sockets in sorted(found.items()):
        if not any(reached(context.access.reading, each).perhaps - LOOPBACK for each in sockets):
            continue  # the filter keeps everybody from it
        where = listed([each.address or "all addresses" for each in sockets])
        what = CONTROL.get(port, "") if protocol == "tcp" else ""
        usual = f", where {what} is usual" if what else ""
        text = f"{who} listens on {protocol} port {port} at {where}{usual}, and nothing in the estate asks for it."
        severity = MEDIUM if what else None
        yield CheckResult(text, (Proof(f"{protocol} {port}", sockets[0].origin),), (f"{protocol}/{port}",), severity)


@check("service.shared-port", MEDIUM, source="socket(7): SO_REUSEPORT")
def shared_port(context: Context) -> Iterator[CheckResult]:
    """Two programs listen on the same port: which of them answers a caller is chance, or a matter of addresses."""
    service = context.access.reading.service
    found: dict[tuple[str, int], dict[str, OpenSocket]] = {}
    for socket in service.sockets:
        if socket.programs:
            found.setdefault((socket.protocol, socket.port), {}).setdefault(_name(socket, service), socket)
    for (protocol, port), by_name in found.items():
        programs = {name.partition(" ")[0] for name in by_name} - {"systemd"}
        if len(programs) > 1:
            text = f"{listed(by_name)} listen on {protocol} port {port}: who answers depends on the address, or on chance."
            proofs = tuple(Proof(f"{name}: {s.address or 'all addresses'}", s.origin) for name, s in by_name.items())
            yield CheckResult(text, proofs, (f"{protocol}/{port}",))


@check("service.lost-at-boot", LOW, source="systemctl(1): is-enabled")
def lost_at_boot(context: Context) -> Iterator[CheckResult]:
    """A service listens for everybody now, and nothing starts it at boot."""
    service = context.access.reading.service
    told: set[str] = set()
    for socket in service.sockets:
        for _, pid in socket.programs:
            unit = service.units.get(service.owners.get(pid, ""))
            ours = unit is not None and unit.name in ("ssh.service", "sshd.service")
            if (
                unit is None
                or ours
                or unit.name in told
                or not socket.is_exposed
                or unit.at_boot
                or unit.file_state == "transient"
            ):
                continue
            told.add(unit.name)
            text = f"{unit.name} listens on port {socket.port} now, and nothing starts it at boot."
            yield CheckResult(text, (Proof(f"UnitFileState {unit.file_state or 'none'}", unit.origin),), (unit.name,))


@check("service.unit-file-changed", LOW, source="systemctl(1): daemon-reload")
def unit_file_changed(context: Context) -> Iterator[CheckResult]:
    """The unit of something that listens was changed, and the service manager has not read it again."""
    service = context.access.reading.service
    for name in sorted({*service.owners.values()} - {*SSH}):
        unit = service.units.get(name)
        if unit is not None and unit.needs_reload:
            text = f"The file of {name} was changed and not loaded: systemctl daemon-reload is due."
            yield CheckResult(text, (Proof("NeedDaemonReload yes", unit.origin),), (name,))
