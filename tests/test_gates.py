"""Rules that a draft writes into a packet filter's own files: exact, undone by the same means, nothing else touched."""

from __future__ import annotations

import io
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import example, given
from hypothesis import strategies as st
from rich.console import Console

from nightlatch.access.verdicts import Flow, passed
from nightlatch.draft import filter_steps, gates
from nightlatch.draft.acts import Enable, LoadRules
from nightlatch.draft.gates import Gate, GateOpening, Hook
from nightlatch.draft.plan import ProvedDraft
from nightlatch.draft.steps import SetRules
from nightlatch.evidence.snapshot import ABSENT, from_files
from nightlatch.net.addresses import ALL_V4, EVERY_ADDRESS, AddressSet, prefix, union
from nightlatch.ops.draft import draft, prove
from nightlatch.readings import guest as readings
from nightlatch.readings.filters import firewalld, iptables, nftables, places, ufw
from nightlatch.readings.filters.rules import Rules
from nightlatch.report import change_text
from nightlatch.report.page import Page
from tests.guests import AT, NFT, Guest, estate, pub

STARTED = "/etc/systemd/system/multi-user.target.wants"
SAVED = "# by hand\n*filter\n:INPUT DROP [0:0]\n-A INPUT -i lo -j ACCEPT\n-A INPUT -m conntrack --ctstate ESTABLISHED -j ACCEPT\n{rule}\nCOMMIT\n"
UFW_USER = "*filter\n:ufw{six}-user-input - [0:0]\n### RULES ###\n\n{rule}\n\n### END RULES ###\nCOMMIT\n"
UFW = {
    "/etc/ufw/ufw.conf": "ENABLED=yes\n",
    "/etc/default/ufw": "IPV6=yes\nDEFAULT_INPUT_POLICY=DROP\n",
    **{f"/etc/ufw/before{six}.rules": f"*filter\n-A ufw{six}-before-input -i lo -j ACCEPT\nCOMMIT\n" for six in ("", "6")},
    **{f"/etc/ufw/after{six}.rules": "*filter\nCOMMIT\n" for six in ("", "6")},
}
ZONE = '<?xml version="1.0" encoding="utf-8"?>\n<zone>\n  <short>Public</short>\n{rule}</zone>\n'


def nft(rule: str) -> dict[str, str]:
    return {"/etc/nftables.conf": NFT.format(rule=rule), f"{STARTED}/nftables.service": ""}


def saved(rule: str) -> dict[str, str]:
    text = SAVED.format(rule=rule)
    return {
        "/etc/iptables/rules.v4": text,
        "/etc/iptables/rules.v6": text.replace("192.168.0.0/16", "2001:db8::/32"),
        f"{STARTED}/netfilter-persistent.service": "",
    }


def of_ufw(rule: str) -> dict[str, str]:
    users = {
        f"/etc/ufw/user{six}.rules": UFW_USER.format(six=six, rule=rule.format(six=six) if rule else "") for six in ("", "6")
    }
    return {**UFW, **users, f"{STARTED}/ufw.service": ""}


def fire(rule: str) -> dict[str, str]:
    return {
        "/etc/firewalld/firewalld.conf": "DefaultZone=public\n",
        f"{STARTED}/firewalld.service": "",
        "/usr/lib/firewalld/zones/public.xml": ZONE.format(rule=rule),
    }


