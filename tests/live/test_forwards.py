"""Forwards that really rewrite packets, with and without hiding who calls: who gets in by them is who is said to."""

from __future__ import annotations

import itertools
import subprocess
from collections.abc import Callable, Iterator
from datetime import UTC, datetime

import pytest

from nightlatch.access.chains import Chain, chains
from nightlatch.access.grants import address_spaces
from nightlatch.access.paths import GuestAccess, guest_access
from nightlatch.estate.load import load
from nightlatch.estate.model import Estate
from nightlatch.formats import authorized_keys
from nightlatch.formats.authorized_keys import KeyEntry
from nightlatch.lab.image import Account
from nightlatch.lab.inside import Inside
from nightlatch.lab.machine import Guest, Node, environment
from nightlatch.model.links import Holds
from nightlatch.model.powers import PowerKind
from nightlatch.model.secrets import Key
from nightlatch.model.sources import COMMON, Sources
from nightlatch.net.literal import parse_network
from nightlatch.ops.survey import survey_live
from nightlatch.readings import guest as readings
from nightlatch.services.base import Login
from nightlatch.services.table import KINDS
from tests.live.station import Station, ssh

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "nft", "systemctl", root=True)
ROUTER = """\
table ip gate {{
    chain outer {{
        type filter hook prerouting priority -310; policy accept;
        tcp dport 2222 ip saddr != {{ {lets} }} drop
    }}
    chain sent {{
        type nat hook prerouting priority dstnat; policy accept;
        ip daddr 192.168.40.254 tcp dport 2222 meta mark set 1 dnat to 10.0.2.15:22
        ip daddr 192.168.40.254 tcp dport 2223 dnat to 10.0.2.15:22
    }}
    chain through {{
        type filter hook forward priority filter; policy accept;
        ip daddr 10.0.2.0/24 ct status dnat accept
        iifname != "br-hidden" ip daddr 10.0.2.0/24 ct state new drop
    }}
    chain hidden {{
        type nat hook postrouting priority srcnat; policy accept;
        meta mark 1 snat to 10.0.2.1
    }}
}}
"""
ESTATE = """\
nightlatch: 1
estate: Station
places: {{bench: [192.168.40.0/24], field: [203.0.113.0/24]}}
networks:
  hidden:
    subnet: 10.0.2.0/24
    private: true
    forwards:
      - {{at: 192.168.40.254, port: 2222, to: {{guest: chartbox, port: 22}}, guest_sees: 10.0.2.1}}
      - {{at: 192.168.40.254, port: 2223, to: {{guest: chartbox, port: 22}}}}
    perimeter: {{claimed: [{{from: [{lets}], port: 2222}}, {{from: [{all}], port: 2223}}]}}
guests:
  chartbox: {{network: hidden, via: {{folder: none}}}}
"""
ALL = '0.0.0.0/0, "::/0"'
# What the guest's own filter, and its key, let in.
RULES = (
    "",
    "ip saddr 10.0.2.1 accept",
    "ip saddr 192.168.40.0/24 accept",
    "ip saddr { 10.0.2.1, 203.0.113.0/24 } accept",
    "ip saddr 10.0.2.0/24 accept",
)
OPTIONS = ("", 'from="10.0.2.1" ', 'from="192.168.40.0/24,10.0.2.30" ', 'from="!10.0.2.1,*" ')
LETS = ("192.168.40.0/24", "203.0.113.0/24, 192.168.40.0/24")
OWN = "table inet own {\nchain i {\ntype filter hook input priority 0; policy drop;\nct state established,related accept\nmeta l4proto { icmp, ipv6-icmp } accept\niif lo accept\n%s\n}\n}\n"


@pytest.fixture(scope="module")
def chartbox(station: Station) -> Iterator[Guest]:
    station.lab.network("hidden", "10.0.2.1/24")
    guest = station.lab.guest("chartbox", {"hidden": ["10.0.2.15/24"]})
    guest.image.base("chartbox")
    guest.image.accounts([Account("mara", 1001, keys=station.keys["mara"] + "\n")])
    guest.image.units("ssh.service")
    guest.image.host_key()
    guest.boot()
    guest.until_listening()
    yield guest
    station.lab.router.run("nft", "flush", "ruleset")


