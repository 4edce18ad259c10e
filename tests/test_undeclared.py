"""What guests' files and answers may hold never ends a reading with an error that it does not declare, nor takes long."""

from __future__ import annotations

import ctypes
import random
import time
from collections.abc import Callable

import pytest

from nightlatch.access.paths import guest_access
from nightlatch.evidence.snapshot import Snapshot, from_files
from nightlatch.faults import NightlatchError
from nightlatch.formats import paths, sshd_values, xml_tree
from nightlatch.net.literal import AddressError, parse_interface, parse_network
from nightlatch.net.numbers import whole
from nightlatch.readings import guest as readings
from tests.guests import AT, Guest

MANY = "9" * 5000
NUMBERS = ("²", "٣", MANY, "-1", "+1", "1e3", "0x1", "", " ", "1_0")


@pytest.mark.parametrize("text", NUMBERS)
def test_numbers_are_ascii_and_short(text: str) -> None:
    assert whole(text) is None
    assert whole("007") == 7


@pytest.mark.parametrize("text", NUMBERS)
@pytest.mark.parametrize("read", [parse_network, parse_interface])
def test_a_length_that_is_none_is_told(read: Callable[[str], object], text: str) -> None:
    for address in ("192.168.56.1", "2001:db8::1"):
        with pytest.raises(AddressError):
            read(f"{address}/{text}")


FILES = {
    "/etc/network/interfaces": "iface\niface eth0\niface eth0 inet\niface eth0 inherits\niface eth1 inet static\n  address 192.168.56.1\n"
    "  netmask {n}\n  gateway 192.168.56.2\n  metric {n}\niface eth2 inet static\n  address 192.168.56.1/{n}\n",
    "/etc/systemd/network/10.network": "[Match]\nName=eth0\n[Network]\nAddress=192.168.56.1/{n}\n[Route]\nGateway=192.168.56.2\nMetric={n}\n",
    "/etc/NetworkManager/system-connections/a.nmconnection": "[connection]\ntype=ethernet\n[ipv4]\nmethod=manual\naddress1=192.168.56.1/{n}\n"
    "route-metric={n}\nroute1=0.0.0.0/0,192.168.56.2,{n}\n",
    "/etc/netplan/a.yaml": "network:\n  ethernets:\n    eth0:\n      addresses: [192.168.56.1/{n}]\n      routes: [{{to: default, via: 192.168.56.2, metric: {n}}}]\n",
    "/etc/sysconfig/network-scripts/ifcfg-eth0": "DEVICE=eth0\nIPADDR=192.168.56.1\nPREFIX={n}\nNETMASK={n}\nGATEWAY=192.168.56.2\nMETRIC={n}\n",
    "/etc/hosts.allow": "sshd: 192.168.56.1/{n}, 192.168.{n}.\n",
    "/etc/iptables/rules.v4": "*filter\n:INPUT DROP [0:0]\n-A INPUT -s 192.168.56.1/{n} -p tcp --dport {n} -j ACCEPT\nCOMMIT\n",
    "/etc/nftables.conf": "table inet t {{ chain i {{ type filter hook input priority {n}; tcp dport {n} drop; ip saddr 192.168.56.1/{n} accept; }}; }}\n",
    "/etc/pam.d/sshd": "auth [success={n} default=ignore] pam_unix.so\nauth required pam_succeed_if.so uid >= {n}\n",
    "/etc/os-release": "ID=debian\nVERSION_ID={n}\n",
    "/etc/ssh/sshd_config": "LoginGraceTime {n}\nPort {n}\nMaxStartups {n}:{n}:{n}\nInclude /etc/ssh/[z-a]*\nStreamLocalBindMask {n}\n",
    "/etc/firewalld/zones/public.xml": '<?xml version="1.0" encoding="nobody-knows"?><zone><port port="{n}" protocol="tcp"/></zone>',
    "/etc/systemd/system/ssh.service.d/a.conf": "[Service]\nIPAddressAllow=192.168.56.1/{n}\n",
}


