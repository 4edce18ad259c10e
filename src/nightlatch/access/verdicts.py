"""Which callers a packet filter lets through to one port: two bounds for all sources at once, and the rule that decides.

The chains are walked once with the whole set of sources. A rule that surely matches takes its sources out of what goes
on; one that matches perhaps leaves them in. So every outcome that is possible for a source is found, and where only one
is possible, it is certain. An accept ends one base chain, not those behind it; a drop ends all.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from enum import Enum
from fnmatch import fnmatchcase
from functools import lru_cache
from itertools import groupby

from nightlatch.model.bounds import Addresses, Bounds, in_all, in_any
from nightlatch.model.gaps import Gap
from nightlatch.model.rules import RuleAction
from nightlatch.net.addresses import EVERY_ADDRESS, LOOPBACK, NO_ADDRESS, AddressSet, union
from nightlatch.origin import Origin
from nightlatch.readings.filters.rules import INWARD, OUTWARD, Chain, Match, Rule, Rules

MOST_ENTERED = 10_000  # chains on one way through: a guest's rules may lead through the same ones again and again
DEEPEST = 16  # nft refuses deeper jumps (NFT_JUMP_STACK_SIZE)
AREA = "packet filter"
MOST_NAMED = 12
MOST_DIALS = 256
TRACKING, SENDING = -200, -100  # priorities at which connections are tracked, and packets sent elsewhere


@dataclass(frozen=True, slots=True)
class Flow:
    """A packet to the guest: its protocol, port, the guest's addresses that are dialled (None: any), and the names of the
    interfaces by which it may come in; whether it was `sent` here from another address or port, is the first of its
    connection (`opens`), and the `state` that this has for the filter."""

    protocol: str
    port: int
    targets: AddressSet | None = None
    interfaces: tuple[str, ...] = ()
    sent: bool = False
    opens: bool = True
    state: str = "new"


class Packet(Enum):
    """Which of a connection's packets a rule decided about."""

    OPENING = "the first one"
    FOLLOWING = "those that follow"
    ANSWER = "what the guest sends back"


@dataclass(frozen=True, slots=True)
class RuleVerdict:
    """The action of a rule, or of a `policy`, on the sources it `matched` as far as they were still `there`; `text` is
    the rule's own.

    Not `sure` where the rule, or one before it that would decide otherwise, matches only perhaps. `packet` says about which.
    """

    does: RuleAction
    matched: AddressSet
    origin: Origin
    text: str
    there: AddressSet = EVERY_ADDRESS
    sure: bool = True
    packet: Packet = Packet.OPENING
    policy: bool = False

    @property
    def sources(self) -> AddressSet:
        """Those that it decided about."""
        return self.matched & self.there


@dataclass
class _Walk:
    """The possible outcomes for sources: dropped, refused or undecided, and by which rules."""

    flow: Flow
    rules: Rules
    lost: list[AddressSet] = field(default_factory=list)
    unsure: dict[Gap, None] = field(default_factory=dict)
    verdicts: list[RuleVerdict] = field(default_factory=list)
    unknown: list[AddressSet] = field(default_factory=list)
    doubt: AddressSet = NO_ADDRESS
    sent: list[tuple[Flow, AddressSet]] = field(default_factory=list)
    rewrites: bool = False
    entered: int = 0

    def decide(
        self,
        does: RuleAction,
        sources: AddressSet,
        origin: Origin,
        text: str,
        there: AddressSet = EVERY_ADDRESS,
        *,
        policy: bool = False,
    ) -> None:
        """Note that a rule or a policy decides about sources."""
        sure = not self.doubt or not self.doubt & sources & there
        self.verdicts.append(RuleVerdict(does, sources, origin, text, there, sure, policy=policy))


@lru_cache(maxsize=64)  # clones share their rules, and several checks ask the same
def passed(rules: Rules, flow: Flow, dialled: int | None = None) -> Addresses:
    """The sources that come through to the port: by dialling this one, or by whichever leads there."""
    dialling = dials(rules, flow) if dialled is None else [replace(flow, port=dialled)]
    through = in_any(_passed(rules, each, flow) for each in dialling)
    if rules.gaps:
        return Bounds(NO_ADDRESS, EVERY_ADDRESS, (*rules.gaps, *through.because))
    return through


