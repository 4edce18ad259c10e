"""One rule of nftables in the common form: its matches, its statements, its verdict (nft(8), EXPRESSIONS and STATEMENTS)."""

from __future__ import annotations

from dataclasses import replace

from nightlatch.formats.nft import BracedList, Item, Word, flat, shown, text_of
from nightlatch.model.rules import RuleAction
from nightlatch.net.addresses import ALL_V4, ALL_V6, EVERY_ADDRESS, AddressSet
from nightlatch.origin import Kind, Origin
from nightlatch.readings.filters.iptables_words import GOING_ON, VERDICTS
from nightlatch.readings.filters.match_parts import PROTOCOL_NAMES, Part, of_opening, of_protocol, of_source
from nightlatch.readings.filters.nft_matches import Elements, packets, sent_to, single
from nightlatch.readings.filters.rules import Match, Redirect, Rule

Sets = dict[str, Elements | None]


OPERATORS = ("==", "!=", "!", "<", ">", "<=", ">=")
PAIRS = tuple(
    """
    ip ip6 tcp udp sctp dccp udplite th meta ct icmp icmpv6 ether vlan arp socket rt osf igmp esp ah comp exthdr
    frag hbh dst srh mh
""".split()
)
SINGLES = tuple(
    """
    iif iifname iiftype oif oifname oiftype iifgroup oifgroup mark skuid skgid pkttype cgroup nftrace fib length
    protocol priority cpu numgen jhash symhash
""".split()
)
ENDS = {
    "accept": RuleAction.ACCEPT,
    "drop": RuleAction.DROP,
    "continue": RuleAction.NOTHING,
    "return": RuleAction.RETURN,
    "queue": RuleAction.UNKNOWN,
    "reject": RuleAction.REJECT,
    "dnat": RuleAction.REWRITE,
    "redirect": RuleAction.REWRITE,
    "tproxy": RuleAction.REWRITE,
    "snat": RuleAction.REWRITE,
    "masquerade": RuleAction.REWRITE,
    "notrack": RuleAction.UNKNOWN,
    "synproxy": RuleAction.UNKNOWN,
    "fwd": RuleAction.UNKNOWN,
}
STARTS = frozenset(
    (
        *PAIRS,
        *SINGLES,
        *ENDS,
        "jump",
        "goto",
        "counter",
        "log",
        "limit",
        "quota",
        "comment",
        "add",
        "update",
        "delete",
        "meter",
        "set",
        "xt",
    )
)
FAMILIES = {"ipv4": "ip", "ipv6": "ip6"}
TRANSPORTS = ("tcp", "udp", "sctp", "dccp", "udplite")
MOST_ELEMENTS = 200_000


TURNED = {"saddr": "daddr", "sport": "dport", "iif": "oif", "iifname": "oifname"}
TURNED |= {there: here for here, there in TURNED.items()}


def rules_of(
    items: tuple[Item, ...], table: str, origin: Origin, sets: Sets, family: AddressSet, *, back: bool = False
) -> list[Rule]:
    """What one rule's text comes to: one rule, or one for each element of a verdict map; `back` reads it for packets that are
    sent back to the caller."""
    return _Reader(items, table, origin, sets, family, back=back).rules()


