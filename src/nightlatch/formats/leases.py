"""Lease files: who was given which address until when.

dnsmasq(8) (--dhcp-leasefile), dhclient.leases(5) and dhcpd.leases(5), and the state files of systemd-networkd
(/run/systemd/netif/leases, KEY=value, no manual page: measured on 252) and NetworkManager (the same writer).
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime

from nightlatch.formats import lines as text_lines
from nightlatch.formats import shell_vars
from nightlatch.net.literal import IPAddress, address_or_none

MAC = re.compile(r"(?:[0-9a-f]{2}:){5}[0-9a-f]{2}")
FOREVER = 0


@dataclass(frozen=True, slots=True)
class Lease:
    """One lease. `until` is in seconds since 1970, 0 for no end or an unknown one; `line` counts from 1."""

    address: IPAddress
    line: int
    hardware: str = ""
    name: str = ""
    until: int = FOREVER
    server: str = ""


def hardware(text: str) -> str:
    """A hardware address in small letters with colons, or an empty text where it is not valid."""
    made = text.strip().lower().replace("-", ":")
    return made if MAC.fullmatch(made) else ""


def dnsmasq(raw: bytes) -> Iterator[Lease]:
    """Lines of `expiry hardware address name client-id`; IPv6 lines carry an association number in place of the hardware."""
    for number, line in enumerate(text_lines.split(raw), 1):
        words = text_lines.text_of(line).split()
        if len(words) < 4 or not re.fullmatch(r"[0-9]{1,12}", words[0]):
            continue
        address = address_or_none(words[2])
        if address is not None:
            yield Lease(address, number, hardware(words[1]), "" if words[3] == "*" else words[3], int(words[0]))


def networkd(raw: bytes) -> Lease | None:
    """The lease that systemd-networkd or NetworkManager holds for one interface, as a client."""
    document = shell_vars.parse(raw)
    line = document.last("ADDRESS")
    address = address_or_none(line.value) if line is not None else None
    if line is None or address is None:
        return None
    return Lease(address, line.number, name=document.value("HOSTNAME"), server=document.value("SERVER_ADDRESS"))


_BLOCK = re.compile(r"(?m)^[ \t]*lease(?:[ \t]+([0-9A-Fa-f:.]{2,45}))?[ \t]*\{([^{}]{0,8000})\}")


def dhclient(raw: bytes) -> Iterator[Lease]:
    """Blocks of `lease { ... }`, of a client (fixed-address) or a server (address in the heading); the last one counts."""
    text = text_lines.text_of(raw)
    for found in _BLOCK.finditer(text):
        body = found[2]
        fixed = re.search(r"\bfixed-address\s+([0-9A-Fa-f:.]{2,45});", body)
        address = address_or_none(found[1] or (fixed[1] if fixed else ""))
        if address is None:
            continue
        mac = re.search(r"\bhardware ethernet\s+([0-9A-Fa-f:]{17});", body)
        name = re.search(r'\b(?:client-hostname|option host-name)\s+"([^"\n]{1,253})";', body)
        ends = re.search(r"\b(?:expire|ends)\s+\d\s+(\d{4})/(\d\d)/(\d\d)\s+(\d\d):(\d\d):(\d\d)", body)
        server = re.search(r"\boption dhcp-server-identifier\s+([0-9.]{7,15});", body)
        yield Lease(
            address,
            text.count("\n", 0, found.start()) + 1,
            hardware(mac[1]) if mac else "",
            name[1] if name else "",
            _time(ends) if ends else FOREVER,
            server[1] if server else "",
        )


def _time(found: re.Match[str]) -> int:
    try:
        return int(datetime(*(int(part) for part in found.groups()), tzinfo=UTC).timestamp())  # type: ignore[arg-type,misc]
    except ValueError:
        return FOREVER
