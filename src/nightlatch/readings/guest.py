"""Everything read of one guest about SSH, in one value."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cached_property

from nightlatch.evidence.remembered import remembered
from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import dpkg_status, keys
from nightlatch.formats import pam as pam_format
from nightlatch.origin import Origin
from nightlatch.readings import accounts, clock, labels, lockouts, release, sshd, sudo
from nightlatch.readings.clock import ClockReading
from nightlatch.readings.filters import filter_reading
from nightlatch.readings.filters.filter_reading import FilterReading
from nightlatch.readings.labels import PortLabels
from nightlatch.readings.lockouts import Lockouts
from nightlatch.readings.network import network_reading
from nightlatch.readings.network.network_reading import NetworkReading
from nightlatch.readings.sshd import MAIN
from nightlatch.readings.units import daemons, service_reading, unit_state
from nightlatch.readings.units.daemons import Daemon
from nightlatch.readings.units.unit_state import UnitState
from nightlatch.systems import posix

HOST_KEY_NAME = re.compile(r"ssh_host_[a-z0-9]+_key\.pub")


@dataclass(frozen=True, slots=True)
class PamLine:
    """One line of a PAM stack, with the file it stands in."""

    line: pam_format.Line
    origin: Origin


@dataclass(frozen=True, slots=True)
class HostKey:
    """A host key by its public half, or by what its reduced private half tells."""

    path: str
    kind: str
    fingerprint: str


@dataclass(frozen=True, kw_only=True)
class GuestReading:
    """All readings of a guest. `pam` maps a service name to its lines.

    `options` are those sshd runs with, or would be started with where it doesn't run; `stored_options` always the latter.

    `system` and `release` are ID and VERSION_ID of os-release(5).
    """

    guest: str
    snapshot: Snapshot
    installed: bool
    system: str
    release: str
    version: str
    accounts: accounts.Accounts
    sshd: sshd.SshdReading
    sudo: sudo.SudoReading
    pam: dict[str, tuple[PamLine, ...]]
    host_keys: tuple[HostKey, ...]
    filter: FilterReading
    service: service_reading.ServiceReading
    options: tuple[tuple[str, Origin], ...] = ()
    stored_options: tuple[tuple[str, Origin], ...] = ()
    main_file: str = MAIN

    @cached_property
    def network(self) -> NetworkReading:
        """The guest's addresses and names; read when it is first asked for, for most of a draft's work needs none of it."""
        return network_reading.read(self.snapshot)

    @cached_property
    def clock(self) -> ClockReading:
        """The guest's clock, read when it is first asked for."""
        return clock.read(self.snapshot, self.service)

    @cached_property
    def labels(self) -> PortLabels:
        """On which ports the guest's policy lets sshd listen."""
        return labels.read(self.snapshot)

    @cached_property
    def lockouts(self) -> Lockouts:
        """Accounts that take no password for a while."""
        return lockouts.read(self.snapshot)

    def unit(self, name: str) -> UnitState:
        """The state of one unit."""
        return unit_state.state(self.snapshot, self.service, name)

    @property
    def families(self) -> tuple[str, ...]:
        """ID and the words of ID_LIKE, of os-release(5): what the system is, and what it takes after."""
        return release.families(self.snapshot)

    @property
    def main_path(self) -> str:
        """Where the main file really lies, once links are followed."""
        return self.snapshot.resolve(self.main_file).path

    @property
    def debian_like(self) -> bool:
        """Whether the guest's sshd has Debian's patches."""
        return self.system in posix.DEBIAN_LIKE


def read(snapshot: Snapshot) -> GuestReading:
    """All readings of a snapshot."""
    program = snapshot.resolve(posix.SSHD).entry
    installed = program is not None and program.kind is EntryKind.FILE
    status = snapshot.content("/var/lib/dpkg/status") or b""
    running, stored = service_reading.read(snapshot), _options(snapshot)
    # What a daemon was started with counts for as long as it runs; the unit's own words count from the next start on.
    counts = _of_daemon(running.daemon) if running.daemon is not None else stored
    main = _main_file(snapshot, running.daemon)
    return GuestReading(
        guest=snapshot.guest,
        snapshot=snapshot,
        installed=installed,
        system=release.system(snapshot),
        release=release.version(snapshot),
        version=dpkg_status.version(status, "openssh-server"),
        accounts=accounts.read(snapshot),
        sshd=sshd.read(snapshot, main, counts) if installed else sshd.SshdReading(),
        sudo=sudo.read(snapshot),
        pam=_pam(snapshot),
        host_keys=_host_keys(snapshot),
        filter=filter_reading.read(snapshot, running, wrapped=release.system(snapshot) in posix.DEBIAN_LIKE),
        service=running,
        options=counts,
        stored_options=stored,
        main_file=main,
    )


