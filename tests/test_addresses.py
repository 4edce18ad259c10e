"""Addresses: every check speaks and is silent, the book counts right, proposals collide with nothing, the best one is dialled."""

from __future__ import annotations

import random
import re
from collections.abc import Mapping
from dataclasses import replace
from ipaddress import ip_address, ip_network
from pathlib import Path

import pytest

from nightlatch.access.book import Reachability, book, choices, free_addresses, proposals
from nightlatch.access.holdings import Holding
from nightlatch.access.paths import GuestAccess, guest_access
from nightlatch.audit.findings import Finding
from nightlatch.audit.run import fleet, guest_audit, identities
from nightlatch.draft.addresses import moved
from nightlatch.draft.steps import apply_all
from nightlatch.estate.load import load
from nightlatch.estate.model import Estate, NetworkSpec
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import NightlatchError
from nightlatch.net.literal import parse_network, parse_range
from nightlatch.ops.addresses import CHECKS, addresses_target, place_of
from nightlatch.ops.addresses import addresses as address_book
from nightlatch.ops.reach import known_address
from nightlatch.origin import Origin
from nightlatch.readings import guest as readings
from nightlatch.readings.network.profiles import Method
from tests.guests import AT, Guest, pub

WANTS = "/etc/systemd/system/multi-user.target.wants"
NETWORKD = {"/lib/systemd/systemd-networkd": "", f"{WANTS}/systemd-networkd.service": ""}
MANAGER = {"/usr/sbin/NetworkManager": "", f"{WANTS}/NetworkManager.service": ""}
IFUP = {"/sbin/ifup": "", f"{WANTS}/networking.service": ""}
PLAN = {"/usr/sbin/netplan": ""}
FILE = "/etc/systemd/network/10-a.network"
PROFILE = "/etc/NetworkManager/system-connections/a.nmconnection"
MODE = {PROFILE: (0o600, 0, 0)}
HEAD = """\
nightlatch: 1
estate: Tests
places: {near: [192.168.56.9], far: [198.51.100.0/24], six: ["2001:db8:40::/64"], lent: [192.168.56.120]}
people: {mara: {}}
networks:
  isle: {subnet: [192.168.56.0/24, "2001:db8:56::/64"], host: 192.168.56.1, gateway: 192.168.56.254, leases: 192.168.56.100-192.168.56.199}
"""


def made(folder: Path, guest: str = "", grants: str = "", others: str = "") -> Estate:
    path = folder / "estate.yaml"
    sentences = f"grants:\n  - {{{grants}}}\n" if grants else ""
    path.write_text(f"{HEAD}guests:\n  gauge: {{via: {{folder: gauge}}{guest}}}\n{others}{sentences}")
    return load(path)


def unit(network: str, name: str = "eth0", more: str = "") -> dict[str, str]:
    return {**NETWORKD, FILE: f"[Match]\nName={name}\n[Network]\n{network}\n{more}"}


def access(
    files: Mapping[str, str | bytes],
    listings: Mapping[str, str] | None = None,
    name: str = "gauge",
    modes: Mapping[str, tuple[int, int, int]] | None = None,
) -> GuestAccess:
    snapshot = Guest(files=dict(files), name=name, modes=dict(modes or {})).snapshot()
    told = {key: text.encode() for key, text in (listings or {}).items()}
    return guest_access(readings.read(replace(snapshot, listings=told)), AT)


def said(found: GuestAccess, estate: Estate | None = None) -> list[Finding]:
    return [f for f in guest_audit(found, AT, estate).findings if f.check.startswith(CHECKS)]


STATIC = "Address=192.168.56.21/24"
LINKS = "2: eth0: <UP,LOWER_UP> mtu 1500 \\    link/ether 52:54:00:38:00:21 brd ff:ff:ff:ff:ff:ff\n"
NOW = "2: eth0    inet 192.168.56.21/24 scope global eth0\\       valid_lft forever preferred_lft forever\n"
LEASE = "2: eth0    inet 192.168.56.120/24 scope global dynamic eth0\\       valid_lft 40sec preferred_lft 40sec\n"

