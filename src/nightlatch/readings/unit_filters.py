"""The service manager's own filter on sshd's unit, in the common form of rules (systemd.resource-control(5), IPAddressAllow=).

What is allowed comes in, of the rest what is denied is dropped, all else comes in. It holds for the unit that opened the
socket: a socket unit's own where that holds the port (measured: systemd 252). Filters of slices above are not read.
"""

from __future__ import annotations

from collections.abc import Sequence

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.formats import sections
from nightlatch.formats.sections import Dialect
from nightlatch.net.addresses import EVERY_ADDRESS, LOOPBACK, AddressSet, prefix, union
from nightlatch.net.literal import AddressError, parse_address, parse_network
from nightlatch.origin import Origin
from nightlatch.readings.gaps import Gap
from nightlatch.readings.rules import Chain, Does, Match, Rule, Rules
from nightlatch.readings.sockets import TOPS, drop_ins

AREA = "service manager's filter"
WORDS = {
    "any": EVERY_ADDRESS,
    "localhost": LOOPBACK,
    "link-local": parse_network("169.254.0.0/16") | parse_network("fe80::/64"),
    "multicast": parse_network("224.0.0.0/4") | parse_network("ff00::/8"),
}
LISTS = {"IPAddressAllow": Does.ACCEPT, "IPAddressDeny": Does.DROP}


def read(snapshot: Snapshot, units: Sequence[str]) -> Rules | None:
    """The filter of the first of these units that is there; None where it has none."""
    for unit in units:
        main = next((f"{top}/{unit}" for top in TOPS if snapshot.content(f"{top}/{unit}") is not None), "")
        if main or drop_ins(snapshot, unit):
            return _of_unit(snapshot, unit, [main] if main else [])
    return None


def _of_unit(snapshot: Snapshot, unit: str, mains: list[str]) -> Rules | None:
    section = "Socket" if unit.endswith(".socket") else "Service"
    lists: dict[str, list[Rule]] = {name: [] for name in LISTS}
    gaps: list[Gap] = []
    for path in (*mains, *drop_ins(snapshot, unit)):
        for line in sections.parse(snapshot.content(path) or b"", Dialect.UNIT).entries(section):
            if line.key not in LISTS:
                continue
            origin = Origin(path, line.number, 1)
            if not line.value.strip():
                lists[line.key] = []
                continue
            found = [_addresses(word) for word in line.value.split()]
            known = [each for each in found if each is not None]
            if len(known) < len(found):
                gaps.append(Gap(AREA, "an address here is not read, and the service manager skips it or not", origin))
            text = f"{line.key}={line.value}"
            lists[line.key].append(Rule((Match(union(known)),), LISTS[line.key], origin, text))
    rules = (*lists["IPAddressAllow"], *lists["IPAddressDeny"])
    if not rules and not gaps:
        return None
    place = rules[0].origin if rules else gaps[0].origin
    return Rules({unit: Chain(unit, rules, place, "input", 900)}, tuple(gaps))


def _addresses(word: str) -> AddressSet | None:
    if word in WORDS:
        return WORDS[word]
    bare, slash, length = word.partition("/")
    try:
        address = parse_address(bare)
        bits = 32 if address.version == 4 else 128
        size = int(length) if slash else bits
    except (AddressError, ValueError):
        return None
    return prefix(address.version, int(address), size) if 0 <= size <= bits else None