def _passed(rules: Rules, dialled: Flow, wanted: Flow) -> Addresses:
    """Callers whose first packet and later packets get through, and who get answers."""
    first = _bounds(*_walked(rules, dialled, wanted))
    if not first.perhaps:
        return first
    answers = [_bounds(*_answered(rules, dialled, wanted))] if rules.answers else []
    return in_all([first, _bounds(*_followed(rules, dialled, wanted)), *answers])


def _bounds(through: AddressSet, walk: _Walk) -> Addresses:
    lost, unknown = union(walk.lost), union(walk.unknown)
    surely = through - lost - unknown
    perhaps = through | unknown
    return Bounds(surely, perhaps, tuple(walk.unsure)[:MOST_NAMED] if surely != perhaps else ())


def dials(rules: Rules, flow: Flow) -> list[Flow]:
    """Ports that lead to the flow's port when they are dialled: that port, and those that a rule redirects to it. Between
    two limits that rules name all ports are alike, so one of each stretch is enough."""
    sending = [
        match.ports
        for chain in rules.chains.values()
        for rule in chain.rules
        if rule.does is RuleAction.REWRITE and (rule.onto is None or rule.onto.port == flow.port)
        for match in rule.matches
        if match.protocols is None or flow.protocol in match.protocols
    ]
    if not sending:
        return [flow]
    named = (match.ports for chain in rules.chains.values() for rule in chain.rules for match in rule.matches)
    limits = {1} | {limit for ports in named if ports for low, high in ports.ranges for limit in (low, high + 1)}
    found = sorted(limit for limit in limits if 0 < limit < 65536 and any(p is None or limit in p for p in sending))
    return [flow, *(replace(flow, port=port) for port in found[:MOST_DIALS] if port != flow.port)]


@lru_cache(maxsize=64)  # as `passed`
def verdicts(rules: Rules, flow: Flow) -> tuple[RuleVerdict, ...]:
    """Every rule and policy that decides about some source, in the order in which they are met."""
    first = _walked(rules, flow, flow)[1].verdicts
    later = {
        Packet.FOLLOWING: _followed(rules, flow, flow)[1].verdicts,
        Packet.ANSWER: _answered(rules, flow, flow)[1].verdicts,
    }
    lost = (
        replace(each, packet=packet)
        for packet, found in later.items()
        for each in found
        if each.does in (RuleAction.DROP, RuleAction.REJECT) and each not in first
    )
    return (*first, *lost)


def deciding(rules: Rules, flow: Flow, source: AddressSet, does: tuple[RuleAction, ...]) -> RuleVerdict | None:
    """The first rule or policy that does one of these to some of `source`."""
    return next((each for each in verdicts(rules, flow) if each.does in does and each.matched & source & each.there), None)


def _walked(rules: Rules, dialled: Flow, wanted: Flow) -> tuple[AddressSet, _Walk]:
    """Callers that reach the wanted port by dialling it, or another one."""
    walk = _Walk(dialled, rules)
    states = [(dialled, EVERY_ADDRESS)]
    for chain in rules.at(*INWARD):
        if chain.kind == "nat" and chain.hook == "input":
            continue  # it rewrites sources of the guest's own, and filters nothing
        after: list[tuple[Flow, AddressSet]] = []
        for flow, now in states:
            if flow.sent and chain.kind == "nat":  # a connection is sent elsewhere once
                after.append((flow, now))
                continue
            state = "new" if _is_tracked(chain) else "invalid"
            walk.flow, walk.sent, walk.rewrites = replace(flow, state=state), [], chain.kind == "nat"
            after.append((flow, _through(walk, chain, now)))
            after += walk.sent
        states = after
    out = []
    for flow, now in states:
        if flow.port != wanted.port:
            continue
        near = not flow.sent or flow.targets is None or (wanted.targets is not None and not flow.targets & LOOPBACK)
        if not near:
            walk.unknown.append(now)
        elif not flow.sent or flow.targets is None or wanted.targets is None or flow.targets <= wanted.targets:
            out.append(now)
    return union(out), walk


def _followed(rules: Rules, dialled: Flow, wanted: Flow) -> tuple[AddressSet, _Walk]:
    """Callers whose packets after the first one get through: where that is sent, they go without being asked about it
    again."""
    walk = _Walk(dialled, rules)
    there = replace(wanted, sent=dialled.port != wanted.port)
    now = EVERY_ADDRESS
    for chain in rules.at(*INWARD):
        if chain.kind != "nat":
            before = chain.hook == "ingress" or (chain.hook == "prerouting" and chain.priority < SENDING)
            flow = replace(dialled if before else there, opens=False)
            walk.flow = replace(flow, state="established" if _is_tracked(chain) else "invalid")
            now = _through(walk, chain, now)
    return now, walk


