"""First contact on lab guests: host keys compared by fingerprint at a terminal, pinned losslessly, changes explained."""

from __future__ import annotations

from pathlib import Path

import pytest

from nightlatch.lab.machine import Guest
from nightlatch.lab.tools import run
from tests.live.station import Station
from tests.live.terminal import at_a_terminal

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", root=True)
ASK = "as the console shows it"
ESTATE = """\
nightlatch: 1
estate: Station     # kept by hand
places: {bench: 192.168.40.0/24}
people: {mara: {keys: [mara.pub]}}
guests:
  # the gauge at the end of the pier
  gauge:
    via: {ssh: 192.168.56.21, as: keeper, key: desk.pub, from: bench}   # management access
    labels: [lab]
grants:
  - {let: mara, into: all guests, by: ssh, from: bench, with: key}
"""


@pytest.fixture(scope="module")
def guest(station: Station) -> Guest:
    made = station.guest("gauge", config="HostKey /etc/ssh/ssh_host_rsa_key\nHostKey /etc/ssh/ssh_host_ecdsa_key\n")
    for kind, bits in (("rsa", "2048"), ("ecdsa", "256")):
        path = made.image.path(f"/etc/ssh/ssh_host_{kind}_key")
        for each in (path, path.with_suffix(".pub")):
            each.unlink(missing_ok=True)
        run("ssh-keygen", "-q", "-t", kind, "-b", bits, "-N", "", "-f", str(path))
    made.boot()
    made.until_listening()
    return made


def console(guest: Guest, *more: str) -> list[str]:
    """What the line that meet prints shows at the guest's console."""
    out = guest.inside("sh", "-c", f"cat /etc/ssh/ssh_host_*_key.pub | ssh-keygen -l {' '.join(more)} -f -")
    return out.splitlines()


def pins(station: Station) -> list[str]:
    text = (station.folder / "estate.yaml").read_text()
    line = next((line for line in text.splitlines() if "host_keys" in line), "")
    return [word.strip('", []') for word in line.partition("[")[2].split(",") if word.strip()]


def test_every_type_is_pinned_by_what_the_console_shows(station: Station, guest: Guest) -> None:
    path = station.folder / "estate.yaml"
    path.write_text(ESTATE)
    shown = console(guest)
    assert len(shown) == 3
    code, said = at_a_terminal(
        station,
        ["meet", "gauge"],
        [
            (ASK, "yes\n"),
            ("That holds no fingerprint", shown[0].split()[1] + "\n"),
            (": the same.", "\n".join(shown[1:]) + "\n"),
        ],
    )
    assert code == 0, said
    assert "cat /etc/ssh/ssh_host_*_key.pub | ssh-keygen -l -f -" in said
    assert sorted(pins(station)) == sorted(line.split()[1] for line in shown)
    line = next(line for line in path.read_text().splitlines(keepends=True) if "host_keys" in line)
    assert path.read_text().replace(line, "") == ESTATE, "nothing else was touched"
    assert "pinned already" in station.nightlatch("meet", "gauge")
    assert "logged in" in station.nightlatch("reach", "--login", "--ssh-config", "ssh_config")


def test_a_part_may_be_confirmed_in_the_older_form(station: Station, guest: Guest) -> None:
    (station.folder / "estate.yaml").write_text(ESTATE)
    older = next(line.split()[1] for line in console(guest, "-E", "md5") if "ED25519" in line)
    code, said = at_a_terminal(station, ["meet", "gauge"], [(ASK, older.removeprefix("MD5:") + "\n"), ("Enter to stop", "\n")])
    assert code == 0, said
    newer = next(line.split()[1] for line in console(guest) if "ED25519" in line)
    assert pins(station) == [newer]
    assert "Not confirmed, so not pinned: RSA, ECDSA" in said or "Not confirmed, so not pinned: ECDSA, RSA" in said
    reached = station.json("reach", "estate.yaml")["guests"][0]  # type: ignore[index]
    assert not [f for f in reached["findings"] if f["severity"] in ("high", "critical")]


def test_another_fingerprint_ends_it_and_nothing_is_written(station: Station, guest: Guest) -> None:
    (station.folder / "estate.yaml").write_text(ESTATE)
    wrong = "SHA256:" + "B" * 43
    out = station.nightlatch("meet", "gauge", "--fingerprint", wrong, code=4)
    assert "is not among the keys on the wire" in out
    assert "nobody is at a terminal to answer: Fingerprint, as the console shows it" in station.nightlatch(
        "meet", "gauge", code=4
    )
    assert (station.folder / "estate.yaml").read_text() == ESTATE


def test_a_changed_key_is_explained_and_pinned_only_by_the_console(station: Station, guest: Guest) -> None:
    path = station.folder / "estate.yaml"
    old = ESTATE.replace("    labels", f'    host_keys: ["SHA256:{"A" * 43}"]   # until it was rebuilt\n    labels')
    path.write_text(old)
    said = " ".join(station.nightlatch("meet", "gauge", code=4).split())
    for words in (
        "was rebuilt or got new host keys",
        "leads to another guest",
        "somebody answers in its place",
        "The console decides",
    ):
        assert words in said
    assert path.read_text() == old
    done = station.nightlatch("meet", "gauge", *(w for line in console(guest) for w in ("--fingerprint", line)))
    assert "3 host keys pinned" in done
    assert "No longer pinned: SHA256:AAAA" in " ".join(done.split())
    assert "# until it was rebuilt" in path.read_text()


def test_evidence_carried_over_by_hand_vouches_for_the_keys(station: Station, guest: Guest, tmp_path: Path) -> None:
    path = station.folder / "estate.yaml"
    path.write_text(ESTATE)
    script = station.nightlatch("survey", "--script")
    (station.folder / "carried.txt").write_text(guest.inside("sh", stdin=script))
    assert "3 host keys pinned" in station.nightlatch("meet", "gauge", "--evidence", "carried.txt")
    assert sorted(pins(station)) == sorted(line.split()[1] for line in console(guest))
    # A changed key is explained by it, too.
    path.write_text(ESTATE.replace("    labels", f'    host_keys: ["SHA256:{"A" * 43}"]\n    labels'))
    said = station.nightlatch("meet", "gauge", "--evidence", "carried.txt")
    assert "the guest itself has new host keys" in " ".join(said.split())
    # What came over the connection itself proves nothing about it.
    path.write_text(ESTATE)
    station.nightlatch("meet", "gauge", "--evidence", "carried.txt")
    station.nightlatch("survey", "--ssh-config", "ssh_config", "--into", "kept")
    refused = station.nightlatch("meet", "gauge", "--evidence", "kept/gauge.evidence.tar.gz", code=4)
    assert "can't vouch" in refused


def test_no_way_there_is_told_with_its_causes(station: Station, guest: Guest) -> None:
    path = station.folder / "estate.yaml"
    path.write_text(ESTATE.replace("192.168.56.21", "192.168.56.99"))
    out = station.nightlatch("meet", "gauge", code=3)
    assert "nobody has that address" in out
    path.write_text(
        ESTATE.replace("via: {ssh: 192.168.56.21, as: keeper, key: desk.pub, from: bench}", "via: {by_hand: none.txt}")
    )
    assert "no address is written" in station.nightlatch("meet", "gauge", code=2)
    assert "there is no guest" in station.nightlatch("meet", "nobody", code=2)
