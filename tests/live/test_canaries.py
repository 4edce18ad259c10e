"""No secret of any format leaves a running guest: by connection, by hand, in the arguments of programs, in files for a while."""

from __future__ import annotations

import contextlib
import gzip
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from nightlatch.evidence import byhand
from nightlatch.evidence.collect import collect
from nightlatch.evidence.script import CollectorRequest
from nightlatch.evidence.snapshot import Entry
from nightlatch.evidence.stream import StreamSource, parse
from nightlatch.formats import keys
from nightlatch.lab.inside import Inside
from nightlatch.lab.machine import Guest
from nightlatch.ops.evidence import write_evidence
from nightlatch.ops.survey import survey_live
from nightlatch.transports import live
from nightlatch.transports.folder import Folder
from tests import canaries
from tests.canaries import WORD, Canary
from tests.guests import AT
from tests.live.station import Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", "puttygen", "busybox", root=True)
# What is reduced on any guest: hashes, the package list, and the private halves of its host keys.
USUAL = ("/etc/shadow", "/etc/passwd", "/etc/group", "/var/lib/dpkg/status")


@pytest.fixture(scope="module")
def held(station: Station) -> tuple[Station, Guest, list[Canary]]:
    """A guest full of secrets: files, the title of a daemon, a unit, a comment in the kernel's rules, sshd's own settings."""
    guest = station.guest("gauge")
    guest.boot()
    guest.until_listening()
    made = canaries.place(guest.root)
    rules = f'table inet t {{ chain i {{ type filter hook input priority 0; tcp dport 9 drop comment "token={WORD}"; }}; }}'
    guest.inside("nft", "-f", "-", stdin=rules)
    title = [
        "systemd-run",
        "-q",
        "--unit",
        "second",
        "/usr/sbin/sshd",
        "-D",
        "-o",
        "Port=2022",
        "-o",
        f"SetEnv=MY_TOKEN={WORD}",
    ]
    guest.inside(*title)
    guest.inside("sh", "-c", "kill -HUP $(cat /run/sshd.pid)")
    guest.until_listening()
    return station, guest, made


@contextmanager
def watched(guest: Guest) -> Iterator[list[bytes]]:
    """What stands in the arguments and the environment of all programs that run on the guest meanwhile."""
    seen: list[bytes] = []
    over = threading.Event()
    ours = {path.name for path in Path("/proc").iterdir() if path.name.isdecimal()}

    def look() -> None:
        while not over.is_set():
            for path in Path("/proc").iterdir():
                if path.name.isdecimal() and path.name not in ours:
                    with contextlib.suppress(OSError):
                        seen.append((path / "cmdline").read_bytes() + (path / "environ").read_bytes())
            time.sleep(0.005)

    thread = threading.Thread(target=look)
    thread.start()
    try:
        yield seen
    finally:
        over.set()
        thread.join()


def seen_in_files(guest: Guest) -> str:
    """The logs and passing files in which the word stands: what this test itself did is logged."""
    return guest.inside("grep", "-rlF", "-D", "skip", WORD, "/tmp", "/run", "/var/tmp", "/var/log", check=False)


def test_nothing_of_it_is_carried_over_a_connection(held: tuple[Station, Guest, list[Canary]], tmp_path: Path) -> None:
    _, guest, made = held
    before = seen_in_files(guest)
    with watched(guest) as seen:
        snapshot = survey_live(Inside(guest))
    assert len(seen) > 5
    assert canaries.found(made, *seen) == []
    write_evidence(snapshot, tmp_path / "x.evidence.tar.gz", AT)
    assert canaries.found(made, gzip.decompress((tmp_path / "x.evidence.tar.gz").read_bytes())) == []
    assert b"token={secret}" in snapshot.listings["rules"]
    assert b"MY_TOKEN={secret}" in snapshot.listings["daemons"]
    assert b"HARBOUR_TOKEN={secret}" in snapshot.listings["opinions"], "what sshd itself says of its settings"
    assert seen_in_files(guest) == before


