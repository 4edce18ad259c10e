"""Ratios measured side by side in one run: `make bench`. No timed tests; the figures go with the machine they ran on."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime
from functools import partial
from pathlib import Path

import live
from live import spent
from nightlatch.access.grants import expand
from nightlatch.access.verdicts import Flow, passed
from nightlatch.demo.build import build
from nightlatch.estate.load import load
from nightlatch.evidence.snapshot import from_files
from nightlatch.ops.audit import Auditor
from nightlatch.ops.evidence import read_evidence, write_evidence
from nightlatch.ops.survey import survey_target
from nightlatch.readings.filters import iptables, nftables, places

AT = datetime(2026, 11, 25, tzinfo=UTC)


def ratio(mine: Callable[[], object], base: Callable[[], object], pairs: int) -> float:
    """The median of mine / base over pairs measured in turn, so that a machine that changes its speed changes both."""
    mine(), base()
    return sorted(spent(mine) / spent(base) for _ in range(pairs))[pairs // 2]


def told(what: str, figure: float, unit: str, limit: float) -> None:
    """One line of the result."""
    mark = "" if figure <= limit else "   OVER"
    print(f"{what:<52} {figure:6.2f} {unit:<34} limit {limit}{mark}")


def against_sshd(home: Path) -> None:
    """One guest's audit from evidence against one run of `sshd -T` on the same configuration."""
    sshd = shutil.which("sshd", path="/usr/sbin:/sbin:" + os.environ["PATH"])
    if sshd is None:
        print("one guest's audit: skipped, there is no sshd here")
        return
    os.makedirs("/run/sshd", exist_ok=True)
    config = home / "images/gauge/etc/ssh/sshd_config"
    key = home / "images/gauge/etc/ssh/ssh_host_ed25519_key"
    words = [sshd, "-T", "-f", str(config), "-h", str(key), "-C", "user=mara,host=h,addr=192.168.40.7"]
    estate = load(home / "estate.yaml")
    archive = home / "gauge.evidence.tar.gz"
    write_evidence(survey_target(home / "images/gauge", "gauge"), archive, AT)

    audit_one = Auditor(estate, AT)

    def one() -> None:
        audit_one.judged(read_evidence(archive))

    def dump() -> None:
        subprocess.run(words, capture_output=True, check=False)

    told("one guest: evidence read and audited", ratio(one, dump, 60), "x sshd -T (CPU)", 1.0)


# A process counts as its own the memory that the one had which started it, so commands are started by a small one.
STARTER = """
import os, subprocess, sys
child = subprocess.Popen(sys.argv[1:], stdout=subprocess.DEVNULL)
_, _, usage = os.wait4(child.pid, 0)
print(usage.ru_utime + usage.ru_stime, usage.ru_maxrss / 1024)
"""


def whole(command: str, path: Path) -> tuple[float, float, float]:
    """A whole command on an estate: seconds of CPU, the most memory in MiB, and seconds by the clock."""
    return timed(command, str(path), "--as-of", "2026-11-25")


def timed(*command: str) -> tuple[float, float, float]:
    """The same of any command."""
    words = [sys.executable, "-m", "nightlatch.cli", *command]
    started = time.perf_counter()
    ended = subprocess.run([sys.executable, "-S", "-c", STARTER, *words], stdout=subprocess.PIPE, check=True)
    lasted = time.perf_counter() - started
    cpu, memory = map(float, ended.stdout.split())
    return cpu, memory, lasted


def growth(home: Path) -> None:
    """An estate of 100 guests against one of 1,000: time beyond loading the file should grow ten times, memory hardly."""
    for command, wanted in (("audit", "the same, memory"), ("exposure", "")):
        figures = {}
        for count in (100, 1000):
            figures[count] = whole(command, many(home, count))
        (small, memory, _), (large, more, wall) = figures[100], figures[1000]
        told(f"{command} of 100 guests -> 1,000", large / small, "x the CPU for 10 x the guests", 11)
        if wanted:
            told(wanted, more / memory, f"x ({memory:.0f} MiB -> {more:.0f} MiB)", 2)
        print(f"{'':<52} {wall:6.1f} s for 1,000 guests")


def granted(home: Path, count: int) -> Path:
    """An estate with so many clones of one guest, and ten grants to all of them."""
    head = (home / "estate.yaml").read_text().split("guests:\n")[0]
    rows = "".join(f"g{number},folder,images/gauge\n" for number in range(count))
    (home / "guests.csv").write_text(f"name,via,at\n{rows}")
    sentences = "  - {let: mara, into: all guests, by: ssh, from: bench, with: key}\n" * 10
    path = home / "granted.yaml"
    path.write_text(f"{head}guests_from: guests.csv\ngrants:\n{sentences}")
    return path


