"""Rules of firewalld in the common form, from its permanent files (firewalld.conf(5), firewalld.zone(5), firewalld.policy(5)).

A packet is given to a zone by its source (zones in the order of their names), then by the interface it comes in by
(firewalld_zones.py), else to the default zone. There policies before the zone, its rules, policies behind it and its
target decide. Rules are made in the words of nftables as firewalld loads them, each with the element that it comes from, and read
by nft_rules.py. What firewalld changes only while it runs is the kernel's word.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.formats import nft, shell_vars
from nightlatch.formats.nft import BracedList
from nightlatch.formats.xml_tree import Element, XmlFault, parse
from nightlatch.model.gaps import Gap
from nightlatch.model.rules import RuleAction
from nightlatch.net.addresses import EVERY_ADDRESS
from nightlatch.origin import Origin
from nightlatch.readings.filters import firewalld_checks, firewalld_direct
from nightlatch.readings.filters import firewalld_words as words
from nightlatch.readings.filters.firewalld_zones import InterfaceZone, ZoneAssignments, given
from nightlatch.readings.filters.nft_rules import Sets, rules_of
from nightlatch.readings.filters.places import FIREWALLD
from nightlatch.readings.filters.rules import Chain, Rule, Rules

AREA = "packet filter"
OWN, SHIPPED = "/etc/firewalld", "/usr/lib/firewalld"
_NAME = re.compile(r"[A-Za-z0-9_.-]{1,64}\.xml")
MOST = 200
POLICY = -1  # the priority of a policy that names none (measured: firewalld 1.3)
TABLE = "inet firewalld"
REFUSAL = "reject with icmpx admin-prohibited"
PARTS = (("filter_INPUT", "filter_IN"), ("nat_PREROUTING", "nat_PRE"))
TARGETS = {"ACCEPT": "accept", "DROP": "drop", "%%REJECT%%": REFUSAL, "REJECT": REFUSAL, "CONTINUE": ""}


@dataclass(frozen=True, slots=True)
class XmlRoot:
    """A file's root element, and where it stands."""

    name: str
    path: str
    root: Element

    def origin(self, element: Element | None = None) -> Origin:
        """The place of an element of it."""
        at = element or self.root
        return Origin(self.path, at.line, at.column)


def stored(snapshot: Snapshot) -> Rules:
    """What firewalld loads when it starts."""
    return _Builder(snapshot).done()


def files_of(snapshot: Snapshot, kind: str) -> tuple[list[XmlRoot], list[Gap]]:
    """The files of a kind (zones, policies, ipsets, services) by name: those in /etc stand for those that came with it."""
    found: dict[str, XmlRoot] = {}
    gaps: list[Gap] = []
    for top in (SHIPPED, OWN):
        folder = f"{top}/{kind}"
        for name in snapshot.children(folder):
            if not name.endswith(".xml"):
                continue
            if not _NAME.fullmatch(name) or len(found) >= MOST:
                because = "is one of too many" if len(found) >= MOST else "has a name that firewalld gives nothing"
                gaps.append(Gap(AREA, f"this file {because}, and is not read", Origin(f"{folder}/{name}")))
                continue
            path = f"{folder}/{name}"
            held = _held(snapshot, path, name[:-4], gaps)
            if held is not None:
                found[held.name] = held
    return [found[name] for name in sorted(found)], gaps


def used_zones(snapshot: Snapshot) -> list[str]:
    """The zones that packets are given to: the default one first, then those that interfaces and sources are given to."""
    default = shell_vars.parse(snapshot.content(FIREWALLD) or b"").value("DefaultZone") or "public"
    zones, _ = files_of(snapshot, "zones")
    bound = {each.zone for each in _given(snapshot, zones, default).bound}
    named = [zone.name for zone in zones if zone.root.all("source") or zone.name in bound]
    return list(dict.fromkeys([*(zone.name for zone in zones if zone.name == default), *named]))


def _given(snapshot: Snapshot, zones: Sequence[XmlRoot], default: str) -> ZoneAssignments:
    written = [
        InterfaceZone(each.get("name"), zone.name, zone.origin(each)) for zone in zones for each in zone.root.all("interface")
    ]
    return given(snapshot, written, {zone.name for zone in zones}, default)


def _held(snapshot: Snapshot, path: str, name: str, gaps: list[Gap]) -> XmlRoot | None:
    raw = snapshot.content(path)
    if raw is None:
        gaps.append(Gap(AREA, "this file of firewalld was not collected", Origin(path)))
        return None
    try:
        return XmlRoot(name, path, parse(raw))
    except XmlFault as error:
        gaps.append(Gap(AREA, f"firewalld can't read this file: {error}", Origin(path, error.line, error.column)))
        return None


