"""Load an estate file: all its errors at once, each with file, line, column, what was expected and the nearest word."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from zoneinfo import ZoneInfo

from nightlatch import versions
from nightlatch.estate import csv_lists, directories, networks, people_list, reader, revocations, sentences, services, tree, ways
from nightlatch.estate.csv_lists import Columns, Row, Rows
from nightlatch.estate.guest_list import GUESTS
from nightlatch.estate.model import (
    KEPT_DAYS,
    CertificateRight,
    Directory,
    Emergency,
    Estate,
    GrantSpec,
    GuestSpec,
    KeyEnd,
    NetworkSpec,
    Place,
    Principal,
    ServiceSpec,
    Team,
    Waiver,
)
from nightlatch.estate.people_list import PEOPLE
from nightlatch.faults import EstateError, Fault, told_once
from nightlatch.formats.keys import PublicKey
from nightlatch.formats.yaml_tree import Node, Source
from nightlatch.model.services import SERVICES, ServiceWords
from nightlatch.net.addresses import AddressSet, union
from nightlatch.origin import Kind, Origin

LARGEST = 16 << 20
SECTIONS = tuple(
    """
    nightlatch estate time_zone authorities directories places people teams robots people_from networks guests guests_from grants
    services emergency waivers narrow_at evidence_days password_days revoked