def grants(home: Path) -> None:
    """Ten grants to all guests: what each guest of 10,000 is granted, against what each of 1,000 is."""
    figures = {}
    for count in (1_000, 10_000):
        estate = load(granted(home, count))
        figures[count] = spent(lambda estate=estate: sum(len(expand(estate, name, AT)) for name in estate.guests))  # type: ignore[misc]
    told("grants of 1,000 guests -> 10,000", figures[10_000] / figures[1_000], "x the CPU for 10 x the guests", 11)


def clones(home: Path) -> None:
    """The whole audit of these, from the file to the last line: time grows with the guests, memory hardly."""
    figures = {count: whole("audit", granted(home, count)) for count in (1_000, 10_000)}
    (small, memory, _), (large, more, wall) = figures[1_000], figures[10_000]
    told("audit of 1,000 clones -> 10,000", large / small, "x the CPU for 10 x the guests", 11)
    each = (more - memory) * 1024 / 9_000
    told("the same, memory", each, f"KiB a guest ({memory:.0f} MiB -> {more:.0f} MiB)", 4)
    print(f"{'':<52} {wall:6.1f} s for 10,000 guests")


def forty(home: Path) -> Path:
    """10,000 guests of forty kinds: ten of each image of the demo, which differ in host key, host name and settings."""
    head = (home / "estate.yaml").read_text().split("guests:\n")[0]
    names = ("gauge", "gate", "plotter", "chartbox")
    for number in range(40):
        image = home / f"kinds/{number}"
        shutil.copytree(home / "images" / names[number % 4], image, symlinks=True)
        (image / "etc/hostname").write_text(f"kind-{number}\n")
        with (image / "etc/ssh/sshd_config").open("a") as config:
            config.write(f"\nClientAliveInterval {number}\n")
        key = image / "etc/ssh/ssh_host_ed25519_key"
        key.unlink()
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key], check=True)
    rows = "".join(f"g{number},folder,kinds/{number % 40}\n" for number in range(10_000))
    (home / "forty.csv").write_text(f"name,via,at\n{rows}")
    path = home / "forty.yaml"
    sentences = "  - {let: team crew, into: all guests, by: ssh, from: bench, with: key}\n"
    path.write_text(f"{head}guests_from: forty.csv\ngrants:\n{sentences}")
    return path


def kinds(home: Path) -> None:
    """The whole audit of these, on all processors."""
    spent_on_it, memory, wall = whole("audit", forty(home))
    told("audit of 10,000 guests of forty kinds", wall, f"s by the clock, {os.cpu_count()} processors", 60)
    print(f"{'':<52} {spent_on_it:6.1f} s of CPU, {memory:.0f} MiB in the first process")


def questions(home: Path) -> None:
    """One person and one guest of 1,000; and all of these compared with another day, once each has changed."""
    by_table = four(home, 1_000)
    for path, how in ((by_table, "guests_from a table"), (many(home, 1_000), "written out")):
        wall = sorted(timed("why", "joon", "g2", str(path), "--as-of", "2026-11-25")[2] for _ in range(5))[2]
        told(f"why, of an estate of 1,000 ({how})", wall, "s by the clock", 1.0)
    kept = {}
    for day in ("then", "now"):
        kept[day] = str(home / "evidence" / day)
        timed("survey", str(by_table), "--into", kept[day])
        for image in ("gauge", "gate", "plotter", "chartbox"):
            with (home / "images" / image / "etc/ssh/sshd_config").open("a") as config:
                config.write("ClientAliveInterval 7\n")
    audit_of = timed("audit", str(by_table), "--evidence", kept["now"], "--as-of", "2026-11-25")
    both = timed("compare", kept["then"], kept["now"], "--estate", str(by_table), "--as-of", "2026-11-25")
    told("compare of 1,000 guests that all changed", both[2] / audit_of[2], "x their audit (clock)", 2)
    print(f"{'':<52} {both[2]:6.1f} s by the clock, {both[0] / audit_of[0]:.2f} x its CPU")


def four(home: Path, count: int) -> Path:
    """An estate whose guests stand in a table, copies of the four by turns."""
    head = (home / "estate.yaml").read_text().split("guests:\n")[0]
    names = ("gauge", "gate", "plotter", "chartbox")
    rows = "".join(f"g{number},folder,images/{names[number % 4]}\n" for number in range(count))
    (home / "four.csv").write_text(f"name,via,at\n{rows}")
    path = home / "four.yaml"
    grants = "grants:\n  - {let: team crew, into: all guests, by: ssh, from: bench, with: key}\n"
    path.write_text(f"{head}guests_from: four.csv\n{grants}")
    return path


def drafts(home: Path) -> None:
    """The draft of an estate against its audit."""
    path = many(home, 200)
    audits, made = whole("audit", path)[0], whole("draft", path)[0]
    told("draft of 200 guests", made / audits, "x their audit (CPU)", 3)


