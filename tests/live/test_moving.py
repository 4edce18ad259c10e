"""A running guest moves from a leased to a fixed address over SSH, and back when nothing confirms it."""

from __future__ import annotations

import contextlib
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.estate.load import load
from nightlatch.estate.model import Estate
from nightlatch.faults import NightlatchError, PutBackError, RefusedError
from nightlatch.lab.image import PASSWORD, Account
from nightlatch.lab.inside import Inside
from nightlatch.lab.machine import Guest
from nightlatch.lab.tools import run, waited
from nightlatch.latch import live
from nightlatch.latch.folder import new_change_id
from nightlatch.latch.planned_change import planned
from nightlatch.latch.transaction import Transaction
from nightlatch.ops.audit import audit
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.enact import LiveChange, pending, terms
from nightlatch.ops.enact import enact as enact_draft
from nightlatch.ops.keep import keep
from nightlatch.ops.survey import survey, survey_live
from nightlatch.ops.undo import undo
from tests.live.latching import KILL, PAUSE
from tests.live.station import Station

pytestmark = pytest.mark.judge(
    "sshd", "unshare", "nsenter", "ip", "nft", "dnsmasq", "ping", "ifup", "dhclient", "nmcli", root=True
)
LEASED = "# given by the harbour's router\n[Match]\nName=eth0\n\n[Network]\nDHCP=ipv4\nLinkLocalAddressing=no\n"
PLAN = (
    "network:\n  version: 2\n  renderer: networkd\n  ethernets:\n    eth0:\n      dhcp4: true   # given by the harbour's router\n"
)
FILE = "/etc/systemd/network/10-eth0.network"
INTERFACES = "auto lo\niface lo inet loopback\n\n# given by the harbour's router\nauto eth0\niface eth0 inet dhcp\n"
PROFILE = (
    "[connection]\nid=pier\nuuid=7f1d0c52-3a86-4e0b-9c55-0d6f2a9be022\ntype=ethernet\ninterface-name=eth0\n\n"
    "[ipv4]\nmethod=auto\n\n[ipv6]\nmethod=disabled\n"
)
# What each system's guest starts, its file, and what that says while the address is leased.
SYSTEMS: dict[str, tuple[str, str, str]] = {
    "networkd": ("systemd-networkd.service", FILE, LEASED),
    "netplan": ("systemd-networkd.service", "/etc/netplan/50-eth0.yaml", PLAN),
    "ifupdown": ("networking.service", "/etc/network/interfaces", INTERFACES),
    "manager": ("NetworkManager.service", "/etc/NetworkManager/system-connections/pier.nmconnection", PROFILE),
}


class Moving:
    """A guest with a leased address, and the estate file that is to give it a fixed one."""

    def __init__(
        self, station: Station, name: str, fixed: str, system: str = "networkd", gateway: str = "192.168.56.254"
    ) -> None:
        self.station, self.name, self.fixed, self.gateway = station, name, fixed, gateway
        guest = station.lab.guest(name, {"isle": []})
        self.guest: Guest = guest
        guest.image.base(name)
        guest.image.accounts(
            [Account("keeper", 1000, PASSWORD, groups=("sudo",), keys=f'from="192.168.40.0/24" {station.keys["desk"]}\n')]
        )
        guest.image.write("/etc/sudoers.d/keeper", "keeper ALL=(ALL) NOPASSWD: ALL\n", 0o440)
        guest.image.write("/etc/ssh/sshd_config.d/10-station.conf", "PasswordAuthentication no\n")
        unit, self.file, self.stored = SYSTEMS[system]
        guest.image.units("ssh.service", unit)
        for when in ("pre-up", "up", "down", "post-down"):
            guest.image.own(f"/etc/network/if-{when}.d", 0o755, 0, 0)
        guest.image.write("/etc/NetworkManager/NetworkManager.conf", "[main]\nplugins=keyfile\n")
        guest.image.write(self.file, self.stored, 0o644 if system in ("networkd", "ifupdown") else 0o600)
        public = guest.image.host_key()
        self.pin = run("ssh-keygen", "-l", "-f", "-", stdin=public).split()[1]
        guest.boot()
        guest.until_listening()
        self.leased = self.address()
        self.path = station.folder / f"{name}.yaml"
        self.write()

    def write(self, more: str = "") -> Estate:
        self.path.write_text(
            "nightlatch: 1\nestate: Moving\nplaces: {bench: [192.168.40.0/24]}\npeople: {mara: {keys: [mara.pub]}}\n"
            f"networks: {{isle: {{subnet: 192.168.56.0/24, gateway: {self.gateway}, name_servers: 192.168.56.254}}}}\n"
            f"guests:\n  {self.name}:\n    via: {{ssh: {self.leased}, as: keeper, key: desk.pub, from: bench}}   # as it was given\n"
            f'    dial: {self.leased}:22\n    host_keys: ["{self.pin}"]\n    addresses: {{eth0: [{self.fixed}/24]}}\n{more}'
        )
        return load(self.path)

    def address(self) -> str:
        """The address that the guest has now."""
        found: list[str] = []

        def asked() -> Iterator[bool]:
            while True:
                found[:] = [
                    w.split()[3].split("/")[0] for w in self.guest.run("ip", "-o", "-4", "addr", "show", "eth0").splitlines()
                ]
                yield len(found) == 1

        waited(f"{self.name}: one address", asked(), 30)
        return found[0]

    def enact(self, seconds: int = 60, **more: object) -> LiveChange:
        with self.station.client() as client:
            return enact_draft(load(self.path), self.name, datetime.now(UTC), client=client, seconds=seconds, **more)  # type: ignore[arg-type]

    def back(self, seconds: float = 40) -> None:
        """Wait until the guest has its leased address again, and nothing is on its latch."""

        def asked() -> Iterator[bool]:
            while True:
                yield self.address() == self.leased and not (self.guest.root / "var/lib/nightlatch/lock").exists()

        waited(f"{self.name}: its old address", asked(), seconds)


