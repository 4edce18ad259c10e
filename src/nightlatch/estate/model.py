"""The estate as values: what the file says, checked, with the place each part comes from."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, time, timedelta
from enum import StrEnum
from functools import cached_property
from pathlib import Path
from typing import Protocol, TypeVar
from zoneinfo import ZoneInfo

from nightlatch.estate.through import ThroughSpec
from nightlatch.formats.keys import PublicKey
from nightlatch.formats.krl import RevocationList
from nightlatch.model.routes import Seal
from nightlatch.model.services import SSH, ServiceWords
from nightlatch.net.addresses import AddressSet
from nightlatch.net.literal import IPAddress, IPInterface, IPNetwork
from nightlatch.net.ports import PortSet
from nightlatch.origin import Origin

ANYWHERE = "anywhere"
KEPT_DAYS = 30  # for which evidence of each day is kept, unless the file says for how many


@dataclass(frozen=True, slots=True)
class Place:
    """A named set of callers. Behind a translation of its own, `inside` are its addresses and `seen` what others see."""

    name: str
    seen: AddressSet
    origin: Origin
    inside: AddressSet | None = None


@dataclass(frozen=True, slots=True)
class CertificateRight:
    """The authority whose certificates somebody holds, and the principals they name."""

    authority: str
    principals: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class KeyEnd:
    """The last day on which a person's key counts, and the key that takes its place, which counts from the beginning."""

    key: PublicKey
    last: date
    successor: PublicKey | None
    origin: Origin


@dataclass(frozen=True, slots=True)
class Principal:
    """A person or a robot. `until` is the last day on which any grant to them counts, `ends` are those of single keys; successors
    are among `keys`."""

    name: str
    is_robot: bool
    keys: tuple[PublicKey, ...]
    origin: Origin
    accounts: Mapping[str, str]
    certificate: CertificateRight | None = None
    until: date | None = None
    ends: tuple[KeyEnd, ...] = ()


@dataclass(frozen=True, slots=True)
class Revocations:
    """Keys and certificates that open nothing any more: the file as it is, and what is on it."""

    content: bytes
    listed: RevocationList
    origin: Origin


@dataclass(frozen=True, slots=True)
class DirectoryAccount:
    """One account of a directory's list: its number on guests, where that is listed, and its groups."""

    name: str
    number: int | None
    groups: tuple[str, ...]
    disabled: bool
    origin: Origin


@dataclass(frozen=True, slots=True)
class Directory:
    """The accounts that a directory held on the day on which its list was taken."""

    name: str
    accounts: Mapping[str, DirectoryAccount]
    taken: date
    origin: Origin


@dataclass(frozen=True, slots=True)
class Team:
    """People under one name."""

    name: str
    members: tuple[str, ...]
    origin: Origin


@dataclass(frozen=True, slots=True)
class PlaceRef:
    """Where a sentence says callers are: a place or a network by name, or addresses written out."""

    text: str
    place: str = ""
    network: str = ""
    addresses: AddressSet | None = None

    @property
    def is_anywhere(self) -> bool:
        """Whether it is every address there is."""
        return self.text == ANYWHERE


class ViaKind(StrEnum):
    """The ways to a guest, by the keys of the estate file."""

    FOLDER = "folder"
    EVIDENCE = "evidence"
    BY_HAND = "by_hand"
    SSH = "ssh"
    HERE = "here"


READ_AS_FILES = (ViaKind.FOLDER, ViaKind.EVIDENCE, ViaKind.BY_HAND)  # no connection of ours reaches such a guest


