"""A guest without a door: it gets one from a script typed at its console, is met, surveyed, audited, repaired, reached.

And the script itself: run twice it changes nothing, nobody keeps it and it goes back, a power cut takes it back, and what
the package brings is checked before anything is started.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import pty
import select
import shutil
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from nightlatch.lab.labs import Lab
from nightlatch.lab.machine import Guest
from nightlatch.lab.tools import run
from tests.live.latching import leftovers, settled
from tests.live.station import Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", "apt-get", root=True)
ADDRESS = "192.168.56.21"
GRANTS = "let: mara, into: all guests, by: ssh, from: bench, with: key"
BY_HAND = "{by_hand: carried.txt, as: keeper, key: desk.pub, from: bench}, dial: " + ADDRESS
OVER_SSH = "{ssh: " + ADDRESS + ", as: keeper, key: desk.pub, from: bench}"
DROP_IN = "/etc/ssh/sshd_config.d/00-first-door.conf"
ESTATE = """\
nightlatch: 1
estate: Station
places: {{bench: [192.168.40.0/24, "2001:db8:40::/64"]}}
people: {{mara: {{keys: [mara.pub]}}}}
guests:
  chartbox: {{via: {via}}}
grants:
  - {{{grants}}}
"""


def _downloaded() -> Path:
    """The package, kept for the next run: it is the same for as long as the one that is installed is."""
    version = run("dpkg-query", "-W", "-f", "${Version}", "openssh-server").strip()
    kept = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "nightlatch-tests" / version.replace(":", "%")
    if not list(kept.glob("*.deb")):
        kept.mkdir(parents=True, exist_ok=True)
        words = ["apt-get", "download", "-qq", "openssh-server"]
        with tempfile.TemporaryDirectory(dir=kept) as folder:
            if subprocess.run(words, cwd=folder, capture_output=True, check=False).returncode:
                subprocess.run(["apt-get", "update", "-qq"], check=True, capture_output=True)
                subprocess.run(words, cwd=folder, check=True, capture_output=True)
            (made,) = Path(folder).glob("*.deb")
            made.rename(kept / made.name)  # whole, or not at all
    return next(kept.glob("*.deb"))


@pytest.fixture(scope="module")
def packages(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The package of this machine's own release, as a source that needs no network."""
    folder = tmp_path_factory.mktemp("packages")
    package = Path(shutil.copy(_downloaded(), folder))
    told = run("dpkg-deb", "-f", str(package)).rstrip()
    more = f"Filename: ./{package.name}\nSize: {package.stat().st_size}\nSHA256: {hashlib.sha256(package.read_bytes()).hexdigest()}\n"
    (folder / "Packages").write_text(f"{told}\n{more}\n")
    return folder


@pytest.fixture
def station(tmp_path: Path) -> Iterator[Station]:
    """A lab for each test: every one begins with a guest of its own."""
    with Lab() as lab:
        made = Station(lab, tmp_path)
        yield made
        made.close()


@pytest.fixture
def guest(station: Station, packages: Path, request: pytest.FixtureRequest) -> Guest:
    """A booted guest from which the SSH server was taken away, or with `stopped` one where it does not run."""
    made = station.guest("chartbox", ADDRESS, unit="")
    made.boot()
    if getattr(request, "param", "") != "stopped":
        made.inside("dpkg", "--purge", "--force-depends", "openssh-server")
        place = made.root / "srv/packages"
        place.mkdir(parents=True, exist_ok=True)
        for each in packages.iterdir():
            (place / each.name).write_bytes(each.read_bytes())
        made.inside(
            "sh",
            "-c",
            "rm -rf /etc/apt/sources.list* /var/lib/apt/lists/* /usr/sbin/policy-rc.d; "
            "echo 'deb [trusted=yes] file:/srv/packages ./' >/etc/apt/sources.list",
        )
    return made


def estate(station: Station, via: str = BY_HAND) -> None:
    (station.folder / "estate.yaml").write_text(ESTATE.format(via=via, grants=GRANTS))


def carried(station: Station, guest: Guest) -> None:
    """The survey by hand, carried over."""
    (station.folder / "carried.txt").write_text(guest.inside("sh", stdin=station.nightlatch("survey", "--script")))


def script_for(station: Station, guest: Guest, seconds: str = "2m", name: str = "change.sh") -> str:
    """The script that draft prints, put where the guest can run it."""
    text = station.nightlatch("draft", "--script", "--for", seconds, "--ssh-config", "ssh_config", "--on", "chartbox")
    (guest.root / f"root/{name}").write_text(text)
    return text


