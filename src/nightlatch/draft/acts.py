"""Typed acts on a running guest beside its files: packages, units, the time zone, the host name, its identity, labels of ports.

Each has an inverse, or can't be taken back and needs a yes of its own. An act changes no file that was read as evidence,
so it is told to the guest's own manager (systemctl(1), localtime(5), semanage-port(8)) while the change is on the latch.
`words` and `parse` carry one through a record; a guest may have written that, so it is read strictly.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import ClassVar

from nightlatch.systems import posix

NONE = "-"  # where there was no zone, or no name


@dataclass(frozen=True, slots=True)
class Install:
    """The package that brings a unit, by its family's own name and tool. It can't be taken back: what it has started is
    stopped again, its files stay."""

    family: str
    package: str
    command: str
    unit: str = ""
    why: str = field(default="", compare=False)

    def __str__(self) -> str:
        return f"install the package {self.package}: {self.command} (can't be taken back)"


@dataclass(frozen=True, slots=True)
class UnitAct:
    """One act of the service manager on one unit; `verb` is its word in a record and in the guest's script."""

    unit: str
    why: str = field(default="", compare=False)
    verb: ClassVar[str] = ""

    def __str__(self) -> str:
        return f"{self.verb} {self.unit}"


@dataclass(frozen=True, slots=True)
class Enable(UnitAct):
    """Let a unit be started at boot."""

    verb: ClassVar[str] = "enable"


@dataclass(frozen=True, slots=True)
class Disable(UnitAct):
    """Let a unit not be started at boot any more."""

    verb: ClassVar[str] = "disable"


@dataclass(frozen=True, slots=True)
class Start(UnitAct):
    """Start a unit."""

    verb: ClassVar[str] = "start"


@dataclass(frozen=True, slots=True)
class Stop(UnitAct):
    """Stop a unit."""

    verb: ClassVar[str] = "stop"


@dataclass(frozen=True, slots=True)
class Reload(UnitAct):
    """Let the service manager read its units' files again, and a unit that runs its own (systemctl(1), daemon-reload and
    reload-or-restart)."""

    verb: ClassVar[str] = "reload"


@dataclass(frozen=True, slots=True)
class SetZone:
    """Let /etc/localtime lead to another time zone."""

    zone: str
    was: str = NONE
    why: str = field(default="", compare=False)

    def __str__(self) -> str:
        return f"time zone {self.zone}" + (f", was {self.was}" if self.was != NONE else ", was none")


@dataclass(frozen=True, slots=True)
class SetHostName:
    """Give the running system another name (hostname(7)); the file is a step of its own."""

    name: str
    was: str
    why: str = field(default="", compare=False)

    def __str__(self) -> str:
        return f"host name {self.name}, was {self.was}"


@dataclass(frozen=True, slots=True)
class LabelPort:
    """Let the access control's policy know a port as one of SSH (semanage-port(8))."""

    port: int
    why: str = field(default="", compare=False)

    def __str__(self) -> str:
        return f"label TCP port {self.port} as ssh_port_t"


@dataclass(frozen=True, slots=True)
class UnlabelPort:
    """Take such a label away again."""

    port: int
    why: str = field(default="", compare=False)

    def __str__(self) -> str:
        return f"take the label of TCP port {self.port} away"


@dataclass(frozen=True, slots=True)
class LoadRules:
    """Let a packet filter hold the rules of Nightlatch's own that its manager's file has now, and touch no others."""

    manager: str
    why: str = field(default="", compare=False)

    def __str__(self) -> str:
        return f"load these rules, no others ({self.manager})"


@dataclass(frozen=True, slots=True)
class NewIdentity:
    """New host keys in place of those of these kinds, and with `machine_id` another machine id (machine-id(5)): a guest that was
    copied has what another one has. On the latch the old ones come back; once it is kept they are gone. A machine id counts from
    the next start."""

    kinds: tuple[str, ...]
    machine_id: bool = False
    why: str = field(default="", compare=False)

    def __str__(self) -> str:
        more = " and another machine id" if self.machine_id else ""
        return f"make new host keys ({', '.join(self.kinds)}){more} (can't be taken back once it is kept)"


