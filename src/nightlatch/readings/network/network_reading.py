"""The network of a guest: what is stored, by which system, what is loaded now, and what the next boot brings.

Stored are the profiles of every system whose files are there; loaded is what ip(8) printed on a live guest; at boot is
which of the systems is started. A guest that was read from a folder has no loaded state.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property

from nightlatch.evidence.remembered import remembered
from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import ip_listing, leases, name_files, netplan, sections
from nightlatch.formats.ip_listing import LiveAddress, LiveLink, LiveRoute, Neighbour
from nightlatch.formats.leases import Lease
from nightlatch.formats.name_files import HostLine
from nightlatch.formats.sections import Dialect
from nightlatch.model.gaps import Gap
from nightlatch.net.literal import IPAddress
from nightlatch.origin import Origin
from nightlatch.readings.network import ifcfg, ifupdown, keyfiles, networkd
from nightlatch.readings.network import netplan as netplan_reading
from nightlatch.readings.network.profiles import PlacedValue, Profile, System

WANTS = (
    "/etc/systemd/system/multi-user.target.wants",
    "/etc/systemd/system/network-online.target.wants",
    "/usr/lib/systemd/system/multi-user.target.wants",
)
DAEMONS = {
    System.NETWORKD: ("systemd-networkd.service", "/lib/systemd/systemd-networkd"),
    System.MANAGER: ("NetworkManager.service", "/usr/sbin/NetworkManager"),
    System.IFUPDOWN: ("networking.service", "/sbin/ifup"),
}
FIRST_BOOT = ("50-cloud-init", "cloud-init")
FIRST_BOOT_OFF = ("/etc/cloud/cloud-init.disabled", "/etc/cloud/cloud.cfg.d/99-disable-network-config.cfg")


@dataclass(frozen=True)
class LiveInterface:
    """One interface as it is now."""

    link: LiveLink
    addresses: tuple[LiveAddress, ...] = ()


@dataclass(frozen=True, kw_only=True)
class NetworkReading:
    """All about a guest's addresses and names.

    `starts` says of each system whether it runs at boot (None: not known). `default_routes` are the live ones.
    `resolvers` stand in resolv.conf, `resolved_servers` in the files of systemd-resolved; `resolvers_unknown` says that
    resolv.conf is made anew while the guest runs, and is not there to be read. `renderers` are those of netplan.
    """

    profiles: tuple[Profile, ...] = ()
    starts: dict[System, bool | None] = field(default_factory=dict)
    live: tuple[LiveInterface, ...] = ()
    default_routes: tuple[LiveRoute, ...] = ()
    neighbours: tuple[Neighbour, ...] = ()
    leases: tuple[PlacedValue[Lease], ...] = ()
    served: tuple[PlacedValue[Lease], ...] = ()
    hostname: PlacedValue[str] | None = None
    machine_id: PlacedValue[str] | None = None
    hosts: tuple[HostLine, ...] = ()
    resolvers: tuple[PlacedValue[IPAddress], ...] = ()
    resolvers_unknown: bool = False
    resolved_servers: tuple[PlacedValue[str], ...] = ()
    rewritten: tuple[PlacedValue[str], ...] = ()
    gaps: tuple[Gap, ...] = ()
    is_live: bool = False
    renderers: dict[str, str] = field(default_factory=dict)

    @cached_property
    def counting(self) -> tuple[Profile, ...]:
        """The profiles whose system takes part at boot, as far as is known, and does not refuse them."""
        return tuple(p for p in self.profiles if not p.refused and not p.set_aside and self.starts.get(p.system) is not False)

    @cached_property
    def named_at_boot(self) -> tuple[str, ...]:
        """The interfaces that a boot brings up, when all of them are stored by name; no other one lets anybody in then."""
        profiles = [each for each in self.counting if each.interface != "lo"]
        if any(set(each.match.names) - {each.interface} or each.match.hardware or each.match.more for each in profiles):
            return ()
        return tuple(dict.fromkeys(each.interface for each in profiles)) if all(each.interface for each in profiles) else ()

    def hardware_of(self, name: str) -> str:
        """The hardware address of a live interface, empty where it is not known."""
        return next((each.link.hardware for each in self.live if each.link.name == name), "")

    def profiles_of(self, name: str) -> tuple[Profile, ...]:
        """The counting profiles that are meant for one interface; of networkd's the first that fits."""
        mac = self.hardware_of(name)
        out: list[Profile] = []
        for each in self.counting:
            fits = each.interface == name or (bool(each.match.names or each.match.hardware) and each.match.fits(name, mac))
            if not fits or each.match.more:
                continue
            if each.system is System.NETWORKD and any(p.system is System.NETWORKD for p in out):
                continue
            out.append(each)
        return tuple(out)

    @property
    def interfaces(self) -> tuple[str, ...]:
        """Every interface that is known by name, the loopback aside."""
        names = [each.link.name for each in self.live if each.link.kind != "loopback"]
        names += [each.interface for each in self.counting if each.interface]
        return tuple(dict.fromkeys(names))


