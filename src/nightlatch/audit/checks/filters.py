"""Checks of the guest's packet filter."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.access.dead_rules import DeadRule, dead_rules
from nightlatch.access.exposure import FAMILIES, Fate, callers, exposure, sockets
from nightlatch.access.layers import flow_to
from nightlatch.access.verdicts import named, passed
from nightlatch.audit.checks.registry import CheckResult, Context, check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.audit.names import listed
from nightlatch.formats import own_rules
from nightlatch.formats.own_rules import OWN
from nightlatch.model.rules import RuleAction
from nightlatch.model.sources import COMMON
from nightlatch.net.addresses import ALL_V4, ALL_V6, LOOPBACK, NO_ADDRESS, AddressSet
from nightlatch.origin import Origin
from nightlatch.readings.filters import managers
from nightlatch.readings.filters.places import FIREWALLD, UFW_SWITCH
from nightlatch.readings.filters.rules import Rule

MOST_TOLD = 5


@check("filter.not-at-boot", Severity.MEDIUM, source="nft(8); iptables-restore(8); ufw(8); systemctl(1): is-enabled")
def not_at_boot(context: Context) -> Iterator[CheckResult]:
    """Rules of a packet filter are stored, and nothing loads them at boot: everybody comes through."""
    for each in context.access.reading.filter.idle:
        text = f"{each.place.path} holds rules of {each.manager}, and nothing loads them at boot: they keep nobody out."
        yield CheckResult(text, (Proof(f"{each.unit} is not enabled", each.place),), (each.unit,))


@check("filter.two-managers", Severity.MEDIUM, source="nft(8); iptables-restore(8); ufw(8)")
def two_managers(context: Context) -> Iterator[CheckResult]:
    """Two managers load rules at boot, and each may take away what the other has loaded, or overrule it."""
    booted = context.access.reading.filter.booted
    if len({each.manager for each in booted}) > 1:
        names = [each.manager for each in booted]
        text = f"{', '.join(names[:-1])} and {names[-1]} load rules at boot, and each may overrule what another has loaded."
        yield CheckResult(text, tuple(Proof(f"loaded by {each.unit}", each.place) for each in booted), tuple(names))


@check("filter.off", Severity.MEDIUM, source="ufw(8): enable")
def off(context: Context) -> Iterator[CheckResult]:
    """Somebody wrote rules for a packet filter that is switched off: they keep nobody out."""
    if context.access.reading.snapshot.content(UFW_SWITCH) is None:
        return
    from nightlatch.readings.filters import ufw  # most guests have none

    found = ufw.written_and_off(context.access.reading.snapshot)
    if found is not None:
        switch, rule = found
        text = "ufw holds rules and is switched off: they keep nobody out."
        yield CheckResult(text, (Proof("switched off here", switch), Proof("the first rule", rule)), ("ufw",))


@check(
    "filter.dead-rule",
    Severity.LOW,
    source="nft(8); iptables(8): rules are tried in order, the first that decides ends it",
)
def dead(context: Context) -> Iterator[CheckResult]:
    """A rule never decides, for an earlier one decides about all that it speaks of; worse where the two say otherwise."""
    rules = context.access.reading.filter.rules
    by: dict[tuple[object, bool], list[DeadRule]] = {}
    for each in dead_rules(rules) if rules is not None else ():
        if each.rule.origin.path == FIREWALLD or _is_own(context, each.by.origin):
            continue  # firewalld makes it itself; or it is narrowed on purpose
        by.setdefault((each.by.origin, each.contradicts), []).append(each)
    for (_, contradicts), found in by.items():
        earlier = found[0].by
        verb = {RuleAction.ACCEPT: "accepts", RuleAction.DROP: "drops", RuleAction.REJECT: "refuses"}.get(
            earlier.does, "leads away"
        )
        what = "This rule never decides" if len(found) == 1 else f"{len(found)} rules never decide"
        text = f"{what}: an earlier one {verb} all that {'it speaks' if len(found) == 1 else 'they speak'} of"
        text += ", and says otherwise." if contradicts else "."
        proofs = [Proof(each.rule.text, each.rule.origin) for each in found[:MOST_TOLD]]
        proofs.append(Proof(f"comes first: {earlier.text}", earlier.origin))
        yield CheckResult(text, tuple(proofs), (), Severity.MEDIUM if contradicts else None)


@check("filter.ipv6-looser", Severity.MEDIUM, source="design: for each restriction of IPv4 there is the same for IPv6")
def looser(context: Context) -> Iterator[CheckResult]:
    """A port is kept from some over IPv4, and open to everybody over IPv6."""
    reading = context.access.reading
    if reading.filter.rules is None:
        return
    for protocol, listener in sockets(reading, context.access.listeners):
        through = callers(reading, reading.filter.rules, listener, protocol)
        if not through.surely >= ALL_V6 - LOOPBACK or not ALL_V4 & listener.admits() - LOOPBACK - through.perhaps:
            continue
        pieces = [piece for each in exposure(reading, [(protocol, listener)]) for piece in each.pieces]
        proofs = [
            Proof(piece.text, piece.origin)
            for piece in pieces
            if piece.origin is not None and (piece.family == "IPv6" or piece.fate in (Fate.DROPPED, Fate.REFUSED))
        ]
        text = f"{protocol} port {listener.port} is kept from some over IPv4, and open to everybody over IPv6."
        yield CheckResult(text, tuple(proofs[:MOST_TOLD]), (f"{protocol}/{listener.port}",))


@check("filter.no-default-refusal", Severity.MEDIUM, source="nft(8): policy; iptables(8): -P")
def no_refusal(context: Context) -> Iterator[CheckResult]:
    """A filter keeps some callers from some ports, and lets in whatever no rule speaks of: the next program that listens, too."""
    reading = context.access.reading
    rules = reading.filter.rules
    if rules is None:
        return
    asked_of = [chain for chain in rules.at("prerouting", "input") if f" {OWN} " not in chain.key]  # a gate is for one service
    reached = [rule for chain in asked_of for rule in rules.reached(chain.key, OWN)]
    refusing = any(rule.does in (RuleAction.DROP, RuleAction.REJECT) and _asks_new(rule) for rule in reached)
    if not refusing and all(chain.accepts for chain in asked_of):
        return
    spoken = [match.ports for rule in reached for match in rule.matches if match.ports]
    port = next((each for each in range(1, 1024) if not any(each in ports for ports in spoken)), 0)
    through = passed(rules, flow_to(reading, "", port)).surely if port else NO_ADDRESS
    families = [name for name, whole in FAMILIES.items() if whole - LOOPBACK <= through]
    if families:
        asked = [chain for chain in rules.at("prerouting", "input") if chain.kind == "filter"]
        accepting = [chain for chain in asked if chain.accepts]
        proofs = tuple(
            Proof("policy accept" if accepting else "not asked about the other family", chain.origin)
            for chain in (accepting or asked)[-1:]
        )
        over = f" over {families[0]}" if len(families) == 1 else ""
        yield CheckResult(f"The filter lets in everything that no rule matches{over}.", proofs, ())


def _is_own(context: Context, place: Origin) -> bool:
    """Whether nightlatch wrote the rule that stands there."""
    lines = (context.access.reading.snapshot.content(place.path) or b"").split(b"\n")
    return 0 < place.line <= len(lines) and own_rules.is_own(_record(lines, place.line - 1))


def _record(lines: list[bytes], at: int) -> bytes:
    """A line, with the one before it where that is its comment in ufw's files."""
    before = lines[at - 1] if at and lines[at - 1].startswith(b"### tuple ###") else b""
    return before + b" " + lines[at]


