"""Surveys of live guests against the same bytes by the plain client: wall clock, measured in turn (run by run.py as root)."""

from __future__ import annotations

import resource
import shlex
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from nightlatch.demo.live import ADDRESSES, Station, station
from nightlatch.estate.load import load as load_estate
from nightlatch.evidence.snapshot import EntryKind
from nightlatch.lab.tools import missing
from nightlatch.ops.survey import survey_live, survey_targets
from nightlatch.transports import live
from nightlatch.transports.ssh import Address, Client, Ssh

PAIRS = 15
MANY = 100
AT_ONCE = 16
LOOKS = 200
Told = Callable[[str, float, str, float], None]


def lasted(act: Callable[[], object]) -> float:
    """Seconds by the clock."""
    start = time.perf_counter()
    act()
    return time.perf_counter() - start


def spent(act: Callable[[], object]) -> float:
    """CPU seconds of this process and its own children; what guests do is not among it."""
    who = (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN)
    before = [resource.getrusage(each) for each in who]
    act()
    after = [resource.getrusage(each) for each in who]
    return sum(b.ru_utime + b.ru_stime - a.ru_utime - a.ru_stime for a, b in zip(before, after, strict=True))


def median(figures: list[float]) -> float:
    """The middle one."""
    return sorted(figures)[len(figures) // 2]


def shells(made: Station, client: Client) -> list[Ssh]:
    """Every guest over SSH, as nightlatch goes there; host keys from the estate file."""
    estate = load_estate(made.home / "estate.yaml")
    return [
        Ssh(spec.name, Address(spec.via.host, "keeper"), client, pins=spec.host_keys, key=made.home / "keys/keeper")
        for spec in estate.guests.values()
    ]


# What a survey asks of programs, as somebody would write it down who knows already which units matter.
PROGRAMS = (
    "PATH=/usr/sbin:$PATH; ss -Hltune; ss -Hltunp; ip -o addr; ip -o link; ip -4 -o route; ip -6 -o route; ip -o neigh; "
    "nft list ruleset; systemctl show --no-pager -- ssh.service ssh.socket systemd-timesyncd.service system.slice -.slice; "
    "timedatectl show"
)


def plain(made: Station, host: str, paths: list[str], *, programs: bool = False) -> list[str]:
    """`ssh guest 'tar c FILES'` with the same account, key and strictness; with `programs`, what they print besides."""
    files = " ".join(shlex.quote(path.lstrip("/")) for path in paths)
    words = [str(made.home / "ssh-at-the-desk"), "-F", str(made.config), "-i", str(made.home / "keys/keeper")]
    words += ["-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no", "-o", "LogLevel=ERROR"]
    asked = f"; sudo sh -c {shlex.quote(PROGRAMS)}" if programs else ""
    return [*words, f"keeper@{host}", f"cd / && sudo tar cf - {files}{asked}"]


def one_survey(made: Station, client: Client, told: Told) -> list[str]:
    """One guest: files and listings, and with the guest's own word, against tar of the same files."""
    shell = shells(made, client)[0]
    snapshot = survey_live(shell)
    paths = [path for path, entry in snapshot.entries.items() if entry.kind is EntryKind.FILE and entry.content is not None]

    def by_hand(*, programs: bool = False) -> None:
        words = plain(made, shell.address.host, paths, programs=programs)
        assert subprocess.run(words, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, check=False).stdout

    tar = by_hand
    read, whole, bare, listed = [], [], [], []
    for _ in range(PAIRS):
        bare.append(lasted(tar))
        listed.append(lasted(lambda: by_hand(programs=True)))
        read.append(lasted(lambda: live.survey(shell)))
        whole.append(lasted(lambda: survey_live(shell)))
    told(
        "one survey, files and listings",
        median([a / b for a, b in zip(read, bare, strict=True)]),
        "x ssh 'tar c' of the files (clock)",
        1.3,
    )
    told(
        "the same",
        median([a / b for a, b in zip(read, listed, strict=True)]),
        "x ssh 'tar c' and the same programs (clock)",
        1.3,
    )
    told(
        "the same with sshd's own word",
        median([a / b for a, b in zip(whole, bare, strict=True)]),
        "x ssh 'tar c' of the files (clock)",
        1.6,
    )
    own = [spent(lambda: survey_live(shell)) / spent(tar) for _ in range(PAIRS)]
    told("the same, what it takes of the desk's processor", median(own), "x ssh 'tar c' of the files (CPU)", 1.3)
    print(f"{'':<52} {median(bare) * 1000:6.0f} ms for tar, {median(whole) * 1000:.0f} ms for a survey")
    return paths


def many_surveys(made: Station, client: Client, paths: list[str], told: Told) -> None:
    """A hundred surveys, four guests by turns, against xargs with as many clients at once."""
    estate = load_estate(made.home / "estate.yaml")
    pins = tuple(dict.fromkeys(pin for spec in estate.guests.values() for pin in spec.host_keys))
    hosts = [f"192.168.56.{last}" for last in ADDRESSES.values()]
    targets = [f"keeper@{hosts[n % len(hosts)]}" for n in range(MANY)]

    def xargs(*, programs: bool = False) -> None:
        words = plain(made, "HOST", paths, programs=programs)
        script = " ".join(shlex.quote(word) for word in words).replace("keeper@HOST", '"$1"')
        subprocess.run(
            ["xargs", "-P", str(AT_ONCE), "-n", "1", "sh", "-c", f"{script} >/dev/null", "sh"],
            input="\n".join(targets),
            text=True,
            check=True,
        )

    def ours() -> None:
        found = list(survey_targets(targets, client=client, pins=pins, at_once=AT_ONCE))
        assert len(found) == MANY
        assert all(each.snapshot for each in found), [each.problem for each in found if not each.snapshot][:2]

    def files() -> None:
        four = shells(made, client)
        with ThreadPoolExecutor(AT_ONCE) as pool:
            assert len(list(pool.map(live.survey, (four[n % 4] for n in range(MANY))))) == MANY

    base = f"x xargs -P {AT_ONCE} ssh 'tar c' (clock)"
    theirs, listed, read, whole = lasted(xargs), lasted(lambda: xargs(programs=True)), lasted(files), lasted(ours)
    told(f"{MANY} surveys, files and listings", read / theirs, base, 1.3)
    told("the same", read / listed, f"x xargs -P {AT_ONCE} ssh, tar and programs (clock)", 1.3)
    told("the same with sshd's own word", whole / theirs, base, 1.6)
    print(f"{'':<52} {theirs:6.1f} s for xargs, {whole:.1f} s for the surveys")
    print("    the guests share this machine's processors with their clients, so that their own work counts in full")


def many_looks(made: Station, told: Told) -> None:
    """A look from the wire at 200 servers (four guests by turns), against the client turned away."""
    hosts = [f"192.168.56.{last}" for last in ADDRESSES.values()]
    listed = made.home / "hosts"
    listed.write_text("".join(f"{hosts[n % len(hosts)]}\n" for n in range(LOOKS)))
    code = (
        "import sys; from nightlatch.probe import driver; from nightlatch.probe.stages import Target; "
        f"hosts = open({str(listed)!r}).read().split(); "
        "found = driver.looks([Target(host, accounts=('mara',)) for host in hosts], at_once=8); "
        "sys.exit(sum(look.failed is not None for look in found))"
    )
    ours = made.desk.words(sys.executable, "-c", code)
    none = (
        "-F",
        "none",
        "-o",
        "BatchMode=yes",
        "-o",
        "PreferredAuthentications=none",
        "-o",
        "StrictHostKeyChecking=no",
        "-o",
        "UserKnownHostsFile=/dev/null",
        "-l",
        "mara",
    )
    one = f'ssh {shlex.join(none)} "$1" true 2>/dev/null; true'  # xargs would end at the first 255
    scan = made.desk.words("xargs", "-a", str(listed), "-P", "8", "-n", "1", "sh", "-c", one, "sh")
    mine = [lasted(lambda: subprocess.run(ours, check=True, capture_output=True)) for _ in range(3)]
    theirs = [lasted(lambda: subprocess.run(scan, check=False, capture_output=True)) for _ in range(3)]
    told(
        f"{LOOKS} looks: key proven, methods asked",
        median(mine) / median(theirs),
        "x xargs -P 8 ssh, turned away (clock)",
        1.0,
    )
    print(f"{'':<52} {median(theirs):6.1f} s for xargs, {median(mine):.1f} s for the looks")


def run(told: Told) -> None:
    """All of it; says what is missing where no guest can run."""
    lacking = missing()
    if lacking:
        print(f"live surveys: skipped, this machine lacks {', '.join(lacking)}")
        return
    with tempfile.TemporaryDirectory() as work:
        home = Path(work) / "skerry"
        home.mkdir(mode=0o700)
        with station(home) as made, Client(made.config, program=str(home / "ssh-at-the-desk")) as client:
            config = made.config.read_text() + f"    IdentityFile {home}/keys/keeper\n"
            made.config.write_text(config)
            many_surveys(made, client, one_survey(made, client, told), told)
            many_looks(made, told)


if __name__ == "__main__":
    sys.exit("run benchmarks/run.py")
