"""SSH moves to another port: with a door at every step, the estate file behind it, and back where nothing confirms it."""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.draft.plan import ProvedDraft
from nightlatch.estate.load import load
from nightlatch.faults import PutBackError
from nightlatch.lab.inside import Inside
from nightlatch.lab.machine import Guest
from nightlatch.latch import live
from nightlatch.latch.folder import new_change_id
from nightlatch.latch.planned_change import PlannedChange, planned
from nightlatch.latch.transaction import SEAM, Transaction
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.enact import LiveChange, terms
from nightlatch.ops.enact import enact as enact_draft
from nightlatch.ops.keep import keep
from nightlatch.ops.survey import survey
from nightlatch.ops.undo import undo
from tests.live.latching import PAUSE, Subject, at_its_door, begun, leftovers
from tests.live.station import Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", "nft", root=True)
GRANT = "let: mara, into: all guests, by: ssh, from: bench, with: key\n"
KINDS = ("ssh.service", "ssh.socket")


def made(station: Station, name: str, address: str, unit: str, files: dict[str, str] | None = None) -> Guest:
    guest = station.guest(name, address, unit=unit, config="PasswordAuthentication no\n")
    (guest.image.folder / "home/joon/.ssh/authorized_keys").unlink()
    bench = 'from="192.168.40.0/24,2001:db8:40::/64"'
    for account, uid, key in (("mara", 1001, "mara"), ("keeper", 1000, "desk")):
        guest.image.write(f"/home/{account}/.ssh/authorized_keys", f"{bench} {station.keys[key]}\n", 0o600, uid, uid)
    for path, text in (files or {}).items():
        guest.image.write(path, text, 0o755 if "/sbin/" in path else 0o644)
    guest.boot()
    guest.until_listening()
    return guest


def stated(station: Station, name: str, port: int = 2222) -> Path:
    path = station.folder / f"{name}.yaml"
    whole = station.estate(GRANT).read_text().splitlines()
    kept = [line for line in whole if not line.startswith("  ") or line.startswith(("  - ", f"  {name}:"))]
    text = "\n".join(kept).replace("labels: [lab]", f"labels: [lab], dial: {name}.skerry.example")
    path.write_text(f"{text}\nservices:\n  - {{run: ssh, on: {name}, at: {port}}}\n")
    return path


def open_ports(guest: Guest) -> list[int]:
    listed = guest.inside("ss", "-Hltn").split("\n")
    return sorted({int(line.split()[3].rsplit(":", 1)[1]) for line in listed if line})


def doors(station: Station, guest: Guest) -> list[int]:
    return [port for port in (22, 2222) if station.login(guest, options=("-p", str(port)))]


def enact(station: Station, path: Path, name: str, **more: object) -> LiveChange:
    with station.client() as client:
        return enact_draft(load(path), name, datetime.now(UTC), client=client, **{"seconds": 60, **more})  # type: ignore[arg-type]


def proved(station: Station, path: Path, name: str) -> ProvedDraft:
    estate, at = load(path), datetime.now(UTC)
    with station.client() as client:
        (found,) = survey(estate, [name], client=client)
    assert found.snapshot is not None, found.problem
    return prove(estate, draft(estate, found.snapshot, at), found.snapshot, at)


@pytest.mark.parametrize("unit", KINDS)
def test_ssh_moves_to_another_port_and_back(station: Station, unit: str) -> None:
    name = "gauge" if unit == "ssh.service" else "gate"
    guest = made(station, name, "192.168.56.21" if unit == "ssh.service" else "192.168.56.22", unit)
    path = stated(station, name)
    before = path.read_text()
    first = proved(station, path, name)
    assert [entry.text for entry in first.draft.left] == ["Port 22 stays open, for Nightlatch comes in by it."]
    done = enact(station, path, name)
    assert (done.outcome, done.port) == ("kept", 2222)
    assert open_ports(guest) == [22, 2222]
    assert doors(station, guest) == [22, 2222]
    text = path.read_text()
    assert text == before.replace("from: bench}, host", "from: bench, port: 2222}, host").replace(
        f"dial: {name}.skerry.example", f"dial: {name}.skerry.example:2222"
    )
    assert load(path).guests[name].via.port == 2222
    done = enact(station, path, name)
    assert (done.outcome, done.port) == ("kept", 0)
    assert open_ports(guest) == [2222]
    assert not proved(station, path, name).does
    assert path.read_text() == text
    guest.power_cut()
    guest.boot()
    deadline = time.monotonic() + 20
    while open_ports(guest) != [2222]:
        assert time.monotonic() < deadline
        time.sleep(0.1)
    with station.client() as client:
        assert undo(load(path), name, datetime.now(UTC), client=client).outcome == "put back"
    assert open_ports(guest) == [22, 2222]
    with station.client() as client:
        assert undo(load(path), name, datetime.now(UTC), client=client).outcome == "put back"
    assert open_ports(guest) == [22]
    assert load(path).guests[name].via.port == 22
    assert not leftovers(guest)


def test_a_new_port_that_nothing_reaches_goes_back(station: Station) -> None:
    name = "lamp"
    guest = made(station, name, "192.168.56.23", "ssh.socket")
    path = stated(station, name)
    before, files = path.read_text(), guest.files("/etc")
    guest.inside(
        "nft",
        "add table inet shut; add chain inet shut in { type filter hook input priority 0; }; "
        "add rule inet shut in tcp dport 2222 drop",
    )
    with pytest.raises(PutBackError, match="no fresh connection comes in"):
        enact(station, path, name, seconds=300)
    assert open_ports(guest) == [22]
    assert doors(station, guest) == [22]
    assert path.read_text() == before
    now = guest.files("/etc")
    assert {each for each in {**files, **now} if files.get(each) != now.get(each)} == set()