@pytest.mark.parametrize("number", [*NUMBERS, "none", "[z-a]"])
@pytest.mark.parametrize("path", FILES)
def test_odd_numbers_in_files_end_no_reading(path: str, number: str) -> None:
    plain = Guest().snapshot()
    text = FILES[path].format(n=number).encode("utf-8", "surrogateescape")
    snapshot = plain.with_files(
        {**from_files("gauge", {path: text}).entries, **{p: e for p, e in plain.entries.items() if p != path}}
    )
    began = time.process_time()
    guest_access(readings.read(snapshot), AT)
    assert time.process_time() - began < 5


LISTINGS = {
    "sockets": "tcp LISTEN 0 128 0.0.0.0:{n} 0.0.0.0:* ino:{n} sk:1\nudp UNCONN 0 0 *:{n} *:*\ntcp 0: 00:{n} 00 0A 0 0 0 0 0 {n}\n",
    "holders": "{n} {n}\n7 {n}\n",
    "programs": "{n} x\n",
    "owners": "{n} /x\n",
    "routes": "default via 192.168.56.1 dev eth0 metric {n}\n",
    "addresses": "2: eth0 inet 192.168.56.1/{n} scope global eth0 valid_lft {n}sec\n",
    "daemons": "pid {n}\ntitle sshd\nuids root\nparent {n}\nstarted {n}\nholds {n}\n",
    "units": "Id=ssh.service\nMainPID={n}\nListen=[::]:{n} (Stream)\nExecMainStartTimestamp=@{n}\n",
    "neighbours": "192.168.56.2 dev eth0 lladdr {n} REACHABLE\n",
}


@pytest.mark.parametrize("number", NUMBERS)
@pytest.mark.parametrize("name", LISTINGS)
def test_odd_numbers_in_listings_end_no_reading(name: str, number: str) -> None:
    plain = Guest().snapshot()
    told = {"sockets": b"", name: LISTINGS[name].format(n=number).encode()}
    facts = {"init": "systemd", "uptime": number, "clock": number, "came_to_port": number}
    guest_access(readings.read(Snapshot(plain.guest, plain.entries, plain.listed, facts=facts, listings=told)), AT)


def test_a_time_of_many_digits_is_read_at_once() -> None:
    for text in ("1" * 40 + "x", "1" * 4000 + "x", "1h" * 3000 + "x", MANY, "1w1d" * 9000):
        began = time.process_time()
        with pytest.raises((sshd_values.ValueRefusal, NightlatchError)):
            sshd_values.seconds(text)
        assert time.process_time() - began < 2
    assert sshd_values.seconds("1h30m") == 5400
    assert sshd_values.seconds("1h30") == 3630


def matching(pattern: str, *names: str) -> list[str]:
    """The paths of these names in / that a pattern matches."""
    return paths.expand(f"/{pattern}", lambda _: names, lambda _: True)


@pytest.mark.parametrize(
    "pattern, matches, others",
    [
        ("[z-a]*", "", "az-"),
        ("[!z-a]", "az-", ""),
        ("[a-cz-x]", "abc", "zxy"),
        ("[a-]", "a-", "b"),
        ("[]a]", "]a", "b"),
        ("[^b]", "ac", "b"),
        ("[\\\\]", "\\", "a"),
        ("[&~|^]", "&~|^", "a"),
        ("[--0]", "-0", "1"),
        ("[^]", "", "ab^"),
        ("[]", "", "ab"),
        ("[!]a]", "b", "]a"),
    ],
)
def test_sets_in_patterns(pattern: str, matches: str, others: str) -> None:
    assert matching(pattern, *matches, *others) == sorted(f"/{name}" for name in matches)


def test_an_encoding_that_nobody_knows_is_a_fault() -> None:
    with pytest.raises(xml_tree.XmlFault):
        xml_tree.parse(b'<?xml version="1.0" encoding="nobody-knows"?><a/>')


def test_sets_are_those_of_the_c_library() -> None:
    """Random sets of the characters that mean something in them, held against fnmatch(3)."""
    library, chance, letters = ctypes.CDLL(None), random.Random(20261130), "abz-]!^[m\\"
    for _ in range(3000):
        pattern = "[" + "".join(chance.choice(letters[:-1]) for _ in range(chance.randint(1, 5))) + "]"
        for letter in letters:
            real = library.fnmatch(pattern.encode(), letter.encode(), 0) == 0
            assert bool(matching(pattern, letter)) == real, (pattern, letter)
