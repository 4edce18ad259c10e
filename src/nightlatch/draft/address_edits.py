"""Edits that give an interface fixed addresses, each in the form of the system that owns it.

Every edit takes the files as they are and gives new bytes; comments, order and everything about other interfaces stay.
An edit that can't be made safely says so: `CannotEditError`, with what to do by hand.
"""

from __future__ import annotations

import uuid
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from nightlatch.formats import interfaces, netplan, sections, shell_vars
from nightlatch.formats import lines as text_lines
from nightlatch.formats.interfaces import Stanza
from nightlatch.formats.lines import LineEdit
from nightlatch.formats.sections import Dialect
from nightlatch.formats.yaml_tree import Node, with_item, with_pair
from nightlatch.net.literal import IPAddress, IPInterface
from nightlatch.readings.network.netplan import recognised
from nightlatch.readings.network.profiles import Method, Profile, System

Files = Mapping[str, bytes]


class CannotEditError(ValueError):
    """The file can't be edited safely; the message says why."""


@dataclass(frozen=True)
class AddressWish:
    """What one interface is to have, of one family: its addresses, the gateway and name servers to add (None and empty
    where those that are there stay)."""

    interface: str
    version: int
    addresses: tuple[IPInterface, ...]
    gateway: IPAddress | None = None
    servers: tuple[IPAddress, ...] = ()


def edited(profile: Profile, files: Files, wish: AddressWish) -> dict[str, bytes]:
    """The files that change, with their new bytes. Raises CannotEditError."""
    return EDITS[profile.system](profile, files, wish)


def _text(raw: bytes) -> str:
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError:
        raise CannotEditError("the file is not UTF-8") from None


# ifupdown


def _ifupdown(profile: Profile, files: Files, wish: AddressWish) -> dict[str, bytes]:
    if len(wish.addresses) > 1:
        raise CannotEditError("several addresses of one family need stanzas of their own")
    family = "inet" if wish.version == 4 else "inet6"
    path = profile.origin.path
    found: Stanza | None = None
    for each_path, raw in files.items():
        for stanza in interfaces.parse(raw).stanzas():
            if stanza.name == wish.interface and stanza.family == family:
                if found is not None:
                    raise CannotEditError(f"{wish.interface} has several stanzas of {family}")
                found, path = stanza, each_path
    raw = files[path]
    if b"\r\n" in raw:
        raise CannotEditError("the file has CRLF line ends, which ifup does not take")
    edits = _new_stanza(raw, wish, family) if found is None else _stanza(found, wish)
    if not profile.at_boot:
        first = profile.boot_origin.line if found is None and profile.boot_origin else found.head.number if found else 1
        edits = [LineEdit(first, (f"auto {wish.interface}",), insert=True), *edits]
    return {path: text_lines.apply(raw, edits)}


def _stanza(stanza: Stanza, wish: AddressWish) -> list[LineEdit]:
    """The stanza with another method and address; what only a lease or another length needs goes."""
    head = stanza.head
    if head.words[-1].line != head.number or stanza.inherits:
        raise CannotEditError("the stanza is written over several lines, or inherits from another")
    text = text_lines.text_of(head.raw).rstrip("\n")
    word = head.words[3]
    edits = [LineEdit(head.number, (f"{text[: word.column - 1]}static{text[word.column - 1 + len(word.text) :]}",))]
    indent = "    "
    for line in stanza.options:
        raw = text_lines.text_of(line.raw)
        indent = raw[: len(raw) - len(raw.lstrip())]
        if line.keyword in ("address", "netmask", "broadcast", "network") or (line.keyword == "gateway" and wish.gateway):
            edits += [LineEdit(n, ()) for n in range(line.number, line.number + line.raw.rstrip(b"\n").count(b"\n") + 1)]
        if line.keyword.startswith("dns-nameserver") and wish.servers:
            raise CannotEditError("the stanza names name servers already")
    return [*edits, LineEdit(head.number + 1, tuple(indent + each for each in _options(wish)), insert=True)]


