"""Packet filters: rules of nftables in the common form, who comes through, and what is said where it can't be decided."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nightlatch.access.verdicts import Flow, deciding, passed
from nightlatch.evidence.snapshot import Snapshot, from_files
from nightlatch.formats import xml_tree
from nightlatch.model.rules import RuleAction
from nightlatch.net import ranges
from nightlatch.net.literal import parse_network
from nightlatch.net.ports import EVERY_PORT, PortSet
from nightlatch.readings.filters import firewalld, iptables, nftables, places
from nightlatch.readings.filters.firewalld_checks import faults
from nightlatch.readings.filters.rules import Rules


def rules(body: str, before: str = "", more: dict[str, str] | None = None) -> Rules:
    """A table with one base chain at the input hook that drops what nothing accepts."""
    text = (
        f"flush ruleset\n{before}\ntable inet f {{\nchain i {{\ntype filter hook input priority 0; policy drop;\n{body}\n}}\n}}\n"
    )
    files = {"/etc/nftables.conf": text, **(more or {})}
    return nftables.stored(from_files("x", {path: each.encode() for path, each in files.items()}), "/etc/nftables.conf")


def said(found: Rules, source: str, port: int = 22) -> str:
    bounds = passed(found, Flow("tcp", port))
    one = parse_network(source)
    return "in" if one <= bounds.surely else "undecided" if one & bounds.perhaps else "out"


# Rules, what comes before the table, a source, a port, what becomes of it.
CASES: list[tuple[str, str, str, int, str]] = [
    ("tcp dport 22 accept", "", "192.0.2.1", 22, "in"),
    ("tcp dport 22 accept", "", "2001:db8::1", 23, "out"),
    ("tcp dport ssh ip saddr $desk accept", "define desk = { 192.0.2.0/24, 198.51.100.7 }", "198.51.100.7", 22, "in"),
    ("tcp dport ssh ip saddr { $desk, 203.0.113.1 } accept", "define desk = { 192.0.2.0/24 }", "203.0.113.1", 22, "in"),
    ("udp dport 22 accept", "", "192.0.2.1", 22, "out"),
    ("iif lo accept", "", "192.0.2.1", 22, "out"),
    ("iif lo accept", "", "127.0.0.1", 22, "in"),
    ("ct state established,related accept", "", "192.0.2.1", 22, "out"),
    ("ct state != established accept", "", "192.0.2.1", 22, "out"),
    ("ct state new accept", "", "192.0.2.1", 22, "out"),
    ("ct state { new, established } accept", "", "192.0.2.1", 22, "in"),
    ("tcp flags syn / fin,syn,rst,ack accept", "", "192.0.2.1", 22, "out"),
    (
        "ip saddr 192.0.2.0/24 drop\nct state established accept\naccept",
        "table inet g {\nchain i {\ntype filter hook input priority -5\nct state new accept\n}\n}",
        "192.0.2.1",
        22,
        "out",
    ),
    ("meta mark 5 accept", "", "192.0.2.1", 22, "undecided"),
    ("meta mark 5 drop\naccept", "", "192.0.2.1", 22, "undecided"),
    ("tcp dport 22 meta mark 5 accept", "", "192.0.2.1", 23, "out"),
    ("skuid 0 counter accept\ntcp dport 22 accept", "", "192.0.2.1", 22, "in"),
    ("tcp sport 40000-50000 accept", "", "192.0.2.1", 22, "undecided"),
    ("tcp sport 1-65535 accept", "", "192.0.2.1", 22, "in"),
    ("limit rate 3/minute accept", "", "192.0.2.1", 22, "in"),
    ("limit rate over 3/minute drop\naccept", "", "192.0.2.1", 22, "in"),
    (
        "update @seen { ip saddr limit rate over 3/minute } drop\naccept",
        "table inet f {\nset seen { type ipv4_addr; flags dynamic; }\n}",
        "192.0.2.1",
        22,
        "in",
    ),
    ("ip saddr @gone accept", "", "192.0.2.1", 22, "undecided"),
    ("jump nowhere", "", "192.0.2.1", 22, "undecided"),
    ("tcp dport 23 jump nowhere", "", "192.0.2.1", 22, "undecided"),
    ("tcp dport 23 ip saddr $gone accept", "", "192.0.2.1", 22, "undecided"),
    ("}\nchain j { drop }\nchain k {", "", "192.0.2.1", 22, "undecided"),
    ("}\nchain j { drop; }\nchain k {", "", "192.0.2.1", 22, "out"),
    ("ip daddr 192.0.2.9 accept", "", "192.0.2.1", 22, "undecided"),
    ("iifname eth7 accept", "", "192.0.2.1", 22, "undecided"),
    ("tcp dport 22 redirect to :2222\naccept", "", "192.0.2.1", 22, "undecided"),
    ("queue num 1", "", "192.0.2.1", 22, "undecided"),
    (
        "accept",
        "table ip g {\nchain i {\ntype filter hook input priority 10; policy accept;\nip saddr 192.0.2.0/25 drop\n}\n}",
        "192.0.2.1",
        22,
        "out",
    ),
    (
        "accept",
        "table ip g {\nchain i {\ntype filter hook input priority 10; policy accept;\nip saddr 192.0.2.0/25 drop\n}\n}",
        "192.0.2.200",
        22,
        "in",
    ),
    *(
        (
            "accept",
            f"table {family} n {{\nchain e {{\ntype filter hook {hook} priority 0;{policy}\n{body}\n}}\n}}",
            "192.0.2.1",
            22,
            wanted,
        )
        for family, hook, policy, body, wanted in (
            ("netdev", "ingress device eth0", "", "drop", "undecided"),
            ("netdev", "ingress device eth0", "policy drop;", "ip saddr 192.0.2.1 accept", "undecided"),
            ("inet", "ingress devices = { eth0, eth1 }", "", "ip saddr 192.0.2.0 drop", "in"),
            ("netdev", "egress device eth0", "", "ip daddr 192.0.2.1 drop", "undecided"),
            ("bridge", "input", "", "drop", "undecided"),
            ("bridge", "forward", "", "drop", "in"),
        )
    ),
    ("ip saddr 192.0.2.1/24 accept", "", "192.0.2.1", 22, "undecided"),
    *(
        (
            "accept",
            f"table inet o {{\nchain shared {{\nip saddr 192.0.2.0/24 drop\n}}\nchain o {{\ntype filter hook output priority 0; policy drop;\n{body}\n}}\n}}",
            "192.0.2.1",
            22,
            wanted,
        )
        for body, wanted in (
            ("", "out"),
            ("tcp sport 22 ip daddr 192.0.2.0/31 accept", "in"),
            ("tcp sport 22 ip daddr 192.0.2.0 accept", "out"),
            ("tcp dport 22 ip saddr 192.0.2.0/24 accept", "undecided"),
            ("ct state established accept", "in"),
            ("ct state new accept", "out"),
            ("iifname eth0 accept", "out"),
            ("oifname eth0 accept", "undecided"),
            ("oif lo accept", "out"),
            ("meta skuid 0 accept", "undecided"),
            ("tcp flags ack accept", "in"),
            ("tcp flags syn accept", "undecided"),
            ("jump shared\naccept", "undecided"),
            ("fib daddr type local accept", "undecided"),
            ("ip daddr { 192.0.2.1, 192.0.2.3 } tcp sport { 22, 23 } reject\naccept", "out"),
            ("ip daddr . tcp sport { 192.0.2.1 . 22 } accept", "in"),
        )
    ),
    (
        "accept",
        "table ip n {\nchain o {\ntype nat hook postrouting priority 100; policy accept;\nmasquerade\n}\n}",
        "192.0.2.1",
        22,
        "in",
    ),
]


@pytest.mark.parametrize("body, before, source, port, wanted", CASES, ids=[str(n) for n in range(len(CASES))])
def test_who_comes_through(body: str, before: str, source: str, port: int, wanted: str) -> None:
    assert said(rules(body, before), source, port) == wanted


@pytest.mark.parametrize(
    "devices, body, wanted",
    [
        ("{ eth0 }", "tcp dport 22 ip saddr 192.0.2.1 drop", "out"),
        ("{ eth0, eth1 }", "ct state established drop", "in"),
        ("{ eth1 }", "drop", "undecided"),
        ("{ eth0 }", "jump no", "out"),
        ("{ eth0 }", "ct state invalid drop", "out"),
    ],
)
def test_what_a_device_drops_is_lost_for_those_who_come_by_it(devices: str, body: str, wanted: str) -> None:
    text = f"table netdev n {{\nchain no {{\ndrop\n}}\nchain e {{\ntype filter hook ingress devices = {devices} priority 0\n{body}\n}}\n}}"
    bounds = passed(rules("accept", text), Flow("tcp", 22, None, ("eth0",)))
    one = parse_network("192.0.2.1")
    assert ("in" if one <= bounds.surely else "undecided" if one & bounds.perhaps else "out") == wanted


def test_commands_add_insert_flush_and_include() -> None:
    text = "add rule inet f i tcp dport 22 accept\ninsert rule inet f i ip saddr 192.0.2.7 drop\nadd element inet f s { 192.0.2.8 }\n"
    more = {
        "/etc/nftables.d/b.nft": "add rule inet f i ip saddr @s tcp dport 23 accept\n",
        "/etc/nftables.d/a.nft": text,
    }
    found = rules(
        'ip saddr 192.0.2.9 accept\n}\nset s { type ipv4_addr; }\n}\ninclude "/etc/nftables.d/*.nft"\ntable inet f {\nchain x {',
        "",
        more,
    )
    assert [said(found, f"192.0.2.{last}") for last in (7, 8, 9)] == ["out", "in", "in"]
    assert [said(found, f"192.0.2.{last}", 23) for last in (7, 8, 6)] == ["out", "in", "out"]
    gone = rules("accept", "", {})
    assert said(gone, "192.0.2.1") == "in"
    lost = rules('accept\n}\n}\ninclude "/srv/rules/*.nft"\ntable inet g {\nchain x {')
    assert "was not collected" in lost.gaps[0].because
    assert said(lost, "192.0.2.1") == "undecided"


def test_jumps_in_a_circle_and_too_deep_are_told() -> None:
    circle = rules("jump a\n}\nchain a {\njump b\n}\nchain b {\njump a\n}\nchain c {")
    assert said(circle, "192.0.2.1") == "undecided"
    assert "in a circle" in passed(circle, Flow("tcp", 22)).because[0].because
    deep = rules("jump c0\n" + "".join(f"}}\nchain c{n} {{\njump c{n + 1}\n" for n in range(15)) + "}\nchain c15 {\naccept")
    assert said(deep, "192.0.2.1") == "in"


def test_jumps_that_multiply_end_undecided() -> None:
    """Nine jumps from each chain to the next, ten deep: nine to the ninth ways through, and the answer comes all the same."""
    chains = "".join(f"}}\nchain c{n} {{\n{f'jump c{n + 1}{chr(10)}' * 9 if n < 9 else 'tcp dport 23 drop'}\n" for n in range(10))
    many = rules(f"jump c0\n{chains}")
    assert said(many, "192.0.2.1") == "undecided"
    assert any("is one of too many" in gap.because for gap in passed(many, Flow("tcp", 22)).because)
    assert len(list(many.reached(many.at("input")[0].key, ""))) == 1 + 9 * 9 + 1


def test_the_deciding_rule_is_named_with_its_line() -> None:
    found = rules("ip saddr 192.0.2.0/24 tcp dport { 22, 80 } drop\naccept")
    verdict = deciding(found, Flow("tcp", 22), parse_network("192.0.2.9"), (RuleAction.DROP,))
    assert verdict is not None
    assert (str(verdict.origin), verdict.text) == (
        "/etc/nftables.conf:6:1",
        "ip saddr 192.0.2.0/24 tcp dport { 22, 80 } drop",
    )


@pytest.mark.parametrize(
    "text, place", [("table inet f {\n", "2:1"), ("}\n", "1:1"), ('table "x\n', "1:7"), ("frobnicate x\n", "1:1")]
)
def test_a_wrong_text_is_a_gap_with_its_place(text: str, place: str) -> None:
    found = nftables.stored(from_files("x", {"/etc/nftables.conf": text.encode()}), "/etc/nftables.conf")
    assert [str(gap.origin) for gap in found.gaps] == [f"/etc/nftables.conf:{place}"]
    assert passed(found, Flow("tcp", 22)).perhaps
    assert not passed(found, Flow("tcp", 22)).surely


WORDS = st.sampled_from(
    [
        "table",
        "inet",
        "f",
        "{",
        "}",
        "chain",
        "type",
        "filter",
        "hook",
        "input",
        "output",
        "ingress",
        "device",
        "daddr",
        "sport",
        "oifname",
        "flags",
        "priority",
        "0",
        ";",
        "\n",
        "policy",
        "drop",
        "ip",
        "saddr",
        "10.0.0.0/8",
        "tcp",
        "dport",
        "22",
        ",",
        ".",
        "@s",
        "vmap",
        ":",
        "accept",
        "jump",
        "limit",
        "!=",
        '"x"',
        "elements",
        "=",
        "set",
        "add",
        "rule",
        "include",
        "define",
        "$x",
        "ct",
        "state",
        "new",
        "fib",
        "&",
        "(",
        ")",
        "reject",
        "with",
        "flush",
        "ruleset",
    ]
)


@given(st.lists(WORDS, max_size=60))
def test_no_text_brings_it_down(words: list[str]) -> None:
    text = " ".join(words)
    found = nftables.stored(from_files("x", {"/etc/nftables.conf": text.encode()}), "/etc/nftables.conf")
    bounds = passed(found, Flow("tcp", 22))
    assert bounds.surely <= bounds.perhaps


SMALL = st.lists(st.tuples(st.integers(0, 120), st.integers(0, 9)), max_size=40).map(
    lambda found: ranges.normal((a, a + b) for a, b in found)
)


@given(SMALL, SMALL)
def test_ranges_against_plain_sets(a: ranges.Ranges, b: ranges.Ranges) -> None:
    one, other = ({n for low, high in each for n in range(low, high + 1)} for each in (a, b))
    assert ranges.minus(a, b) == ranges.normal((n, n) for n in one - other)
    assert ranges.both(a, b) == ranges.normal((n, n) for n in one & other) == ranges.both(b, a)


@given(SMALL, SMALL)
def test_ports_are_a_set(a: ranges.Ranges, b: ranges.Ranges) -> None:
    one, other = PortSet(a), PortSet(b)
    assert (one - other) | (one & other) == one
    assert ~~one == one
    assert not one - EVERY_PORT


WRITTEN = {
    "a dormant table": ("table inet t { flags dormant; chain c { type filter hook input priority 0; policy drop; }; }", {}, "in"),
    "one that is named again is awake": (
        "table inet t { flags dormant; chain c { type filter hook input priority 0; policy drop; }; }\ntable inet t { chain d { }; }",
        {},
        "out",
    ),
    "an awake one beside it": (
        "table inet t { flags dormant; chain c { type filter hook input priority 0; policy accept; }; }\ntable inet u { chain c { type filter hook input priority 0; policy drop; }; }",
        {},
        "out",
    ),
    "a policy by a definition": (
        'define p = "drop"\ntable inet t { chain c { type filter hook input priority 0; policy $p; }; }',
        {},
        "out",
    ),
    "a priority by a definition": (
        "define p = 5\ntable inet t { chain c { type filter hook input priority $p; policy drop; }; }",
        {},
        "out",
    ),
    "an include in a chain": (
        'table inet t { chain c { type filter hook input priority 0; policy drop\ninclude "/etc/nft/rules"\n}; }',
        {"/etc/nft/rules": "tcp dport 22 accept\n"},
        "in",
    ),
    "its place is the line that includes": (
        'table inet t { chain c { type filter hook input priority 0; policy accept\ninclude "/etc/nft/rules"\ntcp dport 22 accept\n}; }',
        {"/etc/nft/rules": "tcp dport 22 drop\n"},
        "out",
    ),
    "an include in a table": (
        'table inet t {\ninclude "/etc/nft/more"\nchain c { type filter hook input priority 0; policy drop; ip saddr @s jump k; }; }',
        {"/etc/nft/more": "set s { type ipv4_addr; elements = { 192.0.2.1 }; }\nchain k { tcp dport 22 accept; }\n"},
        "in",
    ),
    "added behind an index": (
        "table inet t { chain c { type filter hook input priority 0; policy drop; tcp dport 1 accept; tcp dport 22 drop; }; }\nadd rule inet t c index 0 tcp dport 22 accept",
        {},
        "in",
    ),
    "added behind the last": (
        "table inet t { chain c { type filter hook input priority 0; policy drop; tcp dport 1 accept; tcp dport 22 drop; }; }\nadd rule inet t c index 1 tcp dport 22 accept",
        {},
        "out",
    ),
    "inserted before an index": (
        "table inet t { chain c { type filter hook input priority 0; policy accept; tcp dport 1 accept; tcp dport 22 accept; }; }\ninsert rule inet t c index 1 tcp dport 22 drop",
        {},
        "out",
    ),
}


@pytest.mark.parametrize("name", WRITTEN)
def test_what_is_written_in_less_usual_ways(name: str) -> None:
    text, more, wanted = WRITTEN[name]
    files = {"/etc/nftables.conf": text + "\n", **more}
    found = nftables.stored(from_files("x", {path: each.encode() for path, each in files.items()}), "/etc/nftables.conf")
    assert found.gaps == ()
    assert said(found, "192.0.2.1") == wanted


@pytest.mark.parametrize(
    "rule, because",
    [
        ("add rule inet t c index 9 accept", "none at that index"),
        ("add rule inet t c position 4 accept", "its handle is the kernel's"),
        ("insert rule inet t c handle 4 accept", "its handle is the kernel's"),
        ("replace rule inet t c handle 4 accept", "its handle is the kernel's"),
    ],
)
def test_a_place_that_is_not_known_is_undecided(rule: str, because: str) -> None:
    text = f"table inet t {{ chain c {{ type filter hook input priority 0; policy drop; }}; }}\n{rule}\n"
    found = nftables.stored(from_files("x", {"/etc/nftables.conf": text.encode()}), "/etc/nftables.conf")
    assert because in found.gaps[0].because


@pytest.mark.judge("nft", "unshare", root=True)
@pytest.mark.parametrize("name", WRITTEN)
def test_the_kernel_takes_it_the_same_way(name: str, tmp_path: Path) -> None:
    """What nft loads from the text, listed and read again, lets the same callers in."""
    text, more, wanted = WRITTEN[name]
    for path, content in more.items():
        (tmp_path / path.rpartition("/")[2]).write_text(content)
        text = text.replace(path, str(tmp_path / path.rpartition("/")[2]))
    (tmp_path / "main").write_text(text + "\n")
    done = subprocess.run(
        ["unshare", "--net", "sh", "-c", f"nft -f {tmp_path}/main && nft list ruleset"], capture_output=True, check=True
    )
    listed = nftables.loaded(Snapshot("x", {}, listings={"rules": done.stdout}))
    assert listed is not None
    assert said(listed, "192.0.2.1") == wanted


MODULES = """addrtype bpf cluster comment connbytes connlabel connlimit connmark conntrack cpu devgroup dscp ecn hashlimit helper icmp iprange
length limit mac mark multiport nfacct osf owner physdev pkttype policy quota realm recent set socket state statistic string tcpmss time tos
ttl u32""".split()


@pytest.mark.judge("iptables-restore", "unshare", root=True)
def test_a_match_without_options_is_refused_or_not_followed() -> None:
    """Each match of iptables by itself, as iptables-restore takes it; what it takes is no rule that always holds."""
    one = "printf '*filter\\n-A INPUT -m %s -j ACCEPT\\nCOMMIT\\n' | iptables-restore --test; echo \"%s $?\""
    script = "\n".join(one % (name, name) for name in MODULES)
    said_by_it = subprocess.run(["unshare", "--net", "sh", "-c", script], capture_output=True, text=True, check=False).stdout
    taken = dict(line.split() for line in said_by_it.splitlines() if len(line.split()) == 2)
    assert set(taken) == set(MODULES)
    for name in MODULES:
        raw = f"*filter\n:INPUT DROP [0:0]\n-A INPUT -m {name} -j ACCEPT\nCOMMIT\n".encode()
        found = iptables.stored(from_files("x", {"/etc/iptables/rules.v4": raw}), (("/etc/iptables/rules.v4", "ip"),))
        assert (taken[name] == "2") == bool(found.gaps), (name, taken[name], found.gaps)
        if not found.gaps and name not in ("limit", "time"):  # these two have something to go by, all the same
            assert said(found, "192.0.2.1") == "undecided", name
    for rule in (
        "-j DROP -m comment --comment x",
        "-m conntrack --ctstate NEW -j DROP -m comment --comment x",
        "-m mark --mark 1 -j DROP",
    ):
        raw = f"*filter\n:INPUT ACCEPT [0:0]\n-A INPUT {rule}\nCOMMIT\n".encode()
        assert not iptables.stored(from_files("x", {"/etc/iptables/rules.v4": raw}), (("/etc/iptables/rules.v4", "ip"),)).gaps


REFUSED = [
    '<port port="70000" protocol="tcp"/>',
    '<port port="" protocol="tcp"/>',
    '<port port="22"/>',
    '<port port="22" protocol="x"/>',
    '<protocol value="x"/>',
    '<source address="300.1.1.1"/>',
    '<interface name="abcdefghijklmnopqrst"/>',
    '<interface name="a/b"/>',
    '<forward-port port="1" protocol="tcp"/>',
    "<service/>",
    '<rule family="ipv7"><service name="ssh"/><accept/></rule>',
    '<rule><port port="22" protocol="tcp"/></rule>',
    '<rule><service name="ssh"/><accept/><drop/></rule>',
    '<rule priority="99999"><service name="ssh"/><accept/></rule>',
    "<rule><accept/></rule>",
    '<rule><source address="10.0.0.0/8"/><accept/></rule>',
    '<rule><service name="ssh"/><port port="1" protocol="tcp"/><accept/></rule>',
    '<rule family="ipv6"><source address="10.0.0.0/8"/><accept/></rule>',
    '<rule><service name="ssh"/><reject type="tcp-reset"/></rule>',
    '<rule><port port="70000" protocol="tcp"/><accept/></rule>',
]
TAKEN = [
    '<port port="22" protocol="tcp"/>',
    '<port port="0" protocol="tcp"/>',
    '<port port="30-20" protocol="tcp"/>',
    '<port port="ssh" protocol="tcp"/>',
    '<source address="10.0.0.1/24"/>',
    '<source address="2001:db8::/32"/>',
    '<forward-port port="1" protocol="tcp" to-port="22"/>',
    '<protocol value="igmp"/>',
    '<rule family="ipv4"><source address="10.0.0.0/255.0.0.0"/><service name="ssh"/><accept/></rule>',
    '<rule priority="-100"><service name="ssh"/><log/><drop/></rule>',
    '<rule family="ipv6"><source address="2001:db8::/32"/><reject type="icmp6-port-unreachable"/></rule>',
    '<interface name="eth0"/>',
]


@pytest.mark.judge("firewall-offline-cmd", root=True)
def test_what_firewalld_s_own_check_refuses_is_undecided(tmp_path: Path) -> None:
    def told(inside: str) -> tuple[bool, list[str]]:
        (tmp_path / "zones").mkdir(exist_ok=True)
        (tmp_path / "zones/public.xml").write_text(f"<zone>{inside}</zone>")
        words = ["firewall-offline-cmd", "--system-config", str(tmp_path), "--check-config"]
        done = subprocess.run(words, capture_output=True, text=True, check=False)
        return done.returncode != 0, [
            each
            for each in (done.stdout + done.stderr).splitlines()
            if each.startswith(("WARNING: INVALID", "WARNING: Invalid", "WARNING: MISSING"))
        ]

    rules = [inside for inside in REFUSED if inside.startswith("<rule")]
    assert len(told("".join(rules))[1]) >= len(rules), "firewalld goes on without each of these"
    assert told("".join(TAKEN)) == (False, [])
    for inside in REFUSED:
        assert inside in rules or told(inside)[0], inside
        assert list(faults(xml_tree.parse(f"<zone>{inside}</zone>".encode()))), inside
    assert not list(faults(xml_tree.parse(f"<zone>{''.join(TAKEN)}</zone>".encode())))
    shipped = [*Path("/usr/lib/firewalld/zones").glob("*.xml"), *Path("/usr/lib/firewalld/policies").glob("*.xml")]
    assert len(shipped) > 5
    assert not [(path, fault) for path in shipped for fault in faults(xml_tree.parse(path.read_bytes()))]
    files = {
        "/etc/firewalld/firewalld.conf": b"DefaultZone=public\n",
        "/etc/firewalld/zones/public.xml": f"<zone>{REFUSED[0]}</zone>".encode(),
    }
    assert "firewalld does not take this" in firewalld.stored(from_files("x", files)).gaps[0].because


@pytest.mark.parametrize(
    "lines, same",
    [
        (["-A INPUT -s 10.0.0.1 -j ACCEPT", "-A INPUT -s 10.0.0.2 -j ACCEPT"], True),
        (["-A INPUT -s 10.0.0.1 -j ACCEPT", "-A INPUT -s 10.0.0.2 -s 10.0.0.3 -j ACCEPT"], False),
        (["-A INPUT -s 10.0.0.1 -j ACCEPT", "-A INPUT -s\t10.0.0.2 -j ACCEPT"], True),
        (["-A INPUT -s 10.0.0.1 -j ACCEPT", "-A INPUT -s 10.0.0.2/33 -j ACCEPT"], False),
        (["-A INPUT -s 10.0.0.1 -j ACCEPT", "-A INPUT -s name.example -j ACCEPT"], False),
        ([":own - [0:0]", "-A own -s 10.0.0.1 -j RETURN", "-X own", "-A own -s 10.0.0.2 -j RETURN"], False),
        (["-A INPUT -s 10.0.0.1 -m comment --comment \udcfe", "-A INPUT -s 10.0.0.2 -m comment --comment \udcff"], True),
    ],
)
def test_a_rule_that_differs_by_its_source_is_read_as_if_it_stood_alone(lines: list[str], same: bool) -> None:
    def read(rows: list[str]) -> Rules:
        text = "\n".join(["*filter", ":INPUT DROP [0:0]", *rows, "COMMIT", ""])
        raw = text.encode("utf-8", "surrogateescape")
        return iptables.stored(from_files("x", {"/etc/iptables/rules.v4": raw}), places.IPTABLES_DEBIAN)

    both = read(lines)
    assert (not both.gaps) == same
    if same:
        alone = read(lines[1:]).chains["ip filter INPUT"].rules[0]
        last = both.chains["ip filter INPUT"].rules[-1]
        assert (last.matches, last.does, last.text) == (alone.matches, alone.does, alone.text)