def at_console(guest: Guest, *words: str, code: int = 0, name: str = "change.sh") -> str:
    out = guest.inside("sh", "-c", f'sh /root/{name} {" ".join(words)} 2>&1; echo "code $?"', timeout=120)
    assert out.rstrip().endswith(f"code {code}"), out
    return out


def state(guest: Guest) -> tuple[str, ...]:
    """What the service manager says, and our file."""
    words = (guest.inside("systemctl", what, "ssh.service", check=False).strip() for what in ("is-enabled", "is-active"))
    return (*words, "file" if (guest.root / DROP_IN[1:]).exists() else "no file")


def typed(guest: Guest, lines: list[str], until: str, answers: dict[str, str]) -> str:
    """Lines typed at a terminal of the guest's own shell, as a console would; questions are answered once."""
    ours, theirs = pty.openpty()
    words = [
        "nsenter",
        "-t",
        str(guest.pid),
        "-m",
        "-p",
        "-u",
        "-i",
        "-n",
        "-C",
        "-r",
        "-w",
        "--",
        "env",
        "-i",
        "PATH=/usr/sbin:/usr/bin:/sbin:/bin",
        "TERM=linux",
        "HOME=/root",
        "PS1=# ",
        "dash",
        "-i",
    ]
    process = subprocess.Popen(words, stdin=theirs, stdout=theirs, stderr=theirs, start_new_session=True)
    os.close(theirs)
    said, waiting, end = "", [f"{line}\n".encode() for line in lines], time.monotonic() + 180
    with contextlib.suppress(OSError):
        while time.monotonic() < end and until not in said.replace("\r", ""):
            readable, writable, _ = select.select([ours], [ours] if waiting else [], [], 0.5)
            if writable:
                os.write(ours, waiting.pop(0))
                time.sleep(0.002)
            if readable:
                said += os.read(ours, 65536).decode("utf-8", "replace")
            for question in [q for q in answers if q in said]:
                os.write(ours, answers.pop(question).encode() + b"\n")
    process.kill()
    process.wait(10)
    os.close(ours)
    return said


def test_the_whole_way_from_no_door_to_a_proven_one(station: Station, guest: Guest, tell: Callable[[str], None]) -> None:
    start = time.monotonic()
    estate(station)
    carried(station, guest)
    told = station.nightlatch("draft", "--on", "chartbox")
    assert "install the package openssh-server" in " ".join(told.split())
    assert "draft estate.yaml --on chartbox --script" in told
    text = station.nightlatch("draft", "--script", "--on", "chartbox")
    assert "#   install the package openssh-server" in text
    assert "let in beyond" not in text
    lines = ["stty -echo", "cat >/root/change.sh <<'THE_END'", *text.splitlines(), "THE_END", "sh /root/change.sh"]
    said = typed(guest, lines, "change.sh back", {"Type install to go on": "install"})
    assert "the service is started" in said, said[-3000:]
    assert "/root/change.sh keep" in said
    assert state(guest) == ("enabled", "active", "file")
    # Met: by the fingerprints that the console showed.
    shown = [word for word in said.split() if word.startswith("SHA256:")]
    out = station.nightlatch("meet", "chartbox", "--fingerprint", " ".join(shown))
    assert "3 host keys pinned" in out
    assert station.login(guest), "management access opens"
    assert not station.login(guest, "mara", "mara"), "and nobody else's"
    assert "kept" in at_console(guest, "keep")
    assert "nothing to do" in at_console(guest)
    # Surveyed and audited over SSH; what is granted beyond management access is drafted on its own evidence, on the latch.
    path = station.folder / "estate.yaml"
    path.write_text(path.read_text().replace(BY_HAND, OVER_SSH))
    audit = station.nightlatch("audit", "--ssh-config", "ssh_config", code=1)
    assert "mara" in audit
    assert "hole" not in audit.partition("\n\n")[0].splitlines()[0]
    station.nightlatch("enact", "--yes", "--ssh-config", "ssh_config")
    station.nightlatch("audit", "--ssh-config", "ssh_config", "--fail-at", "high")
    assert station.login(guest, "mara", "mara")
    reached = station.nightlatch("reach", "--login", "--ssh-config", "ssh_config")
    assert "1 of 1 guest answer as they should" in reached
    tell(f"no door to a proven one: {time.monotonic() - start:.0f} s, {len(text.splitlines())} lines typed")