OPEN_UFW = "### tuple ### allow tcp 22 0.0.0.0/0 any 0.0.0.0/0 in\n-A ufw{six}-user-input -p tcp --dport 22 -j ACCEPT"
# A filter with a hole, or one that keeps the bench out, and the files that the draft writes.
SCENES: dict[str, tuple[dict[str, str], set[str]]] = {
    "nftables, open": (nft("tcp dport 22 accept"), {"/etc/nightlatch.nft", "/etc/nftables.conf"}),
    "nftables, shut": (nft("tcp dport 22 ip saddr 10.0.0.0/8 accept"), {"/etc/nightlatch.nft", "/etc/nftables.conf"}),
    "nftables, two tables": (
        {
            "/etc/nftables.conf": NFT.format(rule="accept") + "table ip more {\nchain in {\ntype filter hook input priority 5\n"
            "ip saddr 192.168.0.0/16 drop\n}\n}\n",
            f"{STARTED}/nftables.service": "",
        },
        {"/etc/nightlatch.nft", "/etc/nftables.conf"},
    ),
    "nftables, nothing": (
        {"/etc/nftables.conf": "flush ruleset\n", f"{STARTED}/nftables.service": ""},
        {"/etc/nightlatch.nft", "/etc/nftables.conf"},
    ),
    "iptables, open": (saved("-A INPUT -p tcp --dport 22 -j ACCEPT"), {"/etc/iptables/rules.v4", "/etc/iptables/rules.v6"}),
    "iptables, shut": (
        saved("-A INPUT -s 192.168.0.0/16 -j REJECT\n-A INPUT -p tcp --dport 22 -j ACCEPT"),
        {"/etc/iptables/rules.v4", "/etc/iptables/rules.v6"},
    ),
    "iptables, IPv4 alone": (
        {k: v for k, v in saved("-A INPUT -p tcp --dport 22 -j ACCEPT").items() if "v6" not in k},
        {"/etc/iptables/rules.v4", "/etc/iptables/rules.v6"},
    ),
    "ufw, open": (of_ufw(OPEN_UFW), {"/etc/ufw/user.rules", "/etc/ufw/user6.rules"}),
    "ufw, shut": (of_ufw(""), {"/etc/ufw/user.rules", "/etc/ufw/user6.rules"}),
    "firewalld, open": (
        fire('  <port port="22" protocol="tcp"/>\n'),
        {"/etc/firewalld/zones/public.xml", "/etc/firewalld/zones"},
    ),
    "firewalld, shut": (fire(""), {"/etc/firewalld/zones/public.xml", "/etc/firewalld/zones"}),
}


def proved(tmp_path: Path, files: Mapping[str, str], grants: str = "") -> tuple[ProvedDraft, AddressSet]:
    """The draft for a guest whose SSH asks for keys, with the callers that its grants name."""
    guest = Guest(
        keys={"mara": f"{pub('mara-desk')}\n{pub('mara-token')}\n"},
        files=dict(files),
        config="PasswordAuthentication no\nKbdInteractiveAuthentication no\n",
    )
    of = estate(
        tmp_path,
        grants or 'let: mara, into: gauge, by: ssh, from: [bench, "2001:db8:40::/64"], with: key',
        more="narrow_at: [filter, key]\n",
    )
    snapshot = guest.snapshot()
    made = draft(of, snapshot, AT)
    assert made.left == ()
    done = prove(of, made, snapshot, AT)
    assert not draft(of, done.after, AT).does
    return done, union([prefix(4, 0xC0A82800, 24), prefix(6, 0x20010DB8004000000000000000000000, 64)])


@pytest.mark.parametrize("name", SCENES)
def test_a_filter_lets_in_whom_the_grants_name(tmp_path: Path, name: str) -> None:
    files, written = SCENES[name]
    done, wanted = proved(tmp_path, files)
    assert set(done.changed) == written
    rules = readings.read(done.after).filter.rules
    assert rules is not None
    found = passed(rules, Flow("tcp", 22))
    assert wanted <= found.perhaps
    assert "shut" in name or not ALL_V4 & (found.perhaps - wanted) - prefix(4, 127 << 24, 8)
    # What was there stays, byte for byte, beside the lines of the gate.
    for path in done.changed:
        was, now = done.before.content(path), done.after.content(path)
        if was is not None and now is not None and "rules" in path:
            family = "ip6" if "6" in path else "ip"
            assert (gates.ufw(now, None, family) if "ufw" in path else gates.saved(now, None, family)) == was


