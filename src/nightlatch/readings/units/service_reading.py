"""A live guest's SSH service: its units, the daemons that run, the sockets that are open (systemctl(1), ss(8), proc(5)).

Stored, loaded and at boot are three states; what is read here is loaded and at boot, the files are stored. A guest that
was read from a folder has none of it.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.net.numbers import whole
from nightlatch.origin import Kind, Origin
from nightlatch.readings.units import daemons
from nightlatch.readings.units.daemons import SERVICES, Daemon

SOCKETS = ("ssh.socket", "sshd.socket")
MANAGER = 1  # the service manager's process holds the sockets of socket units
MOST_PREFIXES = 4096
MOST_HOLDERS = 64
NAME = re.compile(r"[A-Za-z0-9:_.@\\-]{1,200}\.(?:service|socket|timer|slice)")


@dataclass(frozen=True, slots=True)
class Unit:
    """One unit as the service manager has it loaded; times are seconds since 1970, 0 for never.

    `listens` are the addresses and ports of a socket unit, `accepts` whether it starts a daemon for each connection. `slice` is
    the one that holds it, `allows` and `denies` are its own lists of addresses, None where they were not told.
    """

    name: str
    loaded: bool
    active: bool
    file_state: str
    main_pid: int = 0
    group: str = ""
    started: int = 0
    reloaded: int = 0
    needs_reload: bool = False
    listens: tuple[tuple[str, int], ...] = ()
    accepts: bool = False
    slice: str = ""
    allows: tuple[str, ...] | None = None
    denies: tuple[str, ...] | None = None

    @property
    def at_boot(self) -> bool:
        """Whether it is started at boot, or by something that is (systemctl(1), is-enabled)."""
        return self.file_state in ("enabled", "enabled-runtime", "static", "indirect", "generated", "alias")

    @property
    def origin(self) -> Origin:
        """Where this was read."""
        return Origin(f"systemctl show {self.name}", kind=Kind.LISTING)


@dataclass(frozen=True, slots=True)
class OpenSocket:
    """A listening TCP socket, or a UDP one that takes from everybody: a numeric address ("" for all), a port, the programs and
    processes that hold it where known, the kernel's number for it, and that of the account that made it."""

    address: str
    port: int
    programs: tuple[tuple[str, int], ...] = ()
    protocol: str = "tcp"
    inode: str = ""
    uid: int = 0

    @property
    def is_exposed(self) -> bool:
        """Whether others than the machine itself can reach it, filters aside."""
        return not (self.address.startswith("127.") or self.address in ("::1", "::ffff:127.0.0.1"))

    @property
    def origin(self) -> Origin:
        """Where this was read."""
        return Origin("ss -ltunp", kind=Kind.LISTING)


@dataclass(frozen=True)
class ServiceReading:
    """The loaded and at-boot state of the SSH service, and who else listens; `is_live` is False where nothing was asked.

    `sockets` are the listening TCP sockets, `datagrams` the UDP ones; `owners` maps process numbers to units. `daemons` are the
    guest's own sshd, `strangers` whatever else calls itself so and waits for callers.
    """

    is_live: bool = False
    units: dict[str, Unit] = field(default_factory=dict)
    daemons: tuple[Daemon, ...] = ()
    strangers: tuple[Daemon, ...] = ()
    sockets: tuple[OpenSocket, ...] = ()
    clock: int = 0
    datagrams: tuple[OpenSocket, ...] = ()
    owners: dict[int, str] = field(default_factory=dict)

    @property
    def has_units(self) -> bool:
        """Whether a service manager answered."""
        return any(unit.loaded for unit in self.units.values())

    @property
    def holders(self) -> tuple[str, ...]:
        """The units that hold SSH's port, by the names that they may have: an active socket, else the service."""
        active = tuple(name for name in SOCKETS if name in self.units and self.units[name].active)
        return active or SERVICES

    @property
    def socket(self) -> Unit | None:
        """The socket unit that holds the port, when the service is activated by a socket."""
        return next((self.units[n] for n in SOCKETS if n in self.units and self.units[n].active), None)

    @property
    def service(self) -> Unit | None:
        """The service unit: a running one first, else one that is there."""
        known = [self.units[n] for n in SERVICES if n in self.units and self.units[n].loaded]
        return next((u for u in known if u.active), known[0] if known else None)

    @property
    def daemon(self) -> Daemon | None:
        """The daemon that belongs to the unit, or the only one there is."""
        own = [d for d in self.daemons if self.service and self.service.active and d.unit == self.service.name]
        return own[0] if own else self.daemons[0] if len(self.daemons) == 1 else None

    def is_door(self, socket: OpenSocket) -> bool:
        """Whether a socket is SSH's own: held by a daemon, or by the service manager for SSH's socket unit."""
        pids = {pid for _, pid in socket.programs}
        listens = self.socket.listens if self.socket is not None else ()
        waits = any(port == socket.port for _, port in listens) and socket.protocol == "tcp"
        return any(each.pid in pids for each in self.daemons) or (waits and (MANAGER in pids or not pids))

    def holder_of(self, socket: OpenSocket) -> str:
        """The unit whose program holds a socket; one that the service manager holds is that of a socket unit; empty where it is
        not known."""
        owners = [self.owners[pid] for _, pid in socket.programs if pid in self.owners]
        if owners or not any(pid == 1 for _, pid in socket.programs) or socket.protocol != "tcp":
            return owners[0] if owners else ""
        ends = {("" if socket.address in ("", "::") else socket.address, socket.port)}
        return next((name for name, unit in self.units.items() if unit.active and ends & set(unit.listens)), "")

    @property
    def is_running(self) -> bool:
        """Whether somebody answers connections."""
        return bool(self.daemons) or self.socket is not None