# Check, files, listings, what is said, the severity. No estate is needed.
ALONE: list[tuple[str, dict[str, str], dict[str, str], str, str]] = [
    (
        "address.two-default-routes",
        {
            **PLAN,
            "/etc/netplan/a.yaml": "network:\n  ethernets:\n    eth0: {dhcp4: true}\n    eth1:\n"
            "      addresses: [10.0.0.4/24]\n      routes: [{to: default, via: 10.0.0.1}]\n",
        },
        {},
        "the lease of eth0 and 10.0.0.1 on eth1",
        "medium",
    ),
    (
        "address.two-default-routes",
        {},
        {"routes": "default via 10.0.0.1 dev eth0 \ndefault via 10.1.0.1 dev eth1 \n"},
        "the same metric now",
        "medium",
    ),
    (
        "address.gateway-outside",
        unit(f"{STATIC}\nGateway=192.168.57.1\nDNS=192.168.57.1"),
        {},
        "192.168.57.1 lies outside of eth0, which has 192.168.56.21/24",
        "high",
    ),
    ("address.no-name-server", unit(f"{STATIC}\nGateway=192.168.56.1"), {}, "no name server is", "medium"),
    (
        "address.two-systems",
        {**unit(STATIC), **IFUP, "/etc/network/interfaces": "auto eth0\niface eth0 inet dhcp\n"},
        {},
        "systemd-networkd and ifupdown both configure eth0",
        "medium",
    ),
    (
        "address.two-systems",
        {
            **MANAGER,
            PROFILE: "[connection]\ninterface-name=eth0\n",
            PROFILE.replace("a.", "b."): "[connection]\ninterface-name=eth0\n",
        },
        {},
        "2 files of NetworkManager both configure eth0",
        "medium",
    ),
    (
        "address.lost-at-boot",
        unit("DHCP=no", "eth1"),
        {"links": LINKS, "addresses": NOW},
        "eth0 has 192.168.56.21 now, and no file stores it",
        "high",
    ),
    (
        "address.lost-at-boot",
        unit(STATIC, more="[Link]\nActivationPolicy=manual\n"),
        {"links": LINKS, "addresses": NOW},
        "is not brought up at boot",
        "high",
    ),
    (
        "address.not-loaded",
        unit(STATIC),
        {"links": LINKS, "addresses": ""},
        "192.168.56.21 is stored and the guest does not have it: the file was not applied",
        "medium",
    ),
    ("address.not-loaded", unit(STATIC, "eth7"), {"links": LINKS, "addresses": ""}, "there is no eth7", "medium"),
    (
        "address.profile-ignored",
        {**MANAGER, PROFILE: "[connection]\ninterface-name=eth0\njunk\n"},
        {},
        "settings for eth0 are ignored: line 3",
        "high",
    ),
    ("address.profile-ignored", {**NETWORKD, FILE: "[Network]\nDHCP=yes\n"}, {}, "there is no [Match] section", "high"),
    (
        "address.unread-line",
        {**PLAN, "/etc/netplan/a.yaml": "network:\n\tethernets: {}\n"},
        {},
        "Netplan refuses this file",
        "high",
    ),
    (
        "address.unread-line",
        {**PLAN, "/etc/netplan/a.yaml": "network:\n  ethernets:\n    eth0: {}\n    eth0: {}\n"},
        {},
        "stands here twice; expected it once",
        "high",
    ),
    (
        "address.unread-line",
        unit("Address=192.168.56.21"),
        {},
        "192.168.56.21 has no prefix length: networkd takes 192.168.56.21/32",
        "medium",
    ),
    (
        "address.unread-line",
        {**IFUP, "/etc/network/interfaces": "auto eth0\niface eth0 inet static\n address 192.168.56\n"},
        {},
        "3 groups",
        "medium",
    ),
    (
        "address.unread-line",
        {**IFUP, "/etc/network/interfaces": "auto eth0\niface eth0 inet static\n address 172.16.9.9\n"},
        {},
        '"172.16.9.9" has no prefix length: ifup takes 172.16.9.9/16; expected it written out',
        "medium",
    ),
    (
        "address.unread-line",
        {**IFUP, "/etc/network/interfaces": "auto eth0\r\n"},
        {},
        "a carriage return at the end of the line",
        "medium",
    ),
    (
        "address.unread-line",
        {**IFUP, "/etc/network/interfaces": "iface eth0 inet manual\n up ip addr add 10.0.0.4/24 dev eth0\n"},
        {},
        "command sets an address",
        "medium",
    ),
    (
        "address.rewritten",
        {**PLAN, "/usr/bin/cloud-init": "", "/etc/netplan/50-cloud-init.yaml": "network: {version: 2}\n"},
        {},
        "writes this file anew",
        "low",
    ),
    ("name.skipped-line", {"/etc/hosts": "192.168.56 gauge\n"}, {}, "3 groups", "low"),
]