@dataclass(frozen=True, slots=True)
class Via:
    """How Nightlatch gets at a guest, and management access: the account, key and place by which it comes in.

    A folder, an archive or a survey by hand has a `path`; ssh a `host`, and `port` 0 for the client's own choice.
    `key_path` is the file that `key` was read from; `kept` an evidence archive that stands for the guest.
    """

    kind: ViaKind
    origin: Origin
    path: Path = Path()
    host: str = ""
    port: int = 0
    account: str = ""
    key: PublicKey | None = None
    key_path: Path | None = None
    places: tuple[PlaceRef, ...] = ()
    kept: Path | None = None

    @property
    def is_live(self) -> bool:
        """Whether a running guest is asked."""
        return self.kind not in READ_AS_FILES and self.kept is None

    @property
    def source(self) -> Path:
        """The folder, archive or text that is read, where no running guest is."""
        return self.kept or self.path


@dataclass(frozen=True, slots=True)
class PerimeterRow:
    """One row of a filter outside the guests: it `lets` in, or refuses, what matches. `protocols` and `targets` are None for all;
    `label` narrows it to guests that carry it; `number` is its place in a table, from 1."""

    sources: AddressSet
    ports: PortSet
    protocols: frozenset[str] | None
    lets: bool
    origin: Origin
    text: str
    label: str = ""
    targets: AddressSet | None = None
    number: int = 0


@dataclass(frozen=True, slots=True)
class Perimeter:
    """The filter outside the guests of a network: read from a file on a day, or claimed (`path` is empty, `taken` None). What no
    row lets in is refused. `columns` say which of a table's holds what, `service` is the address at which its filter takes it."""

    network: str
    rows: tuple[PerimeterRow, ...]
    origin: Origin
    taken: date | None = None
    path: str = ""
    columns: tuple[tuple[str, str], ...] = ()
    service: str = ""


@dataclass(frozen=True, slots=True)
class Forward:
    """Callers of `port` at the address `at` (None: any of its host's) are sent to a port of a guest, at the address `to`
    where that is written. The guest sees the caller, or all callers as `sees`."""

    network: str
    at: IPAddress | None
    port: int
    guest: str
    to_port: int
    origin: Origin
    to: IPAddress | None = None
    sees: IPAddress | None = None

    def __str__(self) -> str:
        at = "any address" if self.at is None else f"[{self.at}]" if self.at.version == 6 else str(self.at)
        return f"{at}:{self.port}" if self.at is not None else f"{at}, port {self.port}"


@dataclass(frozen=True, slots=True)
class NetworkSpec:
    """A network that guests sit on. `hosts` are the addresses of the machine that runs them, `leases` are ranges (first
    and last address, both included) from which a server gives out addresses, `gateways` what leads out of it. The addresses
    of a `private` one mean nothing outside."""

    name: str
    subnets: tuple[IPNetwork, ...]
    origin: Origin
    hosts: tuple[IPAddress, ...] = ()
    leases: tuple[tuple[IPAddress, IPAddress], ...] = ()
    gateways: tuple[IPAddress, ...] = ()
    servers: tuple[IPAddress, ...] = ()
    perimeters: tuple[Perimeter, ...] = ()
    private: bool = False
    forwards: tuple[Forward, ...] = ()

    def subnet_of(self, address: IPAddress) -> IPNetwork | None:
        """The subnet that an address lies in."""
        return next((net for net in self.subnets if address.version == net.version and address in net), None)

    def gives_out(self, address: IPAddress) -> bool:
        """Whether an address lies in a pool of leases."""
        return any(low.version == address.version and int(low) <= int(address) <= int(high) for low, high in self.leases)


@dataclass(frozen=True, slots=True)
class StatedAddress:
    """An address that the estate gives to an interface of a guest."""

    interface: str
    address: IPInterface
    origin: Origin


@dataclass(frozen=True, slots=True)
class GuestSpec:
    """One guest. `dial` is the name or address that people type, with its port (0: the usual one), where it is written.

    `host_name` and `time_zone` are what the guest itself should have, empty where the file says nothing of it.
    """

    name: str
    via: Via
    origin: Origin
    system: str = ""
    labels: tuple[str, ...] = ()
    host_keys: tuple[str, ...] = ()
    dial: str = ""
    dial_port: int = 0
    network: str = ""
    addresses: tuple[StatedAddress, ...] = ()
    host_name: str = ""
    time_zone: str = ""