def test_nobody_keeps_it_and_a_power_cut_take_it_back(station: Station, guest: Guest) -> None:
    estate(station)
    carried(station, guest)
    script_for(station, guest, "25s")
    assert "can't be taken back" in at_console(guest, code=4), "the package has its own yes"
    assert not (guest.root / "usr/sbin/sshd").exists()
    at_console(guest, "install")
    assert station.login(guest)
    end = time.monotonic() + 120
    while state(guest) != ("disabled", "inactive", "no file") and time.monotonic() < end:
        time.sleep(0.3)
    assert state(guest) == ("disabled", "inactive", "no file")
    settled(guest)
    assert not leftovers(guest)
    # Once more, for longer; then everything dies at once.
    script_for(station, guest, "10m", "again.sh")
    at_console(guest, "install", name="again.sh")
    assert "is on the latch now" in at_console(guest, name="again.sh")
    assert state(guest) == ("enabled", "active", "file")
    guest.power_cut()
    guest.boot()
    end = time.monotonic() + 60
    while state(guest) != ("disabled", "inactive", "no file") and time.monotonic() < end:
        time.sleep(0.3)
    assert state(guest) == ("disabled", "inactive", "no file")
    settled(guest)
    assert not leftovers(guest)


def test_what_the_package_brings_is_checked_before_anything_is_started(station: Station, guest: Guest) -> None:
    estate(station)
    carried(station, guest)
    script_for(station, guest)
    (guest.root / "etc/ssh/sshd_config").write_text("PasswordAuthentication yes\n")  # and no Include: it is kept as it is
    said = at_console(guest, "install", code=4)
    assert "sshd does not say: " in said
    assert state(guest) == ("disabled", "inactive", "no file")
    (guest.root / "etc/os-release").unlink()
    (guest.root / "etc/os-release").write_text("ID=alpine\n")
    assert "made for a guest of the debian family" in at_console(guest, code=4)


@pytest.mark.parametrize("guest", ["stopped"], indirect=True)
def test_a_stopped_server_is_repaired_and_started(station: Station, guest: Guest) -> None:
    (guest.root / "home/mara/.ssh/authorized_keys").unlink()
    estate(station)
    carried(station, guest)
    before = guest.files("/etc/ssh", "/home")
    text = script_for(station, guest)
    assert "#   enable ssh.service" in text
    assert "#   start ssh.service" in text
    assert "home/mara/.ssh/authorized_keys" in text
    at_console(guest)
    assert "is on the latch now" in at_console(guest)
    assert station.login(guest, "mara", "mara")
    assert "put back" in at_console(guest, "back")
    assert guest.files("/etc/ssh", "/home") == before
    assert state(guest)[:2] == ("disabled", "inactive")
    at_console(guest)
    at_console(guest, "keep")
    after = guest.files("/etc", "/home")
    assert "nothing to do" in at_console(guest)
    script_for(station, guest, name="other.sh")
    assert "nothing to do" in at_console(guest, name="other.sh"), "another script with the same aim"
    assert guest.files("/etc", "/home") == after
    assert state(guest)[:2] == ("enabled", "active")
    # What was kept by hand is a change like any other: over SSH it can be taken back.
    station.nightlatch("meet", "chartbox", "--fingerprint", station.host_keys["chartbox"])
    path = station.folder / "estate.yaml"
    path.write_text(path.read_text().replace(BY_HAND, OVER_SSH))
    station.nightlatch("undo", "--ssh-config", "ssh_config", "--on", "chartbox")
    assert not station.login(guest, "mara", "mara")
    assert "usage: sh" in at_console(guest, "nonsense", code=2)


def test_what_is_missing_for_a_door_is_told(station: Station, guest: Guest) -> None:
    carried(station, guest)
    estate(station, "{by_hand: carried.txt}")
    said = station.nightlatch("draft", "--script", "--on", "chartbox", code=4)
    assert "no management access is stated" in said
    estate(station, "{by_hand: carried.txt, as: nobody-here, key: desk.pub, from: bench}")
    said = station.nightlatch("draft", "--script", "--on", "chartbox", code=4)
    assert "account nobody-here, which is not there" in said
    (guest.root / "etc/os-release").unlink()
    (guest.root / "etc/os-release").write_text("ID=plan-nine\n")
    carried(station, guest)
    estate(station)
    assert "the package is known for other systems only" in station.nightlatch("draft", "--script", "--on", "chartbox", code=4)