@pytest.mark.parametrize("check, files, listings, text, severity", ALONE, ids=[f"{c[0]} {n}" for n, c in enumerate(ALONE)])
def test_checks_of_one_guest(check: str, files: dict[str, str], listings: dict[str, str], text: str, severity: str) -> None:
    modes = {path: (0o600, 0, 0) for path in files if "NetworkManager/" in path}
    found = [f for f in said(access(files, listings, modes=modes)) if f.check == check]
    assert [f.severity.value for f in found] == [severity], found
    assert text in found[0].text
    assert found[0].proofs[0].origin.path


def test_a_profile_that_others_may_read_is_ignored() -> None:
    files = {**MANAGER, PROFILE: "[connection]\ninterface-name=eth0\n[ipv4]\nmethod=manual\naddress1=10.0.0.4/24\n"}
    (finding,) = said(access(files, modes={PROFILE: (0o644, 0, 0)}))
    assert "mode 0644: NetworkManager ignores a profile that others may read; expected 0600" in finding.text
    assert not said(access(files, modes=MODE))


# Guests in order: nothing is said of them.
QUIET: list[tuple[str, dict[str, str], dict[str, str]]] = [
    ("a fixed address", unit(f"{STATIC}\nGateway=192.168.56.254\nDNS=192.168.56.254"), {"links": LINKS, "addresses": NOW}),
    ("a lease", unit("DHCP=yes"), {"links": LINKS, "addresses": LEASE}),
    (
        "metrics that are written",
        unit(
            "DNS=10.0.0.1\nAddress=10.0.0.4/24", more="[Route]\nGateway=10.0.0.1\nMetric=5\n[Route]\nGateway=10.0.0.2\nMetric=9\n"
        ),
        {},
    ),
    (
        "a gateway on the link",
        unit("DNS=10.0.0.1\nAddress=10.0.0.4/32", more="[Route]\nGateway=10.0.0.1\nGatewayOnLink=yes\n"),
        {},
    ),
    ("a gateway by link-local", unit("DNS=10.0.0.1\nAddress=2001:db8::4/64\nGateway=fe80::1"), {}),
    ("a container", {}, {"links": LINKS, "addresses": NOW}),
    (
        "the files of a system that is not started",
        {"/sbin/ifup": "", "/etc/network/interfaces": "auto eth0\niface eth0 inet static\naddress 10.0.0.4\n"},
        {},
    ),
    (
        "cloud-init told to leave it",
        {
            **PLAN,
            "/usr/bin/cloud-init": "",
            "/etc/netplan/50-cloud-init.yaml": "network: {version: 2}\n",
            "/etc/cloud/cloud-init.disabled": "",
        },
        {},
    ),
]


@pytest.mark.parametrize("files, listings", [case[1:] for case in QUIET], ids=[case[0] for case in QUIET])
def test_nothing_is_said_of_a_guest_in_order(files: dict[str, str], listings: dict[str, str]) -> None:
    if "/etc/network/interfaces" in files:
        found = said(access(files, listings))
        assert {f.check for f in found} <= {"address.unread-line"}
        return
    assert not said(access(files, listings))


