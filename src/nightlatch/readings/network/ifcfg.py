"""Interface files of the RPM family as profiles: key=value files, one an interface.

/etc/sysconfig/network-scripts/ifcfg-* (initscripts, and NetworkManager's reader of them: nm-settings-ifcfg-rh(5)) and
/etc/sysconfig/network/ifcfg-* (ifcfg(5) of wicked). Read from the manuals; there is no such system here to ask.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.formats import shell_vars
from nightlatch.formats.leases import hardware
from nightlatch.formats.shell_vars import Document, Line
from nightlatch.model.gaps import Gap
from nightlatch.net.literal import AddressError, IPAddress, IPInterface, parse_address, parse_interface, parse_mask
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

FOLDERS = ("/etc/sysconfig/network-scripts", "/etc/sysconfig/network")
NAME = re.compile(r"ifcfg-(?!.*(?:~|\.(?:bak|orig|old|rpmnew|rpmsave|template|scpmbackup))$)(.+)")
YES = ("yes", "true", "t", "y", "1", "on")


def read(snapshot: Snapshot) -> tuple[Profile, ...]:
    """One profile for each file; the loopback's is left out."""
    return tuple(_profiles(snapshot))


def _profiles(snapshot: Snapshot) -> Iterator[Profile]:
    for folder in FOLDERS:
        for name in snapshot.children(folder):
            found = NAME.fullmatch(name)
            content = snapshot.content(f"{folder}/{name}")
            if found is None or content is None:
                continue
            made = profile(content, f"{folder}/{name}", found[1])
            if made.interface != "lo":
                yield _routes_beside(snapshot, folder, found[1], made)


def profile(content: bytes, path: str, suffix: str) -> Profile:
    """The profile in one file named ifcfg-`suffix`."""
    document = shell_vars.parse(content)
    gaps = [Gap(AREA, line.fault, Origin(path, line.number)) for line in document.faults]
    name = document.value("DEVICE") or ("" if document.value("HWADDR") else suffix)
    uuid, mac, clone, zone = (document.last(key) for key in ("UUID", "HWADDR", "MACADDR", "ZONE"))
    boot = document.last("ONBOOT") or document.last("STARTMODE")
    word = boot.value.lower() if boot is not None else ""
    # ONBOOT counts as yes unless it is said otherwise; STARTMODE as manual.
    at_boot = word in (*YES, "auto", "onboot", "boot", "hotplug", "nfsroot") if boot is not None else "network-scripts" in path
    addresses = list(_addresses(document, path, gaps))
    given = hardware(mac.value) if mac is not None else ""
    cloned = clone or document.last("LLADDR")
    return Profile(
        system=System.IFCFG,
        interface=name,
        origin=Origin(path),
        match=Match((name,) if name else (), (given,) if given else ()),
        methods=tuple(_methods(document, path, addresses)),
        addresses=tuple(addresses),
        gateways=tuple(_gateways(document, path, gaps)),
        routes=(),
        servers=tuple(_servers(document, path, gaps)),
        search=tuple(document.value("DOMAIN").split()),
        at_boot=at_boot,
        boot_origin=_at(path, boot) if boot is not None and not at_boot else None,
        identifier=PlacedValue(uuid.value, _at(path, uuid)) if uuid is not None and uuid.value else None,
        hardware=PlacedValue(hardware(cloned.value), _at(path, cloned))
        if cloned is not None and hardware(cloned.value)
        else None,
        lease_routes=document.value("DEFROUTE").lower() not in ("no", "false", "n", "0"),
        lease_names=document.value("PEERDNS").lower() not in ("no", "false", "n", "0"),
        kind=document.value("TYPE").lower() or "ethernet",
        set_aside=_set_aside(document),
        gaps=tuple(gaps),
        zone=PlacedValue(zone.value, _at(path, zone)) if zone is not None and zone.value else None,
    )


def _set_aside(document: Document) -> str:
    if document.value("NM_CONTROLLED").lower() in ("no", "false", "n", "0"):
        return "NM_CONTROLLED=no: NetworkManager leaves the interface alone, and only the old network scripts read the file"
    return ""


def _at(path: str, line: Line) -> Origin:
    return Origin(path, line.number, line.column)


def _methods(document: Document, path: str, addresses: list[PlacedValue[IPInterface]]) -> Iterator[MethodAt]:
    line = document.last("BOOTPROTO")
    words = line.value.lower().replace("+", " ").split() if line is not None else []
    at = _at(path, line) if line is not None else Origin(path)
    if {"dhcp", "bootp", "dhcp4"} & set(words):
        yield MethodAt(4, Method.LEASED, at)
    if "dhcp6" in words or ("dhcp" in words and "/network/" in path):
        yield MethodAt(6, Method.LEASED, at)
    for each in addresses:
        yield MethodAt(each.value.version, Method.STATIC, each.origin)
    if "network-scripts" not in path:
        return
    six = document.last("IPV6INIT")
    if six is not None and six.value.lower() not in YES:
        yield MethodAt(6, Method.OFF, _at(path, six))
        return
    origin = _at(path, six) if six is not None else Origin(path)
    yield MethodAt(6, Method.LINK_LOCAL, origin)
    if document.value("IPV6_AUTOCONF").lower() not in ("no", "false", "n", "0"):
        yield MethodAt(6, Method.ANNOUNCED, origin)
    if document.value("DHCPV6C").lower() in YES:
        yield MethodAt(6, Method.LEASED, origin)


