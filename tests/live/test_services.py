"""Services, the clock's zone, the host name and the ports of SSH on running guests: drafted, enacted, kept, taken back."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.audit.findings import Severity
from nightlatch.estate.load import load
from nightlatch.faults import PutBackError, RefusedError
from nightlatch.lab.machine import Guest
from nightlatch.lab.tools import run
from nightlatch.ops.audit import audit
from nightlatch.ops.enact import Confirmation, Consent
from nightlatch.ops.undo import undo
from tests.live.latching import Subject, cut_off, enact, leftovers, proved, settled
from tests.live.station import Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", root=True)
UNIT = "[Service]\nExecStart=/bin/sleep infinity\n[Install]\nWantedBy=multi-user.target\n"
DIES = "[Service]\nType=simple\nExecStart=/bin/sh -c 'sleep 0.3; exit 1'\n[Install]\nWantedBy=multi-user.target\n"
SOCKET = "[Socket]\nListenStream=8088\n[Install]\nWantedBy=sockets.target\n"
GRANT = "let: mara, into: all guests, by: ssh, from: bench, with: key\n"
SENTENCES = """
services:
  - {run: tide-log, on: all guests}
  - {stop: tide-web, on: all guests}
"""
OWN = ", host_name: tide.skerry.example, time_zone: Atlantic/Faroe"


def made(station: Station, name: str, address: str, unit: str = "ssh.service", **files: str) -> Guest:
    guest = station.guest(name, address, unit=unit, config="PasswordAuthentication no\n", more=[])
    guest.image.own("/home/joon/.ssh", 0o700, 1002, 1002)
    (guest.image.folder / "home/joon/.ssh/authorized_keys").unlink()
    guest.image.write(
        "/home/mara/.ssh/authorized_keys",
        f'from="192.168.40.0/24,2001:db8:40::/64" {station.keys["mara"]}\n',
        0o600,
        1001,
        1001,
    )
    guest.image.write(
        "/home/keeper/.ssh/authorized_keys",
        f'from="192.168.40.0/24,2001:db8:40::/64" {station.keys["desk"]}\n',
        0o600,
        1000,
        1000,
    )
    for each, text in {"tide-log.service": UNIT, "tide-web.service": UNIT, "tide-web.socket": SOCKET}.items():
        guest.image.write(f"/etc/systemd/system/{each}", files.get(each, text))
    guest.image.link("/etc/systemd/system/sockets.target.wants/tide-web.socket", "/etc/systemd/system/tide-web.socket")
    guest.image.link("/etc/localtime", "/usr/share/zoneinfo/UTC")
    guest.image.write("/etc/timezone", "Etc/UTC\n")
    guest.boot()
    guest.until_listening()
    return guest


def stated(station: Station, more: str = SENTENCES, own: str = OWN) -> Path:
    path = station.estate(GRANT, more=more)
    path.write_text(path.read_text().replace("labels: [lab]}", f"labels: [lab]{own}}}"))
    return path


def states(guest: Guest) -> dict[str, str]:
    """Every unit of the test as the guest's own manager tells it, and what else the change touches."""
    out = {}
    for unit in ("tide-log.service", "tide-web.service", "tide-web.socket"):
        words = guest.inside("sh", "-c", f"systemctl is-enabled {unit}; systemctl is-active {unit}; true").split()
        out[unit] = " ".join(words)
    out["zone"] = guest.inside("readlink", "-f", "/etc/localtime").strip()
    out["timezone"] = guest.inside("cat", "/etc/timezone").strip()
    out["host"] = guest.inside("cat", "/proc/sys/kernel/hostname").strip()
    out["hostname"] = guest.inside("cat", "/etc/hostname").strip()
    out["hosts"] = guest.inside("cat", "/etc/hosts")
    return out