def many(home: Path, count: int) -> Path:
    """An estate file with `count` guests, copies of the four by turns."""
    text = (home / "estate.yaml").read_text()
    head, rest = text.split("guests:\n")
    _, tail = rest.split("\ngrants:")
    names = ("gauge", "gate", "plotter", "chartbox")
    door = "as: keeper, key: keys/keeper.pub, from: bench"
    lines = []
    for number in range(count):
        image = names[number % 4]
        label = ", labels: [loggers]" if image in ("gauge", "plotter") else ""
        lines.append(f"  g{number}: {{via: {{folder: images/{image}, {door}}}{label}}}\n")
    grants = tail.replace("into: plotter", "into: g2")
    path = home / f"many{count}.yaml"
    path.write_text(head + "guests:\n" + "".join(lines) + "\ngrants:" + grants)
    return path


def filters() -> None:
    """Rules of a packet filter, read and evaluated: four times as many should take four times as long, and `nft` itself
    takes its time to read them, too."""

    def addresses(count: int) -> list[tuple[str, bool]]:
        return [(f"10.{n >> 16 & 255}.{n >> 8 & 255}.{n & 255}", bool(n % 3)) for n in range(count)]

    def of_nft(count: int) -> bytes:
        rows = [f"ip saddr {each} tcp dport 22 {'accept' if lets else 'drop'}" for each, lets in addresses(count)]
        head = ["table inet f {", "chain i {", "type filter hook input priority 0; policy drop;"]
        return "\n".join([*head, *rows, "}", "}", ""]).encode()

    def of_iptables(count: int) -> bytes:
        rows = [f"-A INPUT -s {each} -p tcp --dport 22 -j {'ACCEPT' if lets else 'DROP'}" for each, lets in addresses(count)]
        return "\n".join(["*filter", ":INPUT DROP [0:0]", *rows, "COMMIT", ""]).encode()

    def fresh(evaluate: Callable[..., object]) -> Callable[..., object]:
        """Nothing of the round before is kept: neither a file that was read, nor what was worked out of it."""
        for cache in (nftables._alone, iptables._stored, passed):
            cache.cache_clear()
        return evaluate

    def nft_rules(count: int) -> Callable[[], object]:
        snapshot = from_files("x", {"/etc/nftables.conf": of_nft(count)})
        return lambda: fresh(passed)(nftables.stored(snapshot, "/etc/nftables.conf"), Flow("tcp", 22))

    def iptables_rules(count: int) -> Callable[[], object]:
        snapshot = from_files("x", {"/etc/iptables/rules.v4": of_iptables(count)})
        return lambda: fresh(passed)(iptables.stored(snapshot, places.IPTABLES_DEBIAN), Flow("tcp", 22))

    cases = (
        ("nftables", nft_rules, of_nft, ["nft", "-c", "-f", "-"]),
        ("iptables", iptables_rules, of_iptables, ["iptables-restore", "--test"]),
    )
    for name, mine, text, words in cases:
        told(f"{name}: 2,500 -> 10,000 rules", ratio(mine(10_000), mine(2_500), 5), "x the CPU for 4 x the rules", 5)
        program = shutil.which(words[0], path="/usr/sbin:/sbin:" + os.environ["PATH"])
        if program is not None and os.geteuid() == 0:
            base = partial(subprocess.run, ["unshare", "-n", program, *words[1:]], input=text(10_000), check=True)
            told("the same, 10,000 rules", ratio(mine(10_000), base, 5), f"x {' '.join(words[:2])} (CPU)", 10)


def start_up(home: Path) -> None:
    """Whole commands against the imports of the libraries that they stand on."""
    quiet = {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"}

    def run(*words: str) -> Callable[[], object]:
        return lambda: subprocess.run([sys.executable, *words], stdout=subprocess.DEVNULL, check=False, env=quiet)

    help_shown, audited = run("-m", "nightlatch.cli", "--help"), run("-m", "nightlatch.cli", "audit", str(home / "images/gauge"))
    libraries = "click, rich.console, pydantic, ruamel.yaml, cryptography.x509"
    told("nightlatch --help", ratio(help_shown, run("-c", "import click"), 15), "x python -c 'import click'", 1.5)
    told("nightlatch audit FOLDER", ratio(audited, run("-c", f"import {libraries}"), 15), "x importing its libraries", 2.5)


def main() -> None:
    """Run all."""
    with tempfile.TemporaryDirectory() as work:
        home = Path(work) / "skerry"
        build(home)
        against_sshd(home)
        growth(home)
        grants(home)
        clones(home)
        kinds(home)
        drafts(home)
        questions(home)
        start_up(home)
        filters()
    live.run(told)


if __name__ == "__main__":
    main()