def login(station: Station, node: Node, address: str, port: int) -> bool:
    words = ssh("BatchMode=yes", "IdentitiesOnly=yes", "ConnectTimeout=1", "LogLevel=ERROR", f"Port={port}")
    words += ["-i", str(station.folder / "mara"), f"mara@{address}", "echo", "in"]
    done = subprocess.run(
        node.words(*words), capture_output=True, text=True, timeout=60, stdin=subprocess.DEVNULL, env=environment({})
    )
    return done.stdout == "in\n"


def chained(access: GuestAccess, estate: Estate, forward: str, sources: Sources) -> Chain:
    """The chain of mara's key by one way."""
    line = authorized_keys.parse(access.reading.snapshot.content("/home/mara/.ssh/authorized_keys") or b"")[0]
    assert isinstance(line, KeyEntry)
    found = chains(access, KINDS, estate, Login("mara", frozenset([Key(line.key.fingerprint)])), "ssh", sources)
    return next(each for each in found if each.forward == forward)


def test_who_gets_in_by_real_forwards(station: Station, chartbox: Guest, tell: Callable[[str], None]) -> None:
    boat = station.lab.node("boat", {"field": ["203.0.113.9/24"]})
    near = station.lab.node("near", {"hidden": ["10.0.2.30/24"]})
    doors = [
        (station.desk, "192.168.40.7", COMMON, "192.168.40.254", 2222),
        (station.desk, "192.168.40.7", COMMON, "192.168.40.254", 2223),
        (boat, "203.0.113.9", COMMON, "192.168.40.254", 2222),
        (boat, "203.0.113.9", COMMON, "192.168.40.254", 2223),
        (near, "10.0.2.30", "hidden", "10.0.2.15", 22),
    ]
    count, wrong = 0, []
    for lets, rules, options in itertools.product(LETS, RULES, OPTIONS):
        if (RULES.index(rules) + OPTIONS.index(options) + LETS.index(lets)) % 3:
            continue  # every third of them
        station.lab.router.run("nft", "-f", "-", stdin=f"flush ruleset\n{ROUTER.format(lets=lets)}")
        chartbox.inside("nft", "-f", "-", stdin="flush ruleset\n" + (OWN % f"tcp dport 22 {rules}" if rules else ""))
        chartbox.inside("sh", "-c", "cat >/home/mara/.ssh/authorized_keys", stdin=f"{options}{station.keys['mara']}\n")
        (station.folder / "forwards.yaml").write_text(ESTATE.format(lets=lets, all=ALL))
        snapshot = survey_live(Inside(chartbox))
        estate = load(station.folder / "forwards.yaml")
        access = guest_access(readings.read(snapshot), datetime.now(UTC), address_spaces(estate))
        for node, source, space, address, port in doors:
            name = "" if port == 22 else f"192.168.40.254:{port}"
            paths = [
                path
                for path in access.paths
                if path.power.gives is PowerKind.SHELL and path.account == "mara" and str(path.route).endswith(name or "port 22")
            ]
            found = [parse_network(source) <= path.callers.surely.get(space, parse_network("::")) for path in paths]
            count += 1
            real = login(station, node, address, port)
            chain = chained(access, estate, "" if port == 22 else name, {space: parse_network(source)})
            links = [each.holds for each in chain.links]
            if (chain.holds is Holds.YES, all(each is Holds.YES for each in links)) != (real, real):
                wrong.append(f"{source} at {address}:{port}, {lets=} {rules=} {options=}: links say {links}, really {real}")
            if real != any(found):
                wrong.append(f"{source} at {address}:{port}, {lets=} {rules=} {options=}: said {any(found)}, really {real}")
    tell(f"forwards with and without hiding who calls: {count} logins, {len(wrong)} otherwise than said")
    assert not wrong, "\n".join(wrong)
