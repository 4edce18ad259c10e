"""`networks`, and where guests sit on them: subnets, pools of leases, hosts, gateways, forwards; the addresses of guests."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import TypeVar

from nightlatch.estate import perimeters, reader
from nightlatch.estate.model import Forward, NetworkSpec, Place, StatedAddress
from nightlatch.formats.yaml_tree import Node, Source
from nightlatch.net.kinds import kind_of
from nightlatch.net.literal import (
    AddressError,
    IPAddress,
    IPInterface,
    IPNetwork,
    parse_address,
    parse_interface,
    parse_range,
    parse_subnet,
)

KEYS = ("subnet", "host", "leases", "gateway", "name_servers", "perimeter", "private", "forwards")
INTERFACE = re.compile(r"[A-Za-z0-9][A-Za-z0-9._@:-]{0,14}")

T = TypeVar("T")


def values(source: Source, node: Node | None, what: str, parse: Callable[[str], T]) -> Iterator[tuple[Node, T]]:
    """Each text of a node, parsed strictly; what can't be is a fault."""
    if node is None:
        return
    for item in reader.items(source, node, what):
        value = reader.text(source, item, what)
        try:
            if value:
                yield item, parse(value)
        except AddressError as error:
            source.fault(item, str(error), error.expected)


def network(
    source: Source, name: str, key: Node, node: Node, places: Mapping[str, Place], folder: Path, guests: Mapping[str, object]
) -> NetworkSpec | None:
    """One network. Two subnets that overlap, and addresses that lie outside of all of them, are faults; `guests` are their
    names."""
    found = reader.section(source, node, f"network {name}", KEYS, None, ("subnet",))
    if "subnet" not in found:
        return None
    subnets: list[IPNetwork] = []
    for item, subnet in values(source, found["subnet"], "a subnet", parse_subnet):
        if any(subnet.version == other.version and subnet.overlaps(other) for other in subnets):
            source.fault(item, f"{subnet} overlaps another subnet of {name}", "subnets that lie apart")
        subnets.append(subnet)
    made = NetworkSpec(name, tuple(subnets), source.origin(key))

    def inside(key: str, what: str) -> tuple[IPAddress, ...]:
        out = []
        for item, address in values(source, found.get(key), what, parse_address):
            if made.subnet_of(address) is None:
                source.fault(item, f"{address} lies outside of {name} ({_listed(subnets)})", "an address of this network")
            out.append(address)
        return tuple(out)

    leases = []
    for item, (low, high) in values(source, found.get("leases"), "a range of leases", parse_range):
        if made.subnet_of(low) is None or made.subnet_of(low) != made.subnet_of(high):
            source.fault(item, f"{low}-{high} lies outside of {name} ({_listed(subnets)})", "a range inside one subnet of it")
        leases.append((low, high))
    if name in places:
        source.fault(key, f'"{name}" is a place already', "a name of its own, for from may name both")
    servers = tuple(address for _, address in values(source, found.get("name_servers"), "a name server", parse_address))
    return NetworkSpec(
        name,
        tuple(subnets),
        made.origin,
        inside("host", "the host"),
        tuple(leases),
        inside("gateway", "the gateway"),
        servers,
        perimeters.perimeters(source, found["perimeter"], name, places, folder) if "perimeter" in found else (),
        "private" in found and reader.one_of(source, found["private"], "private", ("true", "false")) == "true",
        tuple(_forwards(source, name, found["forwards"], guests)) if "forwards" in found else (),
    )


def _forwards(source: Source, network: str, node: Node, guests: Mapping[str, object]) -> Iterator[Forward]:
    """`forwards`: {at: ADDRESS, port: N, to: {guest: NAME, port: N}, guest_sees: ADDRESS}."""
    needed = ("at", "port", "to")
    for item in reader.items(source, node, "forwards"):
        found = reader.section(source, item, "a forward", (*needed, "guest_sees"), None, needed)
        if len(found) < len(needed) or any(key not in found for key in needed):
            continue
        to = reader.section(source, found["to"], "to", ("guest", "port", "address"), None, ("guest", "port"))
        if "guest" not in to or "port" not in to:
            continue
        guest = reader.named(source, to["guest"], "the guest", guests, "guests")
        at = _end(source, found["at"], "any")
        sees = _end(source, found["guest_sees"], "caller") if "guest_sees" in found else None
        yield Forward(
            network,
            at if at is None or int(at) else None,
            reader.whole(source, found["port"], "the port", 1, 65535),
            guest,
            reader.whole(source, to["port"], "the port", 1, 65535),
            source.origin(item),
            next((address for _, address in values(source, to.get("address"), "the address", parse_address)), None),
            sees,
        )


def _end(source: Source, node: Node, word: str) -> IPAddress | None:
    """An address, or None for the word that stands for all."""
    if node.text is not None and node.text.strip() == word:
        return None
    return next((address for _, address in values(source, node, f"an address or {word}", parse_address)), None)


def _listed(subnets: list[IPNetwork]) -> str:
    return ", ".join(str(subnet) for subnet in subnets)


def addresses(source: Source, node: Node) -> tuple[StatedAddress, ...]:
    """`addresses` of a guest: {INTERFACE: [ADDRESS/LENGTH, ...]}."""
    out: list[StatedAddress] = []
    for key, value in reader.pairs(source, node, "addresses"):
        name = reader.text(source, key, "an interface")
        if name and not INTERFACE.fullmatch(name):
            source.fault(key, f'"{name}" is no interface', "a name such as enp0s8, at most 15 characters")
        for item, address in values(source, value, "an address", parse_interface):
            stated = StatedAddress(name, address, source.origin(item))
            if _usable(source, item, address):
                out.append(stated)
    return tuple(out)


def _usable(source: Source, node: Node, address: IPInterface) -> bool:
    kind = kind_of(address.ip)
    if not kind.of_a_guest:
        source.fault(node, f"{address.ip} is a {kind.value} address", "an address that others can dial")
        return False
    return True


def named(source: Source, node: Node, networks: Mapping[str, NetworkSpec]) -> str:
    """`network` of a guest."""
    return reader.named(source, node, "the network", networks, "networks")
