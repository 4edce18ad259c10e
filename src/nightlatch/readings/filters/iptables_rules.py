"""One rule of iptables in the common form: its matches and its target (iptables(8), iptables-extensions(8)).

What is matched is the first packet of a new connection to an address of the guest itself, by a caller whose rates are not used
up. A match that is not known makes the rule match perhaps; what iptables-restore would refuse raises RuleFault.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from nightlatch.formats.iptables_save import Word
from nightlatch.model.rules import RuleAction
from nightlatch.net.addresses import NO_ADDRESS, AddressSet, prefix, union
from nightlatch.net.literal import AddressError, parse_address
from nightlatch.net.numbers import whole
from nightlatch.net.ports import PortSet
from nightlatch.origin import Origin
from nightlatch.readings.filters.iptables_options import RuleFault, RuleOption, options
from nightlatch.readings.filters.iptables_words import (
    ANSWERS,
    ASKING,
    BY_THEMSELVES,
    EXTENSIONS,
    FAMILY,
    FLAGS,
    GENERAL,
    GOING_ON,
    HEADERS,
    KINDS,
    MATCHES,
    NEVER,
    ODD,
    ODD_MATCHES,
    OF_MATCH,
    PROTOCOLS,
    QUIET,
    RATES,
    STATES,
    VALUES,
    VERDICTS,
    WITH_PORTS,
)
from nightlatch.readings.filters.match_parts import (
    PROTOCOL_NAMES,
    Part,
    of_interface,
    of_opening,
    of_ports,
    of_protocol,
    of_source,
    of_source_ports,
    of_states,
    of_target,
    onto_of,
    port_number,
    unread,
)
from nightlatch.readings.filters.rules import Match, Redirect, Rule


@dataclass(frozen=True, slots=True)
class SetMembers:
    """The members of a set of addresses: None where they are not known. `ports` are those that stand beside an address."""

    members: tuple[tuple[AddressSet, frozenset[str], PortSet | None], ...] | None


class _Reader:
    def __init__(self, found: list[RuleOption], table: str, hooked: str, sets: Mapping[str, SetMembers], *, back: bool) -> None:
        self.found, self.hooked, self.sets, self.back = found, hooked, sets, back
        self.family, self.table = table.split()
        self.matches: list[Match] = [Match(sources=FAMILY[self.family])]
        self.protocol = ""
        self.target: RuleOption | None = None

        self.modules = {each.values[0] for each in found if each.name == "--match" and each.values}

    def read(self) -> None:
        names = [option.name for option in self.found]
        counts = Counter(names)
        modules = Counter(each.values for each in self.found if each.name == "--match")
        if "--syn" in names and "--tcp-flags" in names:
            raise RuleFault("--syn and --tcp-flags in one rule", self.found[names.index("--syn")].column)
        last = ""
        for option in self.found:
            last = option.value if option.name == "--match" else last
            if option.name == "--match" and option.value not in MATCHES:
                raise RuleFault(f"there is no match {option.value[:40]} that is known here", option.column)
            if last == "multiport" and option.name in ("--destination-port", "--source-port"):
                raise RuleFault(
                    f"{option.name} behind -m multiport is taken for its own; name the protocol's match first", option.column
                )
            again = modules[OF_MATCH[option.name]] if option.name in OF_MATCH else 0
            if option.name in HANDLERS and counts[option.name] > max(1, again):
                raise RuleFault(f"{option.name} stands twice in one rule", option.column)
            if option.name in OF_MATCH and not self.modules.intersection(OF_MATCH[option.name]):
                raise RuleFault(f"{option.name} without -m {OF_MATCH[option.name][0]}", option.column)
        self.without_options()
        ends = [option for option in self.found if option.name in ("--source", "--destination")]
        if any(option.negated for option in ends) and any("," in value for option in ends for value in option.values):
            raise RuleFault("with several addresses nothing can be negated", ends[0].column)
        # The protocol stands for all others, wherever it is written.
        for option in sorted(self.found, key=lambda each: each.name != "--protocol"):
            self.option(option)
        if self.modules & HEADERS:
            self.matches = []

    def without_options(self) -> None:
        """A match that stands alone: iptables-restore refuses most of them; some hold for some packets, which is not followed."""
        own = [each.name for each in self.found if each.name not in GENERAL]
        alone = {name for name in self.modules if not any(name in OF_MATCH.get(each, (name,)) for each in own)}
        for option in self.found:
            if option.name == "--match" and option.value in alone & ASKING:
                raise RuleFault(f"-m {option.value} without an option of its own", option.column)
            if option.name == "--match" and option.value in alone & BY_THEMSELVES:
                self.aside(option)

    def narrow(self, part: Part) -> None:
        self.matches = [kept for match in self.matches if (kept := part(match)) is not None]

    def aside(self, option: RuleOption) -> None:
        self.narrow(lambda match: unread(match, option.text))

    def option(self, option: RuleOption) -> None:
        name = option.name
        if (name in HANDLERS or name in ("--jump", "--goto")) and len(option.values) != VALUES.get(name, 1):
            raise RuleFault(f"{name} has {VALUES.get(name, 1)} values, and not {len(option.values)}", option.column)
        if name in RATES and not re.fullmatch(r"\d+(/\d*[a-z]+)?|\d+[kmg]?b?/s", option.value):
            raise RuleFault(f"{option.value[:40]} is no rate", option.column)
        if name in ("--jump", "--goto"):
            if self.target is not None:
                raise RuleFault("two targets in one rule", option.column)
            self.target = option
        elif name == "--match" or name in QUIET:
            if name == "--set" and option.negated:
                self.matches = []
        elif name in NEVER:
            self.matches = self.matches if option.negated else []
        elif name in HANDLERS:
            HANDLERS[name](self, option)
        elif name in ODD or self.modules & ODD_MATCHES:
            self.aside(option)
        elif not (self.target is not None and self.target.column < option.column and self.target.value in EXTENSIONS):
            raise RuleFault(f"{name[:40]} is no option that is known here", option.column)

    def source(self, option: RuleOption) -> None:
        found = self.addresses(option)
        self.narrow(lambda match: of_source(match, found))

    def destination(self, option: RuleOption) -> None:
        found = self.addresses(option)
        self.narrow(lambda match: of_target(match, found, FAMILY[self.family]))

    def addresses(self, option: RuleOption) -> AddressSet:
        names = option.value.split(",")
        known = []
        for name in names:
            found = address_set(name, self.family)
            if found is None:
                raise RuleFault(f"{name[:60]} is no address of this family, or a name that may not be found", option.column)
            known.append(found)
        return FAMILY[self.family] - union(known) if option.negated else union(known)

    def by_protocol(self, option: RuleOption) -> None:
        name = PROTOCOL_NAMES.get(option.value.lower(), option.value.lower())
        if name not in PROTOCOLS:
            raise RuleFault(f"{name[:40]} is no protocol that is known here", option.column)
        if name in ("all", "0"):
            self.matches = [] if option.negated else self.matches
            return
        self.protocol = "" if option.negated else name
        others = frozenset(("tcp", "udp")) - {name}
        self.narrow(lambda match: of_protocol(match, others if option.negated else (name,)))

    def interface(self, option: RuleOption) -> None:
        name = _interface(option)
        if self.hooked in ("OUTPUT", "POSTROUTING"):
            raise RuleFault(f"{self.hooked} has no incoming interface", option.column)
        if name == "+":
            self.matches = [] if option.negated else self.matches
            return
        pattern = f"{name[:-1]}*" if name.endswith("+") else name
        self.narrow(lambda match: of_interface(match, (pattern,), option.negated))

    def outward(self, option: RuleOption) -> None:
        if self.hooked in ("INPUT", "PREROUTING"):
            raise RuleFault(f"{self.hooked} has no outgoing interface", option.column)
        _interface(option)
        self.matches = self.matches if option.negated else []

    def port(self, option: RuleOption) -> None:
        many = option.name.endswith("ports")
        if self.protocol not in WITH_PORTS:
            raise RuleFault(f"{option.name} without a protocol that has ports", option.column)
        known = [_range(text, option) for text in (option.value.split(",") if many else [option.value])]
        ports = ~PortSet.of(known) if option.negated else PortSet.of(known)
        if option.name == "--ports":  # either of the two
            there = [of_ports(match, ports) for match in self.matches]
            aside = [of_ports(of_source_ports(match, ports, option.text) or match, ~ports) for match in self.matches]
            self.matches = [match for match in (*there, *aside) if match is not None]
        elif option.name.startswith("--s"):
            self.narrow(lambda match: of_source_ports(match, ports, option.text) if ports else None)
        else:
            self.narrow(lambda match: of_ports(match, ports))

    def syn(self, option: RuleOption) -> None:
        if self.back:  # every answer acknowledges something
            self.matches = self.matches if option.negated else []
            return
        self.narrow(lambda match: of_opening(match, not option.negated))

    def flags(self, option: RuleOption) -> None:
        if len(option.values) != 2:
            raise RuleFault("--tcp-flags has two values", option.column)
        mask, those = (_flags(each) for each in option.values)
        if mask is None or those is None:
            raise RuleFault("--tcp-flags names an unknown flag", option.column)
        opens = {"SYN", "ACK"} if self.back else {"SYN"}
        first, ack, push = ((found & mask == those) != option.negated for found in (opens, {"ACK"}, {"ACK", "PSH"}))
        if self.back and not first == ack == push:
            self.aside(option)
        elif not (first or ack or push):
            self.matches = []
        elif not first and ack != push:
            self.aside(option)
        elif not (first and ack and push) and ack == push:
            self.narrow(lambda match: of_opening(match, first))

    def state(self, option: RuleOption) -> None:
        states = set(option.value.split(","))
        if states - STATES:
            raise RuleFault(f"{option.value[:40]} is no state", option.column)
        if "DNAT" in states and "NEW" not in states and self.table != "raw":
            self.narrow(lambda match: replace(match, rewritten=not option.negated))
        else:
            self.narrow(lambda match: of_states(match, {each.lower() for each in states}, option.negated))

    def span(self, option: RuleOption) -> None:
        low, _, high = option.value.partition("-")
        try:
            first, last = parse_address(low, mapped=True), parse_address(high or low, mapped=True)
        except AddressError:
            raise RuleFault(f"{option.value} is no range of addresses", option.column) from None
        ranges = ((int(first), int(last)),)
        if first.version != last.version or first.version != (4 if self.family == "ip" else 6):
            raise RuleFault(f"{option.value} is no range of addresses of this family", option.column)
        found = NO_ADDRESS if first > last else AddressSet(v4=ranges) if first.version == 4 else AddressSet(v6=ranges)  # type: ignore[operator]
        found = FAMILY[self.family] - found if option.negated else found
        if option.name == "--src-range":
            self.narrow(lambda match: of_source(match, found))
        else:
            self.narrow(lambda match: of_target(match, found, FAMILY[self.family]))

    def kind(self, option: RuleOption) -> None:
        """Packets to the guest itself have a local destination; the kind of a caller's address depends on the guest's routes."""
        kinds = set(option.value.split(","))
        if kinds - KINDS or (self.family == "ip6" and "BROADCAST" in kinds):
            raise RuleFault(f"{option.value[:40]} is no kind of address", option.column)
        if option.name == "--dst-type":
            self.matches = self.matches if _is_of(kinds, self.family) != option.negated else []
        else:
            self.aside(option)

    def known(self, option: RuleOption) -> None:
        """`recent`: nobody has called yet; who called before is not known where one call is enough."""
        often = next((each.value for each in self.found if each.name == "--hitcount"), "")
        if re.fullmatch(r"[0-9]{1,9}", often) and int(often) > 1:
            self.matches = self.matches if option.negated else []
        else:
            self.aside(option)

    def packet(self, option: RuleOption) -> None:
        if self.back:
            self.aside(option)
            return
        self.matches = self.matches if (option.value.lower() in ("host", "unicast")) != option.negated else []

    def match_set(self, option: RuleOption) -> None:
        name, sides = option.value, option.values[1] if len(option.values) > 1 else ""
        if name not in self.sets:
            raise RuleFault(f"no set {name[:40]} is stored", option.column)
        members = self.sets[name].members
        paired = sides in ("src,dst", "dst,dst")
        if members is None or (sides not in ("src", "dst") and not paired) or (option.negated and paired):
            self.aside(option)
            return
        of = of_source if sides.startswith("src") else lambda match, one: of_target(match, one, FAMILY[self.family])
        if not paired:
            found = union([each for each, _, _ in members]) & FAMILY[self.family]
            found = FAMILY[self.family] - found if option.negated else found
            self.narrow(lambda match: of(match, found))
            return
        made: list[Match] = []
        for match in self.matches:
            for addresses, protocols, ports in members:
                kept = of(match, addresses)
                kept = of_protocol(kept, protocols) if kept is not None and protocols else kept
                kept = of_ports(kept, ports) if kept is not None and ports is not None else kept
                made += [kept] if kept is not None else []
        self.matches = made


# What a part of an answer is for the caller: who it goes to is who called.
TURNED = {
    "--source": "--destination",
    "--source-port": "--destination-port",
    "--sports": "--dports",
    "--in-interface": "--out-interface",
    "--src-range": "--dst-range",
    "--src-type": "--dst-type",
}
TURNED |= {there: here for here, there in TURNED.items()}
HANDLERS = {
    "--source": _Reader.source,
    "--destination": _Reader.destination,
    "--protocol": _Reader.by_protocol,
    "--in-interface": _Reader.interface,
    "--out-interface": _Reader.outward,
    "--destination-port": _Reader.port,
    "--source-port": _Reader.port,
    "--dports": _Reader.port,
    "--sports": _Reader.port,
    "--ports": _Reader.port,
    "--syn": _Reader.syn,
    "--tcp-flags": _Reader.flags,
    "--state": _Reader.state,
    "--ctstate": _Reader.state,
    "--src-range": _Reader.span,
    "--dst-range": _Reader.span,
    "--src-type": _Reader.kind,
    "--dst-type": _Reader.kind,
    "--rcheck": _Reader.known,
    "--update": _Reader.known,
    "--pkt-type": _Reader.packet,
    "--match-set": _Reader.match_set,
}


def rule_of(
    words: Sequence[Word],
    origin: Origin,
    text: str,
    table: str,
    hooked: str,
    sets: Mapping[str, SetMembers],
    *,
    back: bool = False,
) -> tuple[Rule, str]:
    """A rule from its words behind `-A CHAIN`, and the name of the chain or target it leads to; without any match where it can't
    match a first packet, for it has its number all the same. `back` reads it for packets that are sent back to the caller.

    `table` is its family and name, such as "ip filter"; `hooked` the chain's name where that is a base chain. Raises RuleFault.
    """
    found = [_turned(each) for each in options(words)] if back else options(words)
    reader = _Reader(found, table, "" if back else hooked, sets, back=back)
    reader.read()
    target = reader.target
    to = target.value if target is not None else ""
    does = VERDICTS.get(to, RuleAction.NOTHING if not to or to in GOING_ON else RuleAction.JUMP)
    if target is not None and target.name == "--goto":
        does = RuleAction.GOTO
    if to == "CT" and any(each.name == "--notrack" for each in reader.found):
        does = RuleAction.UNKNOWN
    answer = next((each for each in reader.found if each.name == "--reject-with"), None)
    if answer is not None and answer.value not in ANSWERS[reader.family]:
        raise RuleFault(f"{answer.value[:40]} is no answer of REJECT", answer.column)
    if answer is not None and answer.value == "tcp-reset" and reader.protocol != "tcp":
        raise RuleFault("a reset without -p tcp", answer.column)
    return Rule(tuple(reader.matches), does, origin, text, onto=_onto(to, reader.found)), to


def _turned(option: RuleOption) -> RuleOption:
    """An option of a rule as it is for the answers to what it says there."""
    if option.name == "--match-set" and len(option.values) == 2:
        sides = ",".join({"src": "dst", "dst": "src"}.get(each, each) for each in option.values[1].split(","))
        return replace(option, values=(option.values[0], sides))
    return replace(option, name=TURNED.get(option.name, option.name))


def _interface(option: RuleOption) -> str:
    """The name of an interface. Raises RuleFault for one that can't be."""
    if len(option.value) > 15:
        raise RuleFault(f"{option.value[:40]} is too long for an interface", option.column)
    return option.value


