"""Rules that a draft writes into each packet filter of a running guest, held against real callers: in, out, after a restart,
taken back; and a change that cuts the connection it came by."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.audit.findings import Group
from nightlatch.draft.plan import Draft
from nightlatch.estate.load import load
from nightlatch.faults import PutBackError, RefusedError
from nightlatch.lab.machine import Guest, Node
from nightlatch.ops.audit import audit
from nightlatch.ops.draft import draft
from nightlatch.ops.enact import LiveChange
from nightlatch.ops.enact import enact as enact_draft
from nightlatch.ops.survey import survey
from nightlatch.ops.undo import undo
from tests.guests import NFT
from tests.live.station import Station

pytestmark = pytest.mark.judge(
    "sshd", "unshare", "nsenter", "ip", "systemctl", "nft", "ufw", "firewall-cmd", "iptables-restore", root=True
)
GRANTS = """
let: mara, into: all guests, by: ssh, from: [bench, field], with: key
let: joon, into: all guests, by: ssh, from: [bench, field], with: key
"""
NARROW = "narrow_at: [filter, key]\n"
FOREIGN = "table inet harbour {\n\tchain watch {\n\t\ttype filter hook input priority 100; policy accept;\n\t\tip saddr 198.51.100.9 drop\n\t}\n}\n"
STARTED = "/etc/systemd/system/multi-user.target.wants"
SAVED = """*filter
:INPUT DROP [0:0]
:FORWARD ACCEPT [0:0]
:OUTPUT ACCEPT [0:0]
-A INPUT -i lo -j ACCEPT
-A INPUT -p {icmp} -j ACCEPT
-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
{rule}
COMMIT
"""
HOLES = {
    "none": {},
    "nftables": {"/etc/nftables.conf": NFT.format(rule="tcp dport 22 accept")},
    "iptables": {
        "/etc/iptables/rules.v4": SAVED.format(icmp="icmp", rule="-A INPUT -p tcp --dport 22 -j ACCEPT"),
        "/etc/iptables/rules.v6": SAVED.format(icmp="ipv6-icmp", rule="-A INPUT -p tcp --dport 22 -j ACCEPT"),
    },
    "ufw": {},
    "firewalld": {},
}
HOLES["older-iptables"] = HOLES["iptables"]
RESTORING = "[Unit]\nDefaultDependencies=no\nBefore=network-pre.target\n[Service]\nType=oneshot\nRemainAfterExit=yes\nExecStart=sh -c 'iptables-restore </etc/iptables/rules.v4; ip6tables-restore </etc/iptables/rules.v6'\n"
# What stands in the way of joon, who is granted to come from the field.
BLOCKS = {
    "nftables": "nft insert rule inet filter input ip saddr 203.0.113.0/24 drop; sed -i 's/iif \"lo\" accept/&\\n\\t\\tip saddr 203.0.113.0\\/24 drop/' /etc/nftables.conf",
    "iptables": "iptables -I INPUT -s 203.0.113.0/24 -j REJECT; sed -i '0,/^-A/s//-A INPUT -s 203.0.113.0\\/24 -j REJECT\\n-A/' /etc/iptables/rules.v4",
    "ufw": "ufw prepend deny from 203.0.113.0/24 to any port 22 proto tcp",
    "firewalld": "for p in '' --permanent; do firewall-cmd $p --add-rich-rule='rule family=ipv4 source address=203.0.113.0/24 drop'; done",
}
BLOCKS["older-iptables"] = BLOCKS["iptables"]
MANAGERS = tuple(HOLES)


def made(station: Station, manager: str, name: str, address: str) -> Guest:
    """A guest whose filter lets everybody in to SSH."""
    guest = station.guest(name, address, config="PasswordAuthentication no\n")
    image = guest.image
    image.write(
        "/home/keeper/.ssh/authorized_keys",
        f'from="192.168.40.0/24,192.168.56.0/24" {station.keys["desk"]}\n',
        0o600,
        1000,
        1000,
    )
    for path, text in HOLES[manager].items():
        image.write(path, text)
    if manager == "nftables":
        image.link("/etc/systemd/system/sysinit.target.wants/nftables.service", "/lib/systemd/system/nftables.service")
    if manager == "older-iptables":
        for name in ("iptables", "iptables-restore", "iptables-save"):
            for six in (name, name.replace("ip", "ip6", 1)):
                image.link(f"/etc/alternatives/{six}", f"/usr/sbin/{six.replace('tables', 'tables-legacy', 1)}")
    if manager.endswith("iptables"):
        image.write("/etc/systemd/system/netfilter-persistent.service", RESTORING)
        image.link(f"{STARTED}/netfilter-persistent.service", "/etc/systemd/system/netfilter-persistent.service")
    if manager == "firewalld":
        for unit in ("firewalld", "dbus", "polkit"):
            (image.folder / f"etc/systemd/system/{unit}.service").unlink(missing_ok=True)
        (image.folder / "etc/systemd/system/dbus.socket").unlink(missing_ok=True)
        image.link(f"{STARTED}/firewalld.service", "/lib/systemd/system/firewalld.service")
    if manager == "ufw":
        image.link(f"{STARTED}/ufw.service", "/lib/systemd/system/ufw.service")
    guest.boot()
    guest.until_listening()
    if manager == "ufw":
        guest.inside("sh", "-c", "ufw allow 22/tcp && ufw --force enable")
    until_ready(guest, manager)
    return guest


def until_ready(guest: Guest, manager: str) -> None:
    """Wait until firewalld answers, which takes longest."""
    end = time.monotonic() + 30
    while manager == "firewalld" and "running" not in guest.inside("sh", "-c", "firewall-cmd --state 2>&1; :"):
        assert time.monotonic() < end, guest.inside("sh", "-c", "systemctl status firewalld; journalctl -n 30 --no-pager")
        time.sleep(0.2)


def address_of(guest: Guest) -> str:
    return guest.run("ip", "-o", "-4", "addr", "show", "eth0").split()[3].partition("/")[0]


def stated(station: Station, name: str, grants: str = GRANTS, came: str = "192.168.40.0/24") -> Path:
    via = f"{{ssh: {address_of(station.lab.guests[name])}, as: keeper, key: desk.pub, from: {came}}}"
    whole = station.estate(grants, more=NARROW, via={name: via}).read_text().splitlines()
    path = station.folder / f"{name}.yaml"
    path.write_text(
        "\n".join(line for line in whole if not line.startswith("  ") or line.startswith(("  - ", f"  {name}:"))) + "\n"
    )
    return path


def enact(station: Station, path: Path, name: str, **more: object) -> LiveChange:
    with station.client() as client:
        return enact_draft(load(path), name, datetime.now(UTC), client=client, **{"seconds": 60, **more})  # type: ignore[arg-type]


def drafted(station: Station, path: Path, name: str) -> Draft:
    with station.client() as client:
        (found,) = survey(load(path), [name], client=client)
    assert found.snapshot is not None, found.problem
    return draft(load(path), found.snapshot, datetime.now(UTC))


@pytest.fixture(scope="module")
def boat(station: Station) -> Node:
    return station.lab.node("boat", {"field": ["203.0.113.9/24"]})


@pytest.fixture(scope="module")
def stranger(station: Station) -> Node:
    return station.lab.node("stranger", {"isle": ["192.168.56.77/24", "2001:db8:56::77/64"]})


GREETING = """import socket, sys
try:
    with socket.create_connection((sys.argv[1], 22), 0.8) as wire:
        wire.settimeout(3)
        print(wire.recv(4).decode())