HOST_KEY_KINDS = ("ecdsa", "ed25519", "rsa")
Act = (
    NewIdentity | Install | Enable | Disable | Start | Stop | Reload | SetZone | SetHostName | LabelPort | UnlabelPort | LoadRules
)
MANAGERS = ("nftables", "iptables", "ufw", "firewalld")
VERBS: dict[str, type[Enable] | type[Disable] | type[Start] | type[Stop] | type[Reload]] = {
    kind.verb: kind for kind in (Enable, Disable, Start, Stop, Reload)
}


def words(act: Act) -> tuple[str, ...]:
    """An act as the words that a record and the guest's script have it in."""
    match act:
        case Install():
            return ("install", act.package, act.unit, act.family)
        case SetZone():
            return ("zone", act.zone, act.was)
        case SetHostName():
            return ("name", act.name, act.was)
        case LabelPort():
            return ("label", str(act.port))
        case UnlabelPort():
            return ("unlabel", str(act.port))
        case LoadRules():
            return ("rules", act.manager)
        case NewIdentity():
            return ("identity", ",".join(act.kinds), "machine" if act.machine_id else NONE)
        case _:
            return (act.verb, act.unit)


def parse(found: Sequence[str], why: str = "") -> Act:
    """The act of such words. Raises ValueError for words that are none."""
    match tuple(found):
        case (verb, unit) if verb in VERBS and posix.UNIT.fullmatch(unit):
            return VERBS[verb](unit, why)
        case ("install", package, unit, family) if posix.PACKAGE.fullmatch(package) and posix.UNIT.fullmatch(unit):
            return Install(family, package, "", unit, why)
        case ("zone", zone, was) if all(posix.ZONE.fullmatch(each) or each == NONE for each in (zone, was)):
            return SetZone(zone, was, why)
        case ("name", name, was) if all(posix.HOST_NAME.fullmatch(each) or each == NONE for each in (name, was)):
            return SetHostName(name, was, why)
        case ("rules", manager) if manager in MANAGERS:
            return LoadRules(manager, why)
        case ("identity", kinds, machine) if set(kinds.split(",")) <= {*HOST_KEY_KINDS} and machine in ("machine", NONE):
            return NewIdentity(tuple(kinds.split(",")), machine == "machine", why)
        case ("label" | "unlabel" as verb, port) if re.fullmatch(r"[1-9][0-9]{0,4}", port) and int(port) < 65536:
            return LabelPort(int(port), why) if verb == "label" else UnlabelPort(int(port), why)
        case _:
            raise ValueError(f"{' '.join(map(str, found))!r} is no act")


def inverse(act: Act, why: str = "") -> Act | None:
    """The act that takes another one back; None where none does."""
    match act:
        case Install() | NewIdentity():
            return None
        case Enable():
            return Disable(act.unit, why)
        case Disable():
            return Enable(act.unit, why)
        case Start():
            return Stop(act.unit, why)
        case Stop():
            return Start(act.unit, why)
        case Reload():
            return Reload(act.unit, why)
        case SetZone():
            return SetZone(act.was, act.zone, why)
        case SetHostName():
            return SetHostName(act.was, act.name, why)
        case LabelPort():
            return UnlabelPort(act.port, why)
        case UnlabelPort():
            return LabelPort(act.port, why)
        case LoadRules():
            return LoadRules(act.manager, why)


# How a package is installed without questions, by the ID and ID_LIKE words of os-release(5).
TOOLS = {
    "debian": "apt-get update -qq; DEBIAN_FRONTEND=noninteractive apt-get install -y --no-install-recommends {}",
    "fedora": "dnf install -y {}",
    "suse": "zypper --non-interactive install {}",
    "alpine": "apk add {}",
    "arch": "pacman -S --noconfirm {}",
}
FAMILIES = {"ubuntu": "debian", "rhel": "fedora", "opensuse": "suse", **{name: name for name in TOOLS}}


def family(found: Iterable[str]) -> str:
    """The first of a system's words that is a family whose packages are known; empty for none."""
    return next((word for word in found if word in FAMILIES), "")


def install(family: str, package: str, unit: str = "", why: str = "") -> Install:
    """The act that installs a package on a system of a known family; KeyError for another."""
    return Install(family, package, TOOLS[FAMILIES[family]].format(package), unit, why)
