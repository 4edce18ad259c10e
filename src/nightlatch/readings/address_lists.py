"""Address patterns as sshd reads them: Match Address, from="...", the host part of AllowUsers, as exact sets.

Source: ssh_config(5), PATTERNS; match.c, addrmatch.c, addr.c of OpenSSH 9.2. sshd reads more forms than people mean:
getaddrinfo(3) takes 192.168.1 for 192.168.0.1, and so does this module.
"""

from __future__ import annotations

import ipaddress
import re
from dataclasses import dataclass
from functools import lru_cache

from nightlatch.model.bounds import Addresses, Bounds
from nightlatch.net.addresses import EVERY_ADDRESS, NO_ADDRESS, AddressSet, prefix, union
from nightlatch.net.globs import solve

_PART = r"(?:0[xX][0-9a-fA-F]+|[0-9]+)"
MOST_PATTERNS = 4096  # in one list; a longer one is undecided
_ATON = re.compile(rf"{_PART}(?:\.{_PART}){{0,3}}")


@dataclass(frozen=True, slots=True)
class ListMatch:
    """The answer of a list for every address: it is matched (`yes`), ruled out by a `!` pattern (`never`), or neither.

    `unsure` are the addresses for which that can't be said. `valid` is False for a list that sshd takes for broken.
    """

    yes: AddressSet = NO_ADDRESS
    never: AddressSet = NO_ADDRESS
    unsure: AddressSet = NO_ADDRESS
    valid: bool = True

    @property
    def bounds(self) -> Addresses:
        """The addresses that are matched."""
        return Bounds(self.yes, self.yes | self.unsure)


def valid(patterns: str) -> bool:
    """Whether sshd accepts the list when it reads its configuration."""
    return by_address(patterns).valid


@lru_cache(maxsize=4096)
def by_address(patterns: str) -> ListMatch:
    """The list against addresses: CIDR where it reads as one, else a wildcard over the text (addr_match_list)."""
    if patterns.count(",") >= MOST_PATTERNS:
        return ListMatch(unsure=EVERY_ADDRESS)
    yes: list[AddressSet] = []
    never: list[AddressSet] = []
    unsure: list[AddressSet] = []
    for each in patterns.split(","):
        negated = each.startswith("!")
        body = each[1:] if negated else each
        if not body:
            return ListMatch(valid=False)
        found = cidr(body)
        if found is False:
            return ListMatch(valid=False)
        solved = found if isinstance(found, AddressSet) else solve_text(body)
        if solved is None:
            unsure.append(EVERY_ADDRESS)
        else:
            (never if negated else yes).append(solved)
    return ListMatch(union(yes) - union(never), union(never), union(unsure) - union(never))


@lru_cache(maxsize=4096)
def by_text(patterns: str) -> ListMatch:
    """The list against the address as text, as when no name is looked up (match_hostname)."""
    if patterns.count(",") >= MOST_PATTERNS:
        return ListMatch(unsure=EVERY_ADDRESS)
    yes: list[AddressSet] = []
    never: list[AddressSet] = []
    unsure: list[AddressSet] = []
    for each in patterns.split(","):
        negated = each.startswith("!")
        solved = solve(each[1:] if negated else each)
        if solved is None:
            unsure.append(EVERY_ADDRESS)
        else:
            (never if negated else yes).append(solved)
    return ListMatch(union(yes) - union(never), union(never), union(unsure) - union(never))


def solve_text(pattern: str) -> AddressSet | None:
    """A wildcard that is matched case by case: capital letters never stand in an address as text."""
    return NO_ADDRESS if pattern != pattern.lower() else solve(pattern)


def host_list(patterns: str, *, names_looked_up: bool = False) -> ListMatch:
    """`from=` and the part behind @: by address or by host, and never when either says no (match_host_and_ip).

    Where host names are looked up (UseDNS yes), whatever is not decided by address alone is unsure.
    """
    address = by_address(patterns)
    if not address.valid:
        return ListMatch(valid=False)
    text = by_text(patterns)
    if names_looked_up:
        if not mentions_names(patterns):
            return ListMatch(address.yes, address.never, address.unsure)
        return ListMatch(NO_ADDRESS, address.never, EVERY_ADDRESS - address.never)
    never = address.never | text.never
    yes = (address.yes | text.yes) - never
    return ListMatch(yes, never, (address.unsure | text.unsure) - never - yes)


def mentions_names(patterns: str) -> bool:
    """Whether any pattern could match a host name rather than an address."""
    return any(not isinstance(cidr(each.lstrip("!")), AddressSet) for each in patterns.split(","))


@lru_cache(maxsize=4096)
def cidr(text: str) -> AddressSet | bool | None:
    """The prefix that `text` names; None when it reads as none, False when its length or host bits are wrong."""
    address, slash, length = text.partition("/")
    if len(text) > 63:
        return None
    if slash and (not re.fullmatch(r"[ \t]*\+?[0-9]+", length) or int(length) > 128):
        return None
    parsed = _address(address)
    if parsed is None:
        return None
    version, number = parsed
    bits = 32 if version == 4 else 128
    wide = int(length) if slash else bits
    if wide > bits:
        return False
    network = prefix(version, number, wide)
    return network if (network.v4 or network.v6)[0][0] == number else False


def _address(text: str) -> tuple[int, int] | None:
    if ":" in text:
        try:
            return 6, int(ipaddress.IPv6Address(text.partition("%")[0]))
        except ValueError:
            return None
    if not _ATON.fullmatch(text):
        return None
    try:
        parts = [_number(part) for part in text.split(".")]
    except ValueError:
        return None
    *front, last = parts
    if any(part > 255 for part in front) or last >= 1 << (8 * (5 - len(parts))):
        return None
    return 4, sum(part << (24 - 8 * i) for i, part in enumerate(front)) | last


def _number(text: str) -> int:
    """A part of an address as inet_aton(3) reads it: 0x is hexadecimal, a leading 0 octal."""
    if text[:2] in ("0x", "0X"):
        return int(text, 16)
    return int(text, 8) if len(text) > 1 and text[0] == "0" else int(text)