def test_what_the_estate_states_is_done_kept_over_a_restart_and_taken_back(station: Station) -> None:
    guest = made(station, "gauge", "192.168.56.21")
    path = stated(station)
    before = states(guest)
    assert before["tide-log.service"] == "disabled inactive"
    assert before["tide-web.socket"] == "enabled active"
    draft = proved(station, path, "gauge").draft
    assert [str(act) for act in draft.acts] == [
        "enable tide-log.service",
        "start tide-log.service",
        "disable tide-web.socket",
        "stop tide-web.socket",
        "time zone Atlantic/Faroe, was UTC",
        "host name tide.skerry.example, was gauge",
    ]
    assert draft.left == ()
    done = enact(station, path, "gauge")
    assert done.outcome == "kept"
    wanted = {
        "tide-log.service": "enabled active",
        "tide-web.service": "disabled inactive",
        "tide-web.socket": "disabled inactive",
        "zone": "/usr/share/zoneinfo/Atlantic/Faroe",
        "timezone": "Atlantic/Faroe",
        "host": "tide.skerry.example",
        "hostname": "tide.skerry.example",
        "hosts": "127.0.0.1 localhost\n127.0.1.1 tide.skerry.example tide\n",
    }
    assert states(guest) == wanted
    assert not leftovers(guest)
    assert not proved(station, path, "gauge").does, "the second run changes nothing"
    guest.power_cut()
    guest.boot()
    guest.until_listening()
    assert states(guest) == wanted, "it stays over a restart"
    with station.client() as client:
        undone = undo(load(path), "gauge", datetime.now(UTC), client=client)
    assert undone.outcome == "put back"
    assert states(guest) == before


def told_of_the_latch(station: Station, path: Path, name: str) -> None:
    """Every command says first that what it tells goes back, and no second change is begun."""
    with station.client() as client:
        result = audit(load(path), datetime.now(UTC), [name], client=client)
    first = result.guests[0].findings[0]
    assert (first.check, first.severity, first.group) == ("latch.pending", "high", "on the latch")
    assert re.match(r"A change is on the latch, goes back in [0-9]+ s unless it is kept: nightlatch keep\.", first.text)
    assert result.exit_code(Severity.HIGH) == 1
    with pytest.raises(RefusedError, match=r"is on the latch, goes back in .* Nothing was changed"):
        enact(station, path, name)
    for words in (["draft"], ["exposure"], ["enact", "--dry-run"], ["survey", "--into", str(station.folder / "kept")]):
        told = station.nightlatch(words[0], str(path), "--on", name, *words[1:], "--ssh-config", "ssh_config", code=None)
        assert "on the latch, goes back in" in " ".join(told.split()[:40]), told
    assert "is on the latch" in " ".join(
        station.nightlatch("enact", str(path), "--on", name, "--yes", "--ssh-config", "ssh_config", code=4).split()
    )


def test_what_is_not_kept_goes_back_as_it_was(station: Station, tell: Callable[[str], None]) -> None:
    guest = made(station, "mole", "192.168.56.22", **{"tide-log.service": DIES})
    path = stated(station)
    before = states(guest)
    with pytest.raises(PutBackError, match=r"tide-log\.service was started, and is (failed|inactive)"):
        enact(station, path, "mole")
    assert states(guest) == {**before, "tide-log.service": "disabled failed"}, "a unit that failed is known as failed"
    guest.inside(
        "sh",
        "-c",
        "systemctl reset-failed; printf '%s' \"$0\" >/etc/systemd/system/tide-log.service; systemctl daemon-reload",
        UNIT,
    )
    assert states(guest) == before

    def no(_: Confirmation) -> bool:
        return False

    assert enact(station, path, "mole", decide=no).outcome == "put back"
    assert states(guest) == before
    left = enact(station, path, "mole", decide=lambda _: None)
    assert left.outcome == "on the latch"
    assert states(guest) != before
    told_of_the_latch(station, path, "mole")
    guest.power_cut()
    guest.boot()
    guest.until_listening()
    assert states(guest) == before, "a restart takes it back"
    settled(guest)
    assert not leftovers(guest)


def test_a_guest_s_script_dies_at_every_act(station: Station, tell: Callable[[str], None]) -> None:
    guest = made(station, "pier", "192.168.56.23")
    path = stated(station)
    before = states(guest)
    proof = proved(station, path, "pier")
    points = [f"{word} {number}" for number in range(1, len(proof.draft.acts) + 1) for word in ("acting", "acted")]
    subject = Subject(station, guest, load(path), proof, {}, "")
    wrong = []
    for number, point in enumerate(points):
        told = cut_off(subject, point, power=not number % 2, seconds=20)
        if states(guest) != before or leftovers(guest):
            wrong.append(f"{point}: {states(guest)} {leftovers(guest)} {told}")
    tell(f"acts cut off: {len(points)} points, {len(wrong)} wrong")
    assert not wrong, "\n".join(wrong)