""".split()
)
LAYERS = ("key", "service", "filter")  # where a source limit is written, unless the file says otherwise
GUEST = ("system", "dial", "via", "labels", "host_keys", "network", "addresses", "host_name", "time_zone")


def load(path: Path, services: Sequence[ServiceWords] = SERVICES) -> Estate:
    """The estate in a file, whose grants may name these services. Raises EstateError with every fault found."""
    source = tree.source(str(path), _read(path))
    root = tree.parse(source)
    _version(source, root)
    estate = _Loader(source, path, services).estate(root)
    if source.faults:
        raise EstateError(told_once(sorted(source.faults, key=lambda fault: _order(fault, str(path)))))
    return estate


def _version(source: Source, root: Node) -> None:
    """Of a file in another version nothing else is told, for its words may mean something else. Raises EstateError."""
    for key, value in root.pairs or ():
        because = versions.unread("estate", value.text or "") if key.text == "nightlatch" else ""
        if because:
            source.fault(value, because, f"nightlatch: {versions.READS['estate'][-1]}")
            raise EstateError(source.faults)


def _order(fault: Fault, path: str) -> tuple[bool, int, int]:
    """The estate file's own faults first, each file's in the order of its lines."""
    origin = fault.origin
    return (origin.path != path, origin.line, origin.column) if origin is not None else (False, 0, 0)


def _read(path: Path) -> str:
    try:
        with path.open("rb") as stream:
            raw = stream.read(LARGEST + 1)
    except FileNotFoundError:
        raise EstateError(f"{path}: there is no such file; nightlatch new {path} writes one to start from") from None
    except OSError as error:
        raise EstateError(f"{path} can't be read: {error.strerror}") from None
    if len(raw) > LARGEST:
        raise EstateError(f"{path} is larger than an estate file may be ({LARGEST >> 20} MiB)")
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError as error:
        line = raw[: error.start].count(b"\n") + 1
        column = error.start - (raw.rfind(b"\n", 0, error.start) + 1) + 1
        origin = Origin(str(path), line, column, Kind.ESTATE)
        raise EstateError([Fault(f"byte 0x{raw[error.start]:02x} is not UTF-8", origin, "a UTF-8 text file")]) from None


class _Loader:
    def __init__(self, source: Source, path: Path, services: Sequence[ServiceWords]) -> None:
        self.source, self.path, self.folder = source, path, path.parent
        self.known = {each.name: each for each in services}
        self.authorities: dict[str, PublicKey] = {}
        self.places: dict[str, Place] = {}
        self.principals: dict[str, Principal] = {}
        self.teams: dict[str, Team] = {}
        self.guests: dict[str, GuestSpec] = {}
        self.networks: dict[str, NetworkSpec] = {}
        self.key_files: dict[str, PublicKey] = {}
        self.faulty: set[str] = set()
        self.directories: dict[str, Directory] = {}

    def estate(self, root: Node) -> Estate:
        found = reader.section(self.source, root, "the estate", SECTIONS, None, ("nightlatch", "estate"))
        if "guests" not in found and "guests_from" not in found and root.pairs is not None:
            self.source.fault(root, "the estate lacks guests", "guests: ..., or guests_from: FILE.csv")
        reader.each(self.source, found.get("authorities"), "an authority", self._authority)
        reader.each(self.source, found.get("directories"), "a directory", self._directory)
        reader.each(self.source, found.get("places"), "a place", self._place)
        rows = self._listed(found, GUESTS)
        guest_names = {k.text or "": v for k, v in (found["guests"].pairs or [])} if "guests" in found else {}
        guest_names.update({row.name.text or "": row.value for row in rows.rows} if rows is not None else {})
        reader.each(
            self.source,
            found.get("people"),
            "a person",
            lambda n, k, v: self._principal(self.source, n, k, v, guest_names, robot=False),
        )
        reader.each(
            self.source,
            found.get("robots"),
            "a robot",
            lambda n, k, v: self._principal(self.source, n, k, v, guest_names, robot=True),
        )
        self._people(self._listed(found, PEOPLE), guest_names)
        reader.each(self.source, found.get("teams"), "a team", self._team)
        names = sentences.KnownNames(
            self.places, self.principals, self.teams, self.guests, self.networks, self.known, self.faulty
        )
        reader.each(self.source, found.get("networks"), "a network", lambda n, k, v: self._network(n, k, v, guest_names))
        reader.each(self.source, found.get("guests"), "a guest", lambda n, k, v: self._guest(self.source, n, k, v, names))
        if rows is not None:
            for row in rows.rows:
                self._row(rows.source, row, names)
            self.source.faults.extend(rows.source.faults)
        return Estate(
            reader.text(self.source, found["estate"], "the estate's name") if "estate" in found else "",
            self.path,
            self._zone(found.get("time_zone")),
            self.authorities,
            self.places,
            self.principals,
            self.teams,
            self.guests,
            *self._sentences(found, names),
            self._narrow_at(found.get("narrow_at")),
            self.networks,
            self._services(found.get("services"), names),
            self._days(found, "evidence_days", KEPT_DAYS),
            self.directories,
            revocations.revocations(self.source, found["revoked"], self.folder) if "revoked" in found else None,
            self._days(found, "password_days", 0),
        )

    def _days(self, found: dict[str, Node], key: str, usual: int) -> int:
        return reader.whole(self.source, found[key], key, 1, 3650) if key in found else usual

    def _sentences(
        self, found: dict[str, Node], names: sentences.KnownNames
    ) -> tuple[tuple[GrantSpec, ...], tuple[Emergency, ...], tuple[Waiver, ...]]:
        def listed(key: str) -> list[tuple[int, Node]]:
            nodes = [] if key not in found or found[key].items == [] else reader.items(self.source, found[key], key)
            return list(enumerate(nodes, 1))

        grants = [sentences.grant(self.source, node, n, names) for n, node in listed("grants")]
        kept = [sentences.emergency(self.source, node, n, names, self._key) for n, node in listed("emergency")]
        waivers = [sentences.waiver(self.source, node, n, names) for n, node in listed("waivers")]
        return tuple(g for g in grants if g), tuple(e for e in kept if e), tuple(w for w in waivers if w)

    def _services(self, node: Node | None, names: sentences.KnownNames) -> tuple[ServiceSpec, ...]:
        nodes = reader.items(self.source, node, "services") if node is not None and node.items != [] else []
        made = [services.sentence(self.source, each, number, names) for number, each in enumerate(nodes, 1)]
        found = [each for each in made if each is not None]
        services.agree(self.source, found)
        return tuple(found)

    def _key(self, node: Node, source: Source | None = None) -> PublicKey | None:
        """The key in a file; one that many guests name is read once."""
        known = self.key_files.get(node.text or "")
        found = known or reader.key_file(source or self.source, node, self.folder, "a key file")
        if found is not None:
            self.key_files[node.text or ""] = found
        return found

    def _directory(self, name: str, key: Node, node: Node) -> None:
        found = directories.directory(self.source, name, key, node, self.folder)
        if found is not None:
            self.directories[name] = found

    def _network(self, name: str, key: Node, node: Node, guests: dict[str, Node]) -> None:
        found = networks.network(self.source, name, key, node, self.places, self.folder, guests)
        if found is not None:
            self.networks[name] = found

    def _listed(self, found: dict[str, Node], kind: Columns) -> Rows | None:
        return csv_lists.read(self.source, found[kind.key], self.folder, kind) if kind.key in found else None

    def _people(self, rows: Rows | None, guests: dict[str, Node]) -> None:
        """People and robots of a list."""
        for row in rows.rows if rows is not None else ():
            source = rows.source if rows is not None else self.source
            robot = people_list.take_robot(row)
            if robot is not None and robot.text not in ("yes", "no"):
                source.fault(robot, f'"{robot.text}" is neither yes nor no', "yes for a program that logs in")
            name = reader.name(source, row.name, "a person")
            if name:
                is_robot = robot is not None and robot.text == "yes"
                self._principal(source, name, row.name, row.value, guests, robot=is_robot)
        self.source.faults.extend(rows.source.faults if rows is not None else ())

    def _row(self, source: Source, row: Row, names: sentences.KnownNames) -> None:
        name = reader.name(source, row.name, "a guest")
        if name in self.guests:
            first = self.guests[name].origin
            source.fault(row.name, f'"{name}" stands here a second time', f"it once (the first is at {first})")
        elif name:
            self._guest(source, name, row.name, row.value, names)

    def _zone(self, node: Node | None) -> ZoneInfo:
        if node is None:
            return ZoneInfo("UTC")
        return ZoneInfo(services.zone(self.source, node) or "UTC")

    def _authority(self, name: str, key: Node, node: Node) -> None:
        found = self._key(node)
        if found is not None:
            self.authorities[name] = found

    def _place(self, name: str, key: Node, node: Node) -> None:
        if name == "anywhere":
            self.source.fault(key, '"anywhere" is reserved: it means every address', "another name")
        inside: AddressSet | None = None
        if node.pairs is not None:
            found = reader.section(self.source, node, f"place {name}", ("inside", "seen_as"), None, ("inside", "seen_as"))
            inside = self._addresses(found["inside"]) if "inside" in found else None
            seen = self._addresses(found["seen_as"]) if "seen_as" in found else AddressSet()
        else:
            seen = self._addresses(node)
        self.places[name] = Place(name, seen, self.source.origin(key), inside)

    def _addresses(self, node: Node) -> AddressSet:
        found = []
        for item in reader.items(self.source, node, "the addresses"):
            value = reader.text(self.source, item, "an address")
            each = sentences.network(self.source, item, value) if value else None
            if each is not None:
                found.append(each)
        return union(found)

    def _principal(self, source: Source, name: str, key: Node, node: Node, guests: dict[str, Node], *, robot: bool) -> None:
        what = f"{'robot' if robot else 'person'} {name}"
        told = len(source.faults)
        if name in self.principals:
            source.fault(key, f'"{name}" is a person already', "a name of its own")
        known = ("keys", "accounts", "certificate", "until")
        if node.text == "" and node.plain:
            node.text, node.pairs = None, []
        found = reader.section(source, node, what, known)
        keys, ends = self._keys(source, found["keys"]) if "keys" in found else ((), ())
        accounts: dict[str, str] = {}
        for guest, value in reader.pairs(source, found["accounts"], "accounts") if "accounts" in found else []:
            if reader.named(source, guest, "the guest", guests, "guests"):
                accounts[guest.text or ""] = reader.text(source, value, "an account")
        self.principals[name] = Principal(
            name,
            robot,
            keys,
            source.origin(key),
            accounts,
            self._certificate(source, found.get("certificate")),
            reader.day(source, found["until"], "until") if "until" in found else None,
            ends,
        )
        if len(source.faults) > told:
            self.faulty.add(name)

    def _keys(self, source: Source, node: Node) -> tuple[tuple[PublicKey, ...], tuple[KeyEnd, ...]]:
        """A person's keys: files, and `{key: FILE, until: DAY, then: FILE}` for one that ends."""
        keys: list[PublicKey | None] = []
        ends: list[KeyEnd] = []
        for item in [node] if node.pairs is not None else reader.items(source, node, "keys"):
            if item.pairs is None:
                keys.append(self._key(item, source))
                continue
            found = reader.section(source, item, "a key", ("key", "until", "then"), None, ("key", "until"))
            if len(found) < len(item.pairs) or "key" not in found or "until" not in found:
                continue
            key, last = self._key(found["key"], source), reader.day(source, found["until"], "until")
            successor = self._key(found["then"], source) if "then" in found else None
            keys += [key, successor]
            if key is not None and successor is not None and key.fingerprint == successor.fingerprint:
                source.fault(found["then"], "a key can't take its own place", "another key's file")
            elif key is not None and last is not None:
                ends.append(KeyEnd(key, last, successor, source.origin(item)))
        return tuple(each for each in keys if each is not None), tuple(ends)

    def _certificate(self, source: Source, node: Node | None) -> CertificateRight | None:
        if node is None:
            return None
        found = reader.section(source, node, "certificate", ("authority", "principals"), None, ("authority", "principals"))
        if len(found) < 2:
            return None
        authority = reader.named(source, found["authority"], "the authority", self.authorities, "authorities")
        names = [reader.text(source, n, "a principal") for n in reader.items(source, found["principals"], "principals")]
        return CertificateRight(authority, tuple(names)) if authority else None

    def _team(self, name: str, key: Node, node: Node) -> None:
        people = {n: p for n, p in self.principals.items() if not p.is_robot}
        members = [
            reader.named(self.source, item, "the member", people, "people")
            for item in reader.items(self.source, node, f"team {name}")
        ]
        self.teams[name] = Team(name, tuple(dict.fromkeys(m for m in members if m)), self.source.origin(key))

    def _guest(self, source: Source, name: str, key: Node, node: Node, names: sentences.KnownNames) -> None:
        what = f"guest {name}"
        found = reader.section(source, node, what, GUEST, None, ("via",))
        labels = (
            [reader.name(source, n, "a label") for n in reader.items(source, found["labels"], "labels")]
            if "labels" in found
            else []
        )
        keys = reader.items(source, found["host_keys"], "host_keys") if "host_keys" in found else []
        host_keys = [reader.text(source, n, "a fingerprint") for n in keys]
        for value, item in zip(host_keys, keys, strict=True):
            if value and not value.startswith("SHA256:"):
                source.fault(item, f'"{value}" is no fingerprint', "SHA256: and what ssh-keygen -l prints behind it")
        dial, port = ways.dial(source, found["dial"]) if "dial" in found else ("", 0)
        via = ways.via(source, found["via"], what, names, self.folder, lambda n: self._key(n, source)) if "via" in found else None
        if via is not None:
            self.guests[name] = GuestSpec(
                name,
                via,
                source.origin(key),
                reader.text(source, found["system"], "system") if "system" in found else "",
                tuple(labels),
                tuple(host_keys),
                dial,
                port,
                networks.named(source, found["network"], self.networks) if "network" in found else "",
                networks.addresses(source, found["addresses"]) if "addresses" in found else (),
                services.host_name(source, found["host_name"]) if "host_name" in found else "",
                services.zone(source, found["time_zone"]) if "time_zone" in found else "",
            )

    def _narrow_at(self, node: Node | None) -> tuple[str, ...]:
        if node is None:
            return LAYERS
        out: list[str] = []
        for item in reader.items(self.source, node, "narrow_at"):
            value = reader.one_of(self.source, item, "narrow_at", LAYERS)
            out += [value] if value else []
        return tuple(out)
