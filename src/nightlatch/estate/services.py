"""`services`: sentences about what runs on guests, and what does not; the time zone and host name of a guest."""

from __future__ import annotations

import re
from collections.abc import Iterator
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError, available_timezones

from nightlatch.estate import reader, sentences
from nightlatch.estate.model import ServiceSpec
from nightlatch.faults import Fault, nearest
from nightlatch.formats.yaml_tree import Node, Source
from nightlatch.systems import posix

KEYS = ("run", "stop", "on", "at", "package")
KINDS = (".service", ".socket", ".timer")
UNIT = re.compile(r"[A-Za-z0-9:_.@-]{1,200}")
SSH = ("ssh", "sshd")


def sentence(source: Source, node: Node, number: int, names: sentences.KnownNames) -> ServiceSpec | None:
    """One sentence: {run: UNIT, on: GUESTS} or {stop: UNIT, on: GUESTS}; `at` are the ports of ssh."""
    what = f"sentence {number} about services"
    found = reader.section(source, node, what, KEYS, None, ("on",))
    verbs = [key for key in ("run", "stop") if key in found]
    if len(verbs) != 1:
        if node.pairs is not None and all(key.text in KEYS for key, _ in node.pairs):  # a misspelt verb is told already
            source.fault(node, f"{what} says {' and '.join(verbs) or 'neither run nor stop'}", "run: UNIT, or stop: UNIT")
        return None
    verb = verbs[0]
    unit = _unit(source, found[verb], verb)
    ports = tuple(_ports(source, found["at"], unit)) if "at" in found else ()
    package = reader.text(source, found["package"], "the package") if "package" in found else ""
    if package and not posix.PACKAGE.fullmatch(package):
        source.fault(found["package"], f'"{package}" is no package', "a name such as chrony")
    if verb == "stop" and ("at" in found or "package" in found):
        source.fault(node, f"{what} stops a service, and names a port or a package", "run:, or at: and package: left out")
    guests = sentences.guests(source, found["on"], names) if "on" in found else ()
    return ServiceSpec(number, unit, verb == "run", guests, source.origin(node), ports, package) if unit else None


def _unit(source: Source, node: Node, verb: str) -> str:
    """The unit's whole name: a service unless it says what else it is; `ssh` is the SSH server, whatever its unit is called."""
    value = reader.text(source, node, "a unit")
    if not value:
        return ""
    if not UNIT.fullmatch(value):
        source.fault(node, f'"{value}" is no unit', "a name such as chrony or rpcbind.socket")
        return ""
    bare = value.removesuffix(".service").removesuffix(".socket")
    if bare in SSH:
        if verb == "stop":
            source.fault(node, "the SSH server is what Nightlatch comes in by", "another service")
            return ""
        return "ssh"
    return value if value.endswith(KINDS) else f"{value}.service"


def _ports(source: Source, node: Node, unit: str) -> Iterator[int]:
    if unit != "ssh":
        source.fault(node, "only the port of ssh can be set by this version", "at: to be left out")
        return
    for item in reader.items(source, node, "at"):
        port = reader.whole(source, item, "a port", 1, 65535)
        if port:
            yield port


def agree(source: Source, found: list[ServiceSpec]) -> None:
    """Two sentences may not say different things about one unit of one guest."""
    said: dict[tuple[str, str], ServiceSpec] = {}
    for each in found:
        for guest in each.guests:
            first = said.setdefault((guest, each.unit), each)
            if (first.runs, first.ports) != (each.runs, each.ports):
                source.faults.append(_twice(first, each, guest))
                return


def _twice(first: ServiceSpec, second: ServiceSpec, guest: str) -> Fault:
    text = f"sentence {second.number} about services says something else of {second.unit} on {guest} than sentence {first.number}"
    return Fault(text, second.origin, f"one sentence (the other is at {first.origin})")


def zone(source: Source, node: Node) -> str:
    """A time zone by name."""
    value = reader.text(source, node, "time_zone")
    try:
        if not posix.ZONE.fullmatch(value):  # else the name would be looked up as a Python package, part by part
            raise ZoneInfoNotFoundError(value)
        ZoneInfo(value)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        near = nearest(value, sorted(available_timezones()))
        source.fault(node, f'there is no time zone "{value}"', "a name such as Atlantic/Faroe", near)
        return ""
    return value


def host_name(source: Source, node: Node) -> str:
    """A host name (RFC 1123, 2.1; hostname(7): at most 64 letters)."""
    value = reader.text(source, node, "host_name")
    taken = posix.HOST_NAME.fullmatch(value) and value == value.lower() and value != "localhost"
    if value and not taken:
        source.fault(node, f'"{value}" is no host name', "small letters, digits, dashes and dots, 64 at most")
        return ""
    return value