except OSError as error:
    print(error)
"""


def greets(node: Node, address: str) -> bool:
    """Whether sshd's first words come to a caller: more than one packet of a connection is let through."""
    return "SSH-" in node.run(sys.executable, "-c", GREETING, address)


class Callers:
    """Who gets through: a login from the bench, and connections from the field and from elsewhere over both families."""

    def __init__(self, station: Station, guest: Guest, boat: Node, stranger: Node) -> None:
        self.station, self.guest, self.boat, self.stranger = station, guest, boat, stranger

    def look(self) -> tuple[bool, bool, bool, bool]:
        address = address_of(self.guest)
        six = f"2001:db8:56::{address.rpartition('.')[2]}"
        greeted = [greets(node, to) for node, to in ((self.boat, address), (self.stranger, address), (self.stranger, six))]
        return (self.station.login(self.guest, "mara", "mara"), *greeted)  # type: ignore[return-value]


def no_false_alarm(station: Station, path: Path, name: str, manager: str) -> None:
    """What a manager loads as it comes has no dead rules, and few things to look at."""
    with station.client() as client:
        found = audit(load(path), datetime.now(UTC), [name], client=client).guests[0].findings
    told = [f"{each.check}: {each.text}" for each in found if each.group is Group.HYGIENE and each.check.startswith("filter.")]
    assert not [text for text in told if "dead-rule" in text], "\n".join(told)
    assert len(told) <= 3, "\n".join(told)


@pytest.mark.parametrize("manager", MANAGERS)
def test_only_whom_the_grants_name(
    station: Station, boat: Node, stranger: Node, manager: str, tell: Callable[[str], None]
) -> None:
    name = f"with-{manager}"
    guest = made(station, manager, name, f"192.168.56.{30 + MANAGERS.index(manager)}")
    callers = Callers(station, guest, boat, stranger)
    assert callers.look() == (True, True, True, True)
    path = stated(station, name)
    no_false_alarm(station, path, name, manager)
    if manager in BLOCKS:
        guest.inside("sh", "-c", BLOCKS[manager])
        assert callers.look() == (True, False, True, True)
    guest.inside("nft", "-f", "-", stdin=FOREIGN)
    first = drafted(station, path, name)
    assert first.left == (), first.left
    done = enact(station, path, name)
    assert done.outcome == "kept"
    assert callers.look() == (True, True, False, False)
    assert "198.51.100.9" in guest.inside("nft", "list", "table", "inet", "harbour")
    assert not drafted(station, path, name).does
    with station.client() as client:
        found = audit(load(path), datetime.now(UTC), [name], client=client).guests[0].findings
    assert not [
        f.text
        for f in found
        if f.check in ("hole", "shut-out", "filter.not-loaded")
        or (f.check == "filter.not-stored" and "198.51.100.9," not in f.text)
    ]  # which FOREIGN keeps out
    guest.power_cut()
    guest.boot()
    guest.until_listening()
    until_ready(guest, manager)
    assert callers.look() == (True, True, False, False)
    if manager in ("nftables", "ufw"):
        widened(station, guest, callers, manager)
    with station.client() as client:
        assert undo(load(stated(station, name)), name, datetime.now(UTC), client=client).outcome == "put back"
    assert callers.look() == (True, manager not in BLOCKS, True, True)
    assert "nightlatch" not in guest.inside("nft", "list", "ruleset")
    tell(f"rules drafted for {manager}: in, out, restarted, taken back, as callers met them")


