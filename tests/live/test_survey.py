"""Surveys of live guests of every awkward kind: each failure is one clear message, and the rest of the estate goes on."""

from __future__ import annotations

import os
import re
import shlex
import signal
import stat
import subprocess
import sys
import time
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.evidence.collect import collect
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import NightlatchError, UnreachableError
from nightlatch.lab.image import PASSWORD
from nightlatch.lab.inside import Inside
from nightlatch.lab.labs import Lab
from nightlatch.lab.machine import Guest, environment
from nightlatch.lab.tools import run
from nightlatch.ops.evidence import read_evidence, write_evidence
from nightlatch.ops.survey import survey_live, survey_target, survey_targets
from nightlatch.readings.units import service_reading
from nightlatch.transports import live
from nightlatch.transports.bounded import Bounds, Follow
from nightlatch.transports.folder import Folder
from nightlatch.transports.shell import Answer
from nightlatch.transports.ssh import Address, Ssh
from tests.live.station import ROOT, Station, interruptible

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", "busybox", "nft", "localedef", root=True)
ASKS = "keeper ALL=(ALL) ALL\n"
GRANTS = "let: mara, into: all guests, by: ssh, from: bench, with: key"


def way(address: str, **more: str) -> str:
    """A via for a guest at an address."""
    return "{" + ", ".join(f"{k}: {v}" for k, v in {"ssh": address, "as": "keeper", "key": "desk.pub", **more}.items()) + "}"


def shell_of(guest: Guest, text: str) -> None:
    """keeper's login shell becomes this program: a guest that does as it likes."""
    guest.image.write("/usr/local/bin/odd", f"#!/bin/bash\n{text}\n", 0o755)
    passwd = guest.image.path("/etc/passwd")
    passwd.write_text(passwd.read_text().replace("/home/keeper:/bin/bash", "/home/keeper:/usr/local/bin/odd"))


@pytest.fixture(scope="module")
def odd(station: Station) -> Station:
    """A station with one guest in order and many that are not."""
    made = {"gauge": station.guest("gauge", "192.168.56.21")}
    made["asks"] = station.guest("asks", "192.168.56.22", sudo=ASKS)
    made["nosudo"] = station.guest("nosudo", "192.168.56.23")
    os.mknod(made["nosudo"].image.path("/usr/bin/sudo"), stat.S_IFCHR, os.makedev(0, 0))
    made["bare"] = station.guest("bare", "192.168.56.24", bare=True)
    made["tongue"] = station.guest("tongue", "192.168.56.25")
    run("localedef", "-c", "-i", "de_DE", "-f", "UTF-8", str(made["tongue"].image.path("/usr/lib/locale/de_DE.utf8")))
    made["tongue"].image.write("/etc/environment", "LC_ALL=de_DE.utf8\nLANG=de_DE.utf8\n")
    made["floods"] = station.guest("floods", "192.168.56.26")
    shell_of(made["floods"], "exec yes flood")
    made["hangs-up"] = station.guest("hangs-up", "192.168.56.27")
    shell_of(made["hangs-up"], "exit 3")
    made["moved"] = station.guest("moved", "192.168.56.28")
    made["stopped"] = station.guest("stopped", "192.168.56.29", unit="")
    made["silent"] = station.guest("silent", "192.168.56.30")
    made["shut"] = station.guest("shut", "192.168.56.31")
    made["shut"].image.write("/home/keeper/.ssh/authorized_keys", "", 0o600, 1000, 1000)
    made["frozen"] = station.guest("frozen", "192.168.56.32")
    for each in made.values():
        each.boot()
    for name, each in made.items():
        if name != "stopped":
            each.until_listening()
    made["silent"].run(
        "nft", "-f", "-", stdin="table inet f { chain i { type filter hook input priority 0; tcp dport 22 drop; }; }\n"
    )
    made["frozen"].inside(
        "sh",
        "-c",
        "systemctl stop systemd-journald systemd-journald.socket systemd-journald-dev-log.socket; mount -o remount,bind,ro /",
    )
    return station


TOLD = {
    # guest: the stage that failed, and words of its message
    "asks": ("sudo", "sudo asks for the password of keeper, and nobody is there to give it"),
    "nosudo": ("sudo", "keeper is not root, and there is no sudo"),
    "floods": ("read", "it sent more than 96 MiB"),
    "hangs-up": ("sudo", "the guest's shell ended with 3"),
    "moved": ("host key", "which is not pinned in the estate file"),
    "stopped": ("connect", "refused: nobody listens on that port"),
    "silent": ("connect", "no answer: a filter drops it"),
    "shut": ("login", "no proof that this client has is accepted"),
    "gone": ("connect", "there is no way to that address from here"),
    "nameless": ("name", "the name is not known here"),
}
FINE = {"gauge", "bare", "tongue", "frozen"}