def _options(wish: AddressWish) -> list[str]:
    out = [f"address {wish.addresses[0]}"]
    out += [f"gateway {wish.gateway}"] if wish.gateway is not None else []
    return out + (["dns-nameservers " + " ".join(map(str, wish.servers))] if wish.servers else [])


def _new_stanza(raw: bytes, wish: AddressWish, family: str) -> list[LineEdit]:
    lines = text_lines.split(raw)
    blank = ("",) if lines and lines[-1].strip() else ()
    head = f"iface {wish.interface} {family} static"
    return [LineEdit(len(lines) + 1, (*blank, head, *(f"    {each}" for each in _options(wish))), insert=True)]


# netplan


def _netplan(profile: Profile, files: Files, wish: AddressWish) -> dict[str, bytes]:
    documents = [netplan.parse(files[path], path) for path in netplan.in_order(files)]
    tree = netplan.merged(documents)
    ids = [name for name, (_, part) in netplan.definitions(tree).items() if recognised(name, part)[1] == wish.interface]
    if len(ids) != 1 or tree is None:
        raise CannotEditError(f"{wish.interface} is not defined in one place")
    part = netplan.definitions(tree)[ids[0]][1]
    places = {document.path: node for document in documents if (node := _node(document.root, ids[0])) is not None}
    last = list(places)[-1]

    def said_in(key: str) -> str:
        holders = [path for path, node in places.items() if any(k.text == key for k, _ in node.pairs or [])]
        if len(holders) > 1 and key != f"dhcp{wish.version}":
            raise CannotEditError(f"{key} of {wish.interface} stands in several files: {', '.join(holders)}")
        return holders[-1] if holders else last

    out = {document.path: _text(document.raw) for document in documents}

    def put(path: str, key: str, value: str) -> None:
        node = _node(netplan.parse(out[path].encode(), path).root, ids[0])
        assert node is not None
        out[path] = with_pair(out[path], node, key, value)

    if part.flag(f"dhcp{wish.version}"):
        put(said_in(f"dhcp{wish.version}"), f"dhcp{wish.version}", "false")
    if any(item.pairs for item in (part.get("addresses").items or [] if part.get("addresses") else [])):  # type: ignore[union-attr]
        raise CannotEditError("an address has a label or a lifetime of its own")
    others = [str(a.value) for a in profile.addresses if a.value.version != wish.version]
    listed = ", ".join(f'"{each}"' if ":" in each else each for each in [*map(str, wish.addresses), *others])
    put(said_in("addresses"), "addresses", f"[{listed}]")
    if part.word("activation-mode"):
        raise CannotEditError("activation-mode keeps the interface down at boot")
    if wish.gateway is not None:
        if any(each.address.version == wish.version for each in profile.gateways):
            raise CannotEditError("another gateway is written already")
        _netplan_route(out, said_in("routes"), ids[0], wish, put)
    if wish.servers:
        if part.get("nameservers") is not None:
            raise CannotEditError("nameservers are written already, without addresses")
        put(last, "nameservers", "{addresses: [" + ", ".join(_quoted(s) for s in wish.servers) + "]}")
    return {path: text.encode() for path, text in out.items() if text.encode() != files[path]}


def _quoted(address: IPAddress) -> str:
    return f'"{address}"' if ":" in str(address) else str(address)


def _netplan_route(out: dict[str, str], path: str, name: str, wish: AddressWish, put: Callable[[str, str, str], None]) -> None:
    assert wish.gateway is not None
    route = f"{{to: default, via: {_quoted(wish.gateway)}}}"
    node = _node(netplan.parse(out[path].encode(), path).root, name)
    routes = next((value for key, value in (node.pairs or [] if node else []) if key.text == "routes"), None)
    if routes is None:
        put(path, "routes", f"[{route}]")
    else:
        out[path] = with_item(out[path], routes, route)


