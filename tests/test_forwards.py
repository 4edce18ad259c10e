"""Forwards and private networks: who gets in through them, as whom the guest sees callers, and what an audit says of them."""

from __future__ import annotations

from ipaddress import IPv4Address
from pathlib import Path

import pytest

from nightlatch.access.book import Reachability, choices
from nightlatch.access.exposure import Fate
from nightlatch.access.grants import address_spaces, expand
from nightlatch.access.holdings import Holding
from nightlatch.audit.run import guest_audit
from nightlatch.estate.load import load
from nightlatch.estate.model import Estate
from nightlatch.faults import EstateError
from nightlatch.model.powers import PowerKind
from nightlatch.model.sources import COMMON
from nightlatch.net.literal import parse_network
from nightlatch.ops.audit import audit
from nightlatch.ops.draft import draft as make_draft
from nightlatch.ops.draft import prove
from nightlatch.ops.exposure import exposure
from nightlatch.readings.network.profiles import Method
from tests.guests import AT, HASH, Guest, pub

SPOKEN = set(
    """
    forward.clash forward.all-addresses forward.stale forward.leased forward.other-network
    perimeter.other-network filter.stale-source filter.no-rate-limit
""".split()
)
HEAD = """\
nightlatch: 1
estate: Skerry Point
places: {bench: [192.168.40.0/24], field: {inside: [10.77.0.0/16], seen_as: [203.0.113.20]}}
people: {mara: {keys: [mara.pub]}}
networks:
  isle: {subnet: 192.168.56.0/24%(isle)s}
  hidden:
    subnet: 10.0.2.0/24
    private: true
    leases: 10.0.2.100-10.0.2.199
    forwards: [%(forwards)s]%(perimeter)s
guests:
  gauge: {network: %(network)s, via: {folder: gauge}}
  gate: {network: isle, via: {folder: gate}}
grants:
  - {let: mara, into: gauge, by: ssh, from: %(place)s, with: key}
"""
TO = "{at: 192.168.56.1, port: 2222, to: {guest: gauge, port: 22}%s}"
SEES = TO % ", guest_sees: 10.0.2.2"
PLAIN = TO % ""
CLAIM = "\n    perimeter: {claimed: [{from: 192.168.40.0/24, port: 2222}]}"
OFF = "PasswordAuthentication no\nKbdInteractiveAuthentication no\n"
DROP = "table inet f {\nchain i {\ntype filter hook input priority 0; policy drop\n%s\n}\n}\n"
UNIT = "/etc/systemd/system/multi-user.target.wants/nftables.service"


def made(
    folder: Path,
    forwards: str = SEES,
    place: str = "bench",
    perimeter: str = "",
    network: str = "hidden",
    isle: str = "",
) -> Estate:
    (folder / "mara.pub").write_text(pub("mara-desk") + "\n")
    words = {"forwards": forwards, "place": place, "perimeter": perimeter, "network": network, "isle": isle}
    (folder / "estate.yaml").write_text(HEAD % words)
    return load(folder / "estate.yaml")


def guest(rules: str = "", options: str = "", config: str = OFF) -> Guest:
    files: dict[str, str | bytes] = {"/etc/nftables.conf": DROP % rules, UNIT: ""} if rules else {}
    return Guest(keys={"mara": f"{options}{pub('mara-desk')}\n"}, files=files, config=config)


def shells(estate: Estate, of: Guest) -> dict[str, set[str]]:
    """Who of some callers gets a shell with the key, by address space."""
    access = of.access(address_spaces(estate))
    callers = {
        "bench": (COMMON, "192.168.40.7"),
        "else": (COMMON, "198.51.100.9"),
        "near": ("hidden", "10.0.2.30"),
        "field": ("field", "10.77.0.9"),
    }
    out: dict[str, set[str]] = {"surely": set(), "perhaps": set()}
    for path in access.paths:
        for name, (space, address) in callers.items():
            for bound in ("surely", "perhaps") if path.power.gives is PowerKind.SHELL else ():
                found = getattr(path.callers, bound).get(space)
                if found is not None and parse_network(address) <= found:
                    out[bound].add(name)
    return out


EVERYBODY = {"bench", "else", "near", "field"}
# Forwards, a perimeter, the guest's own rules and the options of the key; who gets a shell.
WAYS = [
    (SEES, "", "", "", EVERYBODY),
    (SEES, CLAIM, "", "", {"bench", "near"}),
    (SEES, CLAIM, "tcp dport 22 ip saddr 10.0.2.2 accept", "", {"bench"}),
    (SEES, "", "tcp dport 22 ip saddr 192.168.40.0/24 accept", "", set()),
    (SEES, "", "", 'from="192.168.40.0/24" ', set()),
    (SEES, "", "", 'from="10.0.2.2" ', {"bench", "else", "field"}),
    (PLAIN, "", "tcp dport 22 ip saddr 192.168.40.0/24 accept", "", {"bench"}),
    (PLAIN, "", "tcp dport 22 ip saddr 203.0.113.20 accept", "", {"field"}),
    (PLAIN, CLAIM, "", "", {"bench", "near"}),
    (PLAIN.replace("port: 22}", "port: 2022}"), "", "", "", {"near"}),
    (f"{SEES}, {PLAIN.replace('2222', '2223')}", CLAIM, "", 'from="10.0.2.2,198.51.100.0/24" ', {"bench"}),
]