def test_every_failure_has_its_message_and_the_rest_goes_on(odd: Station) -> None:
    others = {"gone": way("192.168.56.99"), "nameless": way("nowhere.invalid")}
    odd.estate(GRANTS, others=others, pins={"moved": f"SHA256:{'B' * 43}"})
    out = odd.nightlatch("survey", "estate.yaml", "--into", "all", code=3, timeout=120)
    lines = {line.split(":")[0]: line for line in out.splitlines() if not line.startswith(" ")}
    for name, (stage, words) in TOLD.items():
        assert lines[name].startswith(f"{name}: not read: {stage}: "), lines.get(name, out)
        assert words in lines[name]
    assert {name for name in lines if "files into" in lines[name]} == FINE
    assert f"{len(FINE)} of {len(FINE) + len(TOLD)} guests read, {len(TOLD)} not" in out
    kept = [path.relative_to(odd.folder / "all") for path in (odd.folder / "all").rglob("*.gz")]
    assert {path.name.partition(".")[0] for path in kept if len(path.parts) == 1} == FINE
    assert {path.name.partition(".")[0] for path in kept if len(path.parts) == 2} == FINE  # those of the day
    assert "\x1b" not in out, "a bar was drawn into a pipe"
    shown = odd.nightlatch("audit", "estate.yaml", "--ssh-config", "ssh_config", "--on", "gone", "--on", "gauge", code=3)
    assert "there is no way to that address" in " ".join(shown.split())


def test_a_guest_that_stalls_is_given_up(odd: Station) -> None:
    guest = odd.lab.guests["hangs-up"]
    (guest.root / "usr/local/bin/odd").write_text("#!/bin/bash\nexec sleep 60\n")
    start = time.monotonic()
    with odd.client(bounds=Bounds(seconds=20, silent=1)) as client:
        found = list(survey_targets(["keeper@192.168.56.27"], client=client, pins=(odd.host_keys["hangs-up"],)))
    assert found[0].stage == "read"
    assert "nothing came for 1 s" in found[0].problem
    assert time.monotonic() - start < 15


def test_a_slow_stream_is_bounded_in_all(odd: Station) -> None:
    guest = odd.lab.guests["hangs-up"]
    (guest.root / "usr/local/bin/odd").write_text("#!/bin/bash\nfor i in {1..200}; do printf x; sleep 0.2; done\n")
    with odd.client(bounds=Bounds(seconds=5, silent=4)) as client:
        found = list(survey_targets(["keeper@192.168.56.27"], client=client, pins=(odd.host_keys["hangs-up"],)))
    assert "it took longer than 5 s" in found[0].problem


def test_a_sudo_password_is_asked_for_and_never_seen(odd: Station) -> None:
    asked: list[str] = []
    answers = ["wrong one", PASSWORD]

    def ask(question: str) -> str:
        asked.append(question)
        return answers[min(len(asked), len(answers)) - 1]

    pins = (odd.host_keys["asks"],)
    with odd.client(ask=ask) as client:
        shell = Ssh("asks", Address("192.168.56.22", "keeper"), client, pins=pins, key=odd.folder / "desk")
        first = survey_live(shell)
        second = survey_live(shell)
        seen = run("grep", "-rc", PASSWORD, str(client.folder()), check=False)
    assert first.content("/etc/shadow") == second.content("/etc/shadow")
    assert len(asked) == 2, "asked again only because the first answer was wrong"
    assert "keeper" in asked[0]
    assert not [line for line in seen.splitlines() if not line.endswith(":0")]
    assert PASSWORD not in odd.lab.guests["asks"].inside("journalctl", "--no-pager")
    always = lambda _: "wrong"  # noqa: E731
    with odd.client(ask=always) as client, pytest.raises(UnreachableError, match="sudo"):
        Ssh("asks", Address("192.168.56.22", "keeper"), client, pins=pins, key=odd.folder / "desk").run(b"true\n")


