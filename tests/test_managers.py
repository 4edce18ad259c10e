"""Managers of filters: what iptables-restore takes and refuses, who loads what at boot, and what an audit says of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nightlatch.access.verdicts import Flow, passed
from nightlatch.audit.run import guest_audit
from nightlatch.evidence.snapshot import from_files
from nightlatch.formats import iptables_save
from nightlatch.net.addresses import EVERY_ADDRESS
from nightlatch.net.literal import parse_network
from nightlatch.ops.survey import survey_target
from nightlatch.readings.filters import filter_reading, firewalld, iptables, places, wrapper
from nightlatch.readings.filters.iptables import RestoredTables
from nightlatch.readings.filters.iptables_rules import SetMembers
from nightlatch.readings.filters.rules import Rule, Rules
from tests.guests import AT, Guest, estate, lifted, pub

SPOKEN = {"filter.not-at-boot", "filter.two-managers"}
WANTS = "/etc/systemd/system/multi-user.target.wants"
SETS = "create desk hash:net family inet\nadd desk 192.0.2.0/25\nadd desk 198.51.100.7\ncreate odd hash:mac\nadd odd 00:11:22:33:44:55\n"


def rules(*lines: str, table: str = "filter", chain: str = "INPUT") -> Rules:
    """An INPUT chain that drops, these lines in it, and a chain of the user's own."""
    text = "\n".join([f"*{table}", f":{chain} DROP [0:0]", ":own - [0:0]", *lines, "COMMIT", ""])
    files = {"/etc/iptables/rules.v4": text.encode(), "/etc/iptables/ipsets": SETS.encode()}
    return iptables.stored(from_files("x", files), places.IPTABLES_DEBIAN)


def said(found: Rules, source: str, port: int = 22) -> str:
    bounds = passed(found, Flow("tcp", port, parse_network("192.0.2.9"), ("eth0",)))
    one = parse_network(source)
    return "in" if one <= bounds.surely else "undecided" if one & bounds.perhaps else "out"