class _Builder:
    def __init__(self, snapshot: Snapshot) -> None:
        self.snapshot = snapshot
        self.gaps: list[Gap] = []
        self.chains: dict[str, Chain] = {}
        self.rules: dict[str, list[Rule]] = {}
        self.settings = shell_vars.parse(snapshot.content(FIREWALLD) or b"")
        self.zones, gaps = files_of(snapshot, "zones")
        self.policies, more = files_of(snapshot, "policies")
        sets, others = files_of(snapshot, "ipsets")
        self.gaps += [*gaps, *more, *others]
        for held in (*self.zones, *self.policies):
            for text, element in firewalld_checks.faults(held.root):
                self.gaps.append(Gap(AREA, f"firewalld does not take this: {text}", held.origin(element)))
        self.given = ZoneAssignments(())
        self.sets: Sets = {f"{TABLE} {held.name}": self.elements(held) for held in sets}
        self.families = {held.name: words.family_of_set(held.root) for held in sets}

    def setting(self, name: str, other: str) -> str:
        return self.settings.value(name) or other

    def elements(self, held: XmlRoot) -> list[tuple[nft.Item, ...]] | None:
        """The entries of a set, in the words of a rule; None where they are not known."""
        entries = words.entries(held.root)
        if entries is None:
            return None
        (statement,) = nft.parse(f"x {{ {', '.join(entries)} }}") if entries else (None,)
        if statement is None:
            return []
        return [part for item in statement.items if isinstance(item, BracedList) for part in item.elements]

    def done(self) -> Rules:
        place = Origin(FIREWALLD)
        default = self.setting("DefaultZone", "public")
        if not any(zone.name == default for zone in self.zones):
            self.gaps.append(Gap(AREA, f'there is no zone "{default[:40]}", which is the default', place))
            return Rules({}, tuple(self.gaps))
        if self.setting("AllowZoneDrifting", "no") == "yes" and any(zone.root.all("source") for zone in self.zones):
            self.gaps.append(Gap(AREA, "packets may drift from a zone of sources into one of interfaces", place))
        direct = firewalld_direct.read(self.snapshot, self.setting("FirewallBackend", "nftables"))
        self.given = _given(self.snapshot, self.zones, default)
        self.gaps += self.given.gaps
        if self.setting("IPv6_rpfilter", "yes") != "no":
            self.base("filter_PREROUTING", "prerouting", place)
            self.add("filter_PREROUTING", "meta nfproto ipv6 fib saddr . mark . iif oif missing drop", place)
        self.base("nat_PREROUTING", "prerouting", place, priority=-90)
        self.base("filter_INPUT", "input", place)
        for text in (
            "ct state { established, related } accept",
            "ct status dnat accept",
            'iifname "lo" accept',
            "ct state invalid drop",
        ):
            self.add("filter_INPUT", text, place)
        self.dispatch(default)
        self.add("filter_INPUT", REFUSAL, place)
        chains = {key: replace(chain, rules=tuple(self.rules[key])) for key, chain in self.chains.items()}
        return Rules({**direct.chains, **chains}, tuple(dict.fromkeys((*self.gaps, *direct.gaps))), direct.answers)

    def base(self, name: str, hook: str, origin: Origin, priority: int = 10) -> None:
        kind = "nat" if name.startswith("nat") else "filter"
        self.chains[f"{TABLE} {name}"] = Chain(f"{TABLE} {name}", (), origin, hook, priority, kind=kind)
        self.rules[f"{TABLE} {name}"] = []

    def add(self, chain: str, text: str, origin: Origin) -> None:
        """One rule in the words of nftables, at the end of a chain."""
        key = f"{TABLE} {chain}"
        if key not in self.chains:
            self.chains[key] = Chain(key, (), origin)
            self.rules[key] = []
        try:
            (statement,) = nft.parse(text)
        except ValueError:
            self.gaps.append(Gap(AREA, "what firewalld makes of this is not read", origin))
            return
        made = rules_of(statement.items, TABLE, origin, self.sets, EVERY_ADDRESS)
        if any(rule.does is RuleAction.REFUSED for rule in made):
            self.gaps.append(Gap(AREA, f"nft refuses what firewalld makes of this: {text}", origin))
        self.rules[key] += made

    def dispatch(self, default: str) -> None:
        """Which zone a packet is given to, and what that does with it."""
        for hook, part in PARTS:
            for zone in self.zones:
                for source in zone.root.all("source"):
                    self.to_zone(hook, part, zone, source)
            for each in sorted(self.given.bound, key=lambda each: (each.interface.endswith("+"), each.interface)):
                self.add(hook, f'iifname "{_pattern(each.interface)}" goto {part}_{each.zone}', each.origin)
            zone = next(each for each in self.zones if each.name == default)
            self.add(hook, f"goto {part}_{default}", zone.origin())
        for _, part in PARTS:
            self.around(part, default)
        for zone in self.zones:  # others are never given a packet
            if zone.name == default or zone.root.all("source") or self.interfaces(zone):
                self.zone(zone)

    def around(self, part: str, default: str) -> None:
        """The chains of policies before and behind every zone. A policy of a zone goes by the interfaces and sources that are
        written in it, so not by its being the default one."""
        ranked = sorted(
            ((words.priority(each.root, POLICY), each.name, each) for each in self.policies), key=lambda each: each[:2]
        )
        for place in ("pre", "post"):
            self.open(f"{part}_POLICIES_{place}", Origin(FIREWALLD))
        for rank, name, policy in ranked:
            inward = words.inward(policy.root)
            chain, around = f"{part}_policy_{name}", f"{part}_POLICIES_{'pre' if rank < 0 else 'post'}"
            if not inward:
                continue
            self.open(chain, policy.origin())
            for zone in self.zones:
                if zone.name in inward:
                    self.by_zone(around, f"jump {chain}", zone)
                    if zone.name == default and self.given.more:
                        text = "whether NetworkManager gives the default zone an interface is not known, so this policy may count"
                        self.gaps.append(Gap(AREA, text, policy.origin()))
            if "ANY" in inward:
                self.add(around, f"jump {chain}", policy.origin())
            self.contents(chain, policy)
            target = TARGETS.get(policy.root.get("target", "CONTINUE"), "")
            if target and part == "filter_IN":
                self.add(chain, target, policy.origin())

    def interfaces(self, zone: XmlRoot) -> list[InterfaceZone]:
        return [each for each in self.given.bound if each.zone == zone.name]

    def by_zone(self, chain: str, verdict: str, zone: XmlRoot) -> None:
        """A verdict for what comes by the interfaces and sources of a zone."""
        for each in self.interfaces(zone):
            self.add(chain, f'iifname "{_pattern(each.interface)}" {verdict}', each.origin)
        for element in zone.root.all("source"):
            text = words.source(element, self.families)
            if text is not None:
                self.add(chain, f"{text} {verdict}", zone.origin(element))

    def open(self, name: str, origin: Origin) -> None:
        self.chains.setdefault(f"{TABLE} {name}", Chain(f"{TABLE} {name}", (), origin))
        self.rules.setdefault(f"{TABLE} {name}", [])

    def to_zone(self, hook: str, part: str, zone: XmlRoot, source: Element) -> None:
        text = words.source(source, self.families)
        if text is None:
            self.gaps.append(Gap(AREA, "this source of a zone is not read", zone.origin(source)))
        else:
            self.add(hook, f"{text} goto {part}_{zone.name}", zone.origin(source))

    def zone(self, zone: XmlRoot) -> None:
        """The chains of a zone: policies before it, its own rules, policies behind it, its target."""
        for _, part in PARTS:
            chain = f"{part}_{zone.name}"
            self.open(chain, zone.origin())
            self.add(chain, f"jump {part}_POLICIES_pre", zone.origin())
            self.contents(chain, zone)
            self.add(chain, f"jump {part}_POLICIES_post", zone.origin())
        self.add(f"filter_IN_{zone.name}", TARGETS.get(zone.root.get("target"), REFUSAL), zone.origin())

    def contents(self, chain: str, held: XmlRoot) -> None:
        """The rules of a zone or policy: those with a priority around the others, refusals before what is let in."""
        made = words.contents(held.root, self.families, self.service)
        if chain.startswith("nat"):
            for text, element in made.sending:
                self.add(chain, text, held.origin(element))
            return
        self.gaps += [Gap(AREA, why, held.origin(element)) for why, element in made.unread]
        for text, element in made.filtering:
            self.add(chain, text, held.origin(element))

    def service(self, name: str) -> Element | None:
        """The definition of a service; None where it is not there, or not read."""
        for top in (OWN, SHIPPED):
            path = f"{top}/services/{name}.xml"
            if self.snapshot.content(path) is not None:
                held = _held(self.snapshot, path, name, self.gaps)
                return held.root if held else None
        return None


def _pattern(name: str) -> str:
    return words.plain(f"{name[:-1]}*" if name.endswith("+") else name)