def widened(station: Station, guest: Guest, callers: Callers, manager: str) -> None:
    """Somebody more is let in: the same rules are written anew, and stand once; and that is taken back by itself."""
    name = guest.name
    wider = stated(
        station,
        name,
        GRANTS + "let: mara, into: all guests, by: ssh, from: 192.168.56.77, with: key\n"
        "let: joon, into: all guests, by: ssh, from: 192.168.56.77, with: key\n",
    )
    assert enact(station, wider, name).outcome == "kept"
    assert callers.look() == (True, True, True, False)
    listed = guest.inside("nft", "list", "ruleset")
    assert listed.count("jump nightlatch") == (1 if manager == "nftables" else 0)
    with station.client() as client:
        assert undo(load(stated(station, name)), name, datetime.now(UTC), client=client).outcome == "put back"
    assert callers.look() == (True, True, False, False)


@pytest.mark.parametrize("manager", ("nftables", "firewalld"))
def test_a_change_that_cuts_its_own_connection_goes_back(station: Station, boat: Node, stranger: Node, manager: str) -> None:
    name = f"with-{manager}"
    guest = station.lab.guests[name]
    callers = Callers(station, guest, boat, stranger)
    before = callers.look()
    # The file says that we come from the isle, and we don't.
    path = stated(station, name, GRANTS.replace("[bench, field]", "192.168.56.0/24"), "192.168.56.0/24")
    with pytest.raises(PutBackError):
        enact(station, path, name, seconds=8)
    end = time.monotonic() + 40
    while not greets(station.desk, address_of(guest)):
        assert time.monotonic() < end, "the guest did not take it back"
        time.sleep(0.5)
    assert "nightlatch" not in guest.inside("nft", "list", "ruleset")
    assert callers.look() == before


@pytest.mark.parametrize("manager", ("none", "iptables", "firewalld"))
def test_a_power_cut_on_the_latch(station: Station, boat: Node, stranger: Node, manager: str) -> None:
    name = f"with-{manager}"
    guest = station.lab.guests[name]
    path = stated(station, name)
    done = enact(station, path, name, decide=lambda _: None)
    assert done.outcome == "on the latch"
    assert Callers(station, guest, boat, stranger).look()[2:] == (False, False)
    guest.power_cut()
    guest.boot()
    guest.until_listening()
    until_ready(guest, manager)
    assert Callers(station, guest, boat, stranger).look()[2:] == (True, True)
    assert "nightlatch" not in guest.inside("nft", "list", "ruleset")


def test_a_change_that_opened_the_own_door_further_is_taken_back(station: Station) -> None:
    """The door gets as narrow again as it was; from where we come it stays open."""
    guest = made(station, "nftables", "shoal", "192.168.56.61")
    half = NFT.format(rule="ip saddr { 192.168.40.0/25, 203.0.113.0/24 } tcp dport 22 accept")
    guest.inside("sh", "-c", "cat >/etc/nftables.conf && nft -f /etc/nftables.conf", stdin=half)
    path = stated(station, "shoal")
    before, rules = guest.files("/etc"), guest.inside("nft", "list", "ruleset")
    assert enact(station, path, "shoal").outcome == "kept"
    assert guest.inside("nft", "list", "ruleset") != rules
    with station.client() as client:
        assert undo(load(path), "shoal", datetime.now(UTC), client=client).outcome == "put back"
    assert guest.files("/etc") == before
    assert guest.inside("nft", "list", "ruleset") == rules
    narrower = half.replace("192.168.40.0/25, ", "")
    assert enact(station, path, "shoal").outcome == "kept"
    guest.inside(
        "sh",
        "-c",
        "nft flush ruleset; cat >/etc/nftables.conf; echo 'include \"/etc/nightlatch.nft\"' >>/etc/nftables.conf; nft -f /etc/nftables.conf",
        stdin=narrower,
    )
    with station.client() as client, pytest.raises(RefusedError, match="would shut management access"):
        undo(load(path), "shoal", datetime.now(UTC), client=client)
    guest.close()
    del station.lab.guests["shoal"]