# A line, a source, a port, what becomes of it. What no line accepts is dropped.
LINES: list[tuple[str, str, int, str]] = [
    ("-A INPUT -p tcp --dport 22 -j ACCEPT", "192.0.2.1", 22, "in"),
    ("-A INPUT -p tcp --dport 22 -j ACCEPT", "2001:db8::1", 22, "in"),
    ("-A INPUT -p udp --dport 22 -j ACCEPT", "192.0.2.1", 22, "out"),
    ("-A INPUT -m mark --mark 1 -j ACCEPT", "192.0.2.1", 22, "undecided"),
    ("-A INPUT -m mac --mac-source 00:11:22:33:44:55 -j ACCEPT", "192.0.2.1", 22, "undecided"),
    ("-A INPUT -m set --match-set desk src -j ACCEPT", "192.0.2.127", 22, "in"),
    ("-A INPUT -m set --match-set desk src -j ACCEPT", "192.0.2.128", 22, "out"),
    ("-A INPUT -m set --match-set odd src -j ACCEPT", "192.0.2.1", 22, "undecided"),
    ("-A INPUT -m recent --name knock --rcheck --seconds 15 -j ACCEPT", "192.0.2.1", 22, "undecided"),
    ("-A INPUT -m hashlimit --hashlimit-above 5/min --hashlimit-name a -j DROP\n-A INPUT -j ACCEPT", "192.0.2.1", 22, "in"),
    ("-A INPUT -p tcp --sport 1:1023 -j DROP\n-A INPUT -j ACCEPT", "192.0.2.1", 22, "undecided"),
    ("-A INPUT -p tcp -m multiport --ports 22,80 -j ACCEPT", "192.0.2.1", 22, "in"),
    ("-A INPUT -j NFQUEUE --queue-num 1", "192.0.2.1", 22, "undecided"),
    ("-A INPUT -i eth1 -j ACCEPT", "192.0.2.1", 22, "out"),
    ("-A own -j ACCEPT\n-A INPUT -s 192.0.2.0/255.255.255.128 -j own", "192.0.2.1", 22, "in"),
    ('[3:180] -A INPUT -m comment --comment "the \\"desk\\" -j DROP" -p tcp -j ACCEPT', "192.0.2.1", 22, "in"),
    ("-A INPUT -j ACCEPT\n-I INPUT 1 -s 192.0.2.7 -j DROP", "192.0.2.7", 22, "out"),
    (
        "-A INPUT -m state --state ESTABLISHED -j ACCEPT\n-A INPUT -j ACCEPT\n-I INPUT 2 -s 192.0.2.7 -j DROP",
        "192.0.2.7",
        22,
        "out",
    ),
    ("-P INPUT ACCEPT", "192.0.2.7", 22, "in"),
    ("-A INPUT -f -j DROP\n-A INPUT ! -f -j ACCEPT", "192.0.2.7", 22, "in"),
    *(
        (f"-P INPUT ACCEPT\n-P OUTPUT DROP\n{line}", "192.0.2.1", 22, wanted)
        for line, wanted in (
            ("-A OUTPUT -p tcp --sport 22 -m state --state ESTABLISHED -j ACCEPT", "in"),
            ("-A OUTPUT -p tcp --dport 22 -j ACCEPT", "undecided"),
            ("-A OUTPUT -d 192.0.2.0/31 -j ACCEPT", "in"),
            ("-A OUTPUT -d 192.0.2.2/31 -j ACCEPT", "out"),
            ("-A OUTPUT -s 192.0.2.9 -j ACCEPT", "in"),
            ("-A OUTPUT -o eth1 -j ACCEPT", "out"),
            ("-A OUTPUT -o eth0 -j ACCEPT", "in"),
            ("-A OUTPUT -m conntrack --ctstate NEW -j ACCEPT", "out"),
            ("-A OUTPUT -p tcp --syn -j ACCEPT", "out"),
            ("-A OUTPUT -p tcp ! --syn -j ACCEPT", "in"),
            ("-A OUTPUT -m set --match-set desk dst -j ACCEPT", "in"),
            ("-A OUTPUT -m owner --uid-owner 0 -j ACCEPT", "undecided"),
            ("-A own -s 192.0.2.1 -j ACCEPT\n-A OUTPUT -j own", "out"),
            ("-A OUTPUT -m addrtype --src-type LOCAL -j ACCEPT", "in"),
        )
    ),
]
# What iptables-restore refuses (each line was tried with 1.8.9), and where.
REFUSED = [
    ("-A INPUT --dport 22 -j ACCEPT", 10),
    ("-A INPUT -j nowhere", 4),
    ("-A INPUT -m state --state ESTABLISHED -j nowhere", 4),
    ("-A nowhere -j ACCEPT", 4),
    ("-A INPUT -o eth0 -j ACCEPT", 10),
    ("-A own -o averyveryverylongname -j ACCEPT", 8),
    ("-A OUTPUT -i eth0 -j ACCEPT", 11),
    ("-A OUTPUT -o averyveryverylongname -j ACCEPT", 11),
    ("-A INPUT -s desk.skerry.example -j ACCEPT", 10),
    ("-A INPUT -s 10.0.0.0/33 -j ACCEPT", 10),
    ("-A INPUT -p tcp --dport 80:22 -j ACCEPT", 17),
    ("-A INPUT -s ! 10.0.0.1 -j ACCEPT", 13),
    ("-A INPUT -j ACCEPT extra", 10),
    ('-A INPUT -m comment --comment "open -j ACCEPT', 31),
    ("-A INPUT -m set --match-set gone src -j ACCEPT", 17),
    ("-A INPUT -p tcp --dprt 22 -j ACCEPT", 17),
    ("-A INPUT -j REJECT --reject-with tcp-reset", 20),
    ("-A INPUT -m limit --limit often -j ACCEPT", 19),
    ("nonsense", 1),
    ("-I INPUT 3 -j ACCEPT", 10),
    ("-I INPUT 0 -j ACCEPT", 10),
    ("-A INPUT -m geography --country x -j ACCEPT", 10),
    (":INPUT", 1),
    ("-A INPUT -s 10.0.0.1 -s 10.0.0.2 -j ACCEPT", 10),
]