POSTINST = """#!/bin/sh
set -e
deb-systemd-helper unmask tide-log.service >/dev/null || true
deb-systemd-helper enable tide-log.service >/dev/null || true
systemctl --system daemon-reload
deb-systemd-invoke start tide-log.service >/dev/null || true
"""


def packaged(guest: Guest, folder: Path) -> None:
    """A package that brings tide-log and starts it, as Debian's packages do, and a source of packages with only that."""
    tree = folder / "tide-log"
    (tree / "DEBIAN").mkdir(parents=True)
    control = (
        "Package: tide-log\nVersion: 1\nArchitecture: all\nMaintainer: Skerry Point <keeper@skerry.example>\nDescription: tide\n"
    )
    (tree / "DEBIAN/control").write_text(control)
    (tree / "DEBIAN/postinst").write_text(POSTINST)
    (tree / "DEBIAN/postinst").chmod(0o755)
    (tree / "lib/systemd/system").mkdir(parents=True)
    (tree / "lib/systemd/system/tide-log.service").write_text(UNIT)
    place = guest.root / "srv/packages"
    place.mkdir(parents=True)
    run("dpkg-deb", "--build", "--root-owner-group", str(tree), str(place / "tide-log.deb"))
    raw = (place / "tide-log.deb").read_bytes()
    (place / "Packages").write_text(
        f"{control}Filename: ./tide-log.deb\nSize: {len(raw)}\nSHA256: {hashlib.sha256(raw).hexdigest()}\n"
    )
    guest.inside(
        "sh",
        "-c",
        "rm -rf /etc/apt/sources.list* /var/lib/apt/lists/* /usr/sbin/policy-rc.d /etc/systemd/system/tide-log.service; "
        "systemctl daemon-reload; echo 'deb [trusted=yes] file:/srv/packages ./' >/etc/apt/sources.list",
    )


def test_a_package_has_a_yes_of_its_own_and_is_not_started_before_its_change(station: Station, tmp_path: Path) -> None:
    guest = made(station, "reef", "192.168.56.24")
    packaged(guest, tmp_path)
    stated(station, "\nservices:\n  - {run: tide-log, on: reef, package: tide-log}\n", "")
    words = ("enact", "--yes", "--on", "reef", "--ssh-config", "ssh_config")
    out = station.nightlatch(*words, code=4)
    assert "it would install tide-log, which can't be taken back: --install agrees to that" in " ".join(out.split())
    assert "install the package tide-log: apt-get" in " ".join(out.split())
    assert not (guest.root / "lib/systemd/system/tide-log.service").exists()
    before = states(guest)
    done = enact(station, station.folder / "estate.yaml", "reef", agreed={Consent.PACKAGES}, decide=lambda _: False)
    assert done.outcome == "put back"
    assert states(guest) == {**before, "tide-log.service": "disabled inactive"}, (
        "the package is there, and is neither enabled nor started"
    )
    assert (guest.root / "lib/systemd/system/tide-log.service").exists()
    out = station.nightlatch(*words)
    assert "kept" in out
    assert states(guest)["tide-log.service"] == "enabled active"
    station.nightlatch("undo", "--on", "reef", "--ssh-config", "ssh_config")
    assert states(guest)["tide-log.service"] == "disabled inactive"


def test_a_script_at_the_console_acts_too(station: Station) -> None:
    guest = made(station, "lantern", "192.168.56.25")
    stated(station)
    text = station.nightlatch("draft", "--script", "--on", "lantern", "--ssh-config", "ssh_config")
    head = text[: text.index("nightlatch_change() {")]
    assert "#   stop tide-web.socket\n" in head
    assert "#       because: tide-log.service should run: it is not started at boot and does not run.\n" in head
    before = states(guest)
    (guest.root / "root/change.sh").write_text(text)
    said = guest.inside("sh", "/root/change.sh")
    assert "3 paths, 6 acts beside them" in said
    assert states(guest)["host"] == "tide.skerry.example"
    guest.inside("sh", "/root/change.sh", "back")
    assert states(guest) == before
    guest.inside("sh", "/root/change.sh")
    guest.inside("sh", "/root/change.sh", "keep")
    after = states(guest)
    assert after["tide-log.service"] == "enabled active"
    guest.inside("rm", "-r", "/var/lib/nightlatch")
    assert "nothing to do" in guest.inside("sh", "/root/change.sh")
    assert states(guest) == after
