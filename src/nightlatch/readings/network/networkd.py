"""systemd-networkd's .network files as profiles (systemd.network(5)).

A file in /etc hides one of the same name in /run, that one in /usr; drop-ins are added in the order of their names. Of all
files the first one, by name, that matches an interface is used, and no other.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from ipaddress import ip_network

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import sections
from nightlatch.formats.leases import hardware
from nightlatch.formats.sections import Dialect
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

FOLDERS = ("/usr/lib/systemd/network", "/usr/local/lib/systemd/network", "/run/systemd/network", "/etc/systemd/network")
GENERATED = "10-netplan-"


@dataclass(frozen=True, slots=True)
class Assignment:
    """One assignment with its place."""

    section: str
    key: str
    value: str
    origin: Origin
    group: int  # counts the headings, so that repeated [Address] and [Route] sections stay apart


def read(snapshot: Snapshot) -> tuple[Profile, ...]:
    """The profiles in the order in which they are tried. Those that netplan generates are left out: they are its own."""
    return tuple(_profiles(snapshot, generated=False))


def generated(snapshot: Snapshot) -> tuple[Profile, ...]:
    """What netplan generated for networkd at the last boot or apply: its loaded state."""
    return tuple(_profiles(snapshot, generated=True))


def _profiles(snapshot: Snapshot, *, generated: bool) -> Iterator[Profile]:
    names: dict[str, str] = {}
    for folder in FOLDERS:
        for name in snapshot.children(folder):
            if name.endswith(".network"):
                names[name] = f"{folder}/{name}"
    for name in sorted(names):
        path = names[name]
        if name.startswith(GENERATED) is not generated or _masked(snapshot, path):
            continue
        content = snapshot.content(path)
        if content:
            yield profile([(path, content), *_drop_ins(snapshot, name)])


def _masked(snapshot: Snapshot, path: str) -> bool:
    entry = snapshot.resolve(path, follow_last=False).entry
    return entry is not None and entry.kind is EntryKind.LINK and entry.target == "/dev/null"


def _drop_ins(snapshot: Snapshot, name: str) -> list[tuple[str, bytes]]:
    found: dict[str, str] = {}
    for folder in FOLDERS:
        for each in snapshot.children(f"{folder}/{name}.d"):
            if each.endswith(".conf"):
                found[each] = f"{folder}/{name}.d/{each}"
    contents = [(found[each], snapshot.content(found[each])) for each in sorted(found)]
    return [(path, content) for path, content in contents if content is not None]


def profile(files: list[tuple[str, bytes]]) -> Profile:
    """The profile of one file and its drop-ins, each with its path."""
    said: list[Assignment] = []
    gaps: list[Gap] = []
    group = 0
    for path, content in files:
        for line in sections.parse(content, Dialect.UNIT).lines:
            group += line.heading
            if line.fault:
                gaps.append(Gap(AREA, f"networkd skips this line: {line.fault}", Origin(path, line.number)))
            elif line.key:
                said.append(Assignment(line.section, line.key, line.value, Origin(path, line.number, line.column), group))
    return _made(said, Origin(files[0][0]), gaps)


def _made(said: list[Assignment], at: Origin, gaps: list[Gap]) -> Profile:
    match = _match(said)
    gateways, routes = _routes(said, gaps)
    addresses = tuple(_addresses(said, gaps))
    mac = _last(said, "Link", "MACAddress")
    policy = _last(said, "Link", "ActivationPolicy")
    manual = policy is not None and policy.value in ("manual", "down", "always-down")
    unmanaged = _last(said, "Link", "Unmanaged")
    plain = match.plain_names
    made = Profile(
        system=System.NETWORKD,
        interface=plain[0] if len(plain) == 1 else "",
        origin=at,
        match=match,
        methods=tuple(_methods(said, addresses, at)),
        addresses=addresses,
        gateways=tuple(gateways),
        routes=tuple(routes),
        servers=tuple(_servers(said, gaps)),
        search=tuple(_search(said)),
        at_boot=not manual,
        boot_origin=policy.origin if manual and policy is not None else None,
        hardware=PlacedValue(hardware(mac.value), mac.origin) if mac is not None else None,
        lease_routes=_flag(said, ("DHCPv4", "DHCP"), "UseGateway", _flag(said, ("DHCPv4", "DHCP"), "UseRoutes", True)),
        lease_names=_flag(said, ("DHCPv4", "DHCP"), "UseDNS", True),
        gaps=tuple(gaps),
    )
    if unmanaged is not None and _truth(unmanaged.value):
        return replace(made, set_aside="Unmanaged=yes: networkd leaves the interface alone")
    if not any(each.section == "Match" for each in said):
        return replace(made, refused="there is no [Match] section, so networkd ignores the file")
    return made


def _match(said: list[Assignment]) -> Match:
    names: list[str] = []
    macs: list[str] = []
    more = False
    for each in said:
        if each.section != "Match":
            continue
        if each.key == "Name":
            names = [*names, *each.value.split()] if each.value else []
        elif each.key in ("MACAddress", "PermanentMACAddress"):
            macs = [*macs, *(hardware(word) for word in each.value.split())] if each.value else []
        else:
            more = more or bool(each.value)
    return Match(tuple(names), tuple(mac for mac in macs if mac), more)


def _last(said: list[Assignment], section: str, key: str) -> Assignment | None:
    return next((each for each in reversed(said) if each.section == section and each.key == key and each.value), None)


def _truth(value: str) -> bool:
    return value.lower() in ("1", "yes", "y", "true", "t", "on")


def _flag(said: list[Assignment], names: tuple[str, ...], key: str, default: bool) -> bool:
    for name in names:
        found = _last(said, name, key)
        if found is not None:
            return _truth(found.value)
    return default


def _list(said: list[Assignment], section: str, key: str) -> list[Assignment]:
    """All assignments of a list; an empty one takes back those before it."""
    out: list[Assignment] = []
    for each in said:
        if each.section == section and each.key == key:
            out = [*out, each] if each.value else []
    return out


def _methods(said: list[Assignment], addresses: tuple[PlacedValue[IPInterface], ...], at: Origin) -> Iterator[MethodAt]:
    lease = _last(said, "Network", "DHCP")
    if lease is not None:
        word = lease.value.lower()
        for version, words in ((4, ("ipv4", "v4")), (6, ("ipv6", "v6"))):
            if _truth(word) or word in (*words, "both"):
                yield MethodAt(version, Method.LEASED, lease.origin)
    for each in addresses:
        yield MethodAt(each.value.version, Method.STATIC, each.origin)
    local = _last(said, "Network", "LinkLocalAddressing")
    word = local.value.lower() if local is not None else "ipv6"
    origin = local.origin if local is not None else at
    with_6 = word in ("ipv6",) or _truth(word)
    if with_6:
        yield MethodAt(6, Method.LINK_LOCAL, origin)
    if word in ("ipv4", "fallback", "ipv4-fallback") or _truth(word):
        yield MethodAt(4, Method.LINK_LOCAL, origin)
    ra = _last(said, "Network", "IPv6AcceptRA")
    # Without a link-local address nobody can be asked for announcements, whatever IPv6AcceptRA says.
    if with_6 and (ra is None or _truth(ra.value)):
        yield MethodAt(6, Method.ANNOUNCED, ra.origin if ra is not None else at)


def _addresses(said: list[Assignment], gaps: list[Gap]) -> Iterator[PlacedValue[IPInterface]]:
    """Address= of [Network] and of every [Address] section; without a length networkd takes the whole address.

    An empty Address= takes nothing back (measured: 252), unlike that of other lists.
    """
    for each in (s for s in said if s.section in ("Network", "Address") and s.key == "Address" and s.value):
        text = each.value
        try:
            if "/" not in text:
                address = parse_address(text)
                text = f"{text}/{address.max_prefixlen}"
                gaps.append(Gap(AREA, f"{each.value} has no prefix length: networkd takes {text}", each.origin))
            yield PlacedValue(parse_interface(text), each.origin)
        except AddressError as error:
            gaps.append(misread(error, each.origin))


def _address(each: Assignment, gaps: list[Gap]) -> IPAddress | None:
    try:
        return parse_address(each.value.partition("#")[0], scope=True)
    except AddressError as error:
        gaps.append(misread(error, each.origin))
        return None


def _routes(said: list[Assignment], gaps: list[Gap]) -> tuple[list[Gateway], list[RouteAt]]:
    gateways: list[Gateway] = []
    routes: list[RouteAt] = []
    for each in (s for s in said if s.section == "Network" and s.key == "Gateway" and s.value):  # not emptied either
        address = _address(each, gaps) if not each.value.startswith("_") else None
        if address is not None:
            gateways.append(Gateway(address, each.origin))
    for group in dict.fromkeys(each.group for each in said if each.section == "Route"):
        part = [each for each in said if each.group == group and each.section == "Route"]
        stated = _last(part, "Route", "Gateway")
        to = _last(part, "Route", "Destination")
        metric = _last(part, "Route", "Metric")
        number = whole(metric.value, 10) if metric is not None else None
        address = _address(stated, gaps) if stated is not None and not stated.value.startswith("_") else None
        place = (stated or part[0]).origin
        if address is not None and (to is None or _is_everything(to.value)) and _last(part, "Route", "Table") is None:
            direct = _last(part, "Route", "GatewayOnLink")
            gateways.append(Gateway(address, place, number, direct is not None and _truth(direct.value)))
        elif to is not None:
            routes.append(RouteAt(to.value, address, place, number))
    return gateways, routes


def _is_everything(text: str) -> bool:
    try:
        return ip_network(text, strict=False).prefixlen == 0
    except ValueError:
        return False


def _servers(said: list[Assignment], gaps: list[Gap]) -> Iterator[PlacedValue[IPAddress]]:
    for each in _list(said, "Network", "DNS"):
        for word in each.value.split():
            address = _address(replace(each, value=word.partition("%")[0] if ":" not in word else word), gaps)
            if address is not None:
                yield PlacedValue(address, each.origin)


def _search(said: list[Assignment]) -> Iterator[str]:
    for each in _list(said, "Network", "Domains"):
        yield from (word for word in each.value.split() if not word.startswith("~"))