# Check, what the estate says of the guest, grant, files, listings, what is said.
HELD: list[tuple[str, str, str, dict[str, str], dict[str, str], str]] = [
    (
        "address.in-pool",
        ", network: isle",
        "",
        unit("Address=192.168.56.120/24"),
        {},
        "is fixed, and lies in the pool of leases of isle",
    ),
    ("address.in-pool", ", addresses: {eth0: 192.168.56.120/24}", "", {}, {}, "192.168.56.120 on eth0 is fixed"),
    ("address.taken", "", "", unit("Address=192.168.56.0/24"), {}, "is the address of the network 192.168.56.0/24 itself"),
    ("address.taken", "", "", unit("Address=192.168.56.255/24"), {}, "is the broadcast address"),
    ("address.taken", "", "", unit("Address=192.168.56.1/24"), {}, "is the host's own on isle"),
    ("address.taken", "", "", unit("Address=192.168.56.254/24"), {}, "is the gateway's own on isle"),
    ("address.wrong-length", "", "", unit("Address=192.168.56.21/16"), {}, "192.168.56.21/16 on eth0 should be /24"),
    (
        "address.outside",
        ", network: isle",
        "",
        unit("Address=10.0.0.4/24"),
        {},
        "is said to sit on isle; its addresses are 10.0.0.4",
    ),
    (
        "address.not-as-stated",
        ", addresses: {eth0: 192.168.56.22/24}",
        "",
        unit(STATIC),
        {},
        "gives eth0 192.168.56.22; the guest does not have it",
    ),
    (
        "address.not-as-stated",
        ", addresses: {eth0: 192.168.56.120/24}",
        "",
        unit("DHCP=yes"),
        {"links": LINKS, "addresses": LEASE},
        "has it by a lease only",
    ),
    (
        "address.leased-in-use",
        ", dial: 192.168.56.120",
        "",
        unit("DHCP=yes"),
        {"links": LINKS, "addresses": LEASE},
        "dialled at 192.168.56.120, which is a lease",
    ),
    ("address.leased-in-use", ", dial: 192.168.56.130", "", unit("DHCP=yes"), {}, "in the pool of leases of isle"),
    (
        "address.leased-in-use",
        "",
        "let: mara, into: gauge, by: ssh, from: lent, with: password",
        {},
        {},
        "Grant 1 lets mara in from 192.168.56.120, which isle gives out",
    ),
    ("address.link-local-scope", ", dial: 'fe80::1'", "", {}, {}, "without %INTERFACE"),
]


@pytest.mark.parametrize("check, guest, grant, files, listings, text", HELD, ids=[f"{c[0]} {n}" for n, c in enumerate(HELD)])
def test_checks_against_the_estate(
    tmp_path: Path, check: str, guest: str, grant: str, files: dict[str, str], listings: dict[str, str], text: str
) -> None:
    found = said(access(files, listings), made(tmp_path, guest, grant))
    assert [f.check for f in found if text in f.text] == [check], [f.text for f in found]
    good = unit(f"{STATIC}\nGateway=192.168.56.254\nDNS=192.168.56.254")
    told = {"links": LINKS, "addresses": NOW}
    assert not said(
        access(good, told), made(tmp_path, ", network: isle, addresses: {eth0: 192.168.56.21/24}, dial: 192.168.56.21")
    )


def together(estate: Estate, *guests: GuestAccess) -> list[str]:
    found = fleet([identities(each, estate) for each in guests], estate, AT)
    return [f"{guest}: {f.check}: {f.text}" for guest, each in found.items() for f in each]


def test_collisions_clones_and_names_over_all_guests(tmp_path: Path) -> None:
    estate = made(
        tmp_path,
        others="  gate: {via: {folder: gate}, dial: Gate.Skerry.Example}\n  plotter: {via: {folder: plotter}}\n",
    )
    copied = {
        **MANAGER,
        "/etc/machine-id": "6c1f\n",
        PROFILE: "[connection]\ninterface-name=eth0\n[ethernet]\nmac-address=52:54:00:38:00:22\n[ipv4]\nmethod=manual\naddress1=192.168.56.22/24\n",
    }
    one, two = (access(copied, name=name, modes=MODE) for name in ("gauge", "gate"))
    other = access(
        {
            **unit("Address=192.168.56.23/24"),
            "/etc/machine-id": "uninitialized\n",
            "/etc/hosts": "192.168.56.29 gate.skerry.example\n127.0.1.1 plotter gauge\n192.168.56.22 gate\n",
        },
        name="plotter",
    )
    told = together(estate, one, two, other)
    assert len(told) == 4, told
    assert any("address.twice: gauge and gate both have 192.168.56.22" in each for each in told)
    assert any(
        "guest.shared-hardware-address: gauge and gate have the hardware address 52:54:00:38:00:22" in each for each in told
    )
    assert any("guest.shared-machine-id: gauge and gate have the same machine id" in each for each in told)
    assert any(
        "name.elsewhere: On plotter the name gate.skerry.example leads to 192.168.56.29; gate has 192.168.56.22" in each
        for each in told
    )
    assert not together(estate, one, access(unit("Address=192.168.56.24/24"), name="plotter"))