@pytest.mark.parametrize("lines, source, port, wanted", LINES, ids=[str(n) for n in range(len(LINES))])
def test_who_comes_through(lines: str, source: str, port: int, wanted: str) -> None:
    found = rules(*lines.split("\n"))
    assert found.gaps == ()
    assert said(found, source, port) == wanted


@pytest.mark.parametrize("line, column", REFUSED, ids=[line for line, _ in REFUSED])
def test_a_refused_line_leaves_everything_undecided(line: str, column: int) -> None:
    found = rules("-A INPUT -j ACCEPT", line)
    (gap,) = found.gaps
    assert gap.because.startswith("iptables-restore refuses this line: ")
    assert (gap.origin.path, gap.origin.line, gap.origin.column) == ("/etc/iptables/rules.v4", 5, column)
    assert said(found, "192.0.2.1") == "undecided"


def test_a_table_without_its_end_is_undecided() -> None:
    found = iptables.stored(from_files("x", {"/etc/iptables/rules.v4": b"*filter\n:INPUT DROP\n"}), places.IPTABLES_DEBIAN)
    assert "has no COMMIT" in found.gaps[0].because


@given(
    st.lists(
        st.one_of(
            st.sampled_from([line for line, *_ in LINES] + ["*filter", "COMMIT", ":INPUT DROP [0:0]", "#"]), st.text(max_size=12)
        )
    ).map("\n".join),
    st.sampled_from(["\n", "\r\n", ""]),
)
def test_every_byte_of_a_save_file_comes_back(text: str, end: str) -> None:
    raw = (text + end).encode("utf-8", "surrogatepass")
    assert iptables_save.parse(raw).render() == raw
    iptables.stored(from_files("x", {"/etc/iptables/rules.v4": raw}), places.IPTABLES_DEBIAN)


GRANT = "let: mara, into: gauge, by: ssh, from: bench, with: key"
OFF = "PasswordAuthentication no\nKbdInteractiveAuthentication no\n"
NFT = "table inet f {\nchain i {\ntype filter hook input priority 0; policy drop;\nip saddr %s tcp dport 22 accept\n}\n}\n"
SAVED = "*filter\n:INPUT DROP [0:0]\n-A INPUT -s %s -p tcp -m tcp --dport 22 -j ACCEPT\nCOMMIT\n"
BARE = {f"/etc/ufw/{part}{six}.rules": "*filter\nCOMMIT\n" for part in ("before", "after", "user") for six in ("", "6")}
UFW = {**BARE, "/etc/default/ufw": 'IPV6=yes\nDEFAULT_INPUT_POLICY="DROP"\n', "/etc/ufw/ufw.conf": "ENABLED=yes\n"}
USER = "*filter\n:ufw-user-input - [0:0]\n### tuple ### allow tcp 22 0.0.0.0/0 any %s in\n-A ufw-user-input -p tcp --dport 22 -s %s -j ACCEPT\nCOMMIT\n"
ZONE = """<?xml version="1.0"?>
<zone target="DROP">
  <short>Station</short>
  <rule family="ipv4">
    <source address="%s"/>
    <service name="ssh"/>
    <accept/>
  </rule>
</zone>
"""
SERVICE = '<service><port protocol="tcp" port="22"/></service>\n'
FIREWALLD = {
    "/etc/firewalld/firewalld.conf": "DefaultZone=station\n",
    "/usr/lib/firewalld/services/ssh.xml": SERVICE,
    "/sbin/ifup": "",
    f"{WANTS}/networking.service": "",
    "/etc/network/interfaces": "auto eth0\niface eth0 inet static\n address 192.168.56.21/24\n",
}


IFUP = {
    "/sbin/ifup": "",
    "/etc/network/interfaces": """auto lo eth0
iface lo inet loopback
    pre-up /sbin/iptables-restore < /etc/iptables.up.rules
iface eth0 inet static
    address 192.168.56.21/24
    up ip6tables-restore </etc/ip6tables.up.rules || true
iface spare inet manual
    pre-up iptables -F
""",
}


