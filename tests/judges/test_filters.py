"""The kernel judges: rule sets are loaded in a namespace, and what is said of every source is held against real connections."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import pytest

from nightlatch.evidence.snapshot import from_files
from nightlatch.lab.labs import Lab
from nightlatch.lab.machine import Node
from nightlatch.net.addresses import AddressSet
from nightlatch.net.literal import parse_network
from nightlatch.readings import nftables
from nightlatch.readings.rules import Does, Rules
from nightlatch.reason.filtering import Flow, deciding, passed
from tests.judges import filters

pytestmark = pytest.mark.judge("nft", "ip", "nsenter", root=True)
ROUNDS = 200
DRIVER = str(Path(__file__).with_name("filter_driver.py"))
CALLERS = (*filters.CALLERS4, *filters.CALLERS6)
SAID = {Does.DROP: "silent", Does.REJECT: "refused", Does.ACCEPT: "in"}
# How a try may end, by what was said of it. "told": an ICMPv6 message arrives, and the caller's kernel goes on waiting all the
# same (measured: Linux 6.18), so it looks like silence.
ENDED = ("in", "refused", "silent")
EXPECTED = {"undecided": ENDED, "told": ENDED[1:], **{word: (word,) for word in ENDED}}


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


@pytest.fixture(scope="module")
def wire() -> Iterator[Wire]:
    with Lab() as lab:
        lab.network("wire")
        here = lab.node("here", {"wire": [f"{filters.HERE4}/8", f"{filters.HERE6}/32"]})
        there = lab.node(
            "there", {"wire": [*(f"{a}/8" for a in filters.CALLERS4), *(f"{a}/32" for a in filters.CALLERS6)]}
        )
        for key in (
            "net.ipv4.icmp_ratelimit",
            "net.ipv6.icmp.ratelimit",
        ):  # refusals are told each time, not once a second
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


def readings(text: str, listed: str) -> list[Rules]:
    """The same rules as a file, and as the kernel lists them."""
    stored = nftables.stored(from_files("x", {"/etc/nftables.conf": text.encode()}), "/etc/nftables.conf")
    loaded = nftables.loaded(replace(from_files("x", {}), listings={"rules": listed.encode()}))
    assert loaded is not None
    return [stored, loaded]


def test_what_is_let_through_is_what_the_kernel_lets_through(wire: Wire, tell: Callable[[str], None]) -> None:
    tries: list[list[object]] = [
        [source, filters.HERE6 if ":" in source else filters.HERE4, port]
        for source in CALLERS
        for port in filters.PORTS
    ]
    counts = dict.fromkeys(("in", "refused", "silent", "undecided"), 0)
    wrong: list[str] = []
    refused = 0
    for seed in range(ROUNDS):
        text = filters.ruleset(seed)
        try:
            wire.here.run("nft", "-f", "-", stdin=text)
        except subprocess.CalledProcessError:  # two matches that contradict each other, and the like
            refused += 1
            assert readings(text, "")[0].gaps, f"seed {seed}: nft refuses it, and it is taken as loaded\n{text}"
            continue
        listed = wire.here.run("nft", "list", "ruleset")
        found = wire.tried(tries)
        for number, rules in enumerate(readings(text, listed)):
            assert not rules.gaps, (seed, rules.gaps, text)
            for (source, _, port), ended in zip(tries, found, strict=True):
                said = _said(rules, str(source), int(str(port)))
                counts[said if said == "undecided" else ended] += number == 0
                if ended not in EXPECTED[said]:
                    wrong.append(
                        f"seed {seed}, {'as listed' if number else 'as a file'}: {source} to {port} {said}, really {ended}\n{text}"
                    )
        assert not wrong, "\n".join(wrong[:1])
    tell(
        f"nftables: {ROUNDS} rule sets, {sum(counts.values())} connections ({counts}), as the kernel has them, from file and listing"
    )
    assert refused * 5 < ROUNDS * 2
    assert counts["undecided"] * 20 < sum(counts.values()), counts


def _said(rules: Rules, source: str, port: int) -> str:
    one: AddressSet = parse_network(source)
    bounds = passed(rules, flow(port))
    if one <= bounds.surely:
        return "in"
    if one & bounds.perhaps:
        return "undecided"
    verdict = deciding(rules, flow(port), one, (Does.DROP, Does.REJECT))
    assert verdict is not None, (source, port)
    by_message = verdict.does is Does.REJECT and ":" in source and "tcp reset" not in verdict.text
    return "told" if by_message or bounds.gaps else SAID[verdict.does]
