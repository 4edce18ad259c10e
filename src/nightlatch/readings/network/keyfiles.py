"""NetworkManager's profiles in keyfiles (nm-settings-keyfile(5)).

A profile in /etc hides one of the same identifier in /run, that one in /usr/lib. A file that others than root may read is
ignored, with a line in the log only.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from ipaddress import ip_network

from nightlatch.evidence.snapshot import Entry, Snapshot
from nightlatch.formats import sections
from nightlatch.formats.leases import hardware
from nightlatch.formats.sections import Dialect, Document, Line
from nightlatch.model.gaps import Gap
from nightlatch.net.literal import AddressError, IPAddress, IPInterface, parse_address, parse_interface
from nightlatch.net.numbers import whole
from nightlatch.origin import Origin
from nightlatch.readings.network.profiles import (
    AREA,
    Gateway,
    Match,
    Method,
    MethodAt,
    PlacedValue,
    Profile,
    RouteAt,
    System,
    misread,
)

FOLDERS = (
    "/usr/lib/NetworkManager/system-connections",
    "/run/NetworkManager/system-connections",
    "/etc/NetworkManager/system-connections",
)
OWN = "/etc/NetworkManager/system-connections"
GENERATED = "netplan-"
HARDWARE = ("ethernet", "802-3-ethernet", "wifi", "802-11-wireless")  # a section has a short and a long name
METHODS = {
    (4, "auto"): (Method.LEASED,),
    (4, "manual"): (),
    (4, "link-local"): (Method.LINK_LOCAL,),
    (4, "disabled"): (Method.OFF,),
    (4, "shared"): (Method.STATIC,),
    (6, "auto"): (Method.ANNOUNCED, Method.LINK_LOCAL),
    (6, "dhcp"): (Method.LEASED, Method.LINK_LOCAL),
    (6, "manual"): (Method.LINK_LOCAL,),
    (6, "link-local"): (Method.LINK_LOCAL,),
    (6, "disabled"): (Method.OFF,),
    (6, "ignore"): (Method.LINK_LOCAL,),
    (6, "shared"): (Method.STATIC,),
}


def read(snapshot: Snapshot) -> tuple[Profile, ...]:
    """All profiles but those that netplan generated in /run."""
    return tuple(_profiles(snapshot))


def _profiles(snapshot: Snapshot) -> Iterator[Profile]:
    for folder in FOLDERS:
        for name in snapshot.children(folder):
            path = f"{folder}/{name}"
            if _is_backup(name) or (folder != OWN and not name.endswith(".nmconnection")):
                continue
            if folder.startswith("/run/") and name.startswith(GENERATED):
                continue
            content = snapshot.content(path)
            if content is not None:
                found = profile(content, path, refused(snapshot.resolve(path).entry))
                yield _for_now(found, content) if folder.startswith("/run/") else found


def _for_now(found: Profile, content: bytes) -> Profile:
    """A profile in /run is gone after the next boot. One that the manager made up itself for an interface that was set up
    by something else says nothing but what is so just now (measured: 1.42, `[.nmmeta] nm-generated=true`)."""
    made_up = sections.parse(content, Dialect.KEYFILE).last(".nmmeta", "nm-generated")
    because = "NetworkManager made it up for what it found" if made_up is not None and made_up.value == "true" else ""
    return replace(found, at_boot=False, boot_origin=found.origin, set_aside=because)


def _is_backup(name: str) -> bool:
    return name.startswith(".") or name.endswith(("~", ".bak", ".rpmsave", ".rpmnew", ".swp", ".pem", ".der"))


def refused(entry: Entry | None) -> str:
    """Why NetworkManager ignores a file because of its owner or mode; empty when it does not."""
    if entry is None:
        return ""
    if entry.uid != 0:
        return f"owner {entry.uid}: NetworkManager ignores a profile that is not root's"
    if entry.mode & 0o077:
        return f"mode {entry.mode:04o}: NetworkManager ignores a profile that others may read; expected 0600"
    return ""


def profile(content: bytes, path: str, because: str = "") -> Profile:
    """The profile in one file."""
    document = sections.parse(content, Dialect.KEYFILE)
    gaps: list[Gap] = []
    for line in document.faults:
        gaps.append(Gap(AREA, f"NetworkManager refuses this file: {line.fault}", Origin(path, line.number)))
    if document.faults and not because:
        because = f"line {document.faults[0].number}: {document.faults[0].fault}"
    at = Origin(path)
    name = _last(document, "connection", "interface-name")
    uuid = _last(document, "connection", "uuid")
    boot = _last(document, "connection", "autoconnect")
    given = [_last(document, section, "mac-address") for section in HARDWARE]
    clone = [_last(document, section, "cloned-mac-address") for section in HARDWARE]
    macs = tuple(mac for mac in (hardware(line.value) for line in given if line is not None) if mac)
    cloned = next((line for line in clone if line is not None and hardware(line.value)), None)
    addresses, gateways, routes = _addressing(document, path, gaps)
    zone = _last(document, "connection", "zone")
    off = boot is not None and boot.value.lower() in ("false", "0", "no")
    # GKeyFile refuses a file whose line ends are CRLF only where a word then differs: "true\r" is no truth value.
    return Profile(
        system=System.MANAGER,
        interface=name.value if name is not None else "",
        origin=at,
        match=Match((name.value,) if name is not None else (), macs),
        methods=tuple(_methods(document, path, addresses, at)),
        addresses=tuple(addresses),
        gateways=tuple(gateways),
        routes=tuple(routes),
        servers=tuple(_servers(document, path, gaps)),
        search=tuple(_search(document)),
        at_boot=not off,
        boot_origin=_at(path, boot) if boot is not None and off else None,
        identifier=PlacedValue(uuid.value, _at(path, uuid)) if uuid is not None else None,
        hardware=PlacedValue(hardware(cloned.value), _at(path, cloned)) if cloned is not None else None,
        lease_routes=not _flag(document, "ipv4", "never-default", "ignore-auto-routes"),
        lease_names=not _flag(document, "ipv4", "ignore-auto-dns"),
        kind=_kind(document),
        refused=because,
        gaps=tuple(gaps),
        zone=PlacedValue(zone.value, _at(path, zone)) if zone is not None else None,
    )


def _at(path: str, line: Line) -> Origin:
    return Origin(path, line.number, line.column)


def _last(document: Document, section: str, key: str) -> Line | None:
    found = document.last(section, key)
    return found if found is not None and found.value else None


def _kind(document: Document) -> str:
    found = _last(document, "connection", "type")
    return {"802-3-ethernet": "ethernet", "802-11-wireless": "wifi"}.get(found.value, found.value) if found else "ethernet"


def _flag(document: Document, section: str, *keys: str) -> bool:
    found = [_last(document, section, key) for key in keys]
    return any(line is not None and line.value.lower() in ("true", "1", "yes") for line in found)


def _methods(document: Document, path: str, addresses: list[PlacedValue[IPInterface]], at: Origin) -> Iterator[MethodAt]:
    for version in (4, 6):
        line = _last(document, f"ipv{version}", "method")
        word = line.value if line is not None else "auto"
        origin = _at(path, line) if line is not None else at
        for method in METHODS.get((version, word), ()):
            yield MethodAt(version, method, origin)
    for each in addresses:
        yield MethodAt(each.value.version, Method.STATIC, each.origin)


def _addressing(
    document: Document, path: str, gaps: list[Gap]
) -> tuple[list[PlacedValue[IPInterface]], list[Gateway], list[RouteAt]]:
    """address1=ADDRESS/LENGTH[,GATEWAY] and its like, gateway=, route1=NETWORK,VIA,METRIC."""
    addresses: list[PlacedValue[IPInterface]] = []
    gateways: list[Gateway] = []
    routes: list[RouteAt] = []
    for version in (4, 6):
        section = f"ipv{version}"
        metric = _last(document, section, "route-metric")
        number = whole(metric.value, 10) if metric is not None else None
        never = _flag(document, section, "never-default")
        for line in {each.key: each for each in document.entries(section)}.values():  # the last of one key counts
            parts = [part.strip() for part in line.value.split(",")]
            origin = _at(path, line)
            if _numbered(line.key, "address"):
                try:
                    addresses.append(PlacedValue(_interface(parts[0], version, origin, gaps), origin))
                except AddressError as error:
                    gaps.append(misread(error, origin))
                if len(parts) > 1 and parts[1] and not never:
                    _gateway(parts[1], origin, number, gateways, gaps)
            elif line.key == "gateway" and line.value and not never:
                _gateway(line.value, origin, number, gateways, gaps)
            elif _numbered(line.key, "route"):
                _route(parts, origin, gateways, routes, gaps)
    return addresses, gateways, routes


def _interface(text: str, version: int, origin: Origin, gaps: list[Gap]) -> IPInterface:
    """An address; without a length NetworkManager takes 24, or 64 for IPv6 (measured: nmcli --offline, 1.42)."""
    if "/" in text or (":" in text) is not (version == 6):
        return parse_interface(text)
    made = parse_interface(f"{text}/{24 if version == 4 else 64}")
    gaps.append(Gap(AREA, f'"{text}" has no prefix length: NetworkManager takes {made}; expected it written out', origin))
    return made


def _numbered(key: str, stem: str) -> bool:
    return key.startswith(stem) and (key[len(stem) :].isdigit() or key[len(stem) :] in ("", "es", "s"))


def _gateway(text: str, origin: Origin, metric: int | None, gateways: list[Gateway], gaps: list[Gap]) -> None:
    try:
        address = parse_address(text)
    except AddressError as error:
        gaps.append(misread(error, origin))
        return
    if int(address):
        gateways[:] = [each for each in gateways if each.address != address]
        gateways.append(Gateway(address, origin, metric))


def _route(parts: list[str], origin: Origin, gateways: list[Gateway], routes: list[RouteAt], gaps: list[Gap]) -> None:
    try:
        network = ip_network(parts[0], strict=False)
        via = parse_address(parts[1]) if len(parts) > 1 and parts[1] else None
    except (ValueError, AddressError) as error:
        gaps.append(Gap(AREA, f"a route that can't be read: {error}", origin))
        return
    metric = whole(parts[2], 10) if len(parts) > 2 else None
    if network.prefixlen == 0 and via is not None:
        gateways.append(Gateway(via, origin, metric))
    else:
        routes.append(RouteAt(str(network), via, origin, metric))


def _servers(document: Document, path: str, gaps: list[Gap]) -> Iterator[PlacedValue[IPAddress]]:
    for version in (4, 6):
        line = _last(document, f"ipv{version}", "dns")
        for word in line.value.replace(",", ";").split(";") if line is not None else ():
            if not word.strip() or line is None:
                continue
            try:
                yield PlacedValue(parse_address(word.strip(), scope=True), _at(path, line))
            except AddressError as error:
                gaps.append(misread(error, _at(path, line)))


def _search(document: Document) -> Iterator[str]:
    for version in (4, 6):
        line = _last(document, f"ipv{version}", "dns-search")
        if line is not None:
            yield from sections.listed(line.value)