def _numbered(document: Document, stem: str) -> Iterator[tuple[str, Line]]:
    """The keys STEM, STEM0, STEM1, STEM_0 ..., the last of each, with what follows the stem."""
    last: dict[str, Line] = {}
    for line in document.lines:
        found = re.fullmatch(rf"{stem}(_?[0-9A-Za-z]*)", line.key)
        if found is not None:
            last[found[1]] = line
    yield from ((suffix, line) for suffix, line in last.items() if line.value and re.fullmatch(r"|_?\d+|_\w+", suffix))


def _addresses(document: Document, path: str, gaps: list[Gap]) -> Iterator[PlacedValue[IPInterface]]:
    for suffix, line in _numbered(document, "IPADDR"):
        try:
            yield PlacedValue(parse_interface(_with_length(document, line.value, suffix)), _at(path, line))
        except AddressError as error:
            gaps.append(Gap(AREA, f"{error}; expected PREFIX{suffix}= beside it, or {error.expected}", _at(path, line)))
    for key in ("IPV6ADDR", "IPV6ADDR_SECONDARIES"):
        found = document.last(key)
        for word in found.value.split() if found is not None else ():
            text = word if "/" in word else f"{word}/64"  # nm-settings-ifcfg-rh(5): 64 is assumed
            try:
                yield PlacedValue(parse_interface(text), _at(path, found))  # type: ignore[arg-type]
            except AddressError as error:
                gaps.append(misread(error, _at(path, found)))  # type: ignore[arg-type]


def _with_length(document: Document, text: str, suffix: str) -> str:
    if "/" in text:
        return text
    for key in (f"PREFIX{suffix}", f"PREFIXLEN{suffix}"):
        if document.value(key):
            return f"{text}/{document.value(key)}"
    mask = document.value(f"NETMASK{suffix}")
    return f"{text}/{parse_mask(mask)}" if mask else text


def _gateways(document: Document, path: str, gaps: list[Gap]) -> Iterator[Gateway]:
    if document.value("DEFROUTE").lower() in ("no", "false", "n", "0"):
        return
    for key in ("GATEWAY", "GATEWAY0", "IPV6_DEFAULTGW"):
        line = document.last(key)
        if line is None or not line.value:
            continue
        metric = document.value("METRIC")
        try:
            address = parse_address(line.value, scope=True)
            yield Gateway(address, _at(path, line), whole(metric, 10))
        except AddressError as error:
            gaps.append(misread(error, _at(path, line)))


def _beside(snapshot: Snapshot, folder: str, suffix: str) -> Iterator[tuple[str, Line, str]]:
    """The lines of route-NAME and route6-NAME in the form of ip(8), or of ifroute-NAME and routes of wicked."""
    for name in (f"route-{suffix}", f"route6-{suffix}", f"ifroute-{suffix}", "routes"):
        path = f"{folder}/{name}"
        for number, raw in enumerate((snapshot.content(path) or b"").split(b"\n"), 1):
            text = raw.decode("utf-8", "replace").split("#")[0].strip()
            if text:
                yield path, Line(number, raw), text


def _routes_beside(snapshot: Snapshot, folder: str, suffix: str, made: Profile) -> Profile:
    gateways, routes, gaps = list(made.gateways), list(made.routes), list(made.gaps)
    for path, line, text in _beside(snapshot, folder, suffix):
        words = text.split()
        at = Origin(path, line.number)
        hop = words[words.index("via") + 1] if "via" in words[:-1] else words[1] if len(words) > 1 else ""
        if "=" in text or (words[0] == "routes" and not hop):
            gaps.append(Gap(AREA, "routes written as ADDRESS0= are not read", at))
            continue
        try:
            via = parse_address(hop) if hop and hop not in ("-", "dev") else None
        except AddressError as error:
            gaps.append(misread(error, at))
            continue
        if words[0] in ("default", "0.0.0.0/0", "::/0") and via is not None:
            gateways.append(Gateway(via, at))
        else:
            routes.append(RouteAt(words[0], via, at))
    return replace(made, gateways=tuple(gateways), routes=tuple(routes), gaps=tuple(gaps))


def _servers(document: Document, path: str, gaps: list[Gap]) -> Iterator[PlacedValue[IPAddress]]:
    for _, line in _numbered(document, "DNS"):
        try:
            yield PlacedValue(parse_address(line.value, scope=True), _at(path, line))
        except AddressError as error:
            gaps.append(misread(error, _at(path, line)))
