"""Checks of packet filters: rules on which each speaks and what it says, and rules like them on which it is silent."""

from __future__ import annotations

from dataclasses import replace

import pytest

from nightlatch.access.layers import flow_to
from nightlatch.access.paths import guest_access
from nightlatch.access.verdicts import passed
from nightlatch.audit.findings import Finding
from nightlatch.audit.run import guest_audit
from nightlatch.net.literal import parse_network
from nightlatch.readings import guest as readings
from nightlatch.readings.filters.rules import Rules
from tests.guests import AT, Guest, listening, pub, sshd

SPOKEN = {
    "filter.dead-rule",
    "filter.ipv6-looser",
    "filter.no-default-refusal",
    "filter.no-such-interface",
    "filter.not-loaded",
    "filter.not-stored",
    "filter.off",
}
OFF = "PasswordAuthentication no\nKbdInteractiveAuthentication no\n"
STARTED = {"/etc/systemd/system/sysinit.target.wants/nftables.service": ""}
SOCKETS = sshd(22, 1000) | listening(
    *(("tcp", where, port, name, port) for port, name in ((22, "sshd"), (8080, "tide-web")) for where in ("0.0.0.0", "[::]"))
)
LINKS = "2: eth0: <BROADCAST,UP,LOWER_UP> mtu 1500 qdisc noqueue state UP mode DEFAULT \\    link/ether 52:54:00:38:00:21 brd ff:ff:ff:ff:ff:ff\n"


def text(body: str, policy: str = "drop", family: str = "inet") -> str:
    return f"table {family} f {{\nchain i {{\ntype filter hook input priority 0; policy {policy};\n{body}\n}}\n}}\n"


def audited(files: dict[str, str], loaded: str | None = None) -> dict[str, Finding]:
    """The findings of a guest in a folder, or with `loaded` of one that runs, by check."""
    snapshot = Guest(OFF, {"mara": f'from="192.168.40.0/24" {pub("mara-desk")}\n'}, {**files}).snapshot()
    if loaded is not None:
        listings = {"rules": loaded, "links": LINKS, "addresses": ""}
        snapshot = replace(
            snapshot,
            listings=SOCKETS | {name: each.encode() for name, each in listings.items()},
            facts={"init": "systemd", "uid": "0"},
        )
    return {each.check: each for each in guest_audit(guest_access(readings.read(snapshot), AT), AT).findings}


NFT = "/etc/nftables.conf"
# Check, rules of nftables that count, what is said.
STORED = [
    (
        "filter.dead-rule",
        text("drop\ntcp dport 22 accept"),
        "This rule never decides: an earlier one drops all that it speaks of, and says otherwise.",
    ),
    (
        "filter.dead-rule",
        text("tcp dport 20-30 accept\ntcp dport 22 ip saddr 192.0.2.0/24 accept"),
        "This rule never decides: an earlier one accepts all that it speaks of.",
    ),
    (
        "filter.dead-rule",
        text(
            "ip saddr 192.0.2.1 tcp dport 22 drop\nip saddr 192.0.2.1 tcp dport 22 accept\nip saddr 192.0.2.1 tcp dport 22 accept"
        ),
        "2 rules never decide: an earlier one drops all that they speak of, and says otherwise.",
    ),
    (
        "filter.ipv6-looser",
        text("ip saddr 192.0.2.0/24 tcp dport 22 accept\nmeta nfproto ipv6 tcp dport 22 accept"),
        "tcp port 22 is kept from some over IPv4, and open to everybody over IPv6.",
    ),
    ("filter.ipv6-looser", text("ip saddr 192.0.2.0/24 tcp dport 22 accept", family="ip"), "open to everybody over IPv6"),
    (
        "filter.no-default-refusal",
        text("tcp dport 22 ip saddr != 192.0.2.0/24 drop\ntcp dport 22 ip6 saddr ::/0 drop", "accept"),
        "The filter lets in everything that no rule matches.",
    ),
    (
        "filter.no-default-refusal",
        text("tcp dport 22 accept", family="ip"),
        "The filter lets in everything that no rule matches over IPv6.",
    ),
]
# Rules on which none of these speaks.
QUIET = [
    text(
        "ct state established,related accept\niif lo accept\nmeta l4proto { icmp, icmpv6 } accept\nip saddr 192.0.2.0/24 tcp dport 22 accept"
    ),
    text("tcp dport 22 limit rate 3/minute accept\ntcp dport 22 drop"),  # beyond the rate the second decides
    text("fib daddr type local tcp dport 22 accept\ntcp dport 22 drop"),
    text("ct state new tcp dport 22 accept\ntcp dport 22 drop"),
    text("meta mark 7 drop\ntcp dport 22 accept"),
    text("", "accept"),
]


@pytest.mark.parametrize("check, rules, said", STORED, ids=[f"{check}-{n}" for n, (check, *_) in enumerate(STORED)])
def test_what_is_said_of_stored_rules(check: str, rules: str, said: str) -> None:
    found = audited({NFT: rules, **STARTED})[check]
    assert said in found.text
    assert found.proofs
    assert all(proof.origin.path == NFT and proof.origin.line for proof in found.proofs)


@pytest.mark.parametrize("rules", QUIET, ids=[str(n) for n in range(len(QUIET))])
def test_what_is_as_it_should_be_is_not_told(rules: str) -> None:
    assert not [check for check in audited({NFT: rules, **STARTED}) if check.startswith("filter.")]


