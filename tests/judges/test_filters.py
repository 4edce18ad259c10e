"""The kernel judges: rule sets are loaded in a namespace, and what is said of every source is held against real connections."""

from __future__ import annotations

import subprocess
from collections.abc import Callable, Iterator
from dataclasses import replace

import pytest

from nightlatch.evidence.snapshot import from_files
from nightlatch.lab.labs import Lab
from nightlatch.readings.filters import iptables, nftables, places
from nightlatch.readings.filters.filter_reading import read as reading
from nightlatch.readings.filters.rules import Rules
from tests.budget import cases
from tests.judges import filters, iptables_filters
from tests.judges.filter_wire import HERE, TRIES, Tally, Wire, wired

pytestmark = pytest.mark.judge(
    "nft", "ip", "nsenter", "iptables-restore", "ip6tables-restore", "iptables-legacy-restore", "ipset", root=True
)
ROUNDS = cases(60, 600)
OLDER = cases(20, 200)


@pytest.fixture(scope="module")
def wire() -> Iterator[Wire]:
    with Lab() as lab:
        lab.network("wire")
        with wired(lab, lab.node("here", HERE)) as made:
            yield made


def readings(text: str, listed: str) -> list[Rules]:
    """The same rules as a file, and as the kernel lists them."""
    stored = nftables.stored(from_files("x", {"/etc/nftables.conf": text.encode()}), "/etc/nftables.conf")
    loaded = nftables.loaded(replace(from_files("x", {}), listings={"rules": listed.encode()}))
    assert loaded is not None
    return [stored, loaded]


def test_what_is_let_through_is_what_the_kernel_lets_through(wire: Wire, tell: Callable[[str], None]) -> None:
    tally, refused = Tally(), 0
    for seed in range(ROUNDS):
        text = filters.ruleset(seed)
        try:
            wire.here.run("nft", "-f", "-", stdin=text)
        except subprocess.CalledProcessError:  # two matches that contradict each other, and the like
            refused += 1
            assert readings(text, "")[0].gaps, f"seed {seed}: nft refuses it, and it is taken as loaded\n{text}"
            continue
        listed = wire.here.run("nft", "list", "ruleset")
        found = wire.tried(TRIES)
        for number, rules in enumerate(readings(text, listed)):
            assert not rules.gaps, (seed, rules.gaps, text)
            tally.hold(rules, wire, found, f"seed {seed}, {'as listed' if number else 'as a file'}\n{text}")
    tell(f"nftables: {ROUNDS} rule sets from file and listing, as the kernel has them: {tally.counts}")
    assert refused * 5 < ROUNDS * 2
    assert tally.undecided() < 0.05, tally.counts


def test_iptables_files_are_what_the_kernel_makes_of_them(wire: Wire, tell: Callable[[str], None]) -> None:
    wire.here.run("nft", "flush", "ruleset")
    wire.here.run("ipset", "restore", stdin=iptables_filters.IPSETS)
    tally, live, both, refused = Tally(), Tally(), Tally(), 0
    for seed in range(ROUNDS):
        texts = {version: iptables_filters.ruleset(seed, version) for version in ("4", "6")}
        files = {"/etc/iptables/ipsets": iptables_filters.IPSETS.encode()}
        files |= {f"/etc/iptables/rules.v{version}": text.encode() for version, text in texts.items()}
        whole = "\n".join(texts.values())
        wire.here.run("nft", "flush", "ruleset")
        rules = iptables.stored(from_files("x", files), places.IPTABLES_DEBIAN)
        try:
            for version, program in (("4", "iptables-restore"), ("6", "ip6tables-restore")):
                wire.here.run(program, stdin=texts[version])
        except subprocess.CalledProcessError as error:
            refused += 1
            tally.wrong += [] if rules.gaps else [f"seed {seed}: refused ({error.stderr}), and taken as loaded\n{whole}"]
            continue
        assert not rules.gaps, (seed, rules.gaps, whole)
        found = wire.tried(TRIES)
        tally.hold(rules, wire, found, f"seed {seed}, as files\n{whole}")
        told = {
            "rules": ("nft", "list", "ruleset"),
            "tables": ("iptables-nft-save",),
            "tables6": ("ip6tables-nft-save",),
        }
        told["sets"] = ("ipset", "save")
        listings = {name: wire.here.run(*words).encode() for name, words in told.items()}
        whole += "\n".join(text.decode() for text in listings.values())
        alone = nftables.loaded(replace(from_files("x", {}), listings=listings))
        assert alone is not None
        live.hold(alone, wire, found, f"seed {seed}, as nft lists them\n{whole}")
        listed = reading(replace(from_files("x", {}), listings=listings)).rules
        assert listed is not None
        both.hold(listed, wire, found, f"seed {seed}, as listed by both\n{whole}")
    wire.here.run("nft", "flush", "ruleset")
    tell(f"iptables: {ROUNDS} pairs of files, as the kernel has them: {tally.counts}; as nft lists them: {live.counts}")
    assert refused * 5 < ROUNDS
    assert tally.undecided() < 0.02, tally.counts
    assert both.counts == tally.counts


def test_tables_of_the_older_iptables_count_beside_those_of_nft(wire: Wire, tell: Callable[[str], None]) -> None:
    """Loaded by the older programs, every second time beside rules of nft: what is listed of both is what both do."""
    programs = {"4": "iptables-legacy", "6": "ip6tables-legacy"}
    wire.here.run("nft", "flush", "ruleset")
    wire.here.run("ipset", "restore", "-exist", stdin=iptables_filters.IPSETS)
    tally, refused, unordered = Tally(), 0, 0
    try:
        for seed in range(OLDER):
            wire.here.run("nft", "flush", "ruleset")
            try:
                for version, program in programs.items():
                    wire.here.run(f"{program}-restore", stdin=iptables_filters.ruleset(seed, version))
                if seed % 2:
                    wire.here.run("nft", "-f", "-", stdin=filters.ruleset(seed))
            except subprocess.CalledProcessError:
                refused += 1
                continue
            words = {
                "rules": ("nft", "list", "ruleset"),
                "sets": ("ipset", "save"),
                "older": ("iptables-legacy-save",),
                "older6": ("ip6tables-legacy-save",),
            }
            listings = {name: wire.here.run(*each).encode() for name, each in words.items()}
            facts = {f"legacy{six}": wire.here.run("cat", f"/proc/net/ip{six}_tables_names") for six in ("", "6")}
            found = reading(replace(from_files("x", {}), listings=listings, facts={**facts, "nft": "there"}))
            assert found.rules is not None
            if found.rules.gaps:
                assert "which comes first is not known" in found.rules.gaps[0].because, found.rules.gaps
                unordered += 1
                continue
            whole = "\n".join(text.decode() for text in listings.values())
            tally.hold(found.rules, wire, wire.tried(TRIES), f"seed {seed}\n{whole}")
    finally:
        for table in ("filter", "nat", "mangle", "raw", "security"):
            for program in programs.values():
                wire.here.run(f"{program}-restore", stdin=f"*{table}\nCOMMIT\n")
    tell(f"older iptables: {OLDER} pairs of tables, every second beside nft: {tally.counts}, {unordered} unordered")
    assert (refused + unordered) * 2 < OLDER
    assert tally.undecided() < 0.05, tally.counts