def test_an_interrupted_survey_keeps_what_was_read(odd: Station) -> None:
    odd.estate(GRANTS)
    words = odd.words("survey", "estate.yaml", "--on", "gauge", "--on", "bare", "--on", "silent", "--into", "part")
    words = interruptible(words)
    process = subprocess.Popen(
        words,
        cwd=odd.folder,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        env=environment({"PYTHONPATH": str(ROOT / "src")}),
        stdin=subprocess.DEVNULL,
    )
    end = time.monotonic() + 60
    while len(list((odd.folder / "part").glob("*.gz"))) < 2 and time.monotonic() < end:
        time.sleep(0.05)
    time.sleep(0.5)  # between a guest's file and its count
    process.send_signal(signal.SIGINT)
    out, _ = process.communicate(timeout=60)
    assert process.returncode == 130, out
    assert "interrupted: 2 of 3 guests were read and are kept in part" in out
    for name in ("gauge", "bare"):
        assert read_evidence(odd.folder / f"part/{name}.evidence.tar.gz").content("/etc/passwd")


def test_on_a_terminal_a_bar_is_drawn_and_vanishes(odd: Station) -> None:
    odd.estate(GRANTS)
    words = odd.words("survey", "estate.yaml", "--on", "gauge", "--on", "bare", "--into", "drawn")
    done = subprocess.run(
        ["script", "-qec", shlex.join(words), "/dev/null"],
        cwd=odd.folder,
        capture_output=True,
        text=True,
        timeout=60,
        stdin=subprocess.DEVNULL,
        env=environment({"PYTHONPATH": str(ROOT / "src"), "TERM": "xterm"}),
    )
    assert "reading guests" in done.stdout
    lines = re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "\n", done.stdout).replace("\r", "\n").splitlines()
    told = [line for line in lines if "files into" in line]
    assert sorted(line.split(":")[0] for line in told) == ["bare", "gauge"], done.stdout


def test_a_survey_changes_nothing_and_needs_few_processes(odd: Station) -> None:
    guest = odd.lab.guests["gauge"]
    before = guest.files("/etc", "/home", "/root", "/var/lib")

    def forks() -> int:  # numbers are given out in order, and here by this guest only
        return int(guest.inside("sh", "-c", "echo $$"))

    counts = []
    for accounts in (0, 300):
        extra = "".join(f"clerk{n}:x:{5000 + n}:5000::/home/clerk{n}:/bin/sh\n" for n in range(accounts))
        with (guest.root / "etc/passwd").open("a") as stream:
            stream.write(extra)
        start = forks()
        live.survey(Inside(guest))
        counts.append(forks() - start)
    (guest.root / "etc/passwd").write_bytes(before["/etc/passwd"][4])  # type: ignore[arg-type]
    assert counts[0] < 100, counts
    assert counts[1] - counts[0] < 25, counts
    after = guest.files("/etc", "/home", "/root", "/var/lib")
    assert {path for path in {**before, **after} if before.get(path) != after.get(path)} == set()


SHELLS = [("dash",), ("bash", "--posix"), ("bash",), ("busybox", "ash")]


def from_folder(guest: Guest) -> Snapshot:
    """The same guest read as a folder from outside, through the same rules."""
    with Folder(guest.root) as source:
        return collect(source, guest.name)


def test_every_shell_and_userland_reads_the_same(odd: Station) -> None:
    guest = odd.lab.guests["gauge"]
    expected = dict(from_folder(guest).entries)
    # A minimal install: no program but busybox's own, and those of sshd.
    guest.inside(
        "sh",
        "-c",
        "mkdir -p /run/small && cp /bin/busybox /run/small/ && for a in $(busybox --list); do "
        "[ $a = busybox ] || ln -sf busybox /run/small/$a; done",
    )
    ways = {"/".join(words): Inside(guest, *words) for words in SHELLS}
    ways["only busybox"] = Inside(
        guest, "unshare", "-m", "/bin/sh", "-c", "mount --bind /run/small /usr/bin && exec sh -s -- none"
    )
    for name, shell in ways.items():
        found = dict(live.survey(shell).entries)
        laid_over = ("/usr/bin", "/bin") if name == "only busybox" else ()
        for each in (
            "/etc/passwd",
            "/etc/group",
        ):  # always sent through the reduction, whether it finds something or not
            found[each] = replace(found[each], reduced=False)
        skipped = ("/run", *laid_over)  # its own, not to be seen from outside
        wrong = {p for p in {**expected, **found} if expected.get(p) != found.get(p) and not p.startswith(skipped)}
        assert not wrong, (name, sorted(wrong)[:5], [(expected.get(p), found.get(p)) for p in sorted(wrong)[:2]])


