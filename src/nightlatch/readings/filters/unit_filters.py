"""The service manager's own filter on sshd's unit, in the common form of rules (systemd.resource-control(5), IPAddressAllow=).

What is allowed comes in, of the rest what is denied is dropped, all else comes in. The lists of the unit that opened the socket
(a socket unit's own where that holds the port) and those of all slices above it count as one (measured: systemd 252). On a
running guest what is loaded counts, with the lines of its files where they say the same.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.formats import sections
from nightlatch.formats.sections import Dialect
from nightlatch.model.gaps import Gap
from nightlatch.model.rules import Layer, RuleAction
from nightlatch.net.addresses import EVERY_ADDRESS, LOOPBACK, AddressSet, prefix, union
from nightlatch.net.literal import AddressError, parse_address, parse_network
from nightlatch.net.numbers import whole
from nightlatch.origin import Origin
from nightlatch.readings import release
from nightlatch.readings.filters.rules import Chain, Match, Rule, Rules
from nightlatch.readings.units import unit_files
from nightlatch.readings.units.service_reading import ServiceReading, Unit

AREA = "service manager's filter"
WORDS = {
    "any": EVERY_ADDRESS,
    "localhost": LOOPBACK,
    "link-local": parse_network("169.254.0.0/16") | parse_network("fe80::/64"),
    "multicast": parse_network("224.0.0.0/4") | parse_network("ff00::/8"),
}
LISTS = {"IPAddressAllow": RuleAction.ACCEPT, "IPAddressDeny": RuleAction.DROP}
# Releases whose service manager does not have control groups in the one tree that its filter needs (their release notes).
APART = {"debian": 10, "ubuntu": 21, "centos": 8, "rhel": 8, "rocky": 8, "almalinux": 8, "ol": 8, "fedora": 30}

Lists = dict[str, list[Rule]]


def read(snapshot: Snapshot, service: ServiceReading) -> Rules | None:
    """The filter of the unit that holds SSH's port; None where it has none."""
    for name in service.holders:
        stored = unit_files.files_of(snapshot, name)
        loaded = service.units.get(name)
        if stored or (loaded is not None and loaded.loaded):
            return of_unit(snapshot, service, name)
    return None


def of_others(snapshot: Snapshot, service: ServiceReading) -> dict[str, Rules]:
    """The filters of the other units of a running guest that listen, by unit; only loaded ones are known."""
    if not any(unit.allows or unit.denies for unit in service.units.values()):
        return {}
    names = {service.holder_of(each) for each in (*service.sockets, *service.datagrams)} - {*service.holders, ""}
    found = {name: of_unit(snapshot, service, name) for name in sorted(names)}
    return {name: rules for name, rules in found.items() if rules is not None}


def of_unit(snapshot: Snapshot, service: ServiceReading, name: str) -> Rules | None:
    """The filter of one unit with what is above it; None where nobody is kept out."""
    loaded = service.units.get(name)
    gaps: list[Gap] = []
    nearest = loaded.slice if loaded is not None and loaded.slice else unit_files.slice_of(snapshot, name)
    units = (name, *unit_files.slices_above(nearest))
    lists = _joined(_stored(snapshot, unit, gaps) for unit in units)
    asked = [service.units.get(unit) for unit in units]
    if loaded is not None and loaded.allows is not None:
        told = _joined(_loaded(unit) for unit in asked if unit is not None)
        if gaps or any(_whole(told[key]) != _whole(lists[key]) for key in LISTS):
            lists, gaps = told, []
        missing = [unit for unit, known in zip(units, asked, strict=True) if known is None or known.allows is None]
        gaps += [Gap(AREA, f"what {unit} filters was not told", loaded.origin) for unit in missing]
    rules = (*lists["IPAddressAllow"], *lists["IPAddressDeny"])
    if not rules and not gaps:
        return None
    place = rules[0].origin if rules else gaps[0].origin
    if rules and _is_apart(snapshot):
        text = "the service manager heeds this only where control groups are one tree, and here they may not be"
        gaps.append(Gap(AREA, text, place))
    return Rules({name: Chain(name, rules, place, "input", 900)}, tuple(gaps), layer=Layer.UNIT)


def _joined(lists: Iterator[Lists]) -> Lists:
    out: Lists = {key: [] for key in LISTS}
    for each in lists:
        for key, rules in each.items():
            out[key] += rules
    return out


def _whole(rules: Sequence[Rule]) -> AddressSet:
    return union([match.sources for rule in rules for match in rule.matches])


def _loaded(unit: Unit) -> Lists:
    """The lists of a unit as they are loaded."""
    out: Lists = {}
    for key, words in (("IPAddressAllow", unit.allows or ()), ("IPAddressDeny", unit.denies or ())):
        known = [found for word in words if (found := _addresses(word)) is not None]
        text = f"{key}={' '.join(words[:4])}{' ...' if len(words) > 4 else ''}"
        out[key] = [Rule((Match(union(known)),), LISTS[key], unit.origin, text)] if words else []
    return out


def _stored(snapshot: Snapshot, unit: str, gaps: list[Gap]) -> Lists:
    lists: Lists = {name: [] for name in LISTS}
    for path in unit_files.files_of(snapshot, unit):
        for line in sections.parse(snapshot.content(path) or b"", Dialect.UNIT).entries(unit_files.section(unit)):
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
    return lists


def _is_apart(snapshot: Snapshot) -> bool:
    """Whether the guest's control groups may not be in one tree; of a folder its release tells what is usual there."""
    if snapshot.is_live:
        return snapshot.told.groups_apart
    number = release.version(snapshot).partition(".")[0]
    major = whole(number)
    return major is not None and major <= APART.get(release.system(snapshot), -1)


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