class _Reader:
    def __init__(
        self, items: tuple[Item, ...], table: str, origin: Origin, sets: Sets, family: AddressSet, *, back: bool
    ) -> None:
        self.items, self.table, self.origin, self.sets, self.back = items, table, origin, sets, back
        self.at = 0
        self.matches: list[Match] = [Match(sources=family)]
        self.made: list[Rule] = []
        # What was asked for so far, and whether nft refuses what came then.
        self.families: set[str] = set()
        self.transports: set[str] = set()
        self.last = ""
        self.refused = False

    def rules(self) -> list[Rule]:
        while self.at < len(self.items):
            if self.step():
                break
        else:
            self.end(RuleAction.NOTHING)
        # What the kernel lists, it has: the listing only leaves parts out that it takes for granted.
        if self.origin.kind is Kind.FILE and self.refused:
            return [Rule((Match(),), RuleAction.REFUSED, self.origin, shown(self.items))]
        return self.made

    def word(self, ahead: int = 0) -> str:
        place = self.at + ahead
        item = self.items[place] if place < len(self.items) else None
        return item.text if isinstance(item, Word) else ""

    def end(self, does: RuleAction, to: str = "", onto: Redirect | None = None) -> None:
        target = f"{self.table} {to}" if to else ""
        self.made.append(Rule(tuple(self.matches), does, self.origin, shown(self.items), target, onto))

    def unread(self, text: str) -> None:
        self.matches = [replace(match, unread=(*match.unread, text)) for match in self.matches]

    def narrow(self, part: Part) -> None:
        self.matches = [made for match in self.matches if (made := part(match)) is not None]

    def step(self) -> bool:
        """Read one statement or match; True when the rule ends with it."""
        word = self.word()
        if word in ENDS:
            if word == "reject":
                self.refusal()
            onto = sent_to([text_of(item) for item in self.items[self.at :]]) if word in ("redirect", "dnat") else None
            if onto is not None and onto.target is not None:  # an address is written to packets of its own family only
                family = ALL_V4 if onto.target.v4 else ALL_V6
                self.narrow(lambda match: of_source(match, family))
            self.end(ENDS[word], onto=onto)
            return True
        if word in ("jump", "goto"):
            self.end(RuleAction.JUMP if word == "jump" else RuleAction.GOTO, self.word(1))
            return True
        if word == "counter":
            self.at += {"name": 3, "packets": 5}.get(self.word(1), 1)
        elif word == "log":
            self.log()
        elif word == "comment":
            self.at += 2
        elif word in ("limit", "quota"):
            self.rate()
        elif word in ("add", "update", "delete", "meter", "set"):
            self.dynamic()
        elif word in ("meta", "ct") and self.word(2) == "set":
            self.at += 4
        elif word == "xt":
            return self.foreign()
        elif word in PAIRS or word in SINGLES:
            return self.expression()
        else:
            self.skip()
        return False

    def foreign(self) -> bool:
        """`xt match NAME` or `xt target NAME`: a part that iptables made and that the listing says no more of."""
        kind, name = self.word(1), self.word(2)
        self.at += 3
        if kind == "match":
            self.unread(f"xt match {name}")
        elif name not in GOING_ON:
            self.end(VERDICTS.get(name, RuleAction.UNKNOWN))
            return True
        return False

    def refusal(self) -> None:
        """The kind of a refusal limits what it is for: a reset is for TCP, a message for its own family."""
        how = (self.word(2), self.word(3)) if self.word(1) == "with" else ("", "")
        if how == ("tcp", "reset"):
            self.refused = self.refused or self.last not in (
                "",
                "tcp",
            )  # what was named last is all that nft holds it against
            self.narrow(lambda match: of_protocol(match, {"tcp"}))
            # The listing leaves out a family that was asked for before (measured: nft 1.0.6), so it is not known.
            if self.origin.kind is Kind.LISTING and self.table.startswith("inet "):
                self.matches = [
                    replace(m, unread=(*m.unread, "its family")) if m.sources == EVERY_ADDRESS else m for m in self.matches
                ]
        elif how[0] in ("icmp", "icmpv6"):
            self.narrow(lambda match: of_source(match, ALL_V4 if how[0] == "icmp" else ALL_V6))

    def log(self) -> None:
        self.at += 1
        while self.word() in ("prefix", "level", "group", "snaplen", "queue-threshold", "flags"):
            self.at += 3 if self.word(1) == "tcp" or self.word(1) == "ip" else 2
            while self.word() == ",":
                self.at += 2

    def rate(self) -> None:
        """A rate that is not used up holds; one that would be exceeded does not."""
        start = self.at
        over = False
        self.at += 1
        if self.word() == "name":
            self.at += 2
            self.unread(shown(self.items[start : self.at]))
            return
        while self.at < len(self.items) and (self.word() not in STARTS):
            over = over or self.word() == "over"
            self.at += 1
        if over:
            self.matches = []

    def dynamic(self) -> None:
        """`update @set { ip saddr limit rate over ... }`: what it keeps of callers begins empty."""
        start = self.at
        while self.at < len(self.items) and not isinstance(self.items[self.at], BracedList):
            self.at += 1
        inside = [item.text for item in flat(self.items[start : self.at + 1]) if isinstance(item, Word)]
        self.at += 1
        if "over" in inside:
            self.matches = []
        elif self.items[start:][:1] and self.word(start - self.at) == "set":
            self.unread(shown(self.items[start : self.at]))

    def skip(self) -> None:
        """Skips unknown words, up to the next known one."""
        start = self.at
        self.at += 1
        while self.at < len(self.items) and self.word() not in STARTS:
            self.at += 1
        self.unread(shown(self.items[start : self.at]))

    def expression(self) -> bool:
        """A match, with what it is compared to; True for a verdict map, which ends the rule."""
        start = self.at
        heads = [self.head()]
        while self.word() == ".":
            self.at += 1
            heads.append(self.head())
        if heads == ["tcp flags"]:
            self.flags()
            return False
        if heads[0].startswith("fib "):
            if not self.way_back(heads):
                self.fib(heads, start)
            return False
        if self.word() == "vmap":
            self.at += 1
            self.verdicts(heads)
            return True
        negated = self.word() in ("!=", "!")
        if self.word() in OPERATORS:
            if self.word() in ("==", "!=", "!"):
                self.at += 1
            else:
                self.skip_from(start)
                return False
        elif self.word() in ("&", "|", "^", "<<", ">>", "and", "or", "map"):
            self.skip_from(start)
            return False
        elements = self.values()
        if elements is None or (negated and len(heads) > 1):
            self.unread(shown(self.items[start : self.at]))
            return False
        self.compare(heads, elements, negated, start)
        return False

    def note(self, head: str, elements: Elements, negated: bool) -> None:
        """Which family and transport a rule asks for: nft refuses a header of another than was asked for before; a `meta` that
        contradicts never matches (measured: 1.0.6)."""
        first = head.split()[0]
        named = [PROTOCOL_NAMES.get(text_of(each[0]), text_of(each[0])) for each in elements if each and not negated]
        found = set(named)
        if first in ("ip", "ip6"):
            self.refused = self.refused or not self.families <= {first}
            self.families = {first}
        elif head == "nfproto" and found:  # what stands behind it is held against it, not what stands before
            self.families = {FAMILIES[word] for word in found if word in FAMILIES}
        if first in TRANSPORTS:
            self.refused = self.refused or not self.transports <= {first}
            self.transports, self.last = {first}, first
        elif head == "l4proto" and named:
            self.transports |= found
            self.last = named[-1]

    def compare(self, heads: list[str], elements: Elements, negated: bool, start: int) -> None:
        for head in heads:
            self.note(head, elements if len(heads) == 1 else [], negated)
        if self.back and {"oif", "oifname"} & set(heads):  # what the guest sends came in by none (measured: Linux 6.18)
            self.matches = []
            return
        if len(heads) == 1:
            part = None if self.back and heads == ["pkttype"] else single(heads[0], elements, negated)
            if part is None:
                self.unread(shown(self.items[start : self.at]))
            else:
                self.narrow(part)
            return
        made: list[Match] = []
        for element in elements[:MOST_ELEMENTS]:
            parts = _parts(element, len(heads))
            narrowed = [single(head, [value], False) for head, value in zip(heads, parts, strict=False)]
            if len(parts) != len(heads) or None in narrowed:
                self.unread(shown(self.items[start : self.at]))
                return
            for match in self.matches:
                kept: Match | None = match
                for each in narrowed:
                    kept = each(kept) if kept is not None and each is not None else None
                made += [kept] if kept is not None else []
        self.matches = made

    def head(self) -> str:
        """The name of what is compared: `ip saddr`, `iifname`, `fib saddr . iif oif`."""
        word = self.word()
        if word == "fib":
            end = self.at + 1
            while (
                end < len(self.items) and self.items[end : end + 1] and text_of(self.items[end]) not in ("type", "oif", "oifname")
            ):
                end += 1
            name = " ".join(text_of(item) for item in self.items[self.at : end + 1])
            self.at = end + 1
            return name
        if word in PAIRS:
            name = self.word(1)
            self.at += 2
            if word in ("ct",) and name in ("original", "reply"):
                name = f"{name} {self.word()}"
                self.at += 1
            return self.turned(name) if word == "meta" else self.turned(f"{word} {name}")
        self.at += 1
        return self.turned(word)

    def turned(self, head: str) -> str:
        """A field of an answer, turned to the caller's side: the receiver of the answer is the caller."""
        first, _, last = head.rpartition(" ")
        return f"{first} {TURNED.get(last, last)}".strip() if self.back else head

    def values(self) -> Elements | None:
        """The elements of a set in braces, of one by name, or the value itself; None where they are not known."""
        item = self.items[self.at] if self.at < len(self.items) else None
        self.at += 1
        if isinstance(item, BracedList):
            return list(item.elements)
        if item is None:
            return None
        if item.text.startswith("@"):
            return self.sets.get(f"{self.table} {item.text[1:]}")
        out: Elements = []
        current: list[Item] = [item]
        while self.word() in (",", "."):
            if self.word() == ",":
                out.append(tuple(current))
                current = []
            else:
                current.append(self.items[self.at])
            self.at += 1
            if self.at < len(self.items):
                current.append(self.items[self.at])
                self.at += 1
        return [*out, tuple(current)]

    def skip_from(self, start: int) -> None:
        while self.at < len(self.items) and (self.word() not in STARTS):
            self.at += 1
        self.unread(shown(self.items[start : self.at]))

    def verdicts(self, heads: list[str]) -> None:
        """A rule for each element of the map; what is not in it goes on to the next rule."""
        start = self.at
        elements = self.values()
        before = self.matches
        if elements is None:
            self.unread(shown(self.items[start : self.at]))
            self.end(RuleAction.UNKNOWN)
            return
        for element in elements:
            key, verdict = _halves(element)
            self.matches = before
            self.compare(heads, [key], False, start)
            word = verdict[0] if verdict else ""
            if word in ("jump", "goto") and len(verdict) > 1:
                self.end(RuleAction.JUMP if word == "jump" else RuleAction.GOTO, verdict[1])
            else:
                self.end(ENDS.get(word, RuleAction.UNKNOWN))

    def flags(self) -> None:
        """`tcp flags` against those of the packet that opens a connection, and of those that follow."""
        start = self.at
        self.note("tcp flags", [], False)
        while self.at < len(self.items) and self.word() not in STARTS - {"set"}:
            self.at += 1
        holds = packets([text_of(item) for item in flat(self.items[start : self.at])], back=self.back)
        self.narrow(lambda match: of_protocol(match, {"tcp"}))
        if holds is None or (holds[1] is None and not holds[0]):
            self.unread("tcp flags " + shown(self.items[start : self.at]))
        elif not any(holds):
            self.matches = []
        elif holds != (True, True) and holds[1] is not None:
            self.narrow(lambda match: of_opening(match, holds[0]))

    def fib(self, heads: list[str], start: int) -> None:
        """The kind of an address by the guest's own routes: what comes to the guest itself is local."""
        negated = self.word() == "!="
        self.at += 1 if self.word() in OPERATORS else 0
        elements = self.values()
        found = {text_of(item) for element in elements or () for item in element}
        # iptables' match for kinds of addresses is listed in these words, too, and means something else in IPv6.
        foreign = self.origin.kind is Kind.LISTING and self.table.startswith("ip6 ") and found != {"local"}
        if elements is None or heads != ["fib daddr type"] or foreign or self.back:
            self.unread(shown(self.items[start : self.at]))
        elif ("local" in found) == negated:
            self.matches = []

    def way_back(self, heads: list[str]) -> bool:
        """`fib saddr . iif oif missing`: callers who are answered by another interface, or not at all."""
        words = heads[0].split()
        if len(heads) > 1 or words[1] != "saddr" or "iif" not in words or words[-1] not in ("oif", "oifname"):
            return False
        if self.word() != "missing":
            return False
        self.at += 1
        if self.back:
            self.unread(f"{heads[0]} missing")
        else:
            self.narrow(lambda match: replace(match, astray=True))
        return True


def _parts(element: tuple[Item, ...], count: int) -> list[tuple[Item, ...]]:
    """The parts of a concatenation: `10.0.0.1 . 22`."""
    out: list[list[Item]] = [[]]
    for item in element:
        if text_of(item) == ".":
            out.append([])
        elif text_of(item) in ("timeout", "expires", "counter", "comment") and len(out) == count:
            break
        else:
            out[-1].append(item)
    return [tuple(part) for part in out]


def _halves(element: tuple[Item, ...]) -> tuple[tuple[Item, ...], list[str]]:
    """Key and verdict of an element of a verdict map."""
    for number, item in enumerate(element):
        text = text_of(item)
        if text == ":":
            return element[:number], [text_of(each) for each in element[number + 1 :]]
        if text.endswith(":") and not text.endswith("::") and isinstance(item, Word):
            key = replace(item, text=text[:-1])
            return (*element[:number], key), [text_of(each) for each in element[number + 1 :]]
    return element, []
