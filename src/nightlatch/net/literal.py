"""Addresses as people write them in the estate file, read strictly: what is ambiguous is refused and explained.

Programs differ in how they read `192.168.1` or `010.0.0.1` (inet_aton(3) takes both, and means other addresses than
the writer did), so neither is accepted here.
"""

from __future__ import annotations

import ipaddress
import re
from ipaddress import IPv4Address, IPv4Interface, IPv4Network, IPv6Address, IPv6Interface, IPv6Network

from nightlatch.net.addresses import AddressSet, prefix
from nightlatch.net.numbers import whole

IPAddress = IPv4Address | IPv6Address
IPInterface = IPv4Interface | IPv6Interface
IPNetwork = IPv4Network | IPv6Network

_V4_SHAPE = re.compile(r"[0-9.]+")


class AddressError(ValueError):
    """The text names no address or prefix; `expected` says what to write instead."""

    def __init__(self, what: str, expected: str) -> None:
        super().__init__(what)
        self.expected = expected


def parse_network(text: str, *, mapped: bool = False) -> AddressSet:
    """One address or one prefix in CIDR form as a set; `mapped` allows IPv4 addresses written as those of IPv6, as programs
    take them. Raises AddressError (RFC 4632, 3.1; RFC 4291, 2.2, 2.5.5.2)."""
    address, slash, length = text.partition("/")
    if _V4_SHAPE.fullmatch(address):
        version, number = 4, _ipv4(address, text)
    elif ":" in address:
        version, number = 6, _ipv6(address, mapped=mapped)
    else:
        raise AddressError(f'"{text}" is no address', "an IPv4 or IPv6 address, or a prefix such as 192.168.40.0/24")
    bits = 32 if version == 4 else 128
    if not slash:
        return prefix(version, number, bits)
    size = whole(length)
    if size is None or size > bits:
        raise AddressError(f'"/{length}" is no prefix length', f"a number from 0 to {bits} after the slash")
    network = prefix(version, number, size)
    low = (network.v4 or network.v6)[0][0]
    if low != number:
        right = network.prefixes()[0]
        raise AddressError(
            f'"{text}" has bits set behind the prefix',
            f"{right} for the whole network, or {address} for that one address",
        )
    return network


def parse_address(text: str, *, scope: bool = False, mapped: bool = False) -> IPAddress:
    """One address without a prefix; `scope` allows %interface behind a link-local one, `mapped` as for networks. Raises
    AddressError.

    (RFC 4291, 2.2; RFC 4007, 11 for the scope.)
    """
    if _V4_SHAPE.fullmatch(text):
        return IPv4Address(_ipv4(text, text))
    if ":" not in text:
        what = f'"{text}" has a prefix length' if "/" in text else f'"{text}" is no address'
        raise AddressError(what, "an address alone, such as 192.168.40.7 or 2001:db8:40::7")
    bare, mark, zone = text.partition("%")
    number = _ipv6(bare if scope else text, mapped=mapped)
    address = IPv6Address(number)
    if mark and scope:
        if not address.is_link_local or not re.fullmatch(r"[A-Za-z0-9._-]{1,15}", zone):
            raise AddressError(f'"{text}" has a scope', "%INTERFACE behind a link-local address only")
        return IPv6Address(f"{address}%{zone}")
    return address


def address_or_none(text: str, *, scope: bool = False) -> IPAddress | None:
    """The same for text that may be something else, such as a name: None for what is no address."""
    try:
        return parse_address(text, scope=scope)
    except AddressError:
        return None


def parse_interface(text: str) -> IPInterface:
    """An address of an interface with its prefix length, such as 192.168.56.21/24. Raises AddressError.

    The length is never guessed: it comes from the network, not from the first octet (RFC 4632, 3.1).
    """
    bare, slash, length = text.partition("/")
    address = parse_address(bare)
    bits = 32 if address.version == 4 else 128
    if not slash:
        raise AddressError(
            f'"{text}" has no prefix length',
            f"the length of the network behind it, such as {text}/{bits - 8 if bits == 32 else 64}",
        )
    size = whole(length)
    if size is None or (len(length) > 1 and length[0] == "0") or size > bits:
        raise AddressError(f'"/{length}" is no prefix length', f"a number from 0 to {bits} after the slash")
    return ipaddress.ip_interface(f"{address}/{length}")


def parse_subnet(text: str) -> IPNetwork:
    """A prefix with its length, such as 192.168.56.0/24. Raises AddressError."""
    parse_network(text)
    if "/" not in text:
        raise AddressError(f'"{text}" has no prefix length', f"a network, such as {text}/24" if ":" not in text else f"{text}/64")
    return ipaddress.ip_network(text)


def parse_range(text: str) -> tuple[IPAddress, IPAddress]:
    """First and last address of FIRST-LAST, both included. Raises AddressError."""
    first_text, mark, last_text = text.partition("-")
    if not mark:
        raise AddressError(f'"{text}" is no range', "FIRST-LAST, such as 192.168.56.100-192.168.56.199")
    first, last = parse_address(first_text.strip()), parse_address(last_text.strip())
    if first.version != last.version:
        raise AddressError(f'"{text}" joins two families', "two addresses of one family")
    if int(last) < int(first):
        raise AddressError(f'"{text}" ends before it begins', f"{last}-{first}")
    return first, last


def parse_mask(text: str) -> int:
    """The length of a netmask in dotted form, such as 24 for 255.255.255.0. Raises AddressError for one with gaps."""
    number = _ipv4(text, text)
    inverted = number ^ 0xFFFFFFFF
    if inverted & (inverted + 1):
        raise AddressError(f'"{text}" is no netmask', "ones from the left without a gap, such as 255.255.255.0")
    return 32 - inverted.bit_length()


def _ipv4(address: str, text: str) -> int:
    groups = address.split(".")
    if len(groups) != 4:
        count = f"{len(groups)} group" + ("s" if len(groups) != 1 else "")
        raise AddressError(
            f'"{text}" has {count}; some programs would read it as another address',
            "four groups, such as 192.168.40.7",
        )
    value = 0
    for group in groups:
        if not group:
            raise AddressError(f'"{text}" has an empty group', "four groups, such as 192.168.40.7")
        if len(group) > 1 and group[0] == "0":
            raise AddressError(
                f'"{text}" has a group that starts with 0; some programs would read it as octal',
                f"{group.lstrip('0') or '0'} instead of {group}",
            )
        number = whole(group)
        if number is None or number > 255:
            raise AddressError(f'"{text}" has the group {group[:9]}', "groups from 0 to 255")
        value = value << 8 | number
    return value


def _ipv6(address: str, *, mapped: bool = False) -> int:
    if "%" in address:
        raise AddressError(
            f'"{address}" has a scope, which means something on one machine only', "the address without its %scope"
        )
    try:
        parsed = ipaddress.IPv6Address(address)
    except ValueError as error:
        raise AddressError(f'"{address}" is no IPv6 address: {error}', "such as 2001:db8:40::7") from None
    if parsed.ipv4_mapped and not mapped:
        raise AddressError(f'"{address}" is an IPv4 address in IPv6 clothes', f"{parsed.ipv4_mapped}")
    return int(parsed)