def test_a_filter_that_is_not_known_is_left_alone(tmp_path: Path) -> None:
    scenes = {
        "nothing starts the rules": {"/etc/nftables.conf": NFT.format(rule="accept")},
        "two managers": {**nft("tcp dport 22 accept"), **of_ufw(OPEN_UFW)},
        "no filter": {},
    }
    for name, files in scenes.items():
        done, _ = proved(tmp_path, files)
        assert done.changed == ("/home/mara/.ssh/authorized_keys",), name


def test_a_limit_stands_where_the_estate_puts_it_first(tmp_path: Path) -> None:
    guest = Guest(
        keys={"mara": f"{pub('mara-desk')}\n"},
        files=dict(nft("tcp dport 22 accept")),
        config="PasswordAuthentication no\nKbdInteractiveAuthentication no\n",
    )
    for order, path in (("[filter, key]", "/etc/nightlatch.nft"), ("[key, filter]", "/home/mara/.ssh/authorized_keys")):
        of = estate(tmp_path, "let: mara, into: gauge, by: ssh, from: bench, with: key", more=f"narrow_at: {order}\n")
        made = draft(of, guest.snapshot(), AT)
        assert made.steps[0].path == path, order


def test_a_running_guest_loads_what_is_written(tmp_path: Path) -> None:
    listing = b"table inet filter {\n\tchain input {\n\t\ttype filter hook input priority filter; policy drop;\n\t\ttcp dport 22 accept\n\t}\n}\n"
    guest = Guest(
        keys={"mara": f"{pub('mara-desk')}\n"},
        files=dict(nft("tcp dport 22 accept")),
        config="PasswordAuthentication no\nKbdInteractiveAuthentication no\n",
    )
    of = estate(tmp_path, "let: mara, into: gauge, by: ssh, from: bench, with: key", more="narrow_at: [filter]\n")
    snapshot = replace(guest.snapshot(), listings={"rules": listing, "sockets": b""}, facts={"init": "systemd"})
    made = draft(of, snapshot, AT)
    assert [act for act in made.acts if isinstance(act, LoadRules)] == [LoadRules("nftables")]
    done = prove(of, made, snapshot, AT)
    assert b"jump nightlatch" in done.after.listings["rules"]
    bare = replace(
        snapshot,
        entries={k: v for k, v in snapshot.entries.items() if "nftables" not in k},
        listings={"rules": b"", "sockets": b""},
    )
    fresh = draft(of, bare, AT)
    assert [type(act) for act in fresh.acts] == [LoadRules, Enable]
    assert [step.path for step in fresh.steps if isinstance(step, SetRules)] == [
        "/etc/nightlatch.nft",
        "/etc/nftables.conf",
    ]


ADDRESSES = st.one_of(
    st.builds(lambda n, k: prefix(4, n, k), st.integers(0, 2**32 - 1), st.integers(4, 32)),
    st.builds(lambda n, k: prefix(6, n, k), st.integers(0, 2**128 - 1), st.integers(4, 128)),
)
NONE = prefix(4, 127 << 24, 8) | prefix(6, 1, 128)


def read_by(manager: str, gate: Gate) -> Rules:
    """The gate in a filter that otherwise lets everybody in, read as the manager's files."""
    if manager == "nftables":
        return nftables.stored(
            from_files("x", {"/etc/nftables.conf": gates.nftables(gate, (Hook("inet", gates.OWN, "input"),))}),
            "/etc/nftables.conf",
        )
    if manager == "iptables":
        return iptables.stored(
            from_files("x", {path: gates.saved(b"", gate, family) for path, family in places.IPTABLES_DEBIAN}),
            places.IPTABLES_DEBIAN,
        )
    if manager == "ufw":
        files = {path: text.encode() for path, text in of_ufw(OPEN_UFW).items()}
        for path, family in (("/etc/ufw/user.rules", "ip"), ("/etc/ufw/user6.rules", "ip6")):
            files[path] = gates.ufw(files[path], gate, family) or b""
        return ufw.stored(from_files("x", files))
    files = {path: text.encode() for path, text in fire('  <port port="22" protocol="tcp"/>\n').items()}
    path = "/usr/lib/firewalld/zones/public.xml"
    files[path] = gates.zone(files[path], gate) or b""
    files["/etc/firewalld/firewalld.conf"] += b"IPv6_rpfilter=no\n"
    return firewalld.stored(from_files("x", files))


