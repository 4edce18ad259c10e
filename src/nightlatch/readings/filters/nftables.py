"""Rules of nftables in the common form: from its files, and from what a running kernel lists (nft(8)).

What is matched is the first packet of a new TCP or UDP connection to an address of the guest itself, by a caller whose
rates are not used up. A construct that is not known makes its rule match perhaps; a text that can't be parsed makes
everything undecided.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import lru_cache

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import nft, paths
from nightlatch.formats.nft import BracedList, Item, NftFault, Statement, Word, flat, text_of
from nightlatch.model.gaps import Gap
from nightlatch.model.rules import RuleAction
from nightlatch.net.addresses import ALL_V4, ALL_V6, EVERY_ADDRESS
from nightlatch.net.numbers import whole
from nightlatch.origin import Kind as OriginKind
from nightlatch.origin import Origin
from nightlatch.readings.filters.nft_rules import Sets, rules_of
from nightlatch.readings.filters.places import NFT_LISTED
from nightlatch.readings.filters.rules import Chain, Rule, Rules, answering

FAMILIES = ("ip", "ip6", "inet", "arp", "bridge", "netdev")
PRIORITIES = {"raw": -300, "mangle": -150, "dstnat": -100, "filter": 0, "security": 50, "srcnat": 100}
SEEN = {"ip": ALL_V4, "ip6": ALL_V6, "inet": EVERY_ADDRESS}
MOST_FILES = 200
DEEPEST = 16  # files that include files: nft's own limit
AREA = "packet filter"


def stored(snapshot: Snapshot, main: str) -> Rules:
    """The rules of the main file and all that it includes."""
    content = snapshot.content(main)
    if content is not None and b"include" not in content:
        return _alone(content, snapshot.resolve(main).path)
    builder = _Builder(snapshot)
    builder.file(main, 0)
    return builder.done()


@lru_cache(maxsize=64)
def _alone(content: bytes, path: str) -> Rules:
    """The rules of a file that includes no other; clones share them, so each is read once."""
    builder = _Builder(Snapshot("", {}))
    builder.text(content.decode("utf-8", "replace"), path, 0, OriginKind.FILE)
    return builder.done()


def loaded(snapshot: Snapshot) -> Rules | None:
    """The rules that the kernel has, as it listed them; None where nobody asked."""
    raw = snapshot.listings.get("rules")
    if raw is None:
        return None
    builder = _Builder(snapshot)
    builder.text(raw.decode("utf-8", "replace"), NFT_LISTED, 0, OriginKind.LISTING)
    return builder.done()


@dataclass(frozen=True, slots=True)
class _Placed:
    """A statement of a chain that has its place with it, for it may stand in a file that is included there."""

    items: tuple[Item, ...]
    body: tuple[Statement, ...] | None
    origin: Origin

    @property
    def words(self) -> tuple[str, ...]:
        """The texts of its words, groups left out."""
        return tuple(item.text for item in self.items if isinstance(item, Word))


def _place(each: Statement | _Placed, chain: Origin) -> Origin:
    if isinstance(each, _Placed):
        return each.origin
    return Origin(chain.path, each.line, each.items[0].column, chain.kind)


class _Builder:
    def __init__(self, snapshot: Snapshot) -> None:
        self.snapshot = snapshot
        self.chains: dict[str, Chain] = {}
        self.rules: dict[str, list[tuple[tuple[Item, ...], Origin]]] = {}
        self.sets: Sets = {}
        self.defines: dict[str, tuple[Item, ...]] = {}
        self.gaps: list[Gap] = []
        self.dormant: dict[str, bool] = {}
        self.files = 0

    def done(self) -> Rules:
        chains = {key: replace(chain, rules=tuple(self.read(key))) for key, chain in self.chains.items()}
        for key in [key for key in chains if self.dormant.get(key.rpartition(" ")[0])]:
            chains[key] = replace(chains[key], hook="")  # the kernel keeps the rules, and no packet meets them
        answers = answering(chains, lambda key: list(self.read(key, back=True)))
        return Rules(chains, (*self.gaps, *self.missing(chains), *_unseen(chains)), answers)

    def read(self, key: str, *, back: bool = False) -> Iterator[Rule]:
        """The rules of a chain: for what callers send, or for what is sent back to them."""
        table = key.rpartition(" ")[0]
        family = SEEN.get(table.split()[0], EVERY_ADDRESS)
        for items, at in self.rules.get(key, ()):
            made = rules_of(items, table, at, self.sets, family, back=back)
            # nft leaves out where rules of iptables send packets (measured: 1.0.6, with a set in another table).
            hidden = at.kind is OriginKind.LISTING and table in ("ip nat", "ip6 nat")
            yield from (
                replace(one, does=RuleAction.UNKNOWN) if hidden and one.does is RuleAction.NOTHING else one for one in made
            )

    def missing(self, chains: dict[str, Chain]) -> Iterator[Gap]:
        """Chains, sets and definitions that a file's rules name and that are not there: nft refuses the whole of it then, and
        nothing is loaded (measured: 1.0.6)."""
        for key, chain in chains.items():
            table = key.rpartition(" ")[0]
            for rule in chain.rules:
                if rule.does is RuleAction.REFUSED:
                    yield Gap(AREA, f"nft refuses this rule, for its parts contradict each other: {rule.text}", rule.origin)
                if rule.to and rule.to not in chains:
                    yield Gap(AREA, f"nft refuses this rule, for its chain is not there: {rule.text}", rule.origin)
                for name in re.findall(r"(?<![\w\"])([@$]\w+)", rule.text):
                    if name[0] == "$" or f"{table} {name[1:]}" not in self.sets:
                        yield Gap(AREA, f"nft refuses this rule, for {name} is not there: {rule.text}", rule.origin)

    def file(self, path: str, depth: int) -> None:
        self.files += 1
        content = self.snapshot.content(path)
        if content is None or self.files > MOST_FILES or depth > DEEPEST:
            because = "was not collected" if content is None else "is one of too many, or includes itself"
            self.gaps.append(Gap(AREA, f"this file {because}", Origin(path)))
            return
        self.text(content.decode("utf-8", "replace"), self.snapshot.resolve(path).path, depth, OriginKind.FILE)

    def text(self, text: str, path: str, depth: int, kind: OriginKind) -> None:
        try:
            statements = nft.parse(text)
        except NftFault as error:
            self.gaps.append(Gap(AREA, f"nft refuses this text: {error}", Origin(path, error.line, error.column, kind)))
            return
        for each in statements:
            self.statement(each, path, depth, kind)

    def statement(self, each: Statement, path: str, depth: int, kind: OriginKind) -> None:
        words = each.words
        verb = words[0] if words and words[0] in (*nft.COMMANDS, "flush", "delete", "destroy") else ""
        rest = words[1:] if verb else words
        items = each.items[1:] if verb else each.items
        origin = Origin(path, each.line, each.items[0].column if each.items else 0, kind)
        if not rest:
            return
        if verb in ("flush", "delete", "destroy"):
            self.remove(verb, rest, origin)
        elif rest[0] in ("define", "redefine") and len(items) > 2:
            self.defines[rest[1]] = self.expanded(items[3:])
        elif rest[0] == "include" and len(items) == 2:
            for other in self.included(rest[1], origin):
                self.file(other, depth + 1)
        elif rest[0] == "table":
            table = _table(rest[1:])
            # A table that is named again without its flags is awake again (measured: nft 1.0.6).
            self.dormant[table] = any(part.words[:1] == ("flags",) and "dormant" in part.words for part in each.body or ())
            for part in each.body or ():
                self.part(table, part, path, depth, kind)
        elif rest[0] in ("chain", "set", "map", "element", "rule"):
            table, names, left = _addressed(items[1:])
            self.named(verb, rest[0], table, names, left, each.body, origin)
        elif rest[0] not in ("undefine", "counter", "quota", "limit", "flowtable", "ct", "reset", "list", "monitor"):
            self.gaps.append(Gap(AREA, f'"{rest[0]}" is no command that is read', origin))

    def part(self, table: str, each: Statement, path: str, depth: int, kind: OriginKind) -> None:
        words = each.words
        origin = Origin(path, each.line, each.items[0].column if each.items else 0, kind)
        if words and words[0] in ("chain", "set", "map") and len(words) > 1:
            body: tuple[Statement | _Placed, ...] | None = each.body
            if words[0] == "chain" and each.body is not None:
                body = tuple(self.opened(each.body, path, depth, kind))
            self.named("", words[0], table, words[1], (), body, origin)
        elif words[:1] == ("include",) and len(words) == 2:
            for other, inner in self.inside(words[1], origin, depth):
                for one in inner:
                    self.part(table, one, other, depth + 1, OriginKind.FILE)

    def opened(self, body: tuple[Statement, ...], path: str, depth: int, kind: OriginKind) -> Iterator[_Placed]:
        """The statements of a chain, those of files that it includes in the place of the line that does."""
        for each in body:
            if each.words[:1] == ("include",) and len(each.words) == 2:
                at = Origin(path, each.line, each.items[0].column, kind)
                for other, inner in self.inside(each.words[1], at, depth):
                    yield from self.opened(inner, other, depth + 1, OriginKind.FILE)
            else:
                at = Origin(path, each.line, each.items[0].column if each.items else 0, kind)
                yield _Placed(each.items, each.body, at)

    def inside(self, pattern: str, origin: Origin, depth: int) -> Iterator[tuple[str, tuple[Statement, ...]]]:
        """The statements of the files that are included inside of a table or a chain."""
        for path in self.included(pattern, origin):
            self.files += 1
            content = self.snapshot.content(path)
            if content is None or self.files > MOST_FILES or depth > DEEPEST:
                self.gaps.append(Gap(AREA, f"{path}, which is included here, was not read", origin))
                continue
            try:
                yield path, nft.parse(content.decode("utf-8", "replace"))
            except NftFault as error:
                place = Origin(path, error.line, error.column)
                self.gaps.append(Gap(AREA, f"nft refuses this text: {error}", place))

    def named(
        self,
        verb: str,
        what: str,
        table: str,
        name: str,
        items: tuple[Item, ...],
        body: tuple[Statement | _Placed, ...] | None,
        origin: Origin,
    ) -> None:
        key = f"{table} {name}"
        if what == "chain":
            self.chain(key, body or (), origin)
        elif what in ("set", "map"):
            self.set(key, tuple(each for each in body or () if isinstance(each, Statement)))
        elif what == "element":
            groups = [item for item in self.expanded(items) if isinstance(item, BracedList)]
            self.sets.setdefault(key, [])
            known = self.sets[key]
            if known is not None:
                known += [element for group in groups for element in group.elements]
        else:
            self.rule(verb, key, items, origin)

    def rule(self, verb: str, key: str, items: tuple[Item, ...], origin: Origin) -> None:
        """One more rule: at an end of its chain, or beside the one that `index` counts from 0 (measured: nft 1.0.6)."""
        held = self.rules.setdefault(key, [])
        where = [item.text if isinstance(item, Word) else "" for item in items[:2]]
        at = 0 if verb == "insert" else len(held)
        if where[:1] == ["index"]:
            number = whole(where[1] if where[1:] else "")
            if number is None or number >= len(held):
                self.gaps.append(Gap(AREA, "nft refuses this rule: there is none at that index", origin))
                return
            at, items = number + (verb != "insert"), items[2:]
        elif where[:1] in (["position"], ["handle"]) or verb == "replace":
            self.gaps.append(Gap(AREA, "which rule this one stands beside is not known: its handle is the kernel's", origin))
            return
        held.insert(at, (self.expanded(items), origin))

    def chain(self, key: str, body: tuple[Statement | _Placed, ...], origin: Origin) -> None:
        made = self.chains.get(key) or Chain(key, (), origin, only=SEEN.get(key.split()[0], EVERY_ADDRESS))
        held = self.rules.setdefault(key, [])
        for each in body:
            words = each.words
            if words[:1] == ("type",) and "hook" in words:
                items = self.expanded(each.items)
                made = _base(made, tuple(text_of(item) for item in items if isinstance(item, Word)), items)
            elif words[:1] == ("policy",):
                policy = tuple(text_of(item) for item in self.expanded(each.items)[1:2])
                made = replace(made, accepts=policy != ("drop",))
                if policy not in (("drop",), ("accept",)):
                    self.gaps.append(Gap(AREA, f"the policy {' '.join(policy)[:40]} is not known", origin))
            elif words[:1] not in (("comment",), ("flags",), ("device",), ("devices",)):
                held.append((self.expanded(each.items), _place(each, origin)))
        self.chains[key] = made

    def set(self, key: str, body: tuple[Statement, ...]) -> None:
        """A named set or map: its elements, or None where the kernel fills it while it runs."""
        found: list[tuple[Item, ...]] = []
        filled = False
        for each in body:
            words = each.words
            if words[:1] == ("elements",):
                for item in self.expanded(each.items[2:]):
                    found += item.elements if isinstance(item, BracedList) else [(item,)]
            filled = filled or (words[:1] == ("flags",) and bool({"dynamic", "timeout"} & set(words)))
        asked = self.snapshot.listings.get("rules") is not None
        self.sets[key] = None if filled and not asked and not found else found

    def expanded(self, items: tuple[Item, ...]) -> tuple[Item, ...]:
        """The items with what `$name` stands for in place of it."""
        if not self.defines:
            return items
        out: list[Item] = []
        for item in items:
            if isinstance(item, BracedList):
                elements = [part for each in item.elements for part in self._elements(each)]
                out.append(BracedList(tuple(elements), item.line, item.column))
            elif item.text.startswith("$") and item.text[1:] in self.defines:
                out += self.defines[item.text[1:]]
            else:
                out.append(item)
        return tuple(out)

    def _elements(self, each: tuple[Item, ...]) -> Iterator[tuple[Item, ...]]:
        """One element, or those of a set that stands for it by name."""
        made = self.expanded(each)
        if len(made) == 1 and isinstance(made[0], BracedList) and len(each) == 1:
            yield from made[0].elements
        else:
            yield made

    def included(self, pattern: str, origin: Origin) -> list[str]:
        """The files that an include names (nft(8), INCLUDING FILES)."""
        named = pattern if pattern.startswith("/") else f"/etc/{pattern}"

        def names(folder: str) -> list[str]:
            real = self.snapshot.resolve(folder).path
            if not self.snapshot.is_listed(real):
                self.gaps.append(Gap(AREA, f"the folder {folder} was not collected", origin))
            return self.snapshot.children(real)

        def there(path: str) -> bool:
            entry = self.snapshot.resolve(path).entry
            return entry is None or entry.kind is not EntryKind.ABSENT

        return paths.expand(named, names, there)

    def remove(self, verb: str, words: tuple[str, ...], origin: Origin) -> None:
        what = words[0]
        if what == "ruleset":
            gone = f"{words[1]} " if len(words) > 1 else ""
        elif what == "table":
            gone = f"{_table(words[1:])} "
        elif what == "chain":
            table, names, _ = _addressed(tuple(Word(text, 0, 0) for text in words[1:]))
            gone = f"{table} {names}"
        else:
            self.gaps.append(Gap(AREA, f'"{verb} {what}" is not read', origin))
            return
        whole = gone.endswith(" ") or not gone
        for key in [key for key in self.rules if key == gone or (whole and key.startswith(gone))]:
            self.rules[key] = []
            if verb != "flush" or what == "ruleset":
                self.chains.pop(key, None)


def _table(words: tuple[str, ...]) -> str:
    return f"{words[0]} {words[1]}" if len(words) > 1 and words[0] in FAMILIES else f"ip {words[0] if words else ''}"


def _addressed(items: tuple[Item, ...]) -> tuple[str, str, tuple[Item, ...]]:
    """Table, name and the rest of `[FAMILY] TABLE NAME ...`."""
    words = [item.text if isinstance(item, Word) else "" for item in items[:3]]
    start = 1 if words and words[0] in FAMILIES else 0
    family = words[0] if start else "ip"
    names = [*words, "", "", ""][start : start + 2]
    return f"{family} {names[0]}", names[1], items[start + 2 :]


def _base(chain: Chain, words: tuple[str, ...], items: tuple[Item, ...]) -> Chain:
    """`type filter hook input priority filter + 10`, `type filter hook ingress devices = { eth0, eth1 } priority 0`."""
    hook = words[words.index("hook") + 1] if words.index("hook") + 1 < len(words) else ""
    text = "".join(words[words.index("priority") + 1 :]) if "priority" in words else "0"
    found = re.fullmatch(r"([a-z]*)([+-]?[0-9]{0,9})", text)
    number = PRIORITIES.get(found[1], 0) + int(found[2] or 0) if found and found[2] not in ("+", "-") else 0
    kind = words[1] if len(words) > 1 else "filter"
    return replace(chain, hook=hook, priority=number, kind=kind, devices=_devices(items))


def _devices(items: tuple[Item, ...]) -> tuple[str, ...]:
    texts = [text_of(item) for item in items]
    start = next((n for n, text in enumerate(texts) if text in ("device", "devices")), len(items)) + 1
    end = texts.index("priority") if "priority" in texts else len(items)
    return tuple(text for item in flat(items[start:end]) if (text := text_of(item)) not in ("", "="))


def _unseen(chains: dict[str, Chain]) -> Iterator[Gap]:
    """Chains by which a packet may be lost where nothing is followed: those of bridges."""
    for chain in chains.values():
        does = {rule.does for rule in chain.rules} - {RuleAction.ACCEPT, RuleAction.NOTHING, RuleAction.RETURN}
        if chain.key.split()[0] == "bridge" and chain.hook not in ("", "forward") and (does or not chain.accepts):
            yield Gap(AREA, f"the {chain.hook} hook of bridge is not followed", chain.origin)