SHAPES = [
    "-s 192.0.2.1",
    "-s 192.0.2.0/24",
    "-s 0.0.0.0/0",
    "--source 192.0.2.7",
    "! -s 192.0.2.1",
    "-s 192.0.2.1,192.0.2.3",
    "-s gone",
    "-s 2001:db8::1",
    "-s",
    "-p tcp",
    "! -p tcp",
    "--dport 22",
    "-m set --match-set desk src",
    "-m iprange --src-range 192.0.2.1-192.0.2.9",
    "-d 192.0.2.5",
    "-i eth0",
    "-m mac --mac-source 52:54:00:38:00:21",
    "stray",
    "-j ACCEPT",
    "-j DROP",
    "-m recent --update --seconds 60 --hitcount 4",
    '-m comment --comment "a -s 192.0.2.1 b"',
    "-m comment --comment a\tb",
]


@given(st.lists(st.sampled_from(SHAPES), min_size=1, max_size=5).map(" ".join), st.sampled_from(["", "[12:345] "]))
def test_a_rule_like_one_with_another_source_is_the_rule_as_it_is_read(text: str, counters: str) -> None:
    def read(*rules: str) -> tuple[list[Rule], int]:
        tables = RestoredTables({"desk": SetMembers(((parse_network("192.0.2.0/29"), frozenset(), None),))})
        lines = ["*filter", ":INPUT ACCEPT [0:0]", *(f"{counters}-A INPUT {each}" for each in rules), "COMMIT", ""]
        tables.restore("\n".join(lines).encode(), "x", "ip")
        return [rule for rule, _, _ in tables.rules["ip filter INPUT"]], len(tables.gaps)

    alone, refused = read(text)
    both, either = read(text.replace("-s 192.0.2.1", "-s 192.0.2.77"), text)
    assert refused == either
    if not refused:
        assert replace(both[-1], origin=alone[0].origin) == alone[0]


def zone(text: str) -> dict[str, str]:
    return {**FIREWALLD, "/etc/firewalld/zones/station.xml": ZONE % text}


# A manager's files for a range of sources, and what starts it. IPv6 is shut out in each.
MANAGERS: dict[str, tuple[Callable[[str], dict[str, str]], str]] = {
    "nftables": (lambda text: {"/etc/nftables.conf": NFT % text}, "/etc/systemd/system/sysinit.target.wants/nftables.service"),
    "iptables": (
        lambda text: {"/etc/iptables/rules.v4": SAVED % text, "/etc/iptables/rules.v6": "*filter\n:INPUT DROP [0:0]\nCOMMIT\n"},
        f"{WANTS}/netfilter-persistent.service",
    ),
    "firewalld": (zone, f"{WANTS}/firewalld.service"),
    "ufw": (lambda text: {**UFW, "/etc/ufw/user.rules": USER % (text, text)}, f"{WANTS}/ufw.service"),
    "ifupdown": (
        lambda text: {
            **IFUP,
            "/etc/iptables.up.rules": SAVED % text,
            "/etc/ip6tables.up.rules": "*filter\n:INPUT DROP [0:0]\nCOMMIT\n",
        },
        f"{WANTS}/networking.service",
    ),
}


def told(tmp_path: Path, files: dict[str, str | bytes]) -> dict[str, str]:
    made = estate(tmp_path, GRANT)
    guest = Guest(OFF, {"mara": pub("mara-desk") + "\n"}, files)
    return {f.check: f.text for f in guest_audit(guest.access(lifted(made)), AT, made).findings}