def test_a_service_manager_of_before_251_is_asked_in_its_own_words(odd: Station) -> None:
    """It knows no times in seconds, and would show nothing (NEWS of systemd 251)."""
    guest = odd.lab.guests["gauge"]
    guest.inside("systemctl", "reload", "ssh")
    now = service_reading.read(live.survey(Inside(guest)))
    older = guest.root / "usr/local/sbin/systemctl"
    older.write_text(
        '#!/bin/sh\ncase $* in *--timestamp=unix*) echo "Failed to parse timestamp style" >&2; exit 1 ;; esac\n'
        'exec /usr/bin/systemctl "$@"\n'
    )
    older.chmod(0o755)
    try:
        assert service_reading.read(live.survey(Inside(guest))).units == now.units
    finally:
        older.unlink()
    ssh = now.units["ssh.service"]
    assert ssh.started > 0
    assert ssh.reloaded > 0


NASTY = {
    "\x1b]0;owned\x07": "an escape",
    "\u202egnp.conf": "a direction override",
    "@files": "a frame",
    "@end": "another",
    " leading.conf": "a space",
    "x\n@files\n": "a frame in a name",
    "back\\slash": "a backslash",
    "-rf.conf": "an option",
    "[bold red]x.conf": "markup",
}


def test_a_hostile_guest_forges_nothing(odd: Station) -> None:
    guest = odd.lab.guests["tongue"]
    place = guest.root / "etc/ssh/sshd_config.d"
    forged = b"\n@files\n\n@end 000000000000000000000000\n@reduced /etc/shadow\n root::::\n@absent\n /etc/passwd\n"
    for name, why in NASTY.items():
        (place / name).write_bytes(b"X11Forwarding no\n" if name.endswith(".conf") else why.encode() + forged)
    home = guest.root / "home/mara/.ssh"
    with (home / "huge.pub").open("wb") as stream:
        stream.truncate(1 << 40)  # sparse: a terabyte that takes no room
    keys = home / "authorized_keys"
    kept = keys.read_bytes()
    keys.write_bytes(kept.strip() + " \x1b[31mevil\u202e [bold]\n".encode())
    (home / "config").write_bytes(b"a frame" + forged)
    (home / "large.pub").write_bytes(b"x" * (2 << 20))
    (home / "loop.pub").symlink_to("loop.pub")
    (home / "outside.pub").symlink_to("/proc/kcore")
    (home / "device.pub").symlink_to("/dev/zero")
    os.mkfifo(home / "pipe.pub")
    (home / ("n" * 250)).write_text("long")
    with (guest.root / "etc/passwd").open("ab") as passwd:
        passwd.write(b"evil\x1b[2J:x:6000:6000:@files:/home/../../etc:/bin/sh\n\n@absent\n /etc/shadow\n")
    try:
        start = time.monotonic()
        found = live.survey(Inside(guest))
        assert time.monotonic() - start < 20
        outside = from_folder(guest)
    finally:
        keys.write_bytes(kept)
        for name in NASTY:
            (place / name).unlink()
        for path in home.iterdir():
            if path.name != "authorized_keys":
                path.unlink()
    told = {path: entry for path, entry in outside.entries.items() if not set(path) & {"\n", "\\"}}
    found_or_not = {path: replace(entry, reduced=told[path].reduced) for path, entry in found.entries.items() if path in told}
    wrong = {p for p in told if told[p] != found_or_not.get(p) and not p.startswith(("/run", "/dev", "/proc"))}
    assert not wrong, [(p, told[p], found.entries.get(p)) for p in sorted(wrong)[:2]]
    assert found.content("/etc/ssh/sshd_config.d/@files") is None, "sshd does not read it, so it is not carried"
    assert found.content("/home/mara/.ssh/config") == b"a frame" + forged
    assert found.entries["/home/mara/.ssh/huge.pub"].note.startswith("is too large")
    assert any("line break or a backslash" in note for note in found.notes)
    access = odd.folder / "hostile.evidence.tar.gz"
    write_evidence(found, access, datetime.now(UTC))
    again = read_evidence(access)
    assert again.listings == found.listings
    assert found.facts.items() - {("transport", "here")} <= again.facts.items()
    assert dict(again.entries) == dict(found.entries)
    shown = odd.nightlatch("audit", str(access), code=None)
    assert not set(shown) & {"\x1b", "\u202e", "\x07"}
    assert "evil" in shown


