"""`find`: where is a guest now? Tables and lease files first, then a bounded look at the estate's own networks.

A name or a hardware address leads to candidates, each with what speaks for it. What speaks for a candidate is a hint; a
pinned host key, proven on the wire, is the one thing that confirms it. Nothing beyond the estate's networks is dialled.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from ipaddress import IPv6Address
from pathlib import Path

from nightlatch.access.holdings import hardware as hardware_of
from nightlatch.access.holdings import holdings
from nightlatch.estate.model import Estate, GuestSpec
from nightlatch.faults import NightlatchError, nearest, work_on
from nightlatch.formats.ip_listing import Neighbour
from nightlatch.formats.leases import hardware
from nightlatch.net.literal import IPAddress, address_or_none
from nightlatch.ops.survey import read_kept
from nightlatch.origin import Kind, Origin
from nightlatch.probe import driver
from nightlatch.probe.driver import Limits
from nightlatch.probe.stages import Look, Stage, Target
from nightlatch.readings.network import network_reading
from nightlatch.readings.network.network_reading import NetworkReading
from nightlatch.transports import nearby
from nightlatch.transports.targets import SSH_PORT

__all__ = ["SearchResult", "SearchVerdict", "Sign", "SoughtAddress", "find"]

MOST_SCANNED = 2048  # addresses in one run
AT_ONCE = 64
QUICK = Limits(name=2, connect=1.5, silent=4, whole=8)


class SearchVerdict(StrEnum):
    """The verdict on a candidate."""

    CONFIRMED = "confirmed by a pinned host key"
    OTHER_KEY = "answers with a host key that is not pinned"
    UNPINNED = "answers, and no host key is pinned to compare with"
    SILENT = "does not answer"
    NOT_TRIED = "not tried: outside of the estate's networks"


ORDER = list(SearchVerdict)


@dataclass(frozen=True, slots=True)
class Sign:
    """A hint at a candidate. `fresh` is False for what may be old: a stale entry is no sign of life."""

    text: str
    origin: Origin
    fresh: bool = False


@dataclass(frozen=True, slots=True)
class SoughtAddress:
    """An address where the guest may be, what speaks for it, and what the wire says."""

    address: str
    signs: tuple[Sign, ...]
    verdict: SearchVerdict = SearchVerdict.NOT_TRIED
    look: Look | None = None


@dataclass(frozen=True)
class SearchResult:
    """The whole search. `hardware` are the addresses that were looked for; `scanned` counts addresses that were dialled
    without any sign; `unscanned` says which networks were not scanned and which evidence was not read, and why. `twins`
    are other guests for which the same host key is pinned: it can't tell them apart."""

    what: str
    guest: str
    hardware: tuple[str, ...]
    candidates: tuple[SoughtAddress, ...]
    scanned: int = 0
    unscanned: tuple[str, ...] = ()
    twins: tuple[str, ...] = ()

    @property
    def found(self) -> tuple[SoughtAddress, ...]:
        """The candidates that are confirmed."""
        return tuple(each for each in self.candidates if each.verdict is SearchVerdict.CONFIRMED)

    @property
    def exit_code(self) -> int:
        """0 when it was confirmed, 3 when it was not, or when its host key is that of another guest, too."""
        return 0 if self.found and not self.twins else 3


def find(
    estate: Estate,
    what: str,
    *,
    leases: Sequence[Path] = (),
    evidence: Path | None = None,
    scan: bool = True,
    limits: Limits | None = None,
) -> SearchResult:
    """Look for a guest by its name or a hardware address. `leases` are lease files to read besides this machine's own,
    `evidence` is a folder of archives of a survey. Raises NightlatchError for a name that the estate does not have."""
    work = _Search(estate, what, limits or QUICK)
    surveyed, unread = _surveyed(estate, evidence)
    work.unscanned += unread
    work.know(surveyed)
    work.tables(surveyed, leases)
    work.dial(list(work.signs))
    if scan and not work.is_found:
        work.scan()
    return work.result()


def _surveyed(estate: Estate, folder: Path | None) -> tuple[dict[str, NetworkReading], list[str]]:
    """The guests' networks by archives and folders; and the faults of those that can't be read, in words."""
    read: dict[str, NetworkReading] = {}
    unread: list[str] = []
    for spec in estate.guests.values():
        try:
            with work_on(spec.name):
                snapshot = read_kept(estate, spec, folder)
                if snapshot is not None:
                    read[spec.name] = network_reading.read(snapshot)
        except (NightlatchError, OSError) as error:
            unread.append(f"{spec.name}'s evidence can't be read: {error}")
    return read, unread


