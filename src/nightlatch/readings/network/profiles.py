"""What the network systems of a guest store about its interfaces, in one form.

A profile is what one system would do with one interface at the next start: methods, addresses, default routes, name
servers, whether it comes up at boot, and how the interface is recognised. Readers of the single systems stand beside.
"""

from __future__ import annotations

import fnmatch
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Generic, TypeVar

from nightlatch.model.gaps import Gap
from nightlatch.net.literal import AddressError, IPAddress, IPInterface
from nightlatch.origin import Origin

T = TypeVar("T")
AREA = "network settings"


def misread(error: AddressError, origin: Origin) -> Gap:
    """An address that can't be read, with what was expected."""
    return Gap(AREA, f"{error}; expected {error.expected}", origin)


class System(StrEnum):
    """The systems that configure interfaces."""

    NETPLAN = "netplan"
    NETWORKD = "systemd-networkd"
    MANAGER = "NetworkManager"
    IFUPDOWN = "ifupdown"
    IFCFG = "interface files"


class Method(StrEnum):
    """How an interface comes by its addresses of one family."""

    STATIC = "static"
    LEASED = "leased"
    ANNOUNCED = "announced"
    LINK_LOCAL = "link-local"
    OFF = "off"


@dataclass(frozen=True, slots=True)
class PlacedValue(Generic[T]):
    """A value with its place."""

    value: T
    origin: Origin


@dataclass(frozen=True, slots=True)
class MethodAt:
    """A method of one family (4 or 6)."""

    version: int
    method: Method
    origin: Origin


@dataclass(frozen=True, slots=True)
class Gateway:
    """A default route that is written down. `metric` is None where the system's own counts."""

    address: IPAddress
    origin: Origin
    metric: int | None = None
    on_link: bool = False  # reached directly although no address of the interface says so


@dataclass(frozen=True, slots=True)
class RouteAt:
    """Another route that is written down; `to` is a prefix as text."""

    to: str
    via: IPAddress | None
    origin: Origin
    metric: int | None = None


@dataclass(frozen=True, slots=True)
class Match:
    """How an interface is recognised: globs of names and hardware addresses, where both are given both must fit.

    `more` says that there are conditions which files alone can't decide (a driver, a kind).
    """

    names: tuple[str, ...] = ()
    hardware: tuple[str, ...] = ()
    more: bool = False

    def fits(self, name: str, hardware: str = "") -> bool:
        """Whether an interface of this name and hardware address is meant, conditions in `more` aside."""
        if self.names and not _named(self.names, name):
            return False
        return not self.hardware or hardware in self.hardware

    @property
    def plain_names(self) -> tuple[str, ...]:
        """The names without wildcards."""
        return tuple(name for name in self.names if not set(name) & set("*?[!"))


def _named(patterns: tuple[str, ...], name: str) -> bool:
    """Names as systemd.network(5) matches them: a leading ! turns the whole list around."""
    turned = patterns[0].startswith("!")
    plain = tuple(each.lstrip("!") for each in patterns)
    return any(fnmatch.fnmatchcase(name, each) for each in plain) is not turned


@dataclass(frozen=True, kw_only=True)
class Profile:
    """What one system stores about one interface.

    `interface` is the name it is stored under, empty where only a match is given. `lease_routes` and `lease_names` say
    whether default route and name servers of a lease are taken. `refused` says why the system ignores the file, `set_aside`
    why it leaves the interface alone on purpose. `zone` is the one of firewalld that the interface is given to.
    """

    system: System
    interface: str
    origin: Origin
    match: Match = Match()
    methods: tuple[MethodAt, ...] = ()
    addresses: tuple[PlacedValue[IPInterface], ...] = ()
    gateways: tuple[Gateway, ...] = ()
    routes: tuple[RouteAt, ...] = ()
    servers: tuple[PlacedValue[IPAddress], ...] = ()
    search: tuple[str, ...] = ()
    at_boot: bool = True
    boot_origin: Origin | None = None
    identifier: PlacedValue[str] | None = None
    hardware: PlacedValue[str] | None = None
    lease_routes: bool = True
    lease_names: bool = True
    kind: str = "ethernet"
    refused: str = ""
    set_aside: str = ""
    gaps: tuple[Gap, ...] = field(default=())
    zone: PlacedValue[str] | None = None

    def methods_of(self, version: int) -> tuple[Method, ...]:
        """The methods of one family."""
        return tuple(dict.fromkeys(each.method for each in self.methods if each.version == version))

    def has(self, method: Method, version: int = 0) -> bool:
        """Whether a method is used, in one family or (0) in any."""
        return any(each.method is method and version in (0, each.version) for each in self.methods)