@pytest.fixture(scope="module")
def harbour(station: Station) -> Iterator[Station]:
    """The station with a router that gives out addresses on the isle."""
    server = station.lab.router.start(
        "dnsmasq",
        "--keep-in-foreground",
        "--conf-file=/dev/null",
        "--user=root",
        "--interface=br-isle",
        "--bind-interfaces",
        "--no-resolv",
        "--no-hosts",
        "--address=/gauge.skerry.example/192.168.56.254",
        "--dhcp-range=192.168.56.100,192.168.56.150,10m",
        f"--dhcp-leasefile={station.folder}/leases",
        f"--pid-file={station.folder}/dnsmasq.pid",
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    try:
        yield station
    finally:
        server.terminate()
        server.wait(10)


@pytest.mark.parametrize("system", list(SYSTEMS))
def test_a_guest_moves_to_a_fixed_address_and_the_estate_follows(
    harbour: Station, system: str, tell: Callable[[str], None]
) -> None:
    moving = Moving(harbour, f"m-{system}", f"192.168.56.{40 + list(SYSTEMS).index(system)}", system)
    before = moving.path.read_text()
    started = time.monotonic()
    done = moving.enact()
    spent = time.monotonic() - started
    assert (done.outcome, done.moved_to) == ("kept", moving.fixed)
    assert moving.address() == moving.fixed
    text = moving.path.read_text()
    assert text == before.replace(moving.leased, moving.fixed), "the estate file follows, and nothing else in it changes"
    assert "2 places that named" in done.followed
    with harbour.client() as client:
        snapshot = next(survey(load(moving.path), client=client)).snapshot
    assert snapshot is not None
    assert snapshot.facts["came_to"] == moving.fixed
    result = audit(load(moving.path), datetime.now(UTC), client=harbour.client())
    assert not [f.text for f in result.guests[0].findings if f.check.startswith(("address.", "name."))]
    assert not (moving.guest.root / "var/lib/nightlatch/lock").exists()
    routes = moving.guest.run("ip", "-4", "route", "show", "default")
    assert routes.count("default") == 1
    assert "192.168.56.254" in routes
    tell(f"a guest moved over SSH by {system}: {spent:.1f} s from survey to kept")
    moving.guest.power_off()
    moving.guest.boot()
    assert moving.address() == moving.fixed, "it stays over a restart"
    with pytest.raises(RefusedError, match="by lease, which nobody knows beforehand"), harbour.client() as client:
        undo(load(moving.path), moving.name, datetime.now(UTC), client=client)


def test_a_guest_that_nobody_reaches_at_its_new_address_goes_back(harbour: Station) -> None:
    moving = Moving(harbour, "unreached", "192.168.56.33")
    rules = "table ip cut {\n chain f {\n type filter hook forward priority 0\n ip daddr 192.168.56.33 drop\n }\n}\n"
    harbour.lab.router.run("nft", "-f", "-", stdin=rules)
    try:
        with pytest.raises(
            PutBackError,
            match=r"unreached is back at its old address: put back: the time on the latch was over|does not answer over its new address",
        ):
            moving.enact(seconds=12)
        moving.back()
    finally:
        harbour.lab.router.run("nft", "delete", "table", "ip", "cut")
    assert (moving.guest.root / FILE.lstrip("/")).read_text() == LEASED
    assert moving.leased in moving.path.read_text()
    with harbour.client() as client:
        told = dict(pending(load(moving.path), client=client))[moving.name]
    assert not isinstance(told, str)
    assert told.pending is None
    assert "put back" in told.outcomes[0][1]


def test_a_way_out_that_worked_before_must_work_afterwards(harbour: Station) -> None:
    moving = Moving(harbour, "cut-off", "192.168.56.34", gateway="192.168.56.99")
    with pytest.raises(PutBackError, match="the way out that worked before does not"):
        moving.enact(seconds=40)
    moving.back()
    assert (moving.guest.root / FILE.lstrip("/")).read_text() == LEASED


def test_a_power_cut_on_the_latch_brings_the_old_address(harbour: Station) -> None:
    moving = Moving(harbour, "cut", "192.168.56.35")
    done = moving.enact(seconds=300, decide=lambda _: None)
    assert (done.outcome, done.moved_to) == ("on the latch", moving.fixed)
    assert moving.address() == moving.fixed
    moving.guest.power_cut()
    moving.guest.run("ip", "addr", "flush", "dev", "eth0")  # the lab keeps the network of a guest that is off
    moving.guest.boot()
    moving.back()
    assert (moving.guest.root / FILE.lstrip("/")).read_text() == LEASED


def test_left_on_the_latch_it_is_kept_or_taken_back_over_the_new_address(harbour: Station) -> None:
    moving = Moving(harbour, "left", "192.168.56.36")
    assert moving.enact(seconds=300, decide=lambda _: False).outcome == "put back"
    moving.back()
    moving.enact(seconds=300, decide=lambda _: None)
    with harbour.client() as client:
        told = dict(pending(load(moving.path), client=client))[moving.name]
        assert not isinstance(told, str)
        assert told.pending is not None
        assert undo(load(moving.path), moving.name, datetime.now(UTC), client=client).outcome == "put back"
    moving.back()
    assert (moving.guest.root / FILE.lstrip("/")).read_text() == LEASED
    moving.enact(seconds=300, decide=lambda _: None)
    with harbour.client() as client:
        kept = keep(load(moving.path), moving.name, datetime.now(UTC), client=client)
    assert kept.moved_to == moving.fixed
    assert moving.fixed in moving.path.read_text()
    assert moving.leased not in moving.path.read_text()
    assert Path(moving.guest.root, FILE.lstrip("/")).read_text() == LEASED.replace("DHCP=ipv4", "DHCP=no") + (
        f"Address={moving.fixed}/24\nGateway=192.168.56.254\nDNS=192.168.56.254\n"
    )


AFTERWARDS = ("swapped", "loading", "moved", "loaded", "looked")


def begun(moving: Moving, seam: str, seconds: int) -> tuple[str, threading.Thread]:
    """The move on the latch by the guest's own shell, in the background: what becomes of that call does not matter."""
    shell, estate, at = Inside(moving.guest), load(moving.path), datetime.now(UTC)
    snapshot = survey_live(shell)
    proved = prove(estate, draft(estate, snapshot, at), snapshot, at)
    made = Transaction(planned(estate, proved), terms(at, new_change_id(at), seconds, seam=seam))

    def run() -> None:
        with contextlib.suppress(NightlatchError, OSError):
            live.begin(shell, made)

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    return made.change, thread


def until_at(moving: Moving, change: str, point: str) -> None:
    progress = moving.guest.root / f"var/lib/nightlatch/changes/{change}/progress"

    def asked() -> Iterator[bool]:
        while True:
            yield progress.exists() and f"step {point}\n" in progress.read_text()

    waited(f"the step {point}", asked(), 60)


CUT = {"networkd": AFTERWARDS, "ifupdown": ("guarded", "swapped", "moved"), "manager": ("loading", "moved")}


@pytest.mark.parametrize("system", list(CUT))
def test_a_move_cut_off_anywhere_goes_back(harbour: Station, system: str, tell: Callable[[str], None]) -> None:
    """The power goes, and the guest's own script dies, at each step from the swap on: the leased address comes back."""
    moving = Moving(harbour, f"s-{system}", f"192.168.56.{50 + list(CUT).index(system)}", system)
    file = moving.guest.root / moving.file.lstrip("/")
    for point in CUT[system]:
        change, thread = begun(moving, PAUSE.format(point=point), 120)
        until_at(moving, change, point)
        moving.guest.power_cut()
        thread.join(60)
        moving.guest.run("ip", "addr", "flush", "dev", "eth0")
        moving.guest.boot()
        moving.back()
        assert file.read_text() == moving.stored, point
    killed = [point for point in CUT[system] if system != "networkd" or point not in AFTERWARDS[:2]]
    for point in killed:
        change, thread = begun(moving, KILL.format(point=point, flag=f"/run/killed-{point}"), 15)
        until_at(moving, change, point)
        thread.join(60)
        moving.back()
        assert file.read_text() == moving.stored, point
    tell(f"a move under {system}: power cut at {len(CUT[system])} steps, script killed at {len(killed)}, 0 wrong")