@pytest.mark.parametrize("manager", MANAGERS)
def test_an_audit_counts_what_a_manager_loads(tmp_path: Path, manager: str) -> None:
    """A key without from= is no hole where the filter lets only the granted place through; another place is shut out."""
    files, started = MANAGERS[manager]
    right = told(tmp_path, {**files("192.168.40.0/24"), started: ""})
    assert "hole" not in right
    wrong = told(tmp_path, {**files("192.168.41.0/24"), started: ""})
    assert "the packet filter drops it on its way to port 22" in wrong["shut-out"]
    assert "192.168.41.0/24" in wrong["hole"]
    if manager == "firewalld":  # what came with its package is stored on guests that do without it
        return
    idle = told(tmp_path, {**files("192.168.40.0/24")})
    assert f"rules of {manager}, and nothing loads them at boot: they keep nobody out" in idle["filter.not-at-boot"]
    assert "hole" in idle


# A line of an interface that comes up by itself, or a script beside it; what becomes of everybody from 192.0.2.0/24.
LOADS = [
    ("    pre-up iptables-restore < /etc/rules", "", "out"),
    ("    up nft -f /etc/gate.nft", "", "out"),
    ("    up /usr/local/bin/iptables-up", "", "undecided"),
    ("    pre-up iptables-restore < /etc/gone", "", "undecided"),
    ("    pre-up iptables -P INPUT DROP", "", "undecided"),
    ("    down iptables-restore < /etc/rules", "", "in"),
    ("    # pre-up iptables-restore < /etc/rules", "", "in"),
    ("", "#!/bin/sh\n# at the start\niptables-restore -w < /etc/rules\nexit 0\n", "out"),
    ("", "#!/bin/sh\n/usr/sbin/nft -f /etc/gate.nft\n", "out"),
    ("", '#!/bin/sh\n[ "$IFACE" = lo ] || exit 0\niptables-restore < /etc/rules\n', "undecided"),
    ("", "#!/bin/sh\nethtool -s eth0 wol g\n", "in"),
]


@pytest.mark.parametrize("line, script, wanted", LOADS, ids=[str(n) for n in range(len(LOADS))])
def test_what_an_interface_loads_as_it_comes_up(tmp_path: Path, line: str, script: str, wanted: str) -> None:
    files: dict[str, str | bytes] = {
        "/sbin/ifup": "",
        f"{WANTS}/networking.service": "",
        "/etc/rules": SAVED % "198.51.100.0/24",
        "/etc/gate.nft": NFT % "198.51.100.0/24",
        "/etc/network/interfaces": f"auto lo\niface lo inet loopback\n{line}\n",
        "/etc/network/if-pre-up.d/own": script,
    }
    root = Guest(OFF, {"mara": pub("mara-desk") + "\n"}, files).write(tmp_path / "g")
    (root / "etc/network/if-pre-up.d/own").chmod(0o755)
    found = filter_reading.read(survey_target(root, "gauge"))
    assert (wanted == "undecided") == bool(found.gaps or (found.rules and found.rules.gaps))
    if wanted != "undecided":
        through = passed(found.rules, Flow("tcp", 22)).perhaps if found.rules else EVERY_ADDRESS
        assert (parse_network("192.0.2.0/24") <= through) == (wanted == "in")