@dataclass(frozen=True, slots=True)
class GrantSpec:
    """One grant sentence, `by` a service. `proofs` are alternatives, each a tuple of words, such as key or password.
    `view` limits it to a look; `screen` is the number of a display; `through` the login
    by SSH on the way."""

    number: int
    who: tuple[str, ...]
    guests: tuple[str, ...]
    places: tuple[PlaceRef, ...]
    proofs: tuple[tuple[str, ...], ...]
    origin: Origin
    text: str
    by: ServiceWords = SSH
    account: str = ""
    shared: str = ""
    administer: bool = False
    after_password: bool = False
    command: str = ""
    files: str = ""
    seal: Seal = Seal.TLS
    until: date | None = None
    view: bool = False
    screen: int | None = None
    through: ThroughSpec | None = None


@dataclass(frozen=True, slots=True)
class ServiceSpec:
    """One sentence about a service: on these guests it runs, now and at boot, or does neither.

    `unit` is the unit's whole name, or `ssh` for the SSH server, whatever its unit is called; `ports` are those of ssh,
    `package` is what brings the unit where it is not there.
    """

    number: int
    unit: str
    runs: bool
    guests: tuple[str, ...]
    origin: Origin
    ports: tuple[int, ...] = ()
    package: str = ""


@dataclass(frozen=True, slots=True)
class Emergency:
    """An account kept for the day all else fails."""

    account: str
    guests: tuple[str, ...]
    origin: Origin
    tested: date | None = None
    test_every_days: int = 0
    places: tuple[PlaceRef, ...] = ()
    proofs: tuple[tuple[str, ...], ...] = ()
    keys: tuple[PublicKey, ...] = ()
    console: bool = False


@dataclass(frozen=True, slots=True)
class Waiver:
    """A finding accepted on record until a day, that day included.

    What it accepts of a hole `by` a service: that `account` is open to `places` by `key` (a fingerprint), to the keys and
    certificates of `person`, or by `proof` (password, none, certificate, unknown), with root's rights only where it
    `administers`. Of somebody shut out: `person` or `account`, and `places`. Of another finding: those whose subjects are these.
    """

    finding: str
    guests: tuple[str, ...]
    owner: str
    because: str
    until: date
    origin: Origin
    account: str = ""
    person: str = ""
    key: str = ""
    proof: str = ""
    places: tuple[PlaceRef, ...] = ()
    administers: bool = False
    by: str = SSH.name


class _Sentence(Protocol):
    @property
    def guests(self) -> tuple[str, ...]: ...


_AnySentence = TypeVar("_AnySentence", bound=_Sentence)


def _told(sentences: Iterable[_AnySentence]) -> dict[str, list[_AnySentence]]:
    """Sentences by the guests that they name, in their order."""
    out: dict[str, list[_AnySentence]] = {}
    for each in sentences:
        for guest in each.guests:
            out.setdefault(guest, []).append(each)
    return out


@dataclass(frozen=True, slots=True)
class GuestEstate:
    """The words of an estate file about one guest: the sentences that name it (of services each unit once), the network it sits
    on, and the forwards that lead to it."""

    spec: GuestSpec
    grants: tuple[GrantSpec, ...] = ()
    services: tuple[ServiceSpec, ...] = ()
    emergency: tuple[Emergency, ...] = ()
    waivers: tuple[Waiver, ...] = ()
    network: NetworkSpec | None = None
    forwards: tuple[Forward, ...] = ()

    @property
    def folders(self) -> tuple[str, ...]:
        """Folders that grants confine somebody to: their owners and modes have to be read, too."""
        return tuple(each.files for each in self.grants if each.files)


