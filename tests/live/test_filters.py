"""A running guest's filter: what its kernel lists is what counts, held against real logins from two networks."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from nightlatch.access.exposure import Fate, exposure
from nightlatch.access.layers import flow_to
from nightlatch.access.verdicts import passed
from nightlatch.estate.load import load
from nightlatch.lab.machine import Guest, Node
from nightlatch.model.bounds import Addresses
from nightlatch.ops.audit import audit
from nightlatch.ops.survey import survey
from nightlatch.readings import guest as readings
from tests.live.station import Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "nft", "iptables-legacy", root=True)
GRANTS = """
let: mara, into: all guests, by: ssh, from: [bench, field], with: key
let: joon, into: all guests, by: ssh, from: bench, with: key
"""
RULES = """\
table inet station {
    set desks { type ipv4_addr; flags interval; elements = { 192.168.40.0/25 } }
    chain input {
        type filter hook input priority filter; policy drop;
        ct state established,related accept
        meta l4proto { icmp, icmpv6 } accept
        iif "lo" accept
        ip saddr @desks tcp dport 22 accept
        ip6 saddr 2001:db8:40::/64 iifname "eth0" tcp dport ssh accept
        ip saddr 203.0.113.0/24 tcp dport 22 reject
    }
}
"""


@pytest.fixture(scope="module")
def guest(station: Station) -> Guest:
    made = station.guest("gauge")
    made.boot()
    made.until_listening()
    return made


@pytest.fixture(scope="module")
def boat(station: Station) -> Node:
    return station.lab.node("boat", {"field": ["203.0.113.9/24"]})


def through(station: Station) -> Addresses:
    with station.client() as client:
        (found,) = survey(load(station.estate(GRANTS)), ["gauge"], client=client)
    assert found.snapshot is not None, found.problem
    reading = readings.read(found.snapshot)
    assert reading.filter.gaps == ()
    assert reading.filter.rules is not None
    return passed(reading.filter.rules, flow_to(reading, "", 22))


def test_loaded_rules_count_whoever_made_them(station: Station, guest: Guest, boat: Node) -> None:
    estate = load(station.estate(GRANTS))
    everybody = through(station)
    assert "203.0.113.9" in everybody.surely
    assert station.login(guest, "mara", "mara", node=boat)
    guest.inside("nft", "-f", "-", stdin=RULES)
    try:
        bounds = through(station)
        assert bounds.surely == bounds.perhaps, bounds.because
        assert {"192.168.40.7", "2001:db8:40::7"} == {
            a for a in ("192.168.40.7", "2001:db8:40::7", "192.168.40.200", "203.0.113.9") if a in bounds.surely
        }
        assert station.login(guest, "mara", "mara")
        assert not station.login(guest, "mara", "mara", node=boat)
        found = audit(estate, datetime.now(UTC), client=station.client()).guests[0].findings
        told = [f.text for f in found if f.check == "shut-out"]
        assert any("the packet filter refuses it on its way to port 22" in text for text in told), told
        assert any("192.168.40.128/25" in text and "the packet filter drops it" in text for text in told), told
        proof = next(p for f in found if f.check == "shut-out" for p in f.proofs if "reject" in p.text)
        assert proof.origin.path == "nft list ruleset"
        assert not [f for f in found if f.check == "hole" and "203.0.113" in f.text]
    finally:
        guest.inside("nft", "flush", "ruleset")
    assert through(station) == everybody


def test_libwrap_counts_for_a_running_server(station: Station, guest: Guest, boat: Node) -> None:
    estate = load(station.estate(GRANTS))
    guest.inside("sh", "-c", "cat >/etc/hosts.deny", stdin="sshd: ALL EXCEPT 192.168.40. [2001:db8:40::]/64\n")
    try:
        assert station.login(guest, "mara", "mara")
        assert not station.login(guest, "mara", "mara", node=boat)
        found = audit(estate, datetime.now(UTC), client=station.client()).guests[0].findings
        told = [f.text for f in found if f.check == "shut-out"]
        assert any("libwrap turns its callers away" in text for text in told), told
        assert not [f for f in found if f.check == "hole" and "203.0.113" in f.text]
    finally:
        guest.inside("rm", "/etc/hosts.deny")
    assert station.login(guest, "mara", "mara", node=boat)


UNITS = "/etc/systemd/system"
NARROW = (
    "IPAddressDeny=any\nIPAddressAllow=10.0.0.0/8\nIPAddressAllow=\nIPAddressAllow=192.168.40.9/24 2001:db8:40::/64 localhost\n"
)
KEPT_OUT = "IPAddressDeny=203.0.113.0/24\n"
# Which unit holds the port, files by their path, and the one whose line keeps the field out; none where it gets in.
OF_UNITS = {
    "service": ("ssh.service", {f"{UNITS}/ssh.service.d/from.conf": f"[Service]\n{NARROW}"}, f"{UNITS}/ssh.service.d/from.conf"),
    "socket": ("ssh.socket", {f"{UNITS}/ssh.socket.d/from.conf": f"[Socket]\n{NARROW}"}, f"{UNITS}/ssh.socket.d/from.conf"),
    "socket's service": ("ssh.socket", {f"{UNITS}/ssh.service.d/from.conf": f"[Service]\n{NARROW}"}, ""),
    "slice": ("ssh.service", {f"{UNITS}/system.slice.d/a.conf": f"[Slice]\n{KEPT_OUT}"}, f"{UNITS}/system.slice.d/a.conf"),
    "slice allows": (
        "ssh.service",
        {
            f"{UNITS}/-.slice.d/a.conf": "[Slice]\nIPAddressAllow=203.0.113.0/24\n",
            f"{UNITS}/ssh.service.d/a.conf": f"[Service]\n{NARROW}",
        },
        "",
    ),
    "root slice": (
        "ssh.service",
        {
            f"{UNITS}/-.slice.d/a.conf": "[Slice]\nIPAddressDeny=any\n",
            f"{UNITS}/ssh.service.d/a.conf": f"[Service]\n{NARROW.partition(chr(10))[2]}",
        },
        f"{UNITS}/-.slice.d/a.conf",
    ),
    "own slice": (
        "ssh.socket",
        {
            f"{UNITS}/tide.slice.d/a.conf": f"[Slice]\n{KEPT_OUT}",
            f"{UNITS}/ssh.socket.d/a.conf": "[Socket]\nSlice=tide-gate.slice\n",
        },
        f"{UNITS}/tide.slice.d/a.conf",
    ),
    "all services": ("ssh.service", {f"{UNITS}/service.d/a.conf": f"[Service]\n{KEPT_OUT}"}, f"{UNITS}/service.d/a.conf"),
    "same name": (
        "ssh.service",
        {f"{UNITS}/service.d/a.conf": f"[Service]\n{KEPT_OUT}", f"{UNITS}/ssh.service.d/a.conf": "[Service]\nNice=0\n"},
        "",
    ),
    "control": (
        "ssh.service",
        {f"{UNITS}.control/ssh.service.d/50-IPAddressDeny.conf": f"[Service]\n{KEPT_OUT}"},
        f"{UNITS}.control/ssh.service.d/50-IPAddressDeny.conf",
    ),
}


@pytest.mark.parametrize("case", OF_UNITS)
def test_the_filter_of_the_unit_and_of_what_is_above_it_counts(station: Station, boat: Node, case: str) -> None:
    unit, files, decides = OF_UNITS[case]
    number = list(OF_UNITS).index(case)
    name = f"buoy{number}"
    made = station.guest(name, f"192.168.56.{30 + number}", unit=unit)
    for path, text in files.items():
        made.image.write(path, text)
    made.boot()
    made.until_listening()
    try:
        assert station.login(made, "mara", "mara")
        assert station.login(made, "mara", "mara", node=boat) is not bool(decides)
        estate = load(station.estate(GRANTS))
        (audited,) = audit(estate, datetime.now(UTC), [name], client=station.client()).guests
        told = [f for f in audited.findings if f.check == "shut-out"]
        field = [f for f in audited.findings if f.check == "hole" and "203.0.113" in f.text]
        assert [f.proofs[0].origin.path for f in told if f"the service manager drops what comes for {unit}" in f.text] == (
            [decides] if decides else []
        ), audited.findings
        assert not decides or not field
        if case == "slice":  # what is loaded counts, and a file that nothing has read since does not
            (made.root / decides[1:]).unlink()
            assert not station.login(made, "mara", "mara", node=boat)
            (audited,) = audit(estate, datetime.now(UTC), [name], client=station.client()).guests
            told = [f for f in audited.findings if f.check == "shut-out"]
            assert told[0].proofs[0].origin.path == "systemctl show system.slice"
    finally:
        made.close()
        del station.lab.guests[name]


TABLES = """\
*nat
:PREROUTING ACCEPT
-A PREROUTING -s 203.0.113.0/24 -p tcp --dport 8022 -j REDIRECT --to-ports 22
COMMIT
*filter
:INPUT DROP
-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
-A INPUT -p tcp --dport 22 -m set --match-set desk src -j ACCEPT
-A INPUT -p tcp --dport 22 -m conntrack --ctstate DNAT -j ACCEPT
COMMIT
"""


def test_tables_of_iptables_are_read_from_their_own_list(station: Station, guest: Guest, boat: Node) -> None:
    guest.inside("ipset", "restore", stdin="create desk hash:net\nadd desk 192.168.40.0/24\n")
    guest.inside("iptables-restore", stdin=TABLES)
    try:
        assert station.login(guest, "mara", "mara")
        assert not station.login(guest, "mara", "mara", node=boat)
        assert station.login(guest, "mara", "mara", node=boat, options=("-p", "8022"))
        bounds = through(station)
        assert bounds.surely == bounds.perhaps, bounds.because
        assert "203.0.113.9" in bounds.surely  # by the other port
        assert {"192.168.40.7", "192.168.41.7", "198.51.100.7"} & {
            str(a) for a in ("192.168.40.7", "192.168.41.7", "198.51.100.7") if a in bounds.surely
        } == {"192.168.40.7"}
    finally:
        guest.inside("nft", "flush", "ruleset")
        guest.inside("ipset", "destroy")


OLDER = """\
*filter
:INPUT ACCEPT
-A INPUT -p tcp --dport 22 ! -s 192.168.40.0/24 -j REJECT
COMMIT
"""


def test_rules_of_the_older_iptables_count_and_a_kernel_that_was_not_asked_is_undecided(
    station: Station, guest: Guest, boat: Node
) -> None:
    estate = load(station.estate(GRANTS))
    guest.inside("iptables-legacy-restore", stdin=OLDER)
    try:
        assert station.login(guest, "mara", "mara")
        assert not station.login(guest, "mara", "mara", node=boat)
        bounds = through(station)
        assert bounds.surely == bounds.perhaps, bounds.because
        assert ["192.168.40.7" in bounds.surely, "203.0.113.9" in bounds.surely] == [True, False]
        audited = audit(estate, datetime.now(UTC), client=station.client()).guests[0]
        told = [f for f in audited.findings if f.check == "shut-out"]
        assert told[0].proofs[0].origin.path == "iptables-legacy-save", told
        assert told[0].proofs[0].origin.line == OLDER.splitlines().index("COMMIT") + 3  # behind all its policies
    finally:
        guest.inside("iptables-legacy-restore", stdin="*filter\nCOMMIT\n")
    nft = guest.root / "usr/sbin/nft"
    nft.rename(nft.with_name("nft-away"))
    try:
        audited = audit(estate, datetime.now(UTC), client=station.client()).guests[0]
        assert [f.text for f in audited.findings if "the program nft, which is not there" in str(f.proofs)], audited
    finally:
        nft.with_name("nft-away").rename(nft)


CALLED = "import socket; socket.create_connection(('192.168.56.21', %d), 2); print('in')"
SERVED = "import socket; s = socket.create_server(('', 8080)); [s.accept()[0].close() for _ in range(99)]"


def test_the_filters_of_other_units_count_for_what_is_exposed(station: Station, guest: Guest, boat: Node) -> None:
    kept = "IPAddressDeny=203.0.113.0/24"
    guest.inside("systemd-run", "--unit=tide-web", "-p", kept, "python3", "-c", SERVED)
    for path, text in {
        "tide-log.socket": f"[Socket]\nListenStream=8081\nAccept=yes\n{kept}\n",
        "tide-log@.service": "[Service]\nExecStart=/bin/true\n",
    }.items():
        (guest.root / "etc/systemd/system" / path).write_text(text)
    guest.inside("systemctl", "daemon-reload")
    guest.inside("systemctl", "start", "tide-log.socket")
    guest.until_listening(8080)
    try:
        with station.client() as client:
            (found,) = survey(load(station.estate(GRANTS)), ["gauge"], client=client)
        assert found.snapshot is not None, found.problem
        exposed = {each.port: each for each in exposure(readings.read(found.snapshot)) if each.protocol == "tcp"}
        for port, place in ((8080, "systemctl show tide-web.service"), (8081, "/etc/systemd/system/tide-log.socket")):
            calls = [[node.run("python3", "-c", CALLED % port, check=False).strip() for node in (station.desk, boat)]]
            assert calls == [["in", ""]], (port, calls)
            assert "192.168.40.7" in exposed[port].sources(Fate.IN)
            assert "203.0.113.9" in exposed[port].sources(Fate.DROPPED), exposed[port]
            said = [piece.origin.path for piece in exposed[port].pieces if piece.fate is Fate.DROPPED and piece.origin]
            assert said == [place], "what is loaded counts, with the lines of its file where there is one"
        assert "203.0.113.9" in exposed[22].sources(Fate.IN)
    finally:
        guest.inside("systemctl", "stop", "tide-web.service", "tide-log.socket")