def test_a_port_left_on_the_latch_is_kept_over_it_and_the_estate_follows(station: Station) -> None:
    guest = made(station, "shoal", "192.168.56.28", "ssh.service")
    path = stated(station, "shoal")
    assert enact(station, path, "shoal", decide=lambda _: None).outcome == "on the latch"
    with station.client() as client:
        assert undo(load(path), "shoal", datetime.now(UTC), client=client).outcome == "put back"
    assert open_ports(guest) == [22]
    assert enact(station, path, "shoal", decide=lambda _: None).outcome == "on the latch"
    with station.client() as client:
        done = keep(load(path), "shoal", datetime.now(UTC), client=client)
    assert (done.outcome, done.port) == ("kept", 2222)
    assert load(path).guests["shoal"].via.port == 2222


def test_a_script_at_the_console_moves_the_port_at_once(station: Station) -> None:
    guest = made(station, "reef", "192.168.56.29", "ssh.socket")
    path = stated(station, "reef")
    carried = guest.inside("sh", stdin=station.nightlatch("survey", "--script"))
    (station.folder / "reef.txt").write_text(carried)
    by_hand = path.read_text().replace("{ssh: 192.168.56.29, as", "{by_hand: reef.txt, as")
    path.write_text(by_hand)
    (guest.root / "root/change.sh").write_text(station.nightlatch("draft", path.name, "--script", "--on", "reef"))
    assert "on the latch" in guest.inside("sh", "/root/change.sh")
    assert open_ports(guest) == [2222]
    guest.inside("sh", "/root/change.sh", "back")
    assert open_ports(guest) == [22]


@pytest.mark.parametrize("unit", KINDS)
def test_there_is_a_door_at_every_step(station: Station, unit: str, tell: Callable[[str], None]) -> None:
    """At every step of both drafts somebody gets in by a port; after a power cut there, by the old one."""
    name = "mole" if unit == "ssh.service" else "buoy"
    guest = made(station, name, "192.168.56.25" if unit == "ssh.service" else "192.168.56.26", unit)
    path = stated(station, name)
    count, wrong = 0, []
    for old, new in ((22, [22, 2222]), (2222, [2222])):
        ports = open_ports(guest)
        proof = proved(station, path, name)
        plan = planned(load(path), proof)
        assert plan.ports is not None
        assert list(plan.ports.after) == new
        subject = Subject(station, guest, load(path), proof, {}, "")

        def change(seam: str, seconds: int = 60, plan: PlannedChange = plan):  # type: ignore[no-untyped-def]
            now = datetime.now(UTC)
            fresh = Transaction(plan, terms(now, new_change_id(now), seconds, seam=seam))
            return at_its_door(guest, fresh)

        once = change(SEAM, 3)
        live.begin(Inside(guest), once)
        subject.settled()
        steps = [line[5:] for line in subject.progress(once.change) if line.startswith("step ")]
        there = steps[: steps.index("reverting")]
        # Before the check nothing of sshd's is touched: some of these steps do. All of the others are tried.
        first = there.index("checked")
        for number, point in enumerate([*there[:first:5], *there[first:]]):
            guest.inside("rm", "-f", "/run/go-on")
            each = change(PAUSE.format(point=point))
            thread = begun(subject, each)
            assert subject.reached(each.change, point), point
            count += 1
            if old not in doors(station, guest):
                wrong.append(f"{unit}, {point}: {doors(station, guest)}")
            if number % 3 == 0:
                guest.power_cut()
                guest.boot()
                guest.until_listening()
                guest.inside("sh", "-c", "[ ! -d /var/lib/nightlatch/lock ] || touch -d '1 minute ago' /var/lib/nightlatch/lock")
            else:
                guest.inside("touch", "/run/go-on")
                thread.join(60)
                live.decide(Inside(guest), each.change, "back")
            thread.join(60)
            if open_ports(guest) != ports or [each for each in leftovers(guest) if "guard" not in each]:
                wrong.append(f"{unit}, {point}: open afterwards {open_ports(guest)}, {leftovers(guest)}")
        enact(station, path, name)
    tell(f"SSH moves to another port, {unit}: {count} steps, {len(wrong)} without a door or not as before")
    assert not wrong, "\n".join(wrong)


def test_a_port_gets_its_label_and_loses_it_again(station: Station) -> None:
    """The tool that labels ports is a stand-in that notes how it was called: no policy can be loaded in a lab guest."""
    tool = '#!/bin/sh\necho "$*" >>/var/log/labels\n'
    config = {"/etc/selinux/config": "SELINUX=enforcing\nSELINUXTYPE=targeted\n", "/usr/local/sbin/semanage": tool}
    guest = made(station, "light", "192.168.56.27", "ssh.service", config)
    path = stated(station, "light")
    proof = proved(station, path, "light")
    assert [str(act) for act in proof.draft.acts] == ["label TCP port 2222 as ssh_port_t"]
    done = enact(station, path, "light")
    assert done.outcome == "kept"
    assert guest.inside("cat", "/var/log/labels") == "port -a -t ssh_port_t -p tcp 2222\n"
    with station.client() as client:
        undo(load(path), "light", datetime.now(UTC), client=client)
    assert guest.inside("cat", "/var/log/labels").splitlines()[1:] == ["port -d -t ssh_port_t -p tcp 2222"]