@dataclass(frozen=True)
class Estate:
    """The whole file."""

    name: str
    path: Path
    zone: ZoneInfo
    authorities: Mapping[str, PublicKey]
    places: Mapping[str, Place]
    principals: Mapping[str, Principal]
    teams: Mapping[str, Team]
    guests: Mapping[str, GuestSpec]
    grants: tuple[GrantSpec, ...]
    emergency: tuple[Emergency, ...]
    waivers: tuple[Waiver, ...]
    narrow_at: tuple[str, ...]
    networks: Mapping[str, NetworkSpec] = field(default_factory=dict)
    services: tuple[ServiceSpec, ...] = ()
    evidence_days: int = KEPT_DAYS  # for how long dated evidence is kept
    directories: Mapping[str, Directory] = field(default_factory=dict)
    revoked: Revocations | None = None
    password_days: int = 0  # for how long a password may stay the same; 0 where nothing is asked

    def of(self, guest: str) -> GuestEstate:
        """The words of the file about one guest. Raises KeyError for a name that is no guest."""
        return self._by_guest[guest]

    @cached_property
    def _by_guest(self) -> Mapping[str, GuestEstate]:
        """Made once for all guests: looking each sentence through for each guest would take the square of their number."""
        grants = _told(self.grants)
        services, emergency, waivers = _told(self.services), _told(self.emergency), _told(self.waivers)
        alike: dict[tuple[int, ...], tuple[GrantSpec, ...]] = {}

        def same(found: Sequence[GrantSpec]) -> tuple[GrantSpec, ...]:
            """Most guests have the same sentences, known by their numbers: they are kept once."""
            return alike.setdefault(tuple(each.number for each in found), tuple(found))

        forwards: dict[str, list[Forward]] = {}
        for each in (forward for network in self.networks.values() for forward in network.forwards):
            forwards.setdefault(each.guest, []).append(each)
        return {
            name: GuestEstate(
                spec,
                same(grants.get(name, ())),
                tuple({each.unit: each for each in services.get(name, ())}.values()),
                tuple(emergency.get(name, ())),
                tuple(waivers.get(name, ())),
                self.networks.get(spec.network),
                tuple(forwards.get(name, ())),
            )
            for name, spec in self.guests.items()
        }

    @cached_property
    def known_as(self) -> frozenset[str]:
        """The names by which guests are known: their own, and those that are dialled."""
        return frozenset({*self.guests, *(spec.dial.lower() for spec in self.guests.values() if spec.dial)})

    @cached_property
    def key_holders(self) -> Mapping[str, tuple[str, ...]]:
        """The people and robots that have each key, by its fingerprint, in the order of the file."""
        found: dict[str, dict[str, None]] = {}
        for name, person in self.principals.items():
            for key in person.keys:
                found.setdefault(key.fingerprint, {})[name] = None
        return {fingerprint: tuple(names) for fingerprint, names in found.items()}

    @cached_property
    def labels(self) -> Mapping[str, frozenset[str]]:
        """The labels that the guests of each network carry."""
        found: dict[str, set[str]] = {}
        for spec in self.guests.values():
            found.setdefault(spec.network, set()).update(spec.labels)
        return {network: frozenset(labels) for network, labels in found.items()}

    def keys_at(self, person: Principal, at: datetime) -> tuple[PublicKey, ...]:
        """The keys of a person that count at a moment (aware)."""
        over = {end.key.fingerprint for end in person.ends if self.over(end.last, at)}
        if self.revoked is not None:
            over |= {key.fingerprint for key in person.keys if self.revoked.listed.has_key(key)}
        return tuple(key for key in person.keys if key.fingerprint not in over)

    def over(self, last: date | None, at: datetime) -> bool:
        """Whether the day `last` has ended by `at` (aware), in the estate's time zone."""
        if last is None:
            return False
        return at >= datetime.combine(last + timedelta(days=1), time(), self.zone)