@pytest.mark.parametrize("forwards, perimeter, rules, options, wanted", WAYS, ids=[str(n) for n in range(len(WAYS))])
def test_who_gets_in_by_a_forward(
    tmp_path: Path, forwards: str, perimeter: str, rules: str, options: str, wanted: set[str]
) -> None:
    found = shells(made(tmp_path, forwards, perimeter=perimeter), guest(rules, options))
    assert found == {"surely": wanted, "perhaps": wanted}


def test_without_a_forward_a_private_network_is_reached_by_nobody_outside(tmp_path: Path) -> None:
    estate = made(tmp_path, SEES.replace("gauge", "gate"))
    assert shells(estate, guest())["perhaps"] == {"near"}
    found = guest_audit(guest().access(address_spaces(estate)), AT, estate)
    text = next(each.text for each in found.findings if each.check == "shut-out")
    assert "it sits on hidden, whose addresses mean nothing outside, and no forward leads to it" in text
    assert any(each.check == "hole" and "hidden" in each.text for each in found.findings)


def test_a_network_is_a_place_of_grants(tmp_path: Path) -> None:
    estate = made(tmp_path, place="[hidden, isle]")
    (grant,) = expand(estate, "gauge", AT)
    assert grant.callers.surely == {"hidden": parse_network("10.0.2.0/24"), COMMON: parse_network("192.168.56.0/24")}


def test_a_limit_that_the_guest_can_not_tell_is_left_to_the_perimeter(tmp_path: Path) -> None:
    estate, snapshot = made(tmp_path, place="[bench, hidden]"), guest().snapshot()
    draft = make_draft(estate, snapshot, AT)
    assert not draft.does
    assert "all who come by the forward are 10.0.2.2 to this guest" in draft.left[0].hand
    limited = made(tmp_path, perimeter=CLAIM)
    done = make_draft(limited, snapshot, AT)
    assert done.left == ()
    assert 'from="10.0.2.2"' in str([getattr(step, "after", "") for step in done.steps])
    prove(limited, done, snapshot, AT)


def test_a_filter_on_the_guest_names_what_it_sees(tmp_path: Path) -> None:
    estate, of = made(tmp_path, perimeter=CLAIM), guest("tcp dport 22 ip saddr 192.168.40.0/24 accept")
    draft = make_draft(estate, of.snapshot(), AT)
    assert draft.left == ()
    after = prove(estate, draft, of.snapshot(), AT).after
    assert b"ip saddr { 10.0.2.2 } accept" in (after.content("/etc/nightlatch.nft") or b"")


def test_exposure_tells_of_every_way(tmp_path: Path) -> None:
    estate = made(tmp_path, f"{SEES}, {PLAIN.replace('2222', '2223')}", perimeter=CLAIM)
    guest("tcp dport 22 ip saddr 10.0.2.2 accept").write(tmp_path / "gauge")
    found = exposure(estate, AT, ["gauge"]).sockets
    assert [(each.by, each.space) for each in found] == [
        ("", "hidden"),
        ("192.168.56.1:2222", ""),
        ("192.168.56.1:2223", ""),
    ]
    near, hidden, seen = found
    assert not near.sources(Fate.IN)
    assert hidden.sources(Fate.IN) == parse_network("192.168.40.0/24")
    assert seen.sources(Fate.IN) == parse_network("255.255.255.255") - parse_network("255.255.255.255")
    assert parse_network("198.51.100.9") <= hidden.sources(Fate.DROPPED)


WRONG = [
    ("{at: 192.168.56.300, port: 22, to: {guest: gauge, port: 22}}", "192.168.56.300"),
    ("{at: any, port: 0, to: {guest: gauge, port: 22}}", "the port"),
    ("{at: any, port: 22, to: {guest: gauj, port: 22}}", 'Did you mean "gauge"'),
    ("{at: any, port: 22, to: {guest: gauge}}", "port"),
    ("{at: any, port: 22, to: 10.0.2.15}", "to is"),
    ("{at: any, port: 22}", "to"),
]


@pytest.mark.parametrize("forward, part", WRONG)
def test_wrong_forwards(tmp_path: Path, forward: str, part: str) -> None:
    with pytest.raises(EstateError) as caught:
        made(tmp_path, forward)
    assert part in str(caught.value)


