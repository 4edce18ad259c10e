"""What ip(8) prints of a running system: `ip -o addr`, `ip -o link`, `ip -o route`, `ip -o neigh`.

One line is one object (-o joins them with a backslash). Words that are not known are skipped.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from ipaddress import ip_interface

from nightlatch.formats.leases import hardware
from nightlatch.net.literal import IPAddress, IPInterface, address_or_none
from nightlatch.net.numbers import whole

MOST = 20_000
NO_WAY = ("local", "broadcast", "multicast", "anycast", "unreachable", "blackhole", "prohibit", "throw")


@dataclass(frozen=True, slots=True)
class LiveAddress:
    """An address that an interface has now. `dynamic` says that it is leased or announced; `seconds` it is still valid for."""

    interface: str
    address: IPInterface
    dynamic: bool = False
    temporary: bool = False
    seconds: int = 0


@dataclass(frozen=True, slots=True)
class LiveLink:
    """An interface as the kernel has it."""

    name: str
    hardware: str = ""
    up: bool = False
    carrier: bool = False
    kind: str = ""


@dataclass(frozen=True, slots=True)
class LiveRoute:
    """A route of the main table; `to` is None for the default one. `via` is None for a network that is on the link."""

    to: str
    interface: str
    via: IPAddress | None = None
    metric: int = 0
    protocol: str = ""
    version: int = 4

    @property
    def is_default(self) -> bool:
        """Whether it leads everywhere."""
        return self.to == "default"


@dataclass(frozen=True, slots=True)
class Neighbour:
    """An entry of the neighbour table; `state` as the kernel tells it: only REACHABLE was confirmed just now."""

    address: IPAddress
    interface: str
    hardware: str = ""
    state: str = ""

    @property
    def is_confirmed(self) -> bool:
        """Whether the kernel confirmed it within the last seconds (RFC 4861, 7.3.2); a stale entry is no sign of life."""
        return self.state in ("REACHABLE", "PERMANENT")


def addresses(text: str) -> Iterator[LiveAddress]:
    """`ip -o addr`."""
    for line in text.splitlines()[:MOST]:
        found = re.match(r"\d+:\s+(\S+)\s+inet6?\s+(\S+)(.*)", line)
        if found is None:
            continue
        try:
            address = ip_interface(found[2])
        except ValueError:
            continue
        words = found[3].split()
        valid = re.search(r"valid_lft (\d{1,10})sec", found[3])
        yield LiveAddress(
            found[1].partition("@")[0], address, "dynamic" in words, "temporary" in words, int(valid[1]) if valid else 0
        )


def links(text: str) -> Iterator[LiveLink]:
    """`ip -o link`."""
    for line in text.splitlines()[:MOST]:
        found = re.match(r"\d+:\s+([^:\s]+):\s+<([^>]*)>(.*)", line)
        if found is None:
            continue
        flags = found[2].split(",")
        mac = re.search(r"link/(\S+)\s+(\S+)", found[3])
        kind = mac[1] if mac else ""
        yield LiveLink(found[1].partition("@")[0], hardware(mac[2]) if mac else "", "UP" in flags, "LOWER_UP" in flags, kind)


def routes(text: str, version: int = 4) -> Iterator[LiveRoute]:
    """`ip -o route` of one family; local, broadcast and multicast entries are left out."""
    for line in text.splitlines()[:MOST]:
        words = line.replace("\\", " ").split()
        if not words or words[0] in NO_WAY:
            continue
        to = words.pop(0) if words[0] != "unicast" else words.pop(1)
        shared = _pairs(words)
        hops = [_pairs(part.split()) for part in " ".join(words).split("nexthop ")[1:]] or [shared]
        for hop in hops:
            both = {**shared, **hop}
            metric = both.get("metric", "0")
            yield LiveRoute(
                to,
                both.get("dev", ""),
                address_or_none(both.get("via", ""), scope=True),
                whole(metric, 10) or 0,
                both.get("proto", ""),
                version,
            )


def _pairs(words: list[str]) -> dict[str, str]:
    known = ("via", "dev", "metric", "proto", "src", "scope")
    return {word: words[n + 1] for n, word in enumerate(words[:-1]) if word in known and words[n + 1] != "inet6"}


def neighbours(text: str) -> Iterator[Neighbour]:
    """`ip -o neigh`."""
    for line in text.splitlines()[:MOST]:
        words = line.split()
        address = address_or_none(words[0], scope=True) if words else None
        if address is None:
            continue
        pairs = {word: words[n + 1] for n, word in enumerate(words[:-1]) if word in ("dev", "lladdr")}
        yield Neighbour(address, pairs.get("dev", ""), hardware(pairs.get("lladdr", "")), words[-1])