@remembered(256)
def read(snapshot: Snapshot) -> NetworkReading:
    """The network of a snapshot."""
    documents = netplan_reading.documents(snapshot)
    plans, plan_gaps = netplan_reading.read(documents)
    stanzas, stanza_gaps = ifupdown.read(snapshot)
    profiles = (*plans, *networkd.read(snapshot), *keyfiles.read(snapshot), *stanzas, *ifcfg.read(snapshot))
    found = dict(starts(snapshot))
    program = snapshot.resolve("/usr/sbin/netplan").entry
    found[System.NETPLAN] = None if program is None else program.kind is not EntryKind.ABSENT
    found[System.IFCFG] = found[System.MANAGER]
    return NetworkReading(
        profiles=profiles,
        starts=found,
        live=tuple(_live(snapshot)),
        default_routes=tuple(_default_routes(snapshot)),
        neighbours=tuple(ip_listing.neighbours(_listing(snapshot, "neighbours"))),
        leases=tuple(_leases(snapshot)),
        served=tuple(_served(snapshot)),
        hostname=_word(snapshot, "/etc/hostname"),
        machine_id=_word(snapshot, "/etc/machine-id"),
        hosts=tuple(name_files.hosts(snapshot.content("/etc/hosts") or b"")),
        resolvers=tuple(_resolvers(snapshot)),
        resolvers_unknown=_made_anew(snapshot),
        resolved_servers=tuple(_resolved(snapshot)),
        rewritten=tuple(_rewritten(snapshot, documents, profiles)),
        gaps=(*plan_gaps, *stanza_gaps),
        is_live="links" in snapshot.listings,
        renderers=dict(netplan_reading.renderers(documents)),
    )


def _listing(snapshot: Snapshot, name: str) -> str:
    return snapshot.listings.get(name, b"").decode("utf-8", "replace")


def starts(snapshot: Snapshot) -> Iterator[tuple[System, bool | None]]:
    """Whether a system is started at boot: by a link in a wants folder; not when its program is not there."""
    for system, (unit, program) in DAEMONS.items():
        found = snapshot.resolve(program).entry
        if found is not None and found.kind is EntryKind.ABSENT:
            yield system, False
            continue
        states = [snapshot.resolve(f"{folder}/{unit}", follow_last=False).entry for folder in WANTS]
        if any(state is not None and state.kind is not EntryKind.ABSENT for state in states):
            yield system, True
        elif all(state is not None for state in states[:1]):
            yield system, False
        else:
            yield system, None


def _live(snapshot: Snapshot) -> Iterator[LiveInterface]:
    addresses: dict[str, list[LiveAddress]] = {}
    for each in ip_listing.addresses(_listing(snapshot, "addresses")):
        addresses.setdefault(each.interface, []).append(each)
    links = list(ip_listing.links(_listing(snapshot, "links")))
    for link in links:
        yield LiveInterface(link, tuple(addresses.pop(link.name, ())))
    for name, rest in addresses.items():
        yield LiveInterface(LiveLink(name, kind="loopback" if name == "lo" else ""), tuple(rest))