class _Search:
    """One search while it is being made."""

    def __init__(self, estate: Estate, what: str, limits: Limits) -> None:
        self.estate, self.what, self.limits = estate, what, limits
        self.spec: GuestSpec | None = estate.guests.get(what)
        mac = hardware(what)
        if self.spec is None and not mac:
            near = nearest(what, list(estate.guests))
            hint = f' Did you mean "{near}"?' if near else ""
            raise NightlatchError(
                f'"{what}" is neither a guest of {estate.path} ({", ".join(estate.guests)}) nor a hardware address such as '
                f"52:54:00:12:34:56.{hint}"
            )
        self.macs: list[str] = [mac] if mac else []
        self.names = {what.lower(), self.spec.dial.lower()} - {""} if self.spec is not None else set()
        self.signs: dict[str, list[Sign]] = {}
        self.looks: dict[str, tuple[SearchVerdict, Look]] = {}
        self.own = nearby.own_addresses()
        self.scanned, self.unscanned = 0, list[str]()

    @property
    def is_found(self) -> bool:
        return any(verdict is SearchVerdict.CONFIRMED for verdict, _ in self.looks.values())

    def know(self, surveyed: dict[str, NetworkReading]) -> None:
        """Hardware addresses, names and addresses of the guest from the estate and from what was read of it."""
        if self.spec is None:
            owners = [n for n, r in surveyed.items() if any(mac in self.macs for mac, _, _ in hardware_of(r))]
            self.spec = self.estate.guests[owners[0]] if len(owners) == 1 else None
        reading = surveyed.get(self.spec.name) if self.spec is not None else None
        for mac, _, _ in hardware_of(reading) if reading is not None else ():
            self.macs += [mac] if mac not in self.macs else []
        if reading is not None and reading.hostname is not None:
            self.names.add(reading.hostname.value.lower())
        if self.spec is None:
            return
        for held in holdings(reading or NetworkReading(), self.spec.name, self.spec):
            if not held.address.is_link_local:
                self.note(
                    str(held.address),
                    "the guest's own settings" if held.stated is None else "the estate file",
                    held.origin,
                )
        for text, origin in ((self.spec.via.host, self.spec.via.origin), (self.spec.dial, self.spec.origin)):
            if address_or_none(text, scope=True) is not None:
                self.note(text, "dialled so far", origin)

    def note(self, address: str, text: str, origin: Origin, *, fresh: bool = False) -> None:
        found = self.signs.setdefault(address, [])
        sign = Sign(text, origin, fresh)
        found += [sign] if sign not in found else []

    def tables(self, surveyed: dict[str, NetworkReading], files: Sequence[Path]) -> None:
        """Neighbour tables and lease files, this machine's and those of guests that were read."""
        self.neighbours("this machine", nearby.table(), local=True)
        given = [*nearby.kept_leases(), *((str(path), lease) for path in files for lease in nearby.leases_in(path))]
        for path, lease in given:
            self.lease(
                "this machine" if path not in map(str, files) else "a lease file",
                path,
                lease.hardware,
                lease.name,
                lease.address,
                lease.line,
            )
        for name, reading in surveyed.items():
            self.neighbours(name, reading.neighbours, local=False)
            for placed in reading.served:
                found = placed.value
                self.lease(name, placed.origin.path, found.hardware, found.name, found.address, found.line)
        for mac in self.macs:
            for interface in self._links():
                address = _by_hardware(mac)
                self.note(f"{address}%{interface}", f"made from {mac} (RFC 4291, appendix A)", Origin(mac, kind=Kind.WIRE))

    def neighbours(self, whose: str, table: Sequence[Neighbour], *, local: bool) -> None:
        for each in table:
            if each.hardware and each.hardware in self.macs:
                address = str(each.address).partition("%")[0]
                if each.address.is_link_local:
                    if not local:
                        continue  # it means something on that guest's links only
                    address = f"{address}%{each.interface}"
                text = f"in the neighbour table of {whose}, {each.state.lower()}"
                self.note(address, text, Origin("ip neigh", kind=Kind.LISTING), fresh=local and each.is_confirmed)

    def lease(self, whose: str, path: str, mac: str, name: str, address: IPAddress, line: int) -> None:
        if (mac and mac in self.macs) or (name and name.lower() in self.names):
            self.note(str(address), f"given out, as {whose} has it", Origin(path, line))
            if mac and mac not in self.macs:
                self.macs.append(mac)

    def _links(self) -> list[str]:
        """The interfaces of this machine that sit on a network of the estate."""
        found = [each.interface for each in self.own if self._network_of(each.address.ip)]
        return list(dict.fromkeys(found))

    def _network_of(self, address: IPAddress) -> str:
        return next((n.name for n in self.estate.networks.values() if n.subnet_of(address) is not None), "")

    def allowed(self, text: str) -> bool:
        """Whether an address may be dialled: on a network of the estate, link-local on one, or written in the estate."""
        address = address_or_none(text, scope=True)
        if address is None:
            return False
        if address.is_link_local:
            return text.partition("%")[2] in self._links()
        return bool(self._network_of(address)) or text in self._written()

    def _written(self) -> set[str]:
        spec = self.spec
        return {spec.via.host, spec.dial, *(str(a.address.ip) for a in spec.addresses)} if spec is not None else set()

    def dial(self, addresses: Sequence[str]) -> None:
        """Look at candidates; a name's pins say whose key is meant."""
        wanted = [address for address in addresses if address not in self.looks and self.allowed(address)]
        pins = self.spec.host_keys if self.spec is not None else ()
        port = (self.spec.dial_port or self.spec.via.port or SSH_PORT) if self.spec is not None else SSH_PORT
        targets = [Target(address, port, pins=pins) for address in wanted]
        for address, look in zip(wanted, driver.looks(targets, at_once=AT_ONCE, limits=self.limits), strict=True):
            self.looks[address] = (self.judged(look), look)

    def judged(self, look: Look) -> SearchVerdict:
        if not look.keys:
            return SearchVerdict.SILENT if look.identified is None else SearchVerdict.UNPINNED
        pins = self.spec.host_keys if self.spec is not None else ()
        if set(look.fingerprints) & set(pins):
            return SearchVerdict.CONFIRMED
        return SearchVerdict.OTHER_KEY if pins else SearchVerdict.UNPINNED

    def scan(self) -> None:
        """Dial what no sign led to, on the estate's networks that this machine sits on or reaches; then look for neighbours."""
        wanted = self._to_scan()
        self.dial(wanted)
        self.scanned = len(wanted)
        for address in wanted:
            verdict, look = self.looks[address]
            if verdict is SearchVerdict.CONFIRMED or (verdict is SearchVerdict.UNPINNED and not self.macs):
                origin = Origin(f"{address} from {look.here}", kind=Kind.WIRE)
                self.note(address, "answered while the network was looked through", origin, fresh=True)
        # Who was dialled stands in the neighbour table now, whether it answered on that port or not.
        self.neighbours("this machine", nearby.table(), local=True)

    def _to_scan(self) -> list[str]:
        out: list[str] = []
        names = [self.spec.network] if self.spec is not None and self.spec.network else list(self.estate.networks)
        if not names:
            self.unscanned.append("the estate file names no networks")
        mine = {each.address.ip for each in self.own}
        for name in names:
            spec = self.estate.networks[name]
            for subnet in spec.subnets:
                if subnet.num_addresses > MOST_SCANNED - len(out):
                    what = (
                        "too many addresses to look through" if subnet.version == 4 else "IPv6 networks can't be looked through"
                    )
                    self.unscanned.append(f"{name} {subnet}: {what}")
                    continue
                hosts = [a for a in subnet.hosts() if a not in mine and a not in spec.hosts and a not in spec.gateways]
                hosts.sort(key=lambda a: not spec.gives_out(a))  # who moved has most often been given a lease
                out += [str(a) for a in hosts if str(a) not in self.looks]
        return out

    def result(self) -> SearchResult:
        made = []
        for address, signs in self.signs.items():
            verdict, look = self.looks.get(address, (SearchVerdict.NOT_TRIED, None))
            if look is not None and look.failed is not None and look.failed in (Stage.NAME, Stage.ROUTE):
                signs = [*signs, Sign("no route leads there from here", Origin(address, kind=Kind.WIRE))]
            made.append(SoughtAddress(address, tuple(signs), verdict, look))
        made = [replace(each, verdict=self._freshened(each)) for each in made]
        made.sort(key=lambda each: (ORDER.index(each.verdict), not any(s.fresh for s in each.signs)))
        name = self.spec.name if self.spec is not None else ""
        twins = [
            other.name
            for other in self.estate.guests.values()
            if self.spec is not None and other.name != name and set(other.host_keys) & set(self.spec.host_keys)
        ]
        return SearchResult(self.what, name, tuple(self.macs), tuple(made), self.scanned, tuple(self.unscanned), tuple(twins))

    def _freshened(self, each: SoughtAddress) -> SearchVerdict:
        """A candidate that was noticed after the wire was asked: allowed, and silent so far."""
        return SearchVerdict.SILENT if each.look is None and self.allowed(each.address) else each.verdict


def _by_hardware(mac: str) -> IPv6Address:
    """The link-local address that is made from a hardware address (RFC 4291, appendix A: modified EUI-64)."""
    parts = [int(part, 16) for part in mac.split(":")]
    made = [parts[0] ^ 2, parts[1], parts[2], 0xFF, 0xFE, *parts[3:]]
    return IPv6Address((0xFE80 << 112) | int.from_bytes(bytes(made), "big"))