def _asks_new(rule: Rule) -> bool:
    """Whether a rule is about new connections, among others."""
    return any(match.states is None or "new" in match.states for match in rule.matches)


@check("filter.not-stored", Severity.MEDIUM, source="nft(8); systemctl(1): is-enabled")
def not_stored(context: Context) -> Iterator[CheckResult]:
    """The running filter keeps out callers that the next boot lets in: its rules are not stored, or not loaded then."""
    yield from _changed(context, later=True)


@check("filter.not-loaded", Severity.MEDIUM, source="nft(8); systemctl(1): reload")
def not_loaded(context: Context) -> Iterator[CheckResult]:
    """Stored rules keep out callers that the running filter lets in: they were not loaded since they were written."""
    yield from _changed(context, later=False)


def _changed(context: Context, *, later: bool) -> Iterator[CheckResult]:
    """Callers that get in only now, or only after the next boot, by port."""
    reading = context.access.reading
    held = reading.filter
    if not reading.service.is_live or held.rules is None or any(each.started is None for each in held.stored):
        return
    stored = managers.together(held.booted) if held.booted else None
    ports: dict[AddressSet, list[str]] = {}
    for protocol, listener in sockets(reading, context.access.listeners):
        now, then = callers(reading, held.rules, listener, protocol), callers(reading, stored, listener, protocol)
        lost = (then.surely - now.perhaps if later else now.surely - then.perhaps) - LOOPBACK
        if lost:
            ports.setdefault(lost, []).append(f"{protocol}/{listener.port}")
    for lost, named_ports in ports.items():
        where, what = context.names.where({COMMON: lost}), listed(dict.fromkeys(named_ports))
        places = [Proof(f"what {each.manager} loads at boot", each.place) for each in held.booted]
        if later:
            text = f"After the next boot {what} is open to {where}; the running filter keeps them out."
            places = places or [Proof("no manager loads a filter at boot", reading.filter.origin)]
        else:
            text = f"{what} is open to {where}; stored rules would keep them out, but are not loaded."
        yield CheckResult(text, tuple(places), tuple(dict.fromkeys(named_ports)))


@check("filter.no-such-interface", Severity.LOW, source="nft(8): iifname; iptables(8): -i")
def no_interface(context: Context) -> Iterator[CheckResult]:
    """A rule speaks of an interface that the running guest does not have: it never decides, or always."""
    reading = context.access.reading
    names = [each.link.name for each in reading.network.live]
    if reading.filter.rules is None or not names:
        return
    for chain in reading.filter.rules.chains.values():
        for rule in chain.rules:
            for pattern in {name for match in rule.matches for name in match.interfaces or ()}:
                if pattern != "lo" and not any(named((pattern,), name) for name in names):
                    text = f"A rule of the filter speaks of the interface {pattern}, which is not there."
                    yield CheckResult(text, (Proof(rule.text, rule.origin),), (pattern,))