def read(snapshot: Snapshot) -> ServiceReading:
    """The service of a snapshot."""
    if not snapshot.is_live:
        return ServiceReading()
    listings = {name: raw.decode("utf-8", "replace") for name, raw in snapshot.listings.items()}
    units = dict(_units(listings.get("units", "")))
    groups = {unit.name: unit.group for unit in units.values()}
    holders = _holders(listings.get("holders", ""), dict(_numbered(listings.get("programs", ""))))
    found = list(_sockets(listings.get("sockets", ""), holders))
    called = daemons.read(
        listings.get("daemons", ""),
        frozenset(each.inode for each in found if each.protocol == "tcp"),
        groups,
        {unit.name: unit.main_pid for unit in units.values()},
        managed=snapshot.told.systemd,
    )
    return ServiceReading(
        True,
        units,
        tuple(each for each in called if not each.doubt),
        tuple(each for each in called if each.doubt),
        tuple(each for each in found if each.protocol == "tcp"),
        snapshot.told.clock or 0,
        tuple(each for each in found if each.protocol == "udp"),
        dict(_owners(listings.get("owners", ""), groups)),
    )


def _numbered(text: str) -> Iterator[tuple[int, str]]:
    for line in text.splitlines():
        number, _, rest = line.partition(" ")
        if re.fullmatch(r"[0-9]{1,9}", number):
            yield int(number), rest


def _owners(text: str, groups: Mapping[str, str]) -> Iterator[tuple[int, str]]:
    """The unit of each process: the one that its control group names, where the service manager says the same."""
    for pid, group in _numbered(text):
        name = daemons.outermost(group)
        theirs = groups.get(name, "")
        if theirs and f"{group}/".startswith(f"{theirs}/"):
            yield pid, name


def _holders(text: str, names: Mapping[int, str]) -> dict[str, tuple[tuple[str, int], ...]]:
    """The processes that hold each socket, by its inode; a process's name is its own to choose, and for people only."""
    out: dict[str, list[tuple[str, int]]] = {}
    for inode, pid in _numbered(text):
        process = whole(pid)
        if process is not None:
            out.setdefault(str(inode), []).append((names.get(process, "?")[:32], process))
    return {inode: tuple(held[:MOST_HOLDERS]) for inode, held in out.items()}


def _units(text: str) -> Iterator[tuple[str, Unit]]:
    for block in text.split("\n\n"):
        pairs = [line.split("=", 1) for line in block.splitlines() if "=" in line]
        values = dict(pairs)
        name = values.get("Id", "")
        asked = [each for each in values.get("Names", "").split(" ")[:20] if NAME.fullmatch(each)]
        if not NAME.fullmatch(name):
            continue
        unit = Unit(
            name,
            values.get("LoadState") == "loaded",
            values.get("ActiveState") in ("active", "reloading"),
            values.get("UnitFileState", ""),
            _number(values.get("MainPID")),
            values.get("ControlGroup", ""),
            _time(values.get("ExecMainStartTimestamp")),
            max((_reload(value) for key, value in pairs if key == "ExecReload"), default=0),
            values.get("NeedDaemonReload") == "yes",
            tuple(_listens(value for key, value in pairs if key == "Listen")),
            values.get("Accept") == "yes",
            values.get("Slice", ""),
            _words(values.get("IPAddressAllow")),
            _words(values.get("IPAddressDeny")),
        )
        for each in dict.fromkeys([name, *asked]):
            yield each, unit