def test_secrets_never_leave_the_guest(odd: Station) -> None:
    guest = odd.lab.guests["gauge"]
    home = guest.root / "home/mara/.ssh"
    kinds = {
        "plain": ["-t", "ed25519", "-N", ""],
        "locked": ["-t", "ed25519", "-N", "a phrase"],
        "old": ["-t", "rsa", "-b", "2048", "-m", "PEM", "-N", ""],
        "old-locked": ["-t", "rsa", "-b", "2048", "-m", "PEM", "-N", "a phrase"],
        "eight": ["-t", "ecdsa", "-m", "PKCS8", "-N", ""],
        "eight-locked": ["-t", "ecdsa", "-m", "PKCS8", "-N", "a phrase"],
    }
    for name, options in kinds.items():
        run("ssh-keygen", "-q", *options, "-f", str(home / name))
    (home / "put.ppk").write_text(PPK)
    # The first lines of OpenSSH's own format hold the public half, which is told.
    lines = [line for name in kinds for line in (home / name).read_bytes().splitlines()[3:-1]]
    secrets = [line for line in lines if len(line) > 20 and b":" not in line]
    assert len(secrets) > 40
    secrets += [b"AAAAIPriVaTeHaLfOfPuttyKeyHere", *[h.encode()[3:] for h in guest.image.hashes.values()]]
    raw: list[bytes] = []

    class Listening(Inside):
        def run(self, script: bytes, bounds: Bounds | None = None, follow: Follow | None = None) -> Answer:
            answer = super().run(script, bounds, follow)
            raw.append(answer.out)
            return answer

    found = live.survey(Listening(guest))
    wanted = from_folder(guest)
    for each in secrets:
        assert each not in b"".join(raw), each
    for name in [*kinds, "put.ppk"]:
        path = f"/home/mara/.ssh/{name}"
        assert found.entries[path].reduced
        assert replace(found.entries[path], changed=0) == wanted.entries[path], name
    for made in home.iterdir():
        if made.name != "authorized_keys":
            made.unlink()


PPK = """PuTTY-User-Key-File-3: ssh-ed25519
Encryption: none
Comment: eddsa-key
Public-Lines: 2
AAAAC3NzaC1lZDI1NTE5AAAAIKb0Tt2N6Vbh0dmz3NpGbYl4v9sJp9C4L2Pj5eIu
Zf1m
Private-Lines: 1
AAAAIPriVaTeHaLfOfPuttyKeyHere
Private-MAC: 0000000000000000000000000000000000000000000000000000000000000000
"""


def test_a_jump_host_and_the_users_own_configuration_work(odd: Station) -> None:
    config = odd.folder / "jump_config"
    config.write_text(
        f"Host far\n    HostName 192.168.56.21\n    User keeper\n    ProxyCommand ssh -F none -i {odd.folder}/desk -o StrictHostKeyChecking=no "
        f"-o UserKnownHostsFile=/dev/null -o IdentitiesOnly=yes -W %h:%p keeper@192.168.56.24\n    IdentityFile {odd.folder}/desk\n    IdentitiesOnly yes\n"
    )
    out = odd.nightlatch(
        "survey", "ssh:far", "--ssh-config", "jump_config", "--host-key", odd.host_keys["gauge"], "--into", "far"
    )
    assert "far: " in out
    facts = read_evidence(odd.folder / "far/far.evidence.tar.gz").facts
    assert facts["came_from"] == "192.168.56.24"
    assert facts["came_as"] == "keeper"
    assert facts["came_with"].startswith("SHA256:")


def test_nothing_of_the_lab_is_left_when_its_maker_is_killed(tmp_path: Path) -> None:
    code = (
        "import os, sys; from nightlatch.lab.labs import Lab; lab = Lab(); lab.network('n', '192.0.2.254/24')\n"
        "g = lab.guest('g', {'n': ['192.0.2.1/24']}); g.image.accounts([]); g.image.units(); g.boot()\n"
        "print(lab.folder, flush=True); os.kill(os.getpid(), 9)"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=150, check=False)
    assert done.returncode == -9, done.stderr
    folder = Path(done.stdout.strip())
    assert folder.is_absolute(), done.stderr
    with Lab():
        pass
    assert not folder.exists()
    assert folder.name not in Path("/proc/self/mounts").read_text()
    assert folder.name not in run("ip", "netns", "list", check=False)


def test_this_machine_is_read_like_any_other(tmp_path: Path) -> None:
    words = [sys.executable, "-m", "nightlatch.cli", "survey", "here", "--into", str(tmp_path)]
    done = subprocess.run(words, capture_output=True, text=True, timeout=60, env=environment({"PYTHONPATH": str(ROOT / "src")}))
    assert done.returncode == 0, done.stderr
    found = read_evidence(tmp_path / "here.evidence.tar.gz")
    assert found.facts["transport"] == "here"
    assert found.content("/etc/group")


def test_a_target_that_is_none_is_said_so(odd: Station) -> None:
    out = odd.nightlatch("survey", "keeper@", "--into", "none", code=None)
    assert "is no target" in out
    with pytest.raises(NightlatchError):
        survey_target("keeper@bad host")
