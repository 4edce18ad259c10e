"""Addresses as people write them in the estate file, read strictly: what is ambiguous is refused and explained.

Programs differ in how they read `192.168.1` or `010.0.0.1` (inet_aton(3) takes both, and means other addresses than
the writer did), so neither is accepted here.
"""

from __future__ import annotations

import ipaddress
import re

from nightlatch.net.addresses import AddressSet, prefix

_V4_SHAPE = re.compile(r"[0-9.]+")


class AddressError(ValueError):
    """The text names no address or prefix; `expected` says what to write instead."""

    def __init__(self, what: str, expected: str) -> None:
        super().__init__(what)
        self.expected = expected


def parse_network(text: str) -> AddressSet:
    """One address or one prefix in CIDR form as a set. Raises AddressError (RFC 4632, 3.1; RFC 4291, 2.2)."""
    address, slash, length = text.partition("/")
    if _V4_SHAPE.fullmatch(address):
        version, number = 4, _ipv4(address, text)
    elif ":" in address:
        version, number = 6, _ipv6(address)
    else:
        raise AddressError(f'"{text}" is no address', "an IPv4 or IPv6 address, or a prefix such as 192.168.40.0/24")
    bits = 32 if version == 4 else 128
    if not slash:
        return prefix(version, number, bits)
    if not length.isascii() or not length.isdigit() or int(length) > bits:
        raise AddressError(f'"/{length}" is no prefix length', f"a number from 0 to {bits} after the slash")
    network = prefix(version, number, int(length))
    low = (network.v4 or network.v6)[0][0]
    if low != number:
        right = network.prefixes()[0]
        raise AddressError(
            f'"{text}" has bits set behind the prefix',
            f"{right} for the whole network, or {address} for that one address",
        )
    return network


def _ipv4(address: str, text: str) -> int:
    groups = address.split(".")
    if len(groups) != 4:
        count = f"{len(groups)} group" + ("s" if len(groups) != 1 else "")
        raise AddressError(
            f'"{text}" has {count}; some programs would read it as another address',
            "four groups, such as 192.168.40.7",
        )
    for group in groups:
        if not group:
            raise AddressError(f'"{text}" has an empty group', "four groups, such as 192.168.40.7")
        if len(group) > 1 and group[0] == "0":
            raise AddressError(
                f'"{text}" has a group that starts with 0; some programs would read it as octal',
                f"{group.lstrip('0') or '0'} instead of {group}",
            )
        if int(group[:9]) > 255:
            raise AddressError(f'"{text}" has the group {group[:9]}', "groups from 0 to 255")
    return int(ipaddress.IPv4Address(address))


def _ipv6(address: str) -> int:
    if "%" in address:
        raise AddressError(
            f'"{address}" has a scope, which means something on one machine only', "the address without its %scope"
        )
    try:
        parsed = ipaddress.IPv6Address(address)
    except ValueError as error:
        raise AddressError(f'"{address}" is no IPv6 address: {error}', "such as 2001:db8:40::7") from None
    if parsed.ipv4_mapped:
        raise AddressError(f'"{address}" is an IPv4 address in IPv6 clothes', f"{parsed.ipv4_mapped}")
    return int(parsed)