def _answered(rules: Rules, dialled: Flow, wanted: Flow) -> tuple[AddressSet, _Walk]:
    """Callers that the guest's answers reach; the receiver of an answer stands for a source here. An answer goes out
    by the interface that calls come in by, as far as is known, from the port that was dialled once that is put back
    (NF_IP_PRI_NAT_SRC)."""
    walk = _Walk(dialled, Rules(rules.answers))
    now = EVERY_ADDRESS
    for chain in walk.rules.at(*OUTWARD):
        told = wanted if chain.hook == "output" or chain.priority < -SENDING else replace(wanted, port=dialled.port)
        state = "established" if _is_tracked(chain) else "invalid"
        walk.flow = replace(told, sent=dialled.port != wanted.port, opens=False, state=state)
        now = _through(walk, chain, now)
    return now, walk


def _is_tracked(chain: Chain) -> bool:
    """Whether connections are known by then: before that every packet's state is invalid (nf_conntrack: priority -200)."""
    return chain.hook != "ingress" and (chain.hook not in ("prerouting", "output") or chain.priority > TRACKING)


def _through(walk: _Walk, chain: Chain, now: AddressSet) -> AddressSet:
    """The sources that are left behind one base chain."""
    if chain.devices and not (walk.flow.interfaces and set(walk.flow.interfaces) <= set(chain.devices)):
        chain = _perhaps(chain)
    inside, aside = now & chain.only, now - chain.only
    accepted, onward = _chain(walk, chain, inside, 0, ())
    if not chain.accepts and onward:
        walk.lost.append(onward)
        text = "policy drop, for answers" if chain.hook in OUTWARD else "policy drop"
        walk.decide(RuleAction.DROP, onward, chain.origin, text, policy=True)
        onward = NO_ADDRESS
    elif onward:
        walk.decide(RuleAction.ACCEPT, onward, chain.origin, "policy accept", policy=True)
    return accepted | onward | aside


def _perhaps(chain: Chain) -> Chain:
    """A chain that a caller's packets may meet, or not: they may come by its device, or by one that it is a part of."""
    unread = "which interface it comes by"
    rules = [
        replace(rule, matches=tuple(replace(each, unread=(*each.unread, unread)) for each in rule.matches))
        for rule in chain.rules
    ]
    if not chain.accepts:
        rules.append(Rule((Match(unread=(unread,)),), RuleAction.DROP, chain.origin, "policy drop"))
    return replace(chain, rules=tuple(rules), accepts=True)


def _chain(walk: _Walk, chain: Chain, now: AddressSet, depth: int, above: tuple[str, ...]) -> tuple[AddressSet, AddressSet]:
    """The sources that a chain accepts, and those that go on behind it."""
    accepted: list[AddressSet] = []
    onward: list[AddressSet] = []
    for (does, sure), group in groupby(_applying(walk.flow, chain), key=lambda each: (each[0].does, each[2])):
        if not now:
            break
        if sure and does in (RuleAction.ACCEPT, RuleAction.DROP, RuleAction.REJECT, RuleAction.RETURN):
            now = _plain(walk, list(group), does, now, accepted, onward)
            continue
        for rule, sources, certain in group:
            taken = now & sources
            if not taken:
                continue
            now = _apart(walk, rule, taken, certain, now, depth, (*above, chain.key), accepted, onward)
    return union(accepted), union([*onward, now])


def _plain(
    walk: _Walk,
    group: list[tuple[Rule, AddressSet, bool]],
    does: RuleAction,
    now: AddressSet,
    accepted: list[AddressSet],
    onward: list[AddressSet],
) -> AddressSet:
    """Rules in a row that surely match and do the same are taken together: one subtraction for all."""
    taken = now & union(sources for _, sources, _ in group)
    if taken:
        {RuleAction.ACCEPT: accepted, RuleAction.RETURN: onward}.get(does, walk.lost).append(taken)
        if does is not RuleAction.RETURN:
            for rule, sources, _ in group:
                walk.decide(does, sources, rule.origin, rule.text, taken)
    return now - taken