@pytest.mark.parametrize("manager", ["nftables", "iptables", "ufw", "firewalld"])
@given(st.lists(ADDRESSES, min_size=1, max_size=5), st.booleans(), st.lists(ADDRESSES, max_size=5))
@example([prefix(6, 0xFFFF << 32, 96)], False, [])  # IPv4 addresses as those of IPv6
def test_a_gate_is_exact(manager: str, sources: list[AddressSet], several: bool, others: list[AddressSet]) -> None:
    """Each of its doors lets in just those whom it names, whatever stands beside it."""
    doors = {(22, 2222) if several else (22,): union(sources), (4711,): union(others)}
    gate = Gate(tuple(GateOpening(ports, wanted, closed=True) for ports, wanted in doors.items() if wanted))
    rules = read_by(manager, gate)
    assert rules.gaps == ()
    for door in gate.doors:
        for port in door.ports:
            found = passed(rules, Flow("tcp", port))
            assert found.perhaps - NONE == door.sources - NONE
            assert found.surely - NONE == door.sources - NONE
    assert manager in ("ufw", "firewalld") or passed(rules, Flow("tcp", 80)).surely == EVERY_ADDRESS


@pytest.mark.parametrize("raw", [b"", b"<zone>", b"</zone", b"*filter\n:INPUT", b"### RULES ###", b"\xff\x00"])
def test_files_that_are_not_as_they_should_be(raw: bytes) -> None:
    gate = Gate((GateOpening((22,), prefix(4, 0, 8), closed=True),))
    assert gates.zone(raw, gate) is None or b"</zone>" in raw
    assert (gates.ufw(raw, gate, "ip") is None) == (b"### RULES ###" not in raw)
    assert b":nightlatch" in gates.saved(raw, gate, "ip")


def test_steps_of_one_file_are_one() -> None:
    step = SetRules("/etc/nightlatch.nft", "", True, "nftables", ABSENT, b"one", "a")
    later = replace(step, opens=False, seen=replace(ABSENT, content=b"one"), content=b"two")
    assert filter_steps.merged((step,), (later,)) == (replace(later, opens=True, seen=ABSENT),)


def test_a_port_that_moves_takes_the_filter_with_it(tmp_path: Path) -> None:
    bench = 'from="192.168.40.0/24"'
    guest = Guest(
        keys={"mara": f"{bench} {pub('mara-desk')}\n{bench} {pub('mara-token')}\n"},
        files=dict(nft("tcp dport 22 accept")),
        config="PasswordAuthentication no\nKbdInteractiveAuthentication no\n",
    )
    of = estate(
        tmp_path,
        "let: mara, into: gauge, by: ssh, from: bench, with: key",
        more="services: [{run: ssh, on: gauge, at: 2222}]\n",
    )
    made = draft(of, guest.snapshot(), AT)
    assert made.left == ()
    done = prove(of, made, guest.snapshot(), AT)
    assert set(done.changed) == {"/etc/nightlatch.nft", "/etc/nftables.conf", "/etc/ssh/sshd_config"}
    rules = readings.read(done.after).filter.rules
    assert rules is not None
    assert prefix(4, 0xC0A82800, 24) <= passed(rules, Flow("tcp", 2222)).perhaps
    assert not draft(of, done.after, AT).does


