"""Rules of iptables in the common form, from the files that iptables-restore reads (iptables-restore(8)).

A text that iptables-restore refuses makes everything undecided: what of it is loaded then goes by the table it stopped at. Sets
come from what `ipset save` stored; those that rules fill, or that nothing stored, are not known.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.formats import ipset_save, iptables_save
from nightlatch.formats.iptables_save import Line, LineKind
from nightlatch.model.gaps import Gap
from nightlatch.model.rules import RuleAction
from nightlatch.net.addresses import AddressSet
from nightlatch.net.ports import PortSet
from nightlatch.origin import Kind as OriginKind
from nightlatch.origin import Origin
from nightlatch.readings.filters.iptables_options import RuleFault
from nightlatch.readings.filters.iptables_rules import SetMembers, address_set, rule_of
from nightlatch.readings.filters.iptables_shapes import Shapes
from nightlatch.readings.filters.iptables_words import FAMILY, TARGETS
from nightlatch.readings.filters.match_parts import port_number
from nightlatch.readings.filters.rules import Chain, Rule, Rules, answering

AREA = "packet filter"
LISTED = {"ip": "iptables-save", "ip6": "ip6tables-save"}
OLDER = {"ip": "older", "ip6": "older6"}  # listings
PROGRAM = {"ip": "iptables-restore", "ip6": "ip6tables-restore"}
# What the kernel knows of chains (iptables(8), TABLES): hook and priority.
BASES = {
    "raw": {"PREROUTING": ("prerouting", -300), "OUTPUT": ("output", -300)},
    "mangle": {
        "PREROUTING": ("prerouting", -150),
        "INPUT": ("input", -150),
        "FORWARD": ("forward", -150),
        "OUTPUT": ("output", -150),
        "POSTROUTING": ("postrouting", -150),
    },
    "nat": {
        "PREROUTING": ("prerouting", -100),
        "INPUT": ("input", 100),
        "OUTPUT": ("output", -100),
        "POSTROUTING": ("postrouting", 100),
    },
    "filter": {"INPUT": ("input", 0), "FORWARD": ("forward", 0), "OUTPUT": ("output", 0)},
    "security": {"INPUT": ("input", 50), "FORWARD": ("forward", 50), "OUTPUT": ("output", 50)},
}
SET_FILES = ("/etc/iptables/ipsets", "/etc/sysconfig/ipset")
MOST_KEPT = 32  # rule sets of files; clones share theirs, so each is read once


@dataclass
class RestoredTables:
    """Tables as they grow while one file after another is restored."""

    sets: dict[str, SetMembers] = field(default_factory=dict)
    chains: dict[str, Chain] = field(default_factory=dict)
    rules: dict[str, list[tuple[Rule, Line, int]]] = field(default_factory=dict)  # each with its line, and its first word there
    gaps: list[Gap] = field(default_factory=list)
    made_at: Origin | None = None
    kind: OriginKind = OriginKind.FILE
    shapes: Shapes = field(init=False)

    def __post_init__(self) -> None:
        self.shapes = Shapes(self.sets)

    def place(self, path: str, line: int, column: int = 1) -> Origin:
        return self.made_at or Origin(path, line, column, self.kind)

    def restore(self, raw: bytes, path: str, family: str, *, keep: bool = False, at: Origin | None = None) -> None:
        """Take a text in; `keep` leaves what the tables held before (iptables-restore --noflush); `at` is where a text that a
        program makes itself comes from."""
        table, begun = "", 0
        self.made_at = at
        for line in iptables_save.parse(raw).lines:
            if line.kind is LineKind.TABLE:
                table, begun = line.words[0].text, line.number
                self.begin(family, table, self.place(path, line.number), keep=keep)
            elif line.kind is LineKind.COMMIT:
                table = ""
            elif line.kind is LineKind.FAULT:
                self.refuse(path, family, line, f"expected {line.words[0].text}", line.words[0].column)
                return
            elif line.kind is LineKind.CHAIN:
                name, policy = (word.text for word in line.words)
                self.chain(family, table, name, policy, self.place(path, line.number))
            elif line.kind is LineKind.RULE:
                try:
                    self.rule(family, table, line, path)
                except RuleFault as error:
                    self.refuse(path, family, line, str(error), error.column)
                    return
        if table:
            self.gaps.append(Gap(AREA, f"{PROGRAM[family]} refuses this table, for it has no COMMIT", self.place(path, begun)))

    def refuse(self, path: str, family: str, line: Line, why: str, column: int) -> None:
        text = f"{PROGRAM[family]} refuses this line: {why}"
        self.gaps.append(Gap(AREA, text, self.place(path, line.number, column)))

    def begin(self, family: str, table: str, origin: Origin, *, keep: bool) -> None:
        if table not in BASES:
            self.gaps.append(Gap(AREA, f'no table of iptables is named "{table[:40]}"', origin))
        held = [key for key in self.chains if key.startswith(f"{family} {table} ")]
        for key in held if not keep else []:
            base = bool(self.chains[key].hook)
            self.rules[key] = []
            if not base:
                del self.chains[key], self.rules[key]
        for name in BASES.get(table, ()):
            if f"{family} {table} {name}" not in self.chains:
                self.base(family, table, name, origin)

    def base(self, family: str, table: str, name: str, origin: Origin) -> None:
        hook, priority = BASES[table][name]
        key = f"{family} {table} {name}"
        kind = "nat" if table == "nat" else "filter"
        self.chains[key] = Chain(key, (), origin, hook, priority, kind=kind, only=FAMILY[family])
        self.rules[key] = []

    def chain(self, family: str, table: str, name: str, policy: str, origin: Origin) -> None:
        key = f"{family} {table} {name}"
        if name in BASES.get(table, ()):
            self.chains[key] = replace(self.chains[key], accepts=policy not in ("DROP",), origin=origin)
        else:  # one that is there already is emptied (measured: iptables-restore 1.8.9, --noflush)
            self.chains[key] = Chain(key, (), origin, only=FAMILY[family])
            self.rules[key] = []

    def rule(self, family: str, table: str, line: Line, path: str) -> None:
        if self.is_like_another(family, table, line, path):
            return None
        verb, words = line.words[0].text, line.words[1:]
        name = words[0].text if words else ""
        key = f"{family} {table} {name}"
        if verb in ("-N", "--new-chain"):
            return self.chain(family, table, name, "-", self.place(path, line.number))
        if verb in ("-P", "--policy") and key in self.chains and len(words) > 1:
            return self.chain(family, table, name, words[1].text, self.place(path, line.number))
        if key not in self.chains:
            raise RuleFault(f'there is no chain "{name[:40]}" yet', words[0].column if words else 1)
        if verb in ("-F", "--flush"):
            self.rules[key] = []
            return None
        if verb not in ("-A", "--append", "-I", "--insert"):
            self.gaps.append(Gap(AREA, f'"{verb[:20]}" is not read', self.place(path, line.number)))
            return None
        rest, position = words[1:], len(self.rules[key])
        if verb in ("-I", "--insert"):
            numbered = bool(rest) and re.fullmatch(r"[0-9]{1,6}", rest[0].text) is not None
            position = int(rest[0].text) - 1 if numbered else 0
            if not 0 <= position <= len(self.rules[key]):
                raise RuleFault(f"there is no place {rest[0].text} in this chain", rest[0].column)
            rest = rest[1:] if numbered else rest
        hooked = name if self.chains[key].hook else ""
        place = self.place(path, line.number)
        made, to = rule_of(rest, place, line.text, f"{family} {table}", hooked, self.sets)
        target = f"{family} {table} {to}"
        if to and to not in TARGETS and target not in self.chains:
            raise RuleFault(f'there is no chain or target "{to[:40]}" yet', words[0].column)
        if made.does in (RuleAction.JUMP, RuleAction.GOTO):
            made = replace(made, to=target)
        self.rules[key].insert(position, (made, line, len(words) + 1 - len(rest)))
        if verb == "-A":
            self.shapes.note(f"{family} {table}", line, rest, hooked, key, made.to)
        return None

    def is_like_another(self, family: str, table: str, line: Line, path: str) -> bool:
        """Append a rule that differs from an earlier one by its source alone; False where there is no such one."""
        found = self.shapes.like(f"{family} {table}", line, self.place(path, line.number))
        if found is None:
            return False
        made, shape = found
        if shape.chain not in self.chains or (shape.to and shape.to not in self.chains):
            return False
        self.rules[shape.chain].append((made, line, 2))
        return True

    def done(self) -> Rules:
        """The rules as they stand now."""
        chains = {key: replace(chain, rules=tuple(rule for rule, _, _ in self.rules[key])) for key, chain in self.chains.items()}
        return Rules(chains, tuple(self.gaps), answering(chains, self.back))

    def back(self, key: str) -> list[Rule]:
        """The rules of a chain as they are for what is sent back to the caller."""
        table = key.rpartition(" ")[0]
        found = []
        for rule, line, first in self.rules[key]:
            made, _ = rule_of(line.words[first:], rule.origin, rule.text, table, "", self.sets, back=True)
            found.append(replace(made, to=rule.to))
        return found


def stored(snapshot: Snapshot, files: tuple[tuple[str, str], ...]) -> Rules:
    """The rules of files that are restored one after the other: (path, family) each."""
    read = (*(path for path, _ in files), *SET_FILES)
    return _stored(files, tuple((path, snapshot.content(path)) for path in read))


@lru_cache(maxsize=MOST_KEPT)
def _stored(files: tuple[tuple[str, str], ...], held: tuple[tuple[str, bytes | None], ...]) -> Rules:
    contents = dict(held)
    tables = RestoredTables(sets_of(contents, [contents[path] or b"" for path, _ in files]))
    for path, family in files:
        raw = contents[path]
        if raw is not None:
            tables.restore(raw, path, family)
    return tables.done()


def listed(snapshot: Snapshot) -> Rules | None:
    """The tables of iptables in a running kernel as iptables-save told them; None where nobody asked, or where they are not
    all understood: what nft listed has them, too, with less of them."""
    raws = {family: snapshot.listings.get(name) for family, name in (("ip", "tables"), ("ip6", "tables6"))}
    tables = RestoredTables(_sets_listed(snapshot), kind=OriginKind.LISTING)
    for family, raw in raws.items():
        if raw is not None:
            tables.restore(raw, LISTED[family], family)
    rules = tables.done()
    return rules if rules.chains and not rules.gaps else None


def older(snapshot: Snapshot) -> Rules:
    """The tables in a running kernel that the older iptables loaded, which nft does not list (iptables-legacy(8))."""
    tables, gaps = RestoredTables(_sets_listed(snapshot), kind=OriginKind.LISTING), []
    loaded = dict(snapshot.told.older_tables)
    for family, listing in OLDER.items():
        raw = snapshot.listings.get(listing, b"")
        told_by = re.fullmatch(rb"# (ip6?tables(?:-legacy)?-save)", raw.rstrip(b"\n").rpartition(b"\n")[2])
        tables.restore(raw, told_by[1].decode() if told_by else LISTED[family], family)
        names = [name for name in loaded[family] if f"*{name}".encode() not in raw.split(b"\n")]
        if names:
            origin = Origin(f"/proc/net/{family}_tables_names", kind=OriginKind.LISTING)
            text = f"the tables {' '.join(names)[:60]} of the older iptables are loaded, and were not listed"
            gaps.append(Gap(AREA, text, origin))
    rules = tables.done()
    named = {key: f"older {key}" for key in rules.chains}  # the newer one may have tables of the same names
    return Rules(_renamed(rules.chains, named), (*rules.gaps, *gaps), _renamed(rules.answers, named))


def _renamed(chains: dict[str, Chain], names: dict[str, str]) -> dict[str, Chain]:
    return {
        names[key]: replace(
            chain, key=names[key], rules=tuple(replace(rule, to=names.get(rule.to, rule.to)) for rule in chain.rules)
        )
        for key, chain in chains.items()
    }


def sets_of(contents: Mapping[str, bytes | None], texts: list[bytes]) -> dict[str, SetMembers]:
    """Stored sets of addresses by name, those aside that rules of the texts fill while they run."""
    out: dict[str, SetMembers] = {}
    for path in SET_FILES:
        for name, each in ipset_save.parse(contents.get(path) or b"").items():
            known = each.whole and not _is_filled(name, texts)
            out[name] = SetMembers(_members(each) if known else None)
    return out


def _sets_listed(snapshot: Snapshot) -> dict[str, SetMembers]:
    found = ipset_save.parse(snapshot.listings.get("sets", b""))
    return {name: SetMembers(_members(each)) for name, each in found.items()}


def _is_filled(name: str, texts: list[bytes]) -> bool:
    lines = [line for text in texts for line in text.split(b"\n") if b"-j SET" in line]
    return any(f"-set {name} ".encode() in line for line in lines)


def _members(each: ipset_save.StoredSet) -> tuple[tuple[AddressSet, frozenset[str], PortSet | None], ...] | None:
    """hash:ip, hash:net and their kin with ports; other types are not known."""
    parts = each.kind.partition(":")[2].split(",")
    if parts[0] not in ("ip", "net") or parts[1:] not in ([], ["port"]):
        return None
    out: list[tuple[AddressSet, frozenset[str], PortSet | None]] = []
    for entry in each.entries:
        address, _, door = entry.partition(",")
        found = _span(address, "ip6" if each.v6 else "ip")
        if found is None:
            return None
        if not parts[1:]:
            out.append((found, frozenset[str](), None))
            continue
        protocol, mark, ports = door.rpartition(":")
        low, _, high = ports.partition("-")
        first, last = port_number(low), port_number(high or low)
        if first is None or last is None or first > last:
            return None
        out.append((found, frozenset((protocol if mark else "tcp",)), PortSet.of([(first, last)])))
    return tuple(out)


def _span(text: str, family: str) -> AddressSet | None:
    low, mark, high = text.partition("-")
    first, last = address_set(low, family), address_set(high, family) if mark else None
    if not mark or first is None or last is None:
        return first if not mark else None
    start = (first.v4 or first.v6)[0][0]
    end = (last.v4 or last.v6)[0][1]
    return AddressSet(v4=((start, end),)) if family == "ip" else AddressSet(v6=((start, end),))
