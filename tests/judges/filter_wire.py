"""Real connections from many callers to one machine whose filter is judged, and the tally of what was said of them."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

from nightlatch.access.verdicts import Flow, Packet, deciding, passed
from nightlatch.lab.labs import Lab
from nightlatch.lab.machine import Node
from nightlatch.model.rules import RuleAction
from nightlatch.net.addresses import AddressSet
from nightlatch.net.literal import parse_network
from nightlatch.readings.filters.rules import Rules
from tests.judges import filters

DRIVER = str(Path(__file__).with_name("filter_driver.py"))
CALLERS = (*filters.CALLERS4, *filters.CALLERS6)
SAID = {RuleAction.DROP: "silent", RuleAction.REJECT: "refused", RuleAction.ACCEPT: "in"}
# How a try may end, by what was said of it. "told": an ICMPv6 message arrives, and the caller's kernel goes on waiting all the
# same (measured: Linux 6.18), so it looks like silence.
ENDED = ("in", "refused", "silent")
EXPECTED = {"undecided": ENDED, "told": ENDED[1:], **{word: (word,) for word in ENDED}}
TRIES: list[list[object]] = [
    [source, filters.HERE6 if ":" in source else filters.HERE4, port]
    for source in CALLERS
    for port in (*filters.PORTS, filters.SENT)
]


@dataclass
class Wire:
    """A machine whose filter is tried, and one that calls it from many addresses."""

    here: Node
    caller: subprocess.Popen[bytes]

    def tried(self, tries: list[list[object]]) -> list[str]:
        assert self.caller.stdin is not None
        assert self.caller.stdout is not None
        self.caller.stdin.write(json.dumps(tries).encode() + b"\n")
        self.caller.stdin.flush()
        found = json.loads(self.caller.stdout.readline())
        assert isinstance(found, list)
        return found


HERE = {"wire": [f"{filters.HERE4}/8", f"{filters.HERE6}/32"]}


@contextmanager
def wired(lab: Lab, here: Node) -> Iterator[Wire]:
    """A server at `here`, which is on the network "wire" by HERE, and a machine with all callers' addresses beside it."""
    there = lab.node("there", {"wire": [*(f"{a}/8" for a in filters.CALLERS4), *(f"{a}/32" for a in filters.CALLERS6)]})
    for key in ("net.ipv4.icmp_ratelimit", "net.ipv6.icmp.ratelimit"):  # refusals are told each time, not once a second
        here.run("sysctl", "-qw", f"{key}=0")
    pipes = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE}
    server = here.start(sys.executable, DRIVER, "serve", *map(str, filters.PORTS), **pipes)
    caller = there.start(sys.executable, DRIVER, "call", **pipes)
    try:
        assert server.stdout is not None
        assert server.stdout.readline() == b"ready\n"
        yield Wire(here, caller)
    finally:
        for each in (caller, server):
            each.kill()
            each.wait(10)


def flow(port: int) -> Flow:
    own = parse_network(filters.HERE4) | parse_network(filters.HERE6)
    return Flow("tcp", port, own, ("eth0",))


@dataclass
class Tally:
    """How tries ended that something was said of, and what was said wrongly."""

    counts: dict[str, int] = field(default_factory=lambda: dict.fromkeys(("in", "refused", "silent", "undecided"), 0))
    wrong: list[str] = field(default_factory=list)
    open: set[str] = field(default_factory=set)

    def hold(self, rules: Rules, wire: Wire, found: list[str], what: str) -> None:
        """Hold what is said of every try against how it ended. One that ended otherwise is tried twice more: a caller's port that
        is taken up again soon meets what the kernel still holds of the connection before."""
        for each, ended in zip(TRIES, found, strict=True):
            source, _, port = each
            told = said(rules, str(source), int(str(port)))
            self.counts[told if told == "undecided" else ended] += 1
            if told == "undecided":
                self.open |= {gap.because for gap in passed(rules, flow(filters.PORTS[0]), int(str(port))).because}
            for _ in range(2):
                ended = ended if ended in EXPECTED[told] else wire.tried([each])[0]
            if ended not in EXPECTED[told]:
                self.wrong.append(f"{source} to {port} {told}, really {ended}: {what}")
        assert not self.wrong, "\n".join(self.wrong[:3])

    def undecided(self) -> float:
        return self.counts["undecided"] / sum(self.counts.values())


def said(rules: Rules, source: str, port: int) -> str:
    """What is said of a call from a source to a port: by which a rule may lead to another that somebody listens on."""
    one: AddressSet = parse_network(source)
    found = [passed(rules, flow(each), port) for each in filters.PORTS]
    if any(one <= each.surely for each in found):
        return "in"
    if any(one & each.perhaps for each in found):
        return "undecided"
    if one <= passed(rules, flow(port), port).surely:
        return "refused"  # nobody listens there
    verdict = deciding(rules, flow(port), one, (RuleAction.DROP, RuleAction.REJECT))
    if verdict is None and port == filters.SENT and rules.answers:
        return "silent"  # sent on to where somebody listens, whose answer is lost
    assert verdict is not None, (source, port)
    if verdict.packet is not Packet.OPENING and port not in filters.PORTS:
        return "told"  # nobody listens there, so that a first packet is answered at once, if the answer comes through
    # What a refusal is told by may be lost on its way out; an answer that is refused tells the guest, not the caller; and who is
    # connected already waits in spite of a message.
    lossy = any(
        not chain.accepts or any(rule.does in (RuleAction.DROP, RuleAction.REJECT) for rule in chain.rules)
        for chain in rules.answers.values()
    )
    silent = "tcp reset" not in verdict.text and (":" in source or verdict.packet is not Packet.OPENING)
    by_message = verdict.does is RuleAction.REJECT and (lossy or silent)
    return "told" if by_message or not verdict.sure else SAID[verdict.does]