DIRECT = "/etc/firewalld/direct.xml"
MANAGED = {"/usr/sbin/NetworkManager": "", f"{WANTS}/NetworkManager.service": ""}
PROFILE = "/etc/NetworkManager/system-connections/a"
PLAN = "network:\n  renderer: NetworkManager\n  ethernets:\n    eth0: {dhcp4: true, networkmanager: {passthrough: {connection.zone: work}}}\n"
POLICY = "<policy target='DROP'><ingress-zone name='station'/><egress-zone name='HOST'/></policy>"
# Files of NetworkManager, and whether bench gets in then, and everybody does: the zone station lets in bench, work everybody.
WORK = {"/etc/firewalld/zones/work.xml": "<zone target='ACCEPT'/>", **MANAGED}
ZONED = [
    ({PROFILE: "[connection]\ninterface-name=eth0\nzone=work\n"}, (True, True)),
    ({PROFILE: "[connection]\ninterface-name=eth0\n"}, (True, False)),
    ({PROFILE: "[connection]\ninterface-name=eth0\nzone=gone\n"}, (True, False)),
    ({PROFILE: "[connection]\ninterface-name=eth1\nzone=work\n"}, (True, False)),
    ({PROFILE: "[connection]\ninterface-name=eth0\nzone=work\nautoconnect=false\n"}, (True, False)),
    ({"/etc/sysconfig/network-scripts/ifcfg-eth0": "DEVICE=eth0\nZONE=work\n"}, (True, True)),
    ({"/etc/sysconfig/network-scripts/ifcfg-eth0": "DEVICE=eth0\nZONE=work\nONBOOT=no\n"}, (True, False)),
    ({PROFILE: "[connection]\ninterface-name=eth0\n", "/etc/firewalld/policies/own.xml": POLICY}, (False, False)),
    ({PROFILE: "[connection]\ninterface-name=eth0\nzone=work\n", "/etc/firewalld/policies/own.xml": POLICY}, (True, True)),
    (
        {
            "/etc/firewalld/zones/work.xml": "<zone target='ACCEPT'><interface name='eth0'/></zone>",
            PROFILE: "[connection]\ninterface-name=eth0\n",
        },
        (True, False),
    ),
    (
        {"/etc/firewalld/zones/work.xml": "<zone target='ACCEPT'><interface name='eth0'/></zone>"},
        (True, True),
    ),  # ifupdown sets it up
]


@pytest.mark.parametrize("files, wanted", ZONED, ids=[str(n) for n in range(len(ZONED))])
def test_the_zone_of_an_interface_is_that_of_its_connection(files: dict[str, str], wanted: tuple[bool, bool]) -> None:
    held = {name: text.encode() for name, text in {**zone("192.168.40.0/24"), **WORK, **files}.items()}
    snapshot = from_files("x", held)
    entries = {path: replace(entry, mode=0o600) if path == PROFILE else entry for path, entry in snapshot.entries.items()}
    found = firewalld.stored(replace(snapshot, entries=entries))
    assert found.gaps == ()
    through = passed(found, Flow("tcp", 22, None, ("eth0",)))
    assert through.surely == through.perhaps
    assert ("192.168.40.7" in through.surely, "203.0.113.9" in through.surely) == wanted


