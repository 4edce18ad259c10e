"""Direct rules of firewalld in the common form (firewalld.direct(5)): rules of iptables beside those that it makes of its zones.

They stand in the chains of iptables that they name, by their priority, and are met before the zones; what they accept is still
asked of those. Passed-through arguments come behind them, as written. Under `FirewallBackend=iptables` firewalld's own rules
stand in the same chains, and they are not followed.
"""

from __future__ import annotations

import shlex

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.formats.iptables_save import Line, LineKind, Word
from nightlatch.formats.xml_tree import Element, XmlFault, parse
from nightlatch.model.gaps import Gap
from nightlatch.origin import Origin
from nightlatch.readings.filters.iptables import BASES, RestoredTables
from nightlatch.readings.filters.iptables_options import RuleFault
from nightlatch.readings.filters.rules import Rules

AREA = "packet filter"
PATH = "/etc/firewalld/direct.xml"
FAMILIES = {"ipv4": "ip", "ipv6": "ip6"}
SPLIT = (("-s", "--source"), ("-d", "--destination"))  # firewalld makes one rule of each address in a list
MOST = 1000


def read(snapshot: Snapshot, backend: str) -> Rules:
    """The rules of its direct.xml; none where there is no such file."""
    raw = snapshot.content(PATH)
    if raw is None:
        return Rules()
    try:
        root = parse(raw)
    except XmlFault as error:
        return Rules(gaps=(Gap(AREA, f"firewalld can't read this file: {error}", Origin(PATH, error.line, error.column)),))
    if root.children and backend != "nftables":
        text = "firewalld loads the rules of this file among its own ones, and they are not followed"
        return Rules(gaps=(Gap(AREA, text, Origin(PATH, root.children[0].line)),))
    made = _Direct()
    made.take(root)
    return made.tables.done()


class _Direct:
    def __init__(self) -> None:
        self.tables = RestoredTables()
        self.begun: set[str] = set()

    def take(self, root: Element) -> None:
        """All of the file, in the order in which firewalld loads it."""
        if len(root.children) > MOST:
            return self.leave(root, "holds more than is read")
        for each in root.all("chain"):
            if self.begin(each):
                self.chain(each)
        named: dict[tuple[str, str, str], list[Element]] = {}
        for each in root.all("rule"):
            if self.begin(each):
                named.setdefault((each.get("ipv"), each.get("table"), each.get("chain")), []).append(each)
        for rules in named.values():
            self.inserted(rules)
        for each in root.all("passthrough"):
            table, words = _of_table(_words(each.text) or [])
            if self.begin(each, table):
                self.rule(each, table, words)
        for each in root.children:
            if each.name not in ("chain", "rule", "passthrough"):
                self.leave(each, f'"{each.name[:40]}" is not read')
        return None

    def begin(self, each: Element, table: str = "") -> bool:
        """Whether an element is about a table of iptables, which is there from then on."""
        family, table = FAMILIES.get(each.get("ipv"), ""), table or each.get("table", "filter")
        if not family:
            self.leave(each, "is about a bridge, or about no family that is known, and not followed")
            return False
        if f"{family} {table}" not in self.begun:
            self.begun.add(f"{family} {table}")
            self.tables.begin(family, table, _at(each), keep=True)
        return True

    def chain(self, each: Element) -> None:
        family, table, name = FAMILIES[each.get("ipv")], each.get("table", "filter"), each.get("chain")
        if f"{family} {table} {name}" not in self.tables.chains:
            self.tables.chain(family, table, name, "-", _at(each))

    def inserted(self, rules: list[Element]) -> None:
        """The rules of one chain by their priority. Firewalld counts places for each name of a chain by itself, so that those
        of INPUT_direct, which is INPUT here, come before those of INPUT that were there already."""
        placed: list[int] = []
        for each in rules:
            table, chain = each.get("table"), each.get("chain")
            plain = chain.removesuffix("_direct")
            chain = plain if plain in BASES.get(table, ()) else chain
            place = 1 + sum(before <= _priority(each) for before in placed)
            many = _split(_words(each.text) or [])
            if many is None:
                self.leave(each, "lists more addresses than are read")
                continue
            for words in many:
                self.rule(each, table, ["-I", chain, str(place), *words])
                placed.append(_priority(each))
                place += 1

    def rule(self, each: Element, table: str, words: list[str]) -> None:
        if _words(each.text) is None or not words:
            return self.leave(each, "is no rule that iptables takes")
        self.tables.made_at = _at(each)
        line = Line(each.line, LineKind.RULE, each.text.encode(), tuple(Word(word, 1) for word in words))
        try:
            self.tables.rule(FAMILIES[each.get("ipv")], table or "filter", line, PATH)
        except RuleFault as error:
            self.leave(each, f"is refused by iptables: {error}")
        return None

    def leave(self, each: Element, why: str) -> None:
        self.tables.gaps.append(Gap(AREA, f"what stands here {why}", _at(each)))


def _at(each: Element) -> Origin:
    return Origin(PATH, each.line, each.column)


def _priority(each: Element) -> int:
    text = each.get("priority", "0")
    return int(text) if text.removeprefix("-").isdecimal() and text.isascii() and len(text) < 10 else 0


def _words(text: str) -> list[str] | None:
    """The arguments as firewalld takes them apart, which is as a shell does; None where a quote has no end."""
    try:
        return shlex.split(text)
    except ValueError:
        return None


def _split(words: list[str]) -> list[list[str]] | None:
    """The arguments, once for each address of a list; None where that would be too many."""
    found = [words]
    for names in SPLIT:
        parted: list[list[str]] = []
        for each in found:
            at = next((n for n, word in enumerate(each[:-1], 1) if word in names and "," in each[n]), 0)
            parted += [[*each[:at], one, *each[at + 1 :]] for one in each[at].split(",")] if at else [each]
            if len(parted) > MOST:
                return None
        found = parted
    return found


def _of_table(words: list[str]) -> tuple[str, list[str]]:
    """The table that passed-through arguments name, and the others."""
    at = next((n for n, word in enumerate(words[:-1]) if word in ("-t", "--table")), -1)
    return ("filter", words) if at < 0 else (words[at + 1], [*words[:at], *words[at + 2 :]])