def _words(text: str | None) -> tuple[str, ...] | None:
    return None if text is None else tuple(text.split()[:MOST_PREFIXES])


def _number(text: str | None) -> int:
    return int(text) if text and re.fullmatch(r"[0-9]{1,9}", text) else 0


def _time(text: str | None) -> int:
    found = re.fullmatch(r"@?([0-9]{1,12})", text or "")
    return int(found[1]) if found else _calendar(text or "")


def _reload(text: str) -> int:
    """When a reload command ended, from ExecReload's own record (systemd 252: stop_time=[@1795581193])."""
    found = re.search(r"stop_time=\[@?([0-9]{1,12})", text)
    if found:
        return int(found[1])
    return _calendar(text.partition("stop_time=")[2].strip("[ "))


def _calendar(text: str) -> int:
    """The same where it is told as a date in UTC, as before systemd 251: Wed 2026-11-25 04:33:13 UTC."""
    found = re.match(r"\w{3} (\d{4})-(\d\d)-(\d\d) (\d\d):(\d\d):(\d\d) UTC\b", text)
    if not found:
        return 0
    year, month, day, hour, minute, second = (int(part) for part in found.groups())
    return _days(year, month, day) * 86400 + hour * 3600 + minute * 60 + second


def _days(year: int, month: int, day: int) -> int:
    """Days from 1970-01-01 in the civil calendar."""
    year -= month <= 2
    era, of_era = divmod(year, 400)
    of_year = (153 * (month + (-3 if month > 2 else 9)) + 2) // 5 + day - 1
    return era * 146097 + of_era * 365 + of_era // 4 - of_era // 100 + of_year - 719468


def _listens(values: Iterable[str]) -> Iterator[tuple[str, int]]:
    for value in values:
        found = re.fullmatch(r"(?:\[([0-9A-Fa-f:.]+)\]|([0-9.]+)):([0-9]{1,5}) \(Stream\)", value)
        if found and int(found[3]) < 65536:
            address = found[1] or found[2]
            yield "" if address == "::" else address, int(found[3])


Holders = Mapping[str, tuple[tuple[str, int], ...]]


def _sockets(text: str, holders: Holders) -> Iterator[OpenSocket]:
    for line in text.splitlines():
        protocol, _, told_of = line.partition(" ")
        words = told_of.split(None, 5)
        if protocol in ("tcp", "udp") and len(words) >= 4 and words[0] in ("LISTEN", "UNCONN"):
            address, _, port = words[3].rpartition(":")
            # No name of a program stands before it, so the first of these words is the kernel's own.
            rest = f" {words[5] if len(words) > 5 else ''} "
            told = re.search(r" (?:uid:([0-9]{1,10}) )?ino:([0-9]{1,20}) ", rest)
            bare = address.strip("[]").partition("%")[0]
            number = whole(port, 5)
            if number is not None:
                inode, uid = (told[2], int(told[1] or 0)) if told else ("", 0)
                yield OpenSocket("" if bare == "*" else bare, number, holders.get(inode, ()), protocol, inode, uid)
        elif protocol[:3] in ("tcp", "udp") and len(words) >= 4 and ":" in words[1]:
            if words[3] == ("0A" if protocol.startswith("tcp") else "07"):  # listening, and unconnected (proc(5))
                yield from _from_proc(told_of.split(), protocol[:3], holders)


def _from_proc(words: list[str], protocol: str, holders: Holders) -> Iterator[OpenSocket]:
    """A socket of /proc/net/tcp or tcp6: words of four bytes in the machine's order, here little-endian (proc(5))."""
    address, _, port = words[1].partition(":")
    try:
        raw = bytes.fromhex(address)
        number = int(port, 16)
    except ValueError:
        return
    turned = b"".join(raw[i : i + 4][::-1] for i in range(0, len(raw), 4))
    if len(turned) in (4, 16):
        inode = words[9] if len(words) > 9 and words[9].isdigit() else ""
        uid = whole(words[7], 10) if len(words) > 7 else None
        yield OpenSocket(str(ipaddress.ip_address(turned)), number, holders.get(inode, ()), protocol, inode, uid or 0)
