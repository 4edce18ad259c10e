"""Files about names: hosts(5), resolv.conf(5), hostname(5), machine-id(5).

Read only, line by line; a line that the resolver skips carries a fault.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from nightlatch.formats import lines as text_lines
from nightlatch.net.literal import AddressError, IPAddress, parse_address


@dataclass(frozen=True, slots=True)
class HostLine:
    """One line of a hosts file: an address and its names; `fault` says why it is skipped."""

    number: int
    address: IPAddress | None
    names: tuple[str, ...] = ()
    fault: str = ""


@dataclass(frozen=True, slots=True)
class Servers:
    """What a resolver's file says: name servers with their lines, search domains, lines that are wrong."""

    servers: tuple[tuple[IPAddress, int], ...] = ()
    search: tuple[str, ...] = ()
    faults: tuple[tuple[int, str], ...] = ()


def hosts(raw: bytes) -> Iterator[HostLine]:
    """The lines of a hosts file that say something (hosts(5))."""
    for number, line in enumerate(text_lines.split(raw), 1):
        words = text_lines.text_of(line).split("#", 1)[0].split()
        if not words:
            continue
        try:
            address = parse_address(words[0], scope=True)
        except AddressError as error:
            yield HostLine(number, None, tuple(words[1:]), f"{error}; expected {error.expected}")
            continue
        fault = "" if words[1:] else "an address without a name"
        yield HostLine(number, address, tuple(words[1:]), fault)


def resolv_conf(raw: bytes) -> Servers:
    """The name servers of resolv.conf(5); the C library uses the first three."""
    servers: list[tuple[IPAddress, int]] = []
    faults: list[tuple[int, str]] = []
    search: tuple[str, ...] = ()
    for number, line in enumerate(text_lines.split(raw), 1):
        words = text_lines.text_of(line).split()
        if not words or words[0][0] in "#;":
            continue
        if words[0] == "nameserver":
            try:
                servers.append((parse_address(words[1] if len(words) > 1 else "", scope=True), number))
            except AddressError as error:
                faults.append((number, f"{error}; expected {error.expected}"))
        elif words[0] in ("search", "domain"):
            search = tuple(words[1:])
    return Servers(tuple(servers), search, tuple(faults))


def first_line(raw: bytes) -> str:
    """The one word of hostname(5) or machine-id(5): the first line that is no comment."""
    for line in text_lines.split(raw):
        text = text_lines.text_of(line).strip()
        if text and not text.startswith("#"):
            return text
    return ""