def test_conflicts_among_thousands_take_a_sort_and_not_all_pairs(tmp_path: Path) -> None:
    network = NetworkSpec("big", (ip_network("10.0.0.0/8"),), Origin("estate.yaml", 1, 1))
    estate = replace(made(tmp_path), networks={"big": network})
    found = [
        Holding(f"g{n}", ip_address(0x0A000001 + n // 2), "eth0", Method.STATIC, 8, stored=Origin("x")) for n in range(40_000)
    ]
    random.Random(1).shuffle(found)
    page = book(estate, found, []).pages[0]
    assert len(page.holdings) == 40_000
    assert str(page.following) == "10.0.78.33"
    assert page.free == 2**24 - 2 - 20_000


def test_what_is_free_is_neither_used_nor_anybodys() -> None:
    pool = parse_range("192.168.56.4-192.168.56.250")
    network = NetworkSpec(
        "isle",
        (ip_network("192.168.56.0/24"),),
        Origin("x"),
        (ip_address("192.168.56.1"),),
        (pool,),
        (ip_address("192.168.56.254"),),
    )
    free = [str(a) for a in free_addresses(network, network.subnets[0], {int(ip_address("192.168.56.2"))})]
    assert free == [f"192.168.56.{n}" for n in (3, 251, 252, 253)]
    small = replace(network, subnets=(ip_network("10.0.0.0/31"),), hosts=(), leases=(), gateways=())
    assert [str(a) for a in free_addresses(small, small.subnets[0], set())] == ["10.0.0.0", "10.0.0.1"]
    six = replace(small, subnets=(ip_network("2001:db8::/64"),))
    assert str(next(free_addresses(six, six.subnets[0], set()))) == "2001:db8::1"


def test_proposals_collide_with_nothing(tmp_path: Path) -> None:
    others = "".join(f"  g{n}: {{via: {{folder: g{n}}}, network: isle}}\n" for n in range(300))
    estate = made(tmp_path, ", network: isle", others=others)
    found = [
        Holding("gauge", ip_address("192.168.56.120"), "eth0", Method.LEASED, 24, loaded=Origin("x")),
        Holding("g0", ip_address("192.168.56.2"), "eth0", Method.STATIC, 24, stored=Origin("x")),
    ]
    made_here = list(proposals(estate, found, {"gauge": ("eth0",), "g1": ("enp0s8",), "g2": ("a", "b")}))
    four = [p for p in made_here if p.address and ":" not in p.address]
    assert (four[0].guest, four[0].address, four[0].interface) == ("gauge", "192.168.56.3/24", "eth0")
    assert "it has 192.168.56.120 there by a lease only" in four[0].because
    assert [p.interface for p in four[1:3]] == ["enp0s8", ""]
    addresses = [p.address.split("/")[0] for p in four]
    left = [p for p in made_here if not p.address]
    assert {p.because for p in left} == {"nothing is free in 192.168.56.0/24"}
    assert len(set(addresses)) == len(addresses) == 254 - 100 - 3 == 300 - len(left)
    assert not {"192.168.56.1", "192.168.56.2", "192.168.56.254", "192.168.56.0", "192.168.56.255"} & set(addresses)
    assert not any(100 <= int(a.split(".")[3]) <= 199 for a in addresses)
    assert {p.guest for p in made_here if ":" in p.address} == {"gauge", *(f"g{n}" for n in range(300))}


DIALLED = [
    ("near", "192.168.56.21", Reachability.SAME_NETWORK),
    ("192.168.56.200", "192.168.56.21", Reachability.SAME_NETWORK),
    ("far", "192.168.56.21", Reachability.UNKNOWN),
    ("six", "2001:db8:56::21", Reachability.UNKNOWN),
    ("2001:db8:56::9", "2001:db8:56::21", Reachability.SAME_NETWORK),
    ("8.8.8.8", "8.8.4.4", Reachability.ROUTED),
]


@pytest.mark.parametrize("place, address, way", DIALLED)
def test_the_address_to_dial(tmp_path: Path, place: str, address: str, way: Reachability) -> None:
    estate = made(tmp_path)
    stored = Origin("x")
    found = [
        Holding("gauge", ip_address("fe80::21"), "eth0", Method.LINK_LOCAL, 64, loaded=stored),
        Holding("gauge", ip_address("192.168.56.120"), "eth0", Method.LEASED, 24, loaded=stored),
        Holding("gauge", ip_address("192.168.56.21"), "eth0", Method.STATIC, 24, stored=stored, loaded=stored, seen=True),
        Holding("gauge", ip_address("2001:db8:56::21"), "eth0", Method.STATIC, 64, stored=stored, loaded=stored, seen=True),
        *([Holding("gauge", ip_address("8.8.4.4"), "eth1", Method.STATIC, 24, stored=stored)] if address == "8.8.4.4" else []),
    ]
    first, *rest = choices(estate, found, place_of(estate, place))
    assert (str(first.holding.address), first.way) == (address, way)
    assert rest[-1].way is Reachability.NO
    assert all(each.because for each in (first, *rest))


def test_places_that_are_none(tmp_path: Path) -> None:
    estate = made(tmp_path)
    assert place_of(estate, "10.0.0.0/8") == parse_network("10.0.0.0/8")
    with pytest.raises(NightlatchError, match='Did you mean "near"'):
        place_of(estate, "neer")
    with pytest.raises(NightlatchError, match="3 groups"):
        place_of(estate, "10.0.1")


def test_a_guest_that_is_not_read_keeps_what_the_estate_gives_it(tmp_path: Path) -> None:
    estate = made(tmp_path, ", addresses: {eth0: 192.168.56.21/24}")
    result = address_book(estate, AT, place="near")
    assert [guest for guest, _ in result.unread] == ["gauge"]
    (held,) = result.book.pages[0].holdings
    assert held.lasts is None
    assert result.exit_code() == 3
    assert str(result.dials[0].best.holding.address) == "192.168.56.21"  # type: ignore[union-attr]


def test_one_guest_without_an_estate() -> None:
    snapshot: Snapshot = Guest(files={**unit(STATIC), "/etc/hosts": "x y\n"}).snapshot()
    result = addresses_target(snapshot, AT)
    assert [str(each.address) for each in result.holdings] == ["192.168.56.21"]
    assert [f.check for f in result.findings] == ["name.skipped-line"]


IFCFG = "/etc/sysconfig/network-scripts/ifcfg-eth0"
FIXED = ", addresses: {eth0: [192.168.56.21/24, '2001:db8:56::21/64']}"
# What is there, the file that changes or is made, its text and mode afterwards.
DRAFTED: list[tuple[dict[str, str], str, str, int]] = [
    (
        {**MANAGER, IFCFG: "DEVICE=eth0\nBOOTPROTO=dhcp   # leased\nONBOOT=no\nUUID=1\n"},
        IFCFG,
        "DEVICE=eth0\nBOOTPROTO=none\nONBOOT=yes\nUUID=1\nIPADDR=192.168.56.21\nPREFIX=24\nGATEWAY=192.168.56.254\nDNS1=192.168.56.254\n"
        "IPV6INIT=yes\nIPV6_AUTOCONF=no\nIPV6ADDR=2001:db8:56::21/64\n",
        0o644,
    ),
    (
        NETWORKD,
        "/etc/systemd/network/10-eth0.network",
        "[Match]\nName=eth0\n\n[Network]\nAddress=192.168.56.21/24\nGateway=192.168.56.254\nDNS=192.168.56.254\nAddress=2001:db8:56::21/64\n",
        0o644,
    ),
    (
        MANAGER,
        "/etc/NetworkManager/system-connections/eth0.nmconnection",
        "[connection]\nid=eth0\nuuid=UUID\ntype=ethernet\ninterface-name=eth0\n\n[ipv4]\nmethod=manual\n"
        "address1=192.168.56.21/24,192.168.56.254\ndns=192.168.56.254;\n\n[ipv6]\nmethod=manual\naddress1=2001:db8:56::21/64\n",
        0o600,
    ),
]


@pytest.mark.parametrize("files, path, text, mode", DRAFTED, ids=["rpm", "networkd", "manager"])
def test_drafted_files(tmp_path: Path, files: dict[str, str], path: str, text: str, mode: int) -> None:
    estate = made(tmp_path, FIXED)
    estate = replace(estate, networks={"isle": replace(estate.networks["isle"], servers=(ip_address("192.168.56.254"),))})
    snapshot = Guest(files={"/etc/systemd/network/x": "", "/etc/NetworkManager/system-connections/.x": "", **files}).snapshot()
    draft = moved(estate, snapshot)
    assert not draft.left
    after = apply_all(snapshot, draft.steps)
    entry = after.entries[path]
    written = (entry.content or b"").decode()
    assert re.sub(r"uuid=[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}", "uuid=UUID", written) == text
    assert entry.mode == mode
    assert not moved(estate, after).steps


# What is there, why it is left.
LEFT: list[tuple[dict[str, str], str]] = [
    ({}, "not known which system is to have it"),
    ({**NETWORKD, **MANAGER}, "not known which system is to have it"),
    (unit("DHCP=yes"), "no name server would be written down"),
    (unit("Address=10.0.0.4/24\nGateway=10.0.0.1\nDNS=10.0.0.1"), "another gateway is written already"),
    (
        {
            **unit("Address=10.0.0.4/24\nGateway=10.0.0.1\nDNS=10.0.0.1"),
            "/etc/systemd/network/20-b.network": "[Match]\nName=eth1\n[Network]\nDHCP=yes\n",
        },
        "its gateway 10.0.0.1 lies outside of the new network",
    ),
    ({**unit("DHCP=no"), **IFUP, "/etc/network/interfaces": "auto eth0\niface eth0 inet dhcp\n"}, "2 files configure eth0"),
    ({**MANAGER, PROFILE: "[connection]\ninterface-name=eth0\njunk\n"}, "is ignored as it stands"),
]


@pytest.mark.parametrize("files, why", LEFT, ids=[str(n) for n in range(len(LEFT))])
def test_what_is_left_to_a_person(tmp_path: Path, files: dict[str, str], why: str) -> None:
    draft = moved(made(tmp_path, ", addresses: {eth0: 192.168.56.21/24}"), Guest(files=dict(files)).snapshot())
    assert not draft.steps
    assert why in draft.left[0].hand


def test_what_is_told_of_one_guest_rests_on_all(tmp_path: Path) -> None:
    for name, address in (("gauge", "192.168.56.2"), ("gate", "192.168.56.3")):
        Guest(files=dict(unit(f"Address={address}/24")), name=name).write(tmp_path / name)
    estate = made(
        tmp_path,
        ", network: isle",
        others="  gate: {via: {folder: gate}}\n  lost: {via: {folder: lost}, network: isle}\n",
    )
    result = address_book(estate, AT, ["gauge"])
    page = result.book.pages[0]
    assert [each.guest for each in page.holdings] == ["gauge"]
    assert str(page.following) == "192.168.56.4"


SPOKEN = (
    {case[0] for case in ALONE}
    | {case[0] for case in HELD}
    | {
        "address.twice",
        "guest.shared-hardware-address",
        "guest.shared-machine-id",
        "name.elsewhere",
    }
)


BOOKED = """\
nightlatch: 1
estate: Skerry Point
places: {bench: [192.168.40.0/24]}
people: {mara: {keys: [mara.pub]}}
networks:
  isle: {subnet: 192.168.56.0/24}
  hidden: {subnet: 10.0.2.0/24, private: true, forwards: [{at: 192.168.56.1, port: 2222, to: {guest: chartbox, port: 22}}]}
guests:
  stated: {network: isle, via: {folder: nothing}, addresses: {eth0: [192.168.56.21/24]}}
  held: {network: isle, via: {folder: held}}
  chartbox: {network: hidden, via: {folder: nothing}, addresses: {eth0: [10.0.2.15/24]}}
  unknown: {via: {folder: nothing}}
grants:
  - {let: mara, into: all guests, by: ssh, from: bench, with: key}
"""


def test_reach_dials_what_addresses_would_have_dialled(tmp_path: Path) -> None:
    """Of guests that no connection of ours reads, the address comes from the estate, from their evidence, or is a forward's."""
    (tmp_path / "estate.yaml").write_text(BOOKED)
    (tmp_path / "mara.pub").write_text(pub("mara-desk") + "\n")
    interfaces = "auto eth0\niface eth0 inet static\n    address 192.168.56.22/24\n"
    Guest(
        files={
            "/etc/network/interfaces": interfaces,
            "/sbin/ifup": "",
            "/etc/systemd/system/multi-user.target.wants/networking.service": "",
        }
    ).write(tmp_path / "held")
    (tmp_path / "nothing").mkdir()
    made = load(tmp_path / "estate.yaml")
    found = {name: known_address(made, spec, None) for name, spec in made.guests.items()}
    assert found == {
        "stated": ("192.168.56.21", 22),
        "held": ("192.168.56.22", 22),
        "chartbox": ("192.168.56.1", 2222),
        "unknown": None,
    }