def _onto(target: str, found: list[RuleOption]) -> Redirect | None:
    """Where REDIRECT and DNAT send a packet; None where it is not one plain end."""
    ends = [each for each in found if each.name in ("--to-destination", "--to-ports")]
    if target == "REDIRECT" and not ends:
        return Redirect()
    return onto_of(ends[0].value) if target in ("REDIRECT", "DNAT") and len(ends) == 1 else None


def address_set(text: str, family: str) -> AddressSet | None:
    """An address, one with a prefix length or a mask; bits behind it don't count. None for a name, or a mask with gaps."""
    bare, slash, length = text.partition("/")
    bits = 32 if family == "ip" else 128
    try:
        address = parse_address(bare, mapped=True)
        if address.version != (4 if family == "ip" else 6):
            return None
        size = bits if not slash else whole(length)
        if size is None:
            size = _ones(int(parse_address(length)), bits)
    except (AddressError, ValueError):
        return None
    return prefix(address.version, int(address), size) if size is not None and 0 <= size <= bits else None


def _ones(mask: int, bits: int) -> int | None:
    size = mask.bit_count()
    return size if mask == ((1 << size) - 1) << (bits - size) else None


def _range(text: str, option: RuleOption) -> tuple[int, int]:
    low, mark, high = text.partition(":")
    if mark and option.name.endswith("ports") and not (low and high):
        raise RuleFault(f"{text[:40]} has no end, which multiport wants", option.column)
    first = port_number(low) if low or not mark else 0
    last = (port_number(high) if high else 65535) if mark else first
    if first is None or last is None or first > last:
        raise RuleFault(f"{text[:40]} is no port, no range of ports and no service that is known here", option.column)
    return first, last


def _is_of(kinds: set[str], family: str) -> bool:
    """Whether an address of the guest's own is of these kinds: of any of them in IPv4, of all in IPv6, where it is a unicast
    address, too (measured: Linux 6.18; xt_addrtype.c, match_type6)."""
    if family == "ip":
        return "LOCAL" in kinds
    return not kinds & {"MULTICAST", "UNSPEC"} and ("LOCAL" in kinds or not kinds & {"ANYCAST", "PROHIBIT", "UNREACHABLE"})


def _flags(text: str) -> set[str] | None:
    if text in ("ALL", "NONE"):
        return set(FLAGS) if text == "ALL" else set()
    found = set(text.split(","))
    return found if found <= set(FLAGS) else None
