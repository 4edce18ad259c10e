"""Checks of the callers that filters let in to SSH: addresses that nobody has any more, and guesses at passwords that
nothing slows down."""

from __future__ import annotations

import re
from collections.abc import Iterator

from nightlatch.access.layers import flow_to
from nightlatch.access.verdicts import Flow, verdicts
from nightlatch.audit import cause_words
from nightlatch.audit.checks.registry import CheckResult, Context, check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.model.causes import SettingLine
from nightlatch.model.powers import PowerKind
from nightlatch.model.rules import RuleAction
from nightlatch.model.secrets import Password
from nightlatch.model.sources import COMMON
from nightlatch.net.addresses import LOOPBACK, NO_ADDRESS, AddressSet
from nightlatch.readings.filters.rules import Rules

MANY = 1 << 16  # more addresses than anybody takes for a known set
SLOWS = re.compile(r"\b(limit|hashlimit|recent|meter|connlimit|ct count)\b")


@check("filter.stale-source", Severity.LOW, source="design: stale sources")
def stale_source(context: Context) -> Iterator[CheckResult]:
    """A rule lets in to SSH from addresses of which the estate knows nothing: no place, network, guest or grant names them."""
    rules, reading = context.access.reading.filter.rules, context.access.reading
    if rules is None or context.estate is None:
        return
    named = context.names.known | LOOPBACK
    told: set[object] = set()
    for listener in context.access.ssh.listeners:
        for each in verdicts(rules, flow_to(reading, listener.address, listener.port)):
            narrow = each.sources and size(each.matched) <= MANY
            if each.does is RuleAction.ACCEPT and narrow and not each.matched & named and each.origin not in told:
                told.add(each.origin)
                callers = context.names.where({COMMON: each.matched})
                text = f"A rule lets {callers} in to port {listener.port}, of which the estate knows nothing."
                yield CheckResult(text, (Proof(each.text, each.origin),), (str(listener.port),))


def size(sources: AddressSet) -> int:
    """How many addresses there are, a network of IPv6 counted as one link's prefix (RFC 4291, 2.5.1)."""
    return sum(high - low + 1 for low, high in sources.v4) + sum(((high - low) >> 64) + 1 for low, high in sources.v6)


@check("filter.no-rate-limit", Severity.LOW, source="sshd_config(5) PerSourcePenalties; nft(8), LIMIT STATEMENT")
def no_rate_limit(context: Context) -> Iterator[CheckResult]:
    """A password opens this guest from more places than anybody can list, and nothing slows down who guesses it."""
    reading, effective = context.access.reading, context.access.ssh.effective
    if not context.access.ssh.listeners or effective.refusal is not None:
        return
    guessed = [
        path
        for path in context.access.paths
        if path.power.gives is PowerKind.SHELL
        and path.need
        and all(isinstance(secret, Password) for secret in path.need)
        and size(path.callers.surely.get(COMMON, NO_ADDRESS)) > MANY
    ]
    top = effective.top
    if not guessed or not _without_penalties(reading.version) or top["persourcemaxstartups"].word != "none":
        return
    rules = reading.filter.rules or Rules()
    if any(_is_slowed(rules, flow_to(reading, each.address, each.port)) for each in context.access.ssh.listeners):
        return
    names = ", ".join(dict.fromkeys(path.account for path in guessed))
    text = f"The password of {names} may be guessed from anywhere as fast as the guest answers: nothing limits new connections."
    setting = top["persourcemaxstartups"]
    stated = SettingLine("persourcemaxstartups", setting.word, setting.origin)
    yield CheckResult(text, cause_words.proofs((stated, *guessed[0].causes[:2])), ("ssh",))


def _without_penalties(version: str) -> bool:
    """Whether this OpenSSH is one that does not shut callers out who guess by itself: releases before 9.8."""
    found = re.match(r"(?:\d+:)?(\d{1,3})\.(\d{1,3})", version)
    return found is not None and (int(found[1]), int(found[2])) < (9, 8)


def _is_slowed(rules: Rules, flow: Flow) -> bool:
    """Whether some rule for new connections to the port counts how many there are."""
    found = (rule for chain in rules.chains.values() for rule in chain.rules if rule.does is not RuleAction.NOTHING)
    return any(
        SLOWS.search(rule.text) and (not rule.matches or any(m.ports is None or flow.port in m.ports for m in rule.matches))
        for rule in found  # a rule that a first connection never meets is one for those that come too often
    )