BROKEN = [
    (
        {"/etc/firewalld/zones/station.xml": "<zone>\n<service name='ssh'>\n</zone>"},
        "/etc/firewalld/zones/station.xml",
        3,
        "mismatched tag",
    ),
    (
        {"/etc/firewalld/zones/station.xml": '<!DOCTYPE z [<!ENTITY a "b">]>\n<zone>&a;</zone>'},
        "/etc/firewalld/zones/station.xml",
        1,
        "document types",
    ),
    (
        {"/etc/firewalld/zones/station.xml": "<zone>\n <service name='tide'/></zone>"},
        "/etc/firewalld/zones/station.xml",
        2,
        '"tide"',
    ),
    (
        {"/etc/firewalld/zones/station.xml": "<zone>\n <tunnel/></zone>"},
        "/etc/firewalld/zones/station.xml",
        2,
        '"tunnel" is not read',
    ),
    (
        {"/etc/firewalld/zones/station.xml": "<zone>\n <rule><source ipset='gone'/><accept/></rule></zone>"},
        "/etc/firewalld/zones/station.xml",
        2,
        "source",
    ),
    ({"/etc/firewalld/firewalld.conf": "DefaultZone=gone\n"}, "/etc/firewalld/firewalld.conf", 0, 'no zone "gone"'),
    (
        {DIRECT: "<direct>\n<rule ipv='ipv4' table='filter' chain='INPUT'>-p tcp --dport</rule></direct>"},
        DIRECT,
        2,
        "is refused by iptables",
    ),
    ({DIRECT: "<direct>\n<rule ipv='eb' table='filter' chain='INPUT'>-j DROP</rule></direct>"}, DIRECT, 2, "is about a bridge"),
    (
        {DIRECT: "<direct>\n<passthrough ipv='ipv6'>-t nat -A INPUT -j own</passthrough></direct>"},
        DIRECT,
        2,
        'no chain or target "own"',
    ),
    (
        {
            DIRECT: "<direct>\n<rule/></direct>",
            "/etc/firewalld/firewalld.conf": "DefaultZone=station\nFirewallBackend=iptables\n",
        },
        DIRECT,
        2,
        "among its own ones",
    ),
    ({DIRECT: "<direct>\n<rule>"}, DIRECT, 2, "firewalld can't read"),
    (
        {
            DIRECT: f"<direct>\n<rule ipv='ipv4' table='filter' chain='INPUT'>-s {','.join(['192.0.2.1'] * 1001)} -j DROP</rule></direct>"
        },
        DIRECT,
        2,
        "more addresses",
    ),
    ({**MANAGED, PROFILE: "[connection]\nzone=work\n"}, PROFILE, 2, "which interface this profile is for"),
    (
        {
            **MANAGED,
            PROFILE: "[connection]\ninterface-name=eth0\n",
            f"{PROFILE}2": "[connection]\ninterface-name=eth0\nzone=work\n",
        },
        f"{PROFILE}2",
        3,
        "which of two profiles for eth0",
    ),
    (
        {**MANAGED, "/etc/firewalld/zones/work.xml": "<zone>\n<interface name='eth7'/></zone>"},
        "/etc/firewalld/zones/work.xml",
        2,
        "whether NetworkManager brings up eth7",
    ),
    ({**MANAGED, "/etc/netplan/a.yaml": PLAN, "/usr/sbin/netplan": ""}, "/etc/netplan/a.yaml", 4, "netplan passes on"),
    (
        {"/etc/sysconfig/network-scripts/ifcfg-eth0": "DEVICE=eth0\nZONE=work\n"},
        "/etc/sysconfig/network-scripts/ifcfg-eth0",
        2,
        "old network scripts",
    ),
    (
        {**MANAGED, "/etc/firewalld/policies/own.xml": POLICY},
        "/etc/firewalld/policies/own.xml",
        1,
        "whether NetworkManager gives the default zone",
    ),
]


PARTS = [
    "<rule ipv='ipv4' table='filter' chain='INPUT' priority='²'>",
    "<passthrough ipv='ipv6'>-t </passthrough>",
    "-s 1,2 -j\\",
    "-A INPUT ",
    "<zone>",
    "</zone>",
    "<zone target='DROP'>",
    "<source address='10.0.0.1;drop'/>",
    "<source ipset='a b'/>",
    "<interface name='e}'/>",
    "<rule priority='²'>",
    "</rule>",
    "<accept/>",
    "<service name='ssh'/>",
    "<service name='../x'/>",
    "<port port='1 2' protocol='tcp'/>",
    "<forward-port port='2' protocol='{' to-port='}'/>",
    "<include service='ssh'/>",
    "<policy>",
    "</policy>",
    "<ingress-zone name='ANY'/>",
    "<egress-zone name='HOST'/>",
    "<entry>1 }</entry>",
    "&amp;",
]


@given(
    st.lists(st.sampled_from(PARTS)).map("".join),
    st.sampled_from(["station", "a b", "x;y", "é", "z" * 80]),
    st.sampled_from(["zones", "policies", "ipsets"]),
)
def test_nothing_that_a_guest_writes_for_firewalld_stops_the_reading(text: str, name: str, kind: str) -> None:
    service = f"<service>{'<include service=' + chr(39) + 'ssh' + chr(39) + '/>'}<port port='22' protocol='tcp'/></service>"
    held = {
        **zone("192.168.40.0/24"),
        f"/etc/firewalld/{kind}/{name}.xml": text,
        DIRECT: f"<direct>{text}</direct>",
        "/usr/lib/firewalld/services/ssh.xml": service,
    }
    found = firewalld.stored(from_files("x", {path: each.encode() for path, each in held.items()}))
    passed(found, Flow("tcp", 22))