INTERFACES = "auto eth0\niface eth0 inet static\n address 10.0.2.15/24\n"
# Forwards, the isle's keys, and what is said of which check.
TOLD = [
    (f"{SEES}, {SEES.replace('gauge', 'gate')}", "", "forward.clash", "port 2222 of 192.168.56.1, for gauge and gate"),
    (f"{SEES}, {SEES}", "", "forward.clash", "for gauge twice"),
    (SEES.replace("192.168.56.1", "any"), "", "forward.all-addresses", "listens on every address of its host"),
    (SEES.replace("192.168.56.1", "0.0.0.0"), "", "forward.all-addresses", "listens on every address of its host"),
    (SEES.replace("port: 22}", "port: 22, address: 10.0.2.15}"), "", "forward.stale", ""),
    (
        SEES.replace("port: 22}", "port: 22, address: 10.0.2.16}"),
        "",
        "forward.stale",
        "leads to 10.0.2.16, which gauge does not have",
    ),
    (SEES.replace("port: 22}", "port: 22, address: 10.0.2.120}"), "", "forward.leased", "has by a lease"),
    (
        SEES,
        ", forwards: [{at: any, port: 8022, to: {guest: gauge, port: 22}}]",
        "forward.other-network",
        "stands under isle; gauge sits on hidden",
    ),
]


@pytest.mark.parametrize("forwards, isle, check, text", TOLD, ids=[str(n) for n in range(len(TOLD))])
def test_what_an_audit_says_of_forwards(tmp_path: Path, forwards: str, isle: str, check: str, text: str) -> None:
    estate = made(tmp_path, forwards, isle=isle)
    for name in ("gauge", "gate"):
        Guest(
            name=name,
            files={
                "/etc/network/interfaces": INTERFACES,
                "/sbin/ifup": "",
                "/etc/systemd/system/multi-user.target.wants/networking.service": "",
            },
        ).write(tmp_path / name)

    found = [f.text for each in audit(estate, AT).guests for f in each.findings if f.check == check]
    assert (len(set(found)) == 1 and text in found[0]) if text else not found, found


def test_rows_and_rules_for_nobody(tmp_path: Path) -> None:
    (tmp_path / "outer.csv").write_text("src,dport,action,dst\n192.168.40.0/24,2222,allow,192.0.2.77\n")
    table = (
        "\n    perimeter: {read: outer.csv, taken: 2026-11-20, columns: {source: src, port: dport, action: action, target: dst}}"
    )
    estate = made(tmp_path, perimeter=table)
    rules = "tcp dport 22 ip saddr { 198.51.100.7, 198.51.100.8 } accept\ntcp dport 22 ip saddr 192.168.40.0/24 accept\ntcp dport 22 ip saddr 0.0.0.0/1 accept"
    found = guest_audit(guest(rules).access(address_spaces(estate)), AT, estate).findings
    assert [f.text for f in found if f.check == "perimeter.other-network"] == [
        "A row of the perimeter of hidden is for 192.0.2.77, which is no address of that network."
    ]
    assert [f.text for f in found if f.check == "filter.stale-source"] == [
        "A rule lets 198.51.100.7-198.51.100.8 in to port 22, of which the estate knows nothing."
    ]


STATUS = "Package: openssh-server\nStatus: install ok installed\nVersion: 1:%s\n\n"
SLOW = [
    ("9.2p1-2", "", "", True),
    ("10.0p1-7", "", "", False),
    ("9.2p1-2", "PerSourceMaxStartups 3\n", "", False),
    ("9.2p1-2", "", "tcp dport 22 limit rate 3/minute accept\ntcp dport 22 drop", False),
    ("9.2p1-2", "", "tcp dport 22 accept", True),
    ("9.2p1-2", "PasswordAuthentication no\nKbdInteractiveAuthentication no\n", "", False),
    ("9.2p1-2", "", "tcp dport 22 ip saddr 192.168.40.0/24 accept", False),
]


@pytest.mark.parametrize("version, config, rules, told", SLOW, ids=[str(n) for n in range(len(SLOW))])
def test_guesses_at_passwords_that_nothing_slows(tmp_path: Path, version: str, config: str, rules: str, told: bool) -> None:
    files: dict[str, str | bytes] = {"/var/lib/dpkg/status": STATUS % version}
    files |= {"/etc/nftables.conf": DROP % rules, UNIT: ""} if rules else {}
    of = Guest(config, passwords={"mara": HASH}, files=files)
    found = guest_audit(of.access(), AT, None).findings
    assert bool([f for f in found if f.check == "filter.no-rate-limit"]) is told, of.snapshot().listed


def test_a_forward_is_what_to_dial(tmp_path: Path) -> None:
    estate = made(tmp_path)
    there = Holding("gauge", IPv4Address("10.0.2.15"), "eth0", Method.STATIC, 24)
    [choice] = choices(estate, [there], parse_network("192.168.40.0/24"))
    assert choice.way is Reachability.NO
    assert "dial 192.168.56.1:2222, which leads there" in choice.because