def test_the_raw_stream_holds_nothing_of_it(held: tuple[Station, Guest, list[Canary]]) -> None:
    _, guest, made = held
    for shell in (["dash"], ["bash", "--posix"], ["busybox", "ash"]):
        text = guest.inside(*shell, stdin=byhand.script(CollectorRequest(), "0123456789abcdef"))
        stream, _ = byhand.stream_of(text.encode(), "gauge.txt")
        assert canaries.found(made, stream, text.encode()) == [], shell
        assert b"@nightlatch/stream/1" in stream


def told(entry: Entry) -> tuple[object, ...]:
    """What is compared between a guest that runs and its folder."""
    content = (entry.content or b"").rstrip(b"\n")  # a program that reduces it ends its last line
    return entry.kind, entry.mode, entry.uid, entry.size, content, entry.note


def test_a_running_guest_tells_what_its_folder_tells(held: tuple[Station, Guest, list[Canary]]) -> None:
    _, guest, made = held
    running = live.survey(Inside(guest))
    with Folder(guest.root) as source:
        folder = collect(source, "gauge")
    places = ("/home/", "/etc/")
    differ = {
        path
        for path, entry in folder.entries.items()
        if path.startswith(places) and path in running.entries and told(entry) != told(running.entries[path])
    }
    # An Ed25519 key in PKCS#8 is one that ssh-keygen reads from OpenSSH 9.6 on.
    differ = {path for path in differ if "pkcs8-ed25519" not in path}
    assert not differ, [(p, told(folder.entries[p]), told(running.entries[p])) for p in sorted(differ)[:3]]
    for each in made:
        if each.derivable:
            assert each.fingerprint.encode() in (running.content(f"/home/mara/.ssh/{each.name}") or b""), each.name


def test_what_is_told_reads_well(held: tuple[Station, Guest, list[Canary]]) -> None:
    station, _, made = held
    station.estate("let: mara, into: all guests, by: ssh, from: bench, with: key")
    for words in (
        ("audit",),
        ("audit", "--format", "json"),
        ("draft",),
        ("draft", "--script"),
        ("exposure",),
        ("survey", "--into", "kept"),
    ):
        said = station.nightlatch(*words, "--ssh-config", "ssh_config", code=None)
        assert canaries.found(made, said.encode()) == [], words
        assert "Traceback" not in said


def test_nothing_of_a_plain_guest_is_taken_for_a_secret(station: Station) -> None:
    """The files of a real system as it is installed: everything that is read of it comes as it is."""
    guest = station.guest("plain", "192.168.56.22")
    guest.boot()
    guest.until_listening()
    snapshot = live.survey(Inside(guest))
    reduced = {
        path for path, entry in snapshot.entries.items() if entry.reduced and not (entry.content or b"").startswith(keys.REDUCED)
    }
    assert reduced <= set(USUAL), reduced - set(USUAL)
    assert not [
        (path, entry.note)
        for path, entry in snapshot.entries.items()
        if entry.note and path.startswith("/etc/") and not path.startswith("/etc/ssh/")
    ]
    with Folder(Path("/")) as source:
        here = collect(source, "here")
    taken = {
        path for path, entry in here.entries.items() if entry.reduced and not (entry.content or b"").startswith(keys.REDUCED)
    }
    assert taken <= set(USUAL), taken - set(USUAL)


def test_an_account_s_folder_that_leads_to_one_of_the_system_s_changes_nothing(station: Station) -> None:
    """By hand there is no second round: what the system reads there is carried in the first."""
    guest = station.guest("linked", "192.168.56.23")
    home = guest.image.path("/home/mara/.ssh")
    home.rename(home.with_name("kept"))
    guest.image.link("/home/mara/.ssh", "/etc/sudoers.d")
    guest.boot()
    guest.until_listening()
    text = guest.inside("sh", stdin=byhand.script(CollectorRequest(), "0123456789abcdef"))
    stream, mark = byhand.stream_of(text.encode(), "linked.txt")
    found = collect(StreamSource(parse(stream, mark, "linked")), "linked")
    assert found.content("/etc/sudoers.d/keeper") == b"keeper ALL=(ALL) NOPASSWD: ALL\n"