@remembered(64)
def _options(snapshot: Snapshot) -> tuple[tuple[str, Origin], ...]:
    """Options that the service starts sshd with: they come before the file (sshd(8), -o and -p).

    From the unit's ExecStart (a later unit file or drop-in replaces an earlier one) and the variables it names.
    """
    out: list[tuple[str, Origin]] = []
    started: list[tuple[str, Origin]] = []
    for path in _unit_files(snapshot):
        for number, line in enumerate((snapshot.content(path) or b"").split(b"\n"), 1):
            if line.startswith(b"ExecStart="):
                started = [(line[10:].decode("utf-8", "surrogateescape"), Origin(path, number))]
    for path in ("/etc/default/ssh", "/etc/sysconfig/sshd"):
        for number, line in enumerate((snapshot.content(path) or b"").split(b"\n"), 1):
            found = re.match(rb"\s*(?:SSHD_OPTS|OPTIONS)=(.*)", line)
            if found:
                text = found[1].decode("utf-8", "surrogateescape").strip().strip("\"'")
                started.append((text, Origin(path, number)))
    for text, origin in started:
        out += _stated(text, origin)
    return tuple(out)


def _stated(text: str, origin: Origin) -> list[tuple[str, Origin]]:
    pairs = re.findall(r"(?:^|\s)-(?:o\s*(\S+)|p\s*(\d+))", text)
    return [(option.strip("\"'") or f"Port {port}", origin) for option, port in pairs]


def _of_daemon(daemon: Daemon) -> tuple[tuple[str, Origin], ...]:
    """The options that a running daemon shows in its title."""
    return tuple(_stated(" ".join(daemon.options), daemon.origin))


def _unit_files(snapshot: Snapshot) -> list[str]:
    out: list[str] = []
    for name in ("ssh.service", "sshd.service"):
        out += [f"{folder}/{name}" for folder in reversed(posix.UNIT_FOLDERS)]
        drop_ins = f"{posix.UNIT_FOLDERS[0]}/{name}.d"
        out += [f"{drop_ins}/{each}" for each in snapshot.children(drop_ins) if each.endswith(".conf")]
    return out


def _main_file(snapshot: Snapshot, daemon: Daemon | None) -> str:
    """The configuration that the running daemon or the service names with -f, or sshd's own."""
    if daemon is not None:
        return daemons.main_file(daemon) or MAIN
    found = sshd.MAIN
    for path in _unit_files(snapshot):
        for line in (snapshot.content(path) or b"").split(b"\n"):
            if line.startswith(b"ExecStart="):
                named = re.search(rb"\s-f\s*(/\S+)", line)
                found = named[1].decode("utf-8", "surrogateescape") if named else sshd.MAIN
    return found


@remembered(64)
def _pam(snapshot: Snapshot) -> dict[str, tuple[PamLine, ...]]:
    out: dict[str, tuple[PamLine, ...]] = {}
    for name in snapshot.children(snapshot.resolve("/etc/pam.d").path):
        path = f"/etc/pam.d/{name}"
        content = snapshot.content(path)
        if content is not None:
            out[name] = tuple(PamLine(line, Origin(path, line.number)) for line in pam_format.parse(content))
    return out


def _host_keys(snapshot: Snapshot) -> tuple[HostKey, ...]:
    out: list[HostKey] = []
    for name in snapshot.children("/etc/ssh"):
        if HOST_KEY_NAME.fullmatch(name):
            content = snapshot.content(f"/etc/ssh/{name}")
            try:
                key = keys.parse_public(content or b"")
            except keys.KeyFault:
                continue
            out.append(HostKey(f"/etc/ssh/{name}", key.kind, key.fingerprint))
    return tuple(out)