def _node(root: Node | None, name: str) -> Node | None:
    """The definition of one interface in one file."""
    network = root.pairs[0][1] if root is not None and root.pairs else None
    for key, group in network.pairs or [] if network is not None else []:
        if key.text in netplan.KINDS:
            for each, value in group.pairs or []:
                if each.text == name:
                    return value
    return None


# systemd-networkd


def _networkd(profile: Profile, files: Files, wish: AddressWish) -> dict[str, bytes]:
    edits: dict[str, list[LineEdit]] = {}
    main = profile.origin.path

    def at(path: str, line: int, *texts: str, insert: bool = False) -> None:
        edits.setdefault(path, []).append(LineEdit(line, texts, insert))

    lease = next((m for m in profile.methods if m.version == wish.version and m.method is Method.LEASED), None)
    if lease is not None:
        other = profile.has(Method.LEASED, 10 - wish.version)
        at(lease.origin.path, lease.origin.line, f"DHCP={f'ipv{10 - wish.version}' if other else 'no'}")
    old = [placed.origin for placed in profile.addresses if placed.value.version == wish.version]
    fresh = [f"Address={address}" for address in wish.addresses]
    for number, origin in enumerate(old):
        at(origin.path, origin.line, *fresh[number : number + 1])
    more = fresh[len(old) :]
    for gateway in profile.gateways if wish.gateway is not None else ():
        if gateway.address.version == wish.version:
            raise CannotEditError("another gateway is written already")
    more += [f"Gateway={wish.gateway}"] if wish.gateway is not None else []
    more += [f"DNS={server}" for server in wish.servers]
    if more:
        inside = [
            line
            for line in sections.parse(files[main], Dialect.UNIT).lines
            if line.section == "Network" and (line.key or line.heading)
        ]
        if inside:
            at(main, inside[-1].number + inside[-1].raw.rstrip(b"\n").count(b"\n") + 1, *more, insert=True)
        else:
            at(main, len(text_lines.split(files[main])) + 1, "", "[Network]", *more, insert=True)
    return {path: text_lines.apply(files[path], found) for path, found in edits.items()}


# NetworkManager


def _manager(profile: Profile, files: Files, wish: AddressWish) -> dict[str, bytes]:
    path, section = profile.origin.path, f"ipv{wish.version}"
    document = sections.parse(files[path], Dialect.KEYFILE)
    own = [f"address{number}" for number in range(1, len(wish.addresses) + 1)]
    spare = [
        LineEdit(line.number, ())
        for line in document.entries(section)
        if (line.key.rstrip("0123456789") in ("address", "addresses") and line.key not in own)
        or (line.key == "gateway" and wish.gateway is not None)
    ]
    document = sections.parse(text_lines.apply(files[path], spare), Dialect.KEYFILE)
    document = document.set(section, "method", "manual")
    beside = document.last(section, "gateway") is not None
    kept = [each.address for each in profile.gateways if each.address.version == wish.version and not beside]
    leads = wish.gateway or (kept[0] if kept else None)
    for number, address in enumerate(wish.addresses, 1):
        gateway = f",{leads}" if number == 1 and leads is not None else ""
        document = document.set(section, f"address{number}", f"{address}{gateway}")
    if wish.servers:
        document = document.set(section, "dns", "".join(f"{server};" for server in wish.servers))
    if not profile.at_boot:
        document = document.set("connection", "autoconnect", "true")
    return {path: sections.render(document)}


# interface files of the RPM family


def _ifcfg(profile: Profile, files: Files, wish: AddressWish) -> dict[str, bytes]:
    path = profile.origin.path
    document = shell_vars.parse(files[path])
    try:
        document = _ifcfg_six(document, wish) if wish.version == 6 else _ifcfg_four(document, profile, wish)
        for number, server in enumerate(wish.servers, 1):
            document = document.set(f"DNS{number}", str(server))
        if not profile.at_boot:
            document = document.set("ONBOOT", "yes")
    except ValueError as error:
        raise CannotEditError(str(error)) from None
    return {path: shell_vars.render(document)}


