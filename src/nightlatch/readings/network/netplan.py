"""netplan's files as profiles: what each interface gets once its files are merged (netplan(5))."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.formats import netplan
from nightlatch.formats.leases import hardware
from nightlatch.formats.netplan import Tree
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

MOST_BYTES = 64 << 10  # of all files
DEFAULT_ROUTES = ("default", "0.0.0.0/0", "::/0")


def documents(snapshot: Snapshot) -> list[netplan.Document]:
    """The files that count, in order."""
    there = [f"{folder}/{name}" for folder in netplan.FOLDERS for name in snapshot.children(folder)]
    out, left = [], MOST_BYTES
    for path in netplan.in_order(there):
        content = snapshot.content(path)
        if content is not None:
            left -= len(content)
            out.append(netplan.parse(content, path) if left >= 0 else netplan.Document(path, content, too_long=True))
    return out


def read(found: list[netplan.Document]) -> tuple[tuple[Profile, ...], tuple[Gap, ...]]:
    """Every interface of the merged files; files that can't be read are gaps, for netplan then does nothing at all."""
    gaps = [
        Gap(
            AREA,
            f"netplan refuses this file, and with it all: {fault.what}; expected {fault.expected}",
            fault.origin,
            refused=True,
        )
        for document in found
        for fault in document.faults
        if fault.origin is not None
    ]
    long = f"netplan's files are longer than is read: {netplan.LONGEST >> 10} kB each, {MOST_BYTES >> 10} kB together"
    gaps += [Gap(AREA, long, Origin(document.path, 1)) for document in found if document.too_long]
    tree = netplan.merged(found)
    if tree is None:
        return (), tuple(gaps)
    profiles = [_profile(name, kind, part) for name, (kind, part) in netplan.definitions(tree).items()]
    return tuple(profiles), tuple(gaps)


def renderer(tree: Tree | None, kind: str, name: str) -> str:
    """networkd or NetworkManager: the interface's own, its group's, the file's, or networkd (netplan(5), renderer)."""
    for keys in ((kind, name, "renderer"), (kind, "renderer"), ("renderer",)):
        word = tree.word(*keys) if tree is not None else ""
        if word:
            return word
    return "networkd"


def renderers(found: list[netplan.Document]) -> Iterator[tuple[str, str]]:
    """Every interface with the system that netplan writes its settings for."""
    tree = netplan.merged(found)
    for name, (kind, part) in netplan.definitions(tree).items():
        yield recognised(name, part)[1], renderer(tree, kind, name)


def _profile(name: str, kind: str, part: Tree) -> Profile:
    gaps: list[Gap] = []
    at = part.places[-1] if part.places else part.origin
    match, interface = recognised(name, part)
    gateways, routes = _routes(part, gaps)
    mac = part.get("macaddress")
    manual = part.word("activation-mode") in ("manual", "off")
    return Profile(
        system=System.NETPLAN,
        interface=interface,
        origin=at,
        match=match,
        methods=tuple(_methods(part, at)),
        addresses=tuple(_addresses(part, gaps)),
        gateways=tuple(gateways),
        routes=tuple(routes),
        servers=tuple(_servers(part, gaps)),
        search=tuple(_words(part.get("nameservers", "search"))),
        at_boot=not manual,
        boot_origin=part.get("activation-mode").origin if manual else None,  # type: ignore[union-attr]
        hardware=PlacedValue(hardware(mac.text or ""), mac.origin) if mac is not None else None,
        lease_routes=part.flag("dhcp4-overrides", "use-routes") is not False,
        lease_names=part.flag("dhcp4-overrides", "use-dns") is not False,
        kind=kind.removesuffix("s"),
        gaps=tuple(gaps),
    )


def recognised(name: str, part: Tree) -> tuple[Match, str]:
    """How the interface is recognised, and its name: without `match` the id is the name."""
    stated = part.get("match")
    if stated is None:
        return Match((name,)), name
    names = _words(stated.get("name"))
    mac = hardware(stated.word("macaddress"))
    match = Match(tuple(names), (mac,) if mac else (), stated.get("driver") is not None)
    given = part.word("set-name")
    return match, given or (match.plain_names[0] if len(match.plain_names) == 1 else "")


def _words(tree: Tree | None) -> list[str]:
    if tree is None:
        return []
    if tree.items is not None:
        return [item.text for item in tree.items if item.text]
    return [tree.text] if tree.text else []


def _methods(part: Tree, at: Origin) -> Iterator[MethodAt]:
    for version in (4, 6):
        if part.flag(f"dhcp{version}"):
            yield MethodAt(version, Method.LEASED, part.get(f"dhcp{version}").origin)  # type: ignore[union-attr]
    for item in _items(part.get("addresses")):
        text = _address_text(item)
        yield MethodAt(6 if ":" in text else 4, Method.STATIC, item.origin)
    ra = part.flag("accept-ra")
    local = _words(part.get("link-local")) if part.get("link-local") is not None else ["ipv6"]
    if ra is not False and "ipv6" in local:
        # Without a word the kernel's own default counts, which accepts announcements (netplan(5), accept-ra).
        yield MethodAt(6, Method.ANNOUNCED, part.get("accept-ra").origin if ra else at)  # type: ignore[union-attr]
    if "ipv6" in local:
        yield MethodAt(6, Method.LINK_LOCAL, at)
    if "ipv4" in local:
        yield MethodAt(4, Method.LINK_LOCAL, at)


def _items(tree: Tree | None) -> list[Tree]:
    return tree.items or [] if tree is not None else []


def _address_text(item: Tree) -> str:
    """An address stands alone, or as the key of a mapping with its label and lifetime."""
    if item.pairs:
        return next(iter(item.pairs))
    return item.text or ""


def _addresses(part: Tree, gaps: list[Gap]) -> Iterator[PlacedValue[IPInterface]]:
    for item in _items(part.get("addresses")):
        try:
            yield PlacedValue(parse_interface(_address_text(item)), item.origin)
        except AddressError as error:
            gaps.append(misread(error, item.origin))


def _address(tree: Tree, gaps: list[Gap]) -> IPAddress | None:
    try:
        return parse_address(tree.text or "", scope=True)
    except AddressError as error:
        gaps.append(misread(error, tree.origin))
        return None


def _routes(part: Tree, gaps: list[Gap]) -> tuple[list[Gateway], list[RouteAt]]:
    gateways: list[Gateway] = []
    routes: list[RouteAt] = []
    for key in ("gateway4", "gateway6"):
        stated = part.get(key)
        address = _address(stated, gaps) if stated is not None else None
        if address is not None and stated is not None:
            gateways.append(Gateway(address, stated.origin))
    for item in _items(part.get("routes")):
        metric = item.word("metric")
        number = whole(metric)
        via = item.get("via")
        address = _address(via, gaps) if via is not None else None
        if item.word("to") in DEFAULT_ROUTES and item.word("table") in ("", "254") and address is not None:
            gateways.append(Gateway(address, item.origin, number, item.flag("on-link") is True))
        else:
            routes.append(RouteAt(item.word("to"), address, item.origin, number))
    return gateways, routes


def _servers(part: Tree, gaps: list[Gap]) -> Iterator[PlacedValue[IPAddress]]:
    for item in _items(part.get("nameservers", "addresses")):
        address = _address(item, gaps)
        if address is not None:
            yield PlacedValue(address, item.origin)