@given(
    st.lists(st.sampled_from(["EXCEPT", "ALL", "sshd", ":", "192.0.2.", "[", "]", "²", "\\\n", "@", " "])).map(" ".join),
    st.sampled_from(["", "\n"]),
)
def test_nothing_that_a_guest_writes_for_libwrap_stops_the_reading(text: str, end: str) -> None:
    for held in (text + end, "sshd : " + "ALL EXCEPT " * 3000 + "\n"):
        found = wrapper.read(from_files("x", {"/etc/hosts.deny": held.encode()}))
        assert found is None or passed(found, Flow("tcp", 22)) is not None


@pytest.mark.parametrize("files, path, line, words", BROKEN, ids=[words for *_, words in BROKEN])
def test_what_firewalld_cannot_load_is_told_with_its_place(files: dict[str, str], path: str, line: int, words: str) -> None:
    snapshot = from_files("x", {name: text.encode() for name, text in {**zone("192.168.40.0/24"), **files}.items()})
    entries = {each: replace(entry, mode=0o600) if PROFILE in each else entry for each, entry in snapshot.entries.items()}
    gaps = firewalld.stored(replace(snapshot, entries=entries)).gaps
    assert [(gap.origin.path, gap.origin.line) for gap in gaps if words in gap.because] == [(path, line)], gaps


def test_libwrap_behind_the_filter_counts_for_sshd(tmp_path: Path) -> None:
    assert "hole" not in told(tmp_path, {"/etc/hosts.deny": "sshd: ALL\n", "/etc/hosts.allow": "sshd: 192.168.40.\n"})
    wrong = told(tmp_path, {"/etc/hosts.deny": "ALL: ALL\n"})
    assert "libwrap turns its callers away" in wrong["shut-out"]
    assert "hole" not in wrong
    assert "hole" in told(tmp_path, {"/etc/hosts.deny": "in.telnetd: ALL\n"})


def test_the_filter_of_the_unit_counts_for_sshd(tmp_path: Path) -> None:
    unit = {"/lib/systemd/system/ssh.service": "[Service]\nExecStart=/usr/sbin/sshd -D\n"}
    drop_in = "/etc/systemd/system/ssh.service.d/from.conf"
    assert "hole" not in told(tmp_path, {**unit, drop_in: "[Service]\nIPAddressAllow=192.168.40.0/24\nIPAddressDeny=any\n"})
    wrong = told(tmp_path, {**unit, drop_in: "[Service]\nIPAddressDeny=192.168.0.0/16\n"})
    assert "the service manager drops what comes for ssh.service" in wrong["shut-out"]
    odd = told(tmp_path, {**unit, drop_in: "[Service]\nIPAddressDeny=desk\n"})
    assert not set(odd) & {"shut-out"}
    above: dict[str, str | bytes] = {"/etc/systemd/system/-.slice.d/a.conf": "[Slice]\nIPAddressDeny=any\n", **unit}
    assert "shut-out" in told(tmp_path, above)
    below = {**above, "/etc/systemd/system/tide.slice": "[Slice]\nIPAddressAllow=192.168.40.0/24\n"}
    assert "shut-out" in told(tmp_path, below)
    held = {**below, drop_in: "[Service]\nSlice=tide-gate.slice\n"}
    assert not set(told(tmp_path, held)) & {"hole", "shut-out"}
    masked = {**held, "/etc/systemd/system/service.d/from.conf": "[Service]\nIPAddressDeny=192.168.40.0/24\n"}
    assert not set(told(tmp_path, masked)) & {"hole", "shut-out"}
    apart = {**above, "/etc/os-release": 'ID=ubuntu\nVERSION_ID="20.04"\n'}
    assert not set(told(tmp_path, apart)) & {"hole", "shut-out"}


def test_two_managers_are_told_and_chains_of_both_are_undecided(tmp_path: Path) -> None:
    files: dict[str, str | bytes] = {}
    for name in ("iptables", "ufw"):
        made, started = MANAGERS[name]
        files |= {**made("192.168.40.0/24"), started: ""}
    found = told(tmp_path, files)
    assert found["filter.two-managers"].startswith("iptables and ufw load rules at boot")
    assert not set(found) & {"hole", "shut-out"}