def _ifcfg_four(document: shell_vars.Document, profile: Profile, wish: AddressWish) -> shell_vars.Document:
    if len(wish.addresses) > 1 or len([a for a in profile.addresses if a.value.version == 4]) > 1:
        raise CannotEditError("several addresses in one file are left to you")
    address = wish.addresses[0]
    document = document.set("BOOTPROTO", "none").set("IPADDR", str(address.ip))
    document = document.set("PREFIX", str(address.network.prefixlen))
    return document.set("GATEWAY", str(wish.gateway)) if wish.gateway is not None else document


def _ifcfg_six(document: shell_vars.Document, wish: AddressWish) -> shell_vars.Document:
    document = document.set("IPV6INIT", "yes").set("IPV6_AUTOCONF", "no").set("IPV6ADDR", str(wish.addresses[0]))
    if wish.addresses[1:]:
        document = document.set("IPV6ADDR_SECONDARIES", " ".join(map(str, wish.addresses[1:])))
    return document.set("IPV6_DEFAULTGW", str(wish.gateway)) if wish.gateway is not None else document


EDITS: dict[System, Callable[[Profile, Files, AddressWish], dict[str, bytes]]] = {
    System.IFUPDOWN: _ifupdown,
    System.NETPLAN: _netplan,
    System.NETWORKD: _networkd,
    System.MANAGER: _manager,
    System.IFCFG: _ifcfg,
}


# new files


def fresh(system: System, guest: str, wishes: tuple[AddressWish, ...]) -> tuple[str, str, int]:
    """Path, content and mode of a new file for an interface that no file speaks of. Raises CannotEditError."""
    name = wishes[0].interface
    if system is System.NETPLAN:
        lines = ["network:", "  version: 2", "  ethernets:", f"    {name}:"]
        listed = ", ".join(f'"{a}"' for wish in wishes for a in wish.addresses)
        lines.append(f"      addresses: [{listed}]")
        routes = [f'{{to: default, via: "{wish.gateway}"}}' for wish in wishes if wish.gateway is not None]
        lines += [f"      routes: [{', '.join(routes)}]"] if routes else []
        servers = [f'"{server}"' for wish in wishes for server in wish.servers]
        lines += [f"      nameservers: {{addresses: [{', '.join(servers)}]}}"] if servers else []
        return f"/etc/netplan/60-{name}.yaml", "\n".join(lines) + "\n", 0o600
    if system is System.NETWORKD:
        lines = ["[Match]", f"Name={name}", "", "[Network]"]
        for wish in wishes:
            lines += [f"Address={a}" for a in wish.addresses]
            lines += [f"Gateway={wish.gateway}"] if wish.gateway is not None else []
            lines += [f"DNS={server}" for server in wish.servers]
        return f"/etc/systemd/network/10-{name}.network", "\n".join(lines) + "\n", 0o644
    if system is System.MANAGER:
        made = uuid.uuid5(uuid.NAMESPACE_DNS, f"{name}.{guest}")  # of its own, and the same each time
        lines = ["[connection]", f"id={name}", f"uuid={made}", "type=ethernet", f"interface-name={name}"]
        for wish in wishes:
            lines += ["", f"[ipv{wish.version}]", "method=manual"]
            for number, address in enumerate(wish.addresses, 1):
                lines.append(f"address{number}={address}{f',{wish.gateway}' if number == 1 and wish.gateway is not None else ''}")
            lines += ["dns=" + "".join(f"{server};" for server in wish.servers)] if wish.servers else []
        return f"/etc/NetworkManager/system-connections/{name}.nmconnection", "\n".join(lines) + "\n", 0o600
    raise CannotEditError(f"a new file of {system.value} is not drafted")