def _apart(
    walk: _Walk,
    rule: Rule,
    taken: AddressSet,
    certain: bool,
    now: AddressSet,
    depth: int,
    above: tuple[str, ...],
    accepted: list[AddressSet],
    onward: list[AddressSet],
) -> AddressSet:
    """One rule by itself; returns what goes on to the next."""
    rest = now - taken if certain else now
    if not certain and rule.does is not RuleAction.NOTHING:
        walk.unsure[Gap(AREA, f"whether this rule matches is not known: {rule.text}", rule.origin)] = None
        walk.doubt |= taken
    match rule.does:
        case RuleAction.NOTHING:
            return now
        case RuleAction.ACCEPT:
            accepted.append(taken)
        case RuleAction.RETURN:
            onward.append(taken)
        case RuleAction.DROP | RuleAction.REJECT:
            walk.lost.append(taken)
        case RuleAction.JUMP | RuleAction.GOTO:
            target = walk.rules.chains.get(rule.to)
            walk.entered += 1
            if target is None or depth >= DEEPEST or rule.to in above or walk.entered > MOST_ENTERED:
                because = (
                    "leads to no chain that is there"
                    if target is None
                    else "is one of too many that lead on"
                    if walk.entered > MOST_ENTERED
                    else "leads round in a circle, or too deep"
                )
                walk.unsure[Gap(AREA, f"this rule {because}: {rule.text}", rule.origin)] = None
                walk.unknown.append(taken)
                return rest
            inside, back = _chain(walk, target, taken, depth + 1, above)
            accepted.append(inside)
            if rule.does is RuleAction.GOTO:
                onward.append(back)
                return rest
            return rest | back
        case RuleAction.REWRITE if certain and rule.onto is not None and walk.rewrites:
            onto = rule.onto
            port = walk.flow.port if onto.port is None else onto.port
            walk.sent.append((replace(walk.flow, port=port, targets=onto.target or walk.flow.targets, sent=True), taken))
        case _:
            walk.unsure[Gap(AREA, f"what this rule does is not followed: {rule.text}", rule.origin)] = None
            walk.unknown.append(taken)
            return rest
    walk.decide(rule.does, taken, rule.origin, rule.text)
    return rest


def _applying(flow: Flow, chain: Chain) -> Iterator[tuple[Rule, AddressSet, bool]]:
    """The rules that may match the flow, with the sources they match, and whether they surely do."""
    for rule in chain.rules:
        if len(rule.matches) == 1:  # nearly all are so
            held = _holds(rule.matches[0], flow)
            if held is not None:
                yield rule, rule.matches[0].sources, held
            continue
        sure: list[AddressSet] = []
        maybe: list[AddressSet] = []
        for each in rule.matches:
            held = _holds(each, flow)
            if held is not None:
                (sure if held else maybe).append(each.sources)
        if maybe and sure:  # some alternatives surely, some perhaps: told as two rules, the sure one first
            yield rule, union(sure), True
            yield rule, union(maybe), False
        elif sure or maybe:
            yield rule, union(sure or maybe), not maybe


def _holds(match: Match, flow: Flow) -> bool | None:
    """Whether a match holds for the flow, its sources aside: yes, perhaps (False), or not (None)."""
    if match.protocols is not None and flow.protocol not in match.protocols:
        return None
    if match.ports is not None and flow.port not in match.ports:
        return None
    sure = not match.unread
    if match.rewritten is not None and match.rewritten != flow.sent:
        return None
    if match.opening is not None and match.opening != flow.opens:
        return None
    if match.states is not None and flow.state not in match.states:
        return None
    if match.astray and len(flow.interfaces) == 1:
        return None  # answered by the only one there is, or not at all
    sure = sure and not match.astray
    if match.targets is not None:
        if flow.targets is None:
            sure = False
        else:  # a packet's two addresses are of one family
            dialled = AddressSet(flow.targets.v4 if match.sources.v4 else (), flow.targets.v6 if match.sources.v6 else ())
            if not dialled & match.targets:
                return None
            sure = sure and dialled <= match.targets
    if match.interfaces is not None:
        fits = [named(match.interfaces, name) != match.but for name in flow.interfaces]
        if flow.interfaces and not any(fits) and not match.sources & LOOPBACK:
            return None
        if flow.interfaces and not any(fits):
            return False if not match.but and "lo" in match.interfaces else None
        sure = sure and bool(fits) and all(fits)
    return sure


@lru_cache(maxsize=1024)
def named(patterns: tuple[str, ...], name: str) -> bool:
    """Whether an interface is among these names, which may end with `*`."""
    return any(fnmatchcase(name, pattern) for pattern in patterns)