def _default_routes(snapshot: Snapshot) -> Iterator[LiveRoute]:
    for name, version in (("routes", 4), ("routes6", 6)):
        yield from (each for each in ip_listing.routes(_listing(snapshot, name), version) if each.is_default)


def _leases(snapshot: Snapshot) -> Iterator[PlacedValue[Lease]]:
    """What the guest itself was given; `name` is the interface where the file tells it."""
    folder = "/run/systemd/netif/leases"
    for name in snapshot.children(folder):
        found = leases.networkd(snapshot.content(f"{folder}/{name}") or b"")
        if found is not None:
            yield PlacedValue(found, Origin(f"{folder}/{name}", found.line))
    for folder in ("/var/lib/dhcp", "/var/lib/NetworkManager"):
        for name in snapshot.children(folder):
            path, content = f"{folder}/{name}", snapshot.content(f"{folder}/{name}")
            if content is None or not name.endswith((".lease", ".leases")) or name.startswith("dhcpd"):
                continue
            own = leases.networkd(content) if name.endswith(".lease") else None
            found_here = list(leases.dhclient(content))[-1:] or ([own] if own is not None else [])
            yield from (PlacedValue(each, Origin(path, each.line)) for each in found_here)


SERVED = ("/var/lib/misc/dnsmasq.leases", "/var/lib/dnsmasq/dnsmasq.leases", "/var/lib/dhcp/dhcpd.leases")


def _served(snapshot: Snapshot) -> Iterator[PlacedValue[Lease]]:
    """What a server on this guest gave to others."""
    for path in SERVED:
        content = snapshot.content(path)
        if content is not None:
            read_by = leases.dhclient if path.endswith("dhcpd.leases") else leases.dnsmasq
            yield from (PlacedValue(each, Origin(path, each.line)) for each in read_by(content))


def _word(snapshot: Snapshot, path: str) -> PlacedValue[str] | None:
    content = snapshot.content(path)
    return PlacedValue(name_files.first_line(content), Origin(path, 1)) if content is not None else None


def _resolvers(snapshot: Snapshot) -> Iterator[PlacedValue[IPAddress]]:
    for address, line in name_files.resolv_conf(snapshot.content("/etc/resolv.conf") or b"").servers:
        yield PlacedValue(address, Origin("/etc/resolv.conf", line))


def _made_anew(snapshot: Snapshot) -> bool:
    """Whether resolv.conf leads into /run, or was never looked at: then its content is no matter of files."""
    found = snapshot.resolve("/etc/resolv.conf")
    return found.entry is None or (not found.is_file and found.path.startswith("/run/") and "stub" not in found.path)


def _resolved(snapshot: Snapshot) -> Iterator[PlacedValue[str]]:
    """DNS= of resolved.conf(5) and its drop-ins."""
    folder = "/etc/systemd/resolved.conf.d"
    for path in ("/etc/systemd/resolved.conf", *(f"{folder}/{name}" for name in snapshot.children(folder))):
        document = sections.parse(snapshot.content(path) or b"", Dialect.UNIT)
        for line in document.entries("Resolve"):
            if line.key in ("DNS", "FallbackDNS") and line.value:
                yield PlacedValue(line.value, Origin(path, line.number, line.column))


def _rewritten(
    snapshot: Snapshot, documents: list[netplan.Document], profiles: tuple[Profile, ...]
) -> Iterator[PlacedValue[str]]:
    """Files that a first-boot tool writes again, unless it was told not to."""
    for path in FIRST_BOOT_OFF:
        entry = snapshot.resolve(path).entry
        if entry is not None and entry.kind is not EntryKind.ABSENT:
            return
    tool = snapshot.resolve("/usr/bin/cloud-init").entry
    if tool is None or tool.kind is EntryKind.ABSENT:
        return
    paths = dict.fromkeys([d.path for d in documents] + [p.origin.path for p in profiles])
    for path in paths:
        if any(word in path.rpartition("/")[2] for word in FIRST_BOOT):
            yield PlacedValue("cloud-init writes this file anew", Origin(path))