LATE = {
    "nftables": (
        nft(
            'ct state invalid drop\n\t\ttcp dport 22 limit rate over 5/minute drop\n\t\ttcp dport 80 log prefix "web" accept\n\t\t'
            'ip saddr 10.0.0.0/8 tcp dport 22 ct count over 3 drop\n\t\ttcp dport 22 log prefix "ssh" accept'
        ),
        {
            "/etc/nftables.conf:9": "ct state invalid drop",
            "/etc/nftables.conf:10": "limit rate over",
            "/etc/nftables.conf:13": "log prefix",
        },
    ),
    "iptables": (
        saved(
            "-A INPUT -m conntrack --ctstate INVALID -j DROP\n-A INPUT -p tcp --dport 22 -m recent --update --seconds 60 --hitcount 4 --name SSH -j DROP\n"
            "-A INPUT -p tcp --dport 22 -j LOG\n-A INPUT -p udp -j LOG\n-A INPUT -p tcp --dport 22 -j ACCEPT"
        ),
        {f"/etc/iptables/rules.v{n}:{line}": text for n in "46" for line, text in ((6, "INVALID"), (7, "recent"), (8, "LOG"))},
    ),
    "ufw": (
        of_ufw(
            "### tuple ### limit tcp 22 0.0.0.0/0 any 0.0.0.0/0 in\n-A ufw{six}-user-input -p tcp --dport 22 -m conntrack --ctstate NEW -m recent --set\n"
            "-A ufw{six}-user-input -p tcp --dport 22 -m conntrack --ctstate NEW -m recent --update --seconds 30 --hitcount 6 -j DROP\n"
            "-A ufw{six}-user-input -p tcp --dport 22 -j ACCEPT"
        ),
        {f"/etc/ufw/user{six}.rules:{line}": "recent" for six in ("", "6") for line in (6, 7)},
    ),
}


@pytest.mark.parametrize("manager", LATE)
def test_what_new_rules_go_ahead_of_is_told_line_by_line(tmp_path: Path, manager: str) -> None:
    files, expected = LATE[manager]
    made, _ = proved(tmp_path, files)
    late = {
        f"{proof.origin.path}:{proof.origin.line}": proof.text
        for step in made.draft.steps
        if isinstance(step, SetRules)
        for proof in step.ahead_of
    }
    assert set(late) == set(expected)
    assert all(text in late[place] for place, text in expected.items())
    page = Console(record=True, width=90, file=io.StringIO())
    change_text.draft(Page(page), made)
    told = page.export_text()
    assert "no longer act on the callers that they let in" in " ".join(told.split())
    assert all(place in told for place in expected)


@pytest.mark.parametrize("manager", ["nftables", "iptables", "ufw", "firewalld"])
@pytest.mark.parametrize("closed", [(True,), (False,), (True, False), (False, True), (True, True)])
def test_a_gate_is_read_again(manager: str, closed: tuple[bool, ...]) -> None:
    """Which ports have a door, and whether it is closed, is read from what was written: another service's door stays."""
    doors = [GateOpening(ports, prefix(4, 10 << 24, 8), each) for ports, each in zip([(22, 2222), (4711,)], closed, strict=False)]
    gate = Gate(tuple(doors))
    raw = {
        "nftables": gates.nftables(gate, (Hook("inet", "filter", "input"),)),
        "iptables": gates.saved(b"*filter\n:INPUT ACCEPT [0:0]\nCOMMIT\n", gate, "ip"),
        "ufw": gates.ufw(b"*filter\n### RULES ###\nCOMMIT\n", gate, "ip"),
        "firewalld": gates.zone(b"<zone>\n</zone>\n", gate),
    }[manager]
    assert gates.written(raw or b"") == {port: door.closed for door in gate.doors for port in door.ports}
    assert gates.written(b"table inet filter {\n\t\tct state new drop\n}\n-A INPUT -p tcp --dport 22 -j ACCEPT\n") == {}