def test_a_filter_that_only_drops_what_is_invalid_keeps_nobody_out() -> None:
    saved = "*filter\n:INPUT ACCEPT\n-A INPUT -m conntrack --ctstate INVALID -j DROP\nCOMMIT\n"
    started = "/etc/systemd/system/multi-user.target.wants/netfilter-persistent.service"
    found = audited({"/etc/iptables/rules.v4": saved, started: ""})
    assert not [check for check in found if check.startswith("filter.")]


OPEN, SHUT = text("", "accept"), text("tcp dport 22 accept\nip saddr 192.0.2.0/24 tcp dport 8080 accept")


def test_what_is_loaded_and_what_a_boot_loads_are_compared() -> None:
    same = audited({NFT: SHUT, **STARTED}, SHUT)
    assert not {"filter.not-stored", "filter.not-loaded"} & set(same)
    gone = audited({}, SHUT)["filter.not-stored"]
    assert gone.text.startswith("After the next boot tcp/8080 is open to anywhere but")
    assert gone.text.endswith("the running filter keeps them out.")
    late = audited({NFT: SHUT, **STARTED}, OPEN)["filter.not-loaded"]
    assert late.text.startswith("tcp/8080 is open to anywhere but")
    assert late.proofs[0].origin.path == NFT
    unsure = audited(
        {NFT: SHUT, "/etc/systemd/system/nftables.service": ""},
        "table netdev n {\nchain i {\ntype filter hook ingress device eth0 priority 0;\ndrop\n}\n}",
    )
    assert not {"filter.not-stored", "filter.not-loaded"} & set(unsure)


SAVED = "*filter\n:INPUT DROP [0:0]\n-A INPUT -s 192.168.40.0/24 -p tcp -j ACCEPT\nCOMMIT\n# iptables-save\n"
# What a kernel tells where nft is not there, or the older iptables beside it: facts, listings, and what is known then.
KERNELS = [
    ({"nft": "none"}, {}, "in"),
    ({"nft": "unknown"}, {}, "the program nft, which is not there"),
    ({"nft": "none", "uid": "1000"}, {}, "that takes root"),
    ({"nft": "none", "legacy": "filter"}, {"older": SAVED}, "out"),
    ({"nft": "there", "legacy": "filter"}, {"older": SAVED, "rules": ""}, "out"),
    (
        {"nft": "there", "legacy": "filter"},
        {"rules": ""},
        "the tables filter of the older iptables are loaded, and were not listed",
    ),
    ({"nft": "there", "legacy": "nat filter"}, {"older": SAVED, "rules": ""}, "the tables nat of the older iptables"),
    (
        {"nft": "there", "legacy": "filter"},
        {"older": SAVED.replace("-p tcp", "-p"), "rules": ""},
        "iptables-restore refuses this line",
    ),
    ({"nft": "unknown", "legacy": "filter"}, {"older": SAVED}, "the program nft, which is not there"),
    ({"nft": "there"}, {"rules": ""}, "in"),
]


@pytest.mark.parametrize("facts, listings, known", KERNELS, ids=[str(n) for n in range(len(KERNELS))])
def test_what_a_kernel_tells_of_its_rules_is_taken_for_no_more(
    facts: dict[str, str], listings: dict[str, str], known: str
) -> None:
    snapshot = replace(
        Guest(OFF, {}).snapshot(),
        facts={"init": "systemd", "uid": "0", **facts},
        listings=SOCKETS | {name: text.encode() for name, text in listings.items()},
    )
    reading = readings.read(snapshot)
    through = passed(reading.filter.rules or Rules(), flow_to(reading, "", 22))
    gaps = [gap.because for gap in (*reading.filter.gaps, *through.because)]
    if known in ("in", "out"):
        assert not gaps
        assert [parse_network(each) <= through.surely for each in ("192.168.40.0/24", "203.0.113.0/24")] == [
            True,
            known == "in",
        ]
    else:
        assert any(known in each for each in gaps), gaps


def test_an_interface_that_is_not_there_is_told() -> None:
    found = audited({}, text('iifname "eth*" tcp dport 22 accept\niifname "enp0s9" tcp dport 8080 accept'))
    assert found["filter.no-such-interface"].text == "A rule of the filter speaks of the interface enp0s9, which is not there."


def test_rules_of_ufw_that_is_switched_off_are_told() -> None:
    rule = (
        "*filter\n### RULES ###\n### tuple ### allow tcp 22 0.0.0.0/0 any 192.0.2.0/24 in\n-A ufw-user-input -j ACCEPT\nCOMMIT\n"
    )
    found = audited({"/etc/ufw/ufw.conf": "ENABLED=no\n", "/etc/ufw/user.rules": rule})["filter.off"]
    assert [(proof.origin.path, proof.origin.line) for proof in found.proofs] == [
        ("/etc/ufw/ufw.conf", 1),
        ("/etc/ufw/user.rules", 3),
    ]
    assert "filter.off" not in audited({"/etc/ufw/ufw.conf": "ENABLED=no\n", "/etc/ufw/user.rules": "*filter\nCOMMIT\n"})


def test_what_the_filter_keeps_everybody_from_is_no_exposed_listener() -> None:
    assert "tcp port 8080" in audited({}, OPEN)["service.exposed-listener"].text
    assert "service.exposed-listener" not in audited({}, text("tcp dport 22 accept"))


def test_silence_of_a_kernel_that_was_not_asked_as_root_is_no_answer() -> None:
    snapshot = Guest(OFF).snapshot()
    listings = {"rules-refused": "", "links": LINKS, "addresses": ""}
    asked = replace(
        snapshot,
        listings={name: each.encode() for name, each in listings.items()},
        facts={"init": "systemd", "uid": "1000"},
    )
    assert [gap.because for gap in readings.read(asked).filter.gaps] == ["what the kernel holds was not listed: that takes root"]
