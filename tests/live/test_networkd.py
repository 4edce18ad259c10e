"""Addresses of a live guest: what its files say against what systemd-networkd really makes of them, and leases as they come."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from nightlatch.access.holdings import holdings
from nightlatch.draft import addresses
from nightlatch.draft.steps import apply_all
from nightlatch.estate.load import load
from nightlatch.evidence.file_names import SUFFIX
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.lab.machine import Guest, Node, environment
from nightlatch.lab.tools import waited
from nightlatch.ops.evidence import write_evidence
from nightlatch.ops.survey import survey_target
from nightlatch.readings.network import network_reading
from nightlatch.readings.network.network_reading import NetworkReading
from nightlatch.readings.network.profiles import Method, System
from tests.judges import networks
from tests.live.station import ROOT, Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "dnsmasq", root=True)
LINKS = 14
SEED = int(os.environ.get("NIGHTLATCH_SEED", "20261125"))


def unit(dice: networks.Dice, name: str, number: int) -> str:
    """One .network file with addresses of every kind."""
    lines = [
        "[Match]",
        f"Name={name}",
        "",
        "[Network]",
        f"LinkLocalAddressing={dice.one('no', 'ipv6')}",
        "IPv6AcceptRA=no",
    ]
    lines += [f"Address={dice.address()}" for _ in range(dice.roll.randint(0, 3))]
    lines += [*([dice.one("Address=", "DNS=")] if dice.perhaps(0.3) else []), f"Address=10.{200 + number}.0.1/24"]
    for last in range(3, 3 + dice.roll.randint(0, 2)):
        lines += [f"Gateway=10.{200 + number}.0.{last}", *([dice.one("Gateway=")] if dice.perhaps(0.4) else [])]
    lines += ["", "[Address]", f"Address={dice.address()}"]
    if dice.perhaps(0.4):
        lines += ["", "[Route]", f"Gateway=10.{200 + number}.0.2", "GatewayOnLink=yes", f"Metric={1000 + number}"]
    return "\n".join(lines) + "\n"


@pytest.fixture(scope="module")
def moved(station: Station) -> Iterator[tuple[Station, Guest, Snapshot]]:
    """A guest with one fixed address, one leased by dnsmasq, and many links that networkd configures; surveyed over SSH."""
    station.lab.network("pool", "192.168.77.1/24")
    leases = station.folder / "leases"
    server = station.lab.router.start(
        "dnsmasq",
        "--keep-in-foreground",
        "--conf-file=/dev/null",
        "--port=0",
        "--user=root",
        "--interface=br-pool",
        "--bind-interfaces",
        "--dhcp-range=192.168.77.100,192.168.77.120,10m",
        f"--dhcp-leasefile={leases}",
        f"--pid-file={station.folder}/dnsmasq.pid",
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    try:
        guest = station.guest("moved", "192.168.56.71")
        station.lab.join(guest, "pool", [], "eth1")
        guest.image.units("ssh.service", "systemd-networkd.service")
        dice = networks.Dice(SEED)
        for number in range(LINKS):
            name = f"net{number}"
            guest.run("ip", "link", "add", name, "type", "veth", "peer", "name", f"peer{number}")
            guest.run("ip", "link", "set", f"peer{number}", "up")
            guest.image.write(f"/etc/systemd/network/{20 + number}-{name}.network", unit(dice, name, number))
        guest.image.write("/etc/systemd/network/10-pool.network", "[Match]\nName=eth1\n\n[Network]\nDHCP=ipv4\n")
        guest.image.write("/etc/systemd/network/05-fixed.network", "[Match]\nName=eth0 peer*\n\n[Link]\nUnmanaged=yes\n")
        guest.boot()
        guest.until_listening()
        waited("a lease and all addresses", _settled(guest), 30)
        with station.client() as client:
            target = "keeper@192.168.56.71"
            yield station, guest, survey_target(target, client=client, pins=(station.host_keys["moved"],))
    finally:
        server.terminate()
        server.wait(10)


@pytest.fixture(scope="module")
def watch(moved: tuple[Station, Guest, Snapshot]) -> Node:
    """A machine on the network of the pool, with an estate file that does not know where the guest is now."""
    station = moved[0]
    node = station.lab.node("watch", {"pool": ["192.168.77.2/24"]})
    text = (
        "nightlatch: 1\nestate: Pool\nnetworks: {pool: {subnet: 192.168.77.0/24, host: 192.168.77.1}}\nguests:\n"
        f"  moved: {{via: {{ssh: 192.168.77.50}}, network: pool, host_keys: ['{station.host_keys['moved']}']}}\n"
        f"  lost: {{via: {{ssh: 192.168.77.51}}, network: pool, host_keys: ['SHA256:{'A' * 43}']}}\n"
    )
    (station.folder / "pool.yaml").write_text(text)
    archive = station.folder / f"seen/moved{SUFFIX}"
    archive.parent.mkdir()
    write_evidence(moved[2], archive, datetime.now(UTC), "ssh")
    return node


def find(station: Station, node: Node, *words: str, code: int = 0) -> dict[str, Any]:
    """`nightlatch find` on that machine, as JSON."""
    line = node.words(sys.executable, "-m", "nightlatch.cli", "find", *words, "--format", "json")
    done = subprocess.run(
        line,
        cwd=station.folder,
        capture_output=True,
        text=True,
        timeout=120,
        stdin=subprocess.DEVNULL,
        env=environment({"PYTHONPATH": str(ROOT / "src")}),
    )
    assert done.returncode == code, done.stdout + done.stderr
    found = json.loads(done.stdout)
    assert isinstance(found, dict)
    return found


def leased(guest: Guest) -> str:
    return guest.run("ip", "-o", "-4", "addr", "show", "eth1").split()[3].split("/")[0]


def mac_of(guest: Guest) -> str:
    return guest.run("ip", "-o", "link", "show", "eth1").split("link/ether ")[1][:17]


def _settled(guest: Guest) -> Iterator[bool]:
    before = ""
    while True:
        now = guest.run("ip", "-o", "addr")
        yield "192.168.77.1" in now and "tentative" not in now and now == before
        before = now


def reading(snapshot: Snapshot) -> NetworkReading:
    return network_reading.read(snapshot)


def test_what_is_stored_is_what_networkd_configures(moved: tuple[Station, Guest, Snapshot], tell: Callable[[str], None]) -> None:
    found = reading(moved[2])
    assert found.is_live
    assert found.starts[System.NETWORKD] is True
    count = 0
    for number in range(LINKS):
        name = f"net{number}"
        (profile,) = found.profiles_of(name)
        (live,) = [each for each in found.live if each.link.name == name]
        stored = {str(each.value) for each in profile.addresses}
        loaded = {str(a.address) for a in live.addresses if not a.address.ip.is_link_local}
        assert stored == loaded, (SEED, name, moved[1].inside("cat", profile.origin.path))
        local = any(a.address.ip.is_link_local for a in live.addresses)
        assert profile.has(Method.LINK_LOCAL, 6) is local, (SEED, name)
        routes = {(str(r.via), r.metric or None) for r in found.default_routes if r.interface == name}
        assert {(str(g.address), g.metric) for g in profile.gateways} == routes, (SEED, name)
        count += len(stored)
    tell(f"networkd: {LINKS} interfaces, {count} addresses, stored as loaded")


def test_a_leased_address_is_known_as_one(moved: tuple[Station, Guest, Snapshot]) -> None:
    station, _, snapshot = moved
    found = reading(snapshot)
    (profile,) = found.profiles_of("eth1")
    assert profile.methods_of(4) == (Method.LEASED,)
    (held,) = [each for each in holdings(found, "moved") if each.method is Method.LEASED]
    assert str(held.address).startswith("192.168.77.1")
    assert held.lasts is False
    (lease,) = found.leases
    assert (lease.value.address, lease.value.server) == (held.address, "192.168.77.1")
    given = (station.folder / "leases").read_text()
    assert f"{found.hardware_of('eth1')} {held.address}" in given
    assert not found.profiles_of("eth0"), "networkd leaves it alone"


def test_a_survey_of_the_folder_says_the_same_of_what_is_stored(moved: tuple[Station, Guest, Snapshot]) -> None:
    guest, live = moved[1], reading(moved[2])
    stored = reading(survey_target(Path(guest.root), "moved"))
    assert stored.profiles == live.profiles
    assert stored.starts == live.starts
    assert not stored.is_live


def test_a_guest_is_found_by_a_lease_file(moved: tuple[Station, Guest, Snapshot], watch: Node) -> None:
    station, guest, _ = moved
    (station.folder / "named").write_text(f"1790000000 {mac_of(guest)} {leased(guest)} moved *\n")
    found = find(station, watch, "moved", "pool.yaml", "--leases", "named", "--no-scan")
    assert leased(guest) in found["confirmed"]
    assert found["scanned"] == 0
    first = found["candidates"][0]
    assert first["verdict"] == "confirmed"
    assert first["host_keys"] == [station.host_keys["moved"]]


def test_a_guest_is_found_by_looking_through_its_network(moved: tuple[Station, Guest, Snapshot], watch: Node) -> None:
    station, guest, _ = moved
    watch.run("ip", "neigh", "flush", "all")
    found = find(station, watch, "moved", "pool.yaml")
    assert found["confirmed"] == [leased(guest)]
    assert 240 < found["scanned"] <= 254
    nowhere = find(station, watch, "lost", "pool.yaml", code=3)
    assert not nowhere["confirmed"]
    assert leased(guest) not in {each["address"] for each in nowhere["candidates"]}, "another guest's key is no sign of this one"


def test_a_hardware_address_leads_to_a_guest_that_was_surveyed(moved: tuple[Station, Guest, Snapshot], watch: Node) -> None:
    station, guest, _ = moved
    watch.run("ip", "neigh", "flush", "all")
    found = find(station, watch, mac_of(guest).upper().replace(":", "-"), "pool.yaml", "--evidence", "seen", "--no-scan")
    assert found["guest"] == "moved"
    assert leased(guest) in found["confirmed"]
    local = [c for c in found["candidates"] if c["address"].startswith("fe80:")]
    assert [c["verdict"] for c in local if "made from" in c["signs"][0]["text"]], "link-local addresses are tried"


def test_a_key_that_two_guests_share_decides_nothing(moved: tuple[Station, Guest, Snapshot], watch: Node) -> None:
    station, guest, _ = moved
    text = (station.folder / "pool.yaml").read_text()
    (station.folder / "twins.yaml").write_text(text.replace(f"SHA256:{'A' * 43}", station.host_keys["moved"]))
    found = find(station, watch, "moved", "twins.yaml", code=3)
    assert leased(guest) in found["confirmed"]
    assert found["also_pinned_for"] == ["lost"]
    line = watch.words(sys.executable, "-m", "nightlatch.cli", "find", "moved", "twins.yaml")
    done = subprocess.run(
        line,
        cwd=station.folder,
        capture_output=True,
        text=True,
        timeout=60,
        stdin=subprocess.DEVNULL,
        env=environment({"PYTHONPATH": str(ROOT / "src")}),
    )
    assert "Not decided:" in done.stdout
    assert "which is pinned for lost, too" in done.stdout


def test_a_stale_neighbour_is_no_sign_of_life(moved: tuple[Station, Guest, Snapshot], watch: Node) -> None:
    station, guest, _ = moved
    watch.run("ip", "neigh", "flush", "all")
    watch.run("ip", "neigh", "replace", "192.168.77.90", "lladdr", "52:54:00:99:99:99", "dev", "eth0", "nud", "stale")
    found = find(station, watch, "52:54:00:99:99:99", "pool.yaml", "--no-scan", code=3)
    (entry,) = [c for c in found["candidates"] if c["address"] == "192.168.77.90"]
    assert entry["verdict"] == "silent"
    assert entry["signs"][0]["text"] == "in the neighbour table of this machine, stale"
    assert not entry["signs"][0]["fresh"]
    assert guest.listening()


def test_nothing_beyond_the_networks_of_the_estate_is_dialled(moved: tuple[Station, Guest, Snapshot], watch: Node) -> None:
    station, guest, _ = moved
    (station.folder / "far").write_text(f"1790000000 {mac_of(guest)} 192.168.56.71 moved *\n")
    found = find(station, watch, "moved", "pool.yaml", "--leases", "far", "--no-scan", code=3)
    (entry,) = [c for c in found["candidates"] if c["address"] == "192.168.56.71"]
    assert entry["verdict"] == "not tried"


def test_what_is_no_guest_is_refused(moved: tuple[Station, Guest, Snapshot], watch: Node) -> None:
    station = moved[0]
    line = watch.words(sys.executable, "-m", "nightlatch.cli", "find", "mvoed", "pool.yaml")
    done = subprocess.run(
        line,
        cwd=station.folder,
        capture_output=True,
        text=True,
        timeout=60,
        stdin=subprocess.DEVNULL,
        env=environment({"PYTHONPATH": str(ROOT / "src")}),
    )
    assert done.returncode == 2
    assert 'Did you mean "moved"?' in done.stderr


def test_networkd_configures_what_was_drafted(moved: tuple[Station, Guest, Snapshot], tell: Callable[[str], None]) -> None:
    """Drafts on the guest's own files, laid there and loaded: each interface has what the estate gives it."""
    station, guest, snapshot = moved
    drafted = 0
    given = {f"net{n}": f"10.{200 + n}.0.9/24" for n in range(LINKS)}
    interfaces = ", ".join(f"{name}: [{address}]" for name, address in given.items())
    subnets = ", ".join(f"10.{200 + n}.0.0/24" for n in range(LINKS))
    (station.folder / "moved.yaml").write_text(
        f"nightlatch: 1\nestate: M\nnetworks: {{isle: {{subnet: [{subnets}]}}}}\n"
        f"guests: {{moved: {{via: {{folder: x}}, addresses: {{{interfaces}}}}}}}\n"
    )
    made = addresses.moved(load(station.folder / "moved.yaml"), replace(snapshot, guest="moved"))
    after = apply_all(snapshot, made.steps)
    for step in made.steps:
        (guest.root / step.path.lstrip("/")).write_bytes(after.entries[step.path].content or b"")
        drafted += 1
    guest.inside("networkctl", "reload")
    waited("the drafted addresses", _has(guest, given, {each.text.split(" ")[0] for each in made.left}), 20)
    assert drafted + len(made.left) == LINKS
    assert drafted > LINKS / 2, made.left
    tell(f"drafted addresses: networkd {drafted} of {LINKS} interfaces, loaded as drafted")


def _has(guest: Guest, given: dict[str, str], left: set[str]) -> Iterator[bool]:
    while True:
        lines = [line.split() for line in guest.run("ip", "-o", "-4", "addr").splitlines()]
        now: dict[str, set[str]] = {}
        for words in lines:
            now.setdefault(words[1].partition("@")[0], set()).add(words[3])
        yield all(now.get(name) == {address} for name, address in given.items() if name not in left)
