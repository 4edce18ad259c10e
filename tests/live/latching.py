"""What the tests of the latch share: a guest with something to change, its proved draft, and looks at it from outside."""

from __future__ import annotations

import contextlib
import os
import re
import stat
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

import pytest

from nightlatch.draft.plan import ProvedDraft
from nightlatch.estate.load import load
from nightlatch.estate.model import Estate
from nightlatch.faults import NightlatchError, PutBackError
from nightlatch.lab.inside import Inside
from nightlatch.lab.machine import Guest, environment
from nightlatch.lab.tools import waited
from nightlatch.latch import live
from nightlatch.latch.folder import new_change_id
from nightlatch.latch.planned_change import planned
from nightlatch.latch.transaction import SEAM, Transaction
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.enact import LiveChange, terms
from nightlatch.ops.enact import enact as enact_draft
from nightlatch.ops.survey import survey, survey_live
from tests.live.station import Station, ssh

FOLDERS = ("/etc", "/home", "/root")
GRANTS = """
let: mara, into: all guests, by: ssh, from: bench, with: key
let: joon, into: all guests, by: ssh, from: bench, with: key
"""
DOOR = "pid=$(cat /run/sshd.pid 2>/dev/null) && [ -e /proc/$pid/stat ] && echo $pid && sed 's/.*) //' /proc/$pid/stat | cut -d' ' -f20"
# How many seconds a change stays on the latch, one after the other: a busy machine needs more to come to a late step.
PATIENCE = (2, 5, 15, 45)
# Waits at one step until it is told to go on, or for ever: whoever tests cuts it there.
PAUSE = """at() {{
    say step "$*"
    [ "$*" != "{point}" ] || [ -e "$change/paused" ] || {{ echo $$ >"$change/paused"; while [ ! -e /run/go-on ]; do sleep 0.02; done; }}
}}
"""
KILL = """at() {{
    say step "$*"
    [ "$*" != "{point}" ] || [ -e {flag} ] || {{ : >{flag}; kill -9 $$; }}
}}
"""


@dataclass
class Subject:
    """A guest before its change, and all that is needed to change it."""

    station: Station
    guest: Guest
    estate: Estate
    proved: ProvedDraft
    before: dict[str, tuple[object, ...]]
    offered: str

    @property
    def shell(self) -> Inside:
        """The guest's own shell."""
        return Inside(self.guest)

    def transaction(self, seam: str, seconds: int = 60, *, unguarded: bool = False) -> Transaction:
        """The change, with a seam, for the daemon that runs by now: tests before this one may have ended the one that was read."""
        now = datetime.now(UTC)
        on = terms(now, new_change_id(now), seconds, seam=seam, unguarded=unguarded)
        return at_its_door(self.guest, Transaction(planned(self.estate, self.proved), on))

    def progress(self, change: str) -> list[str]:
        """How far the guest's script got, read from outside."""
        path = self.guest.root / f"var/lib/nightlatch/changes/{change}/progress"
        try:
            return path.read_text().splitlines()
        except OSError:
            return []

    def told(self, change: str) -> str:
        """All that the guest's script told, for a failure's message."""
        outcome = self.guest.root / f"var/lib/nightlatch/changes/{change}/outcome"
        return f"{self.progress(change)} {outcome.read_text() if outcome.exists() else 'no outcome'}"

    def reached(self, change: str, point: str, seconds: float = 60) -> bool:
        """Wait until the script is at a step; False when the change was over, and it never came there."""
        end = time.monotonic() + seconds
        lock = self.guest.root / "var/lib/nightlatch/lock"
        while f"step {point}" not in self.progress(change):
            if "step locked" in self.progress(change) and not lock.exists():
                return f"step {point}" in self.progress(change)
            assert time.monotonic() < end, f"{point} was not reached: {self.told(change)}"
            time.sleep(0.01)
        return True

    def differences(self) -> list[str]:
        """Paths that are not as they were before: bytes, mode, owner, attributes."""
        now = self.guest.files(*FOLDERS)
        return sorted(p for p in {**self.before, **now} if self.before.get(p) != now.get(p) and not own(p))

    def goes_on(self, change: str, seconds: float = 60) -> None:
        """Let a script that waits at a step go on; before it has its lock, wait until it has, or is over."""
        folder = self.guest.root / f"var/lib/nightlatch/changes/{change}"
        paused = folder / "paused"
        waited(f"{change}: its stop", iter(lambda: paused.exists() and paused.read_text().endswith("\n"), None), seconds)
        pid = paused.read_text().strip()
        before = "step locked" not in self.progress(change)
        self.guest.inside("touch", "/run/go-on")

        def asked() -> Iterator[bool]:
            while True:
                over = self.guest.inside("sh", "-c", f"kill -0 {pid} 2>/dev/null || echo over") != ""
                yield over or "step locked" in self.progress(change)

        if before:
            waited(f"{change}: its lock, or its end", asked(), seconds)

    def settled(self, seconds: float = 60) -> None:
        """Wait until nothing is on the latch."""
        settled(self.guest, seconds)

    def door(self) -> str:
        """A real login, and the methods the running service offers."""
        assert self.station.login(self.guest), "management access does not open"
        return offered(self.station, self.guest)


def settled(guest: Guest, seconds: float = 60) -> None:
    """Wait until nothing is on the latch: the lock goes last, after the guard."""
    lock = guest.root / "var/lib/nightlatch/lock"
    end = time.monotonic() + seconds
    while lock.exists():
        assert time.monotonic() < end, f"still on the latch: {[p.name for p in lock.iterdir()]}"
        time.sleep(0.05)


def at_its_door(guest: Guest, made: Transaction) -> Transaction:
    """The change for the daemon that runs by now, as a survey of this moment would name it."""
    pid, started = (guest.inside("sh", "-c", DOOR, check=False).split() or ["0", ""])[:2]  # a socket may be all there is
    server = made.planned.server
    server = replace(server, daemon=replace(server.daemon, pid=int(pid), started=started))
    return replace(made, planned=replace(made.planned, server=server))


Tell = Callable[[str], None]


def own(path: str) -> bool:
    """What sudo itself writes at a first use."""
    return path.endswith(".sudo_as_admin_successful")


def offered(station: Station, guest: Guest) -> str:
    """The methods that the running sshd names to a caller without proof."""
    address = guest.run("ip", "-o", "-4", "addr", "show", "eth0").split()[3].split("/")[0]
    words = [*ssh("BatchMode=yes", "PreferredAuthentications=none", "ConnectTimeout=5"), "-v", f"mara@{address}", "true"]
    done = subprocess.run(
        station.desk.words(*words), capture_output=True, text=True, timeout=60, env=environment({}), stdin=subprocess.DEVNULL
    )
    found = re.search(r"Authentications that can continue: (\S+)", done.stderr)
    return found[1] if found else ""


pause = time.sleep


def subject(
    station: Station,
    name: str,
    address: str,
    *,
    prepared: bool = False,
    prepare: Callable[[Guest], None] | None = None,
    **more: object,
) -> Subject:
    """A guest whose passwords are open, where joon has no key file and mara's home is writable for a group. Neither of the two has a
    password, which would have to wait for the key."""
    guest = station.guest(name, address, **more)  # type: ignore[arg-type]
    image = guest.image
    shadow = image.folder / "etc/shadow"
    shadow.write_text(re.sub(r"(?m)^mara:[^:]*:", "mara:*:", shadow.read_text()))
    (image.folder / "home/joon/.ssh/authorized_keys").unlink()
    image.own("/home/mara", 0o775, 1001, 3000)
    os.setxattr(image.folder / "etc/ssh/sshd_config", "trusted.note", b"station")
    Path(image.folder / "etc/ssh/sshd_config").chmod(0o640)
    if prepared:  # a guest without systemd needs a place for its boot guard
        image.own("/etc/rcS.d", 0o755, 0, 0)
    elif guest.bare:
        os.mknod(image.path("/etc/rcS.d"), stat.S_IFCHR, os.makedev(0, 0))  # overlay: what is below is not there
    if prepare is not None:
        prepare(guest)
    guest.boot()
    guest.until_listening()
    estate = load(station.estate(GRANTS))
    at = datetime.now(UTC)
    snapshot = survey_live(Inside(guest))
    proved = prove(estate, draft(estate, snapshot, at), snapshot, at)
    return Subject(station, guest, estate, proved, guest.files(*FOLDERS), offered(station, guest))


def steps_of(x: Subject) -> tuple[list[str], list[str]]:
    """Every step on the way in and on the way back, as one unhindered run goes through them."""
    for seconds in PATIENCE:
        made = x.transaction(SEAM, seconds)
        with contextlib.suppress(NightlatchError):  # a busy machine came too late to the last step
            live.begin(x.shell, made)
        x.settled()
        if "step looked" in x.progress(made.change):
            break
    steps = [line[5:] for line in x.progress(made.change) if line.startswith("step ")]
    turn = steps.index("reverting")
    assert x.differences() == []
    return steps[:turn], steps[turn:]


def begun(x: Subject, made: Transaction) -> threading.Thread:
    """Put a change on the latch in the background; what becomes of that call does not matter."""

    def run() -> None:
        with contextlib.suppress(NightlatchError, OSError):
            live.begin(x.shell, made)

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    return thread


def cut_off(
    x: Subject, point: str, *, power: bool, seconds: int, fault: tuple[type[NightlatchError], ...] = (PutBackError,)
) -> str:
    """Begin the change and cut it off at a step: its script is killed, and the guest's timer takes it back within `seconds`, or
    everything on the guest dies at once and it boots again. Returns what the guest's script told; settled."""
    unguarded = x.guest.bare
    if not power:
        x.guest.inside("rm", "-f", "/run/killed")
        made = x.transaction(KILL.format(point=point, flag="/run/killed"), seconds, unguarded=unguarded)
        with pytest.raises(fault):
            live.begin(x.shell, made)
    else:
        made = x.transaction(PAUSE.format(point=point), 90, unguarded=unguarded)
        thread = begun(x, made)
        assert x.reached(made.change, point), point
        x.guest.power_cut()
        thread.join(60)
        x.guest.boot()
        x.guest.until_listening()
    x.settled()
    return x.told(made.change)


def leftovers(guest: Guest) -> list[str]:
    """Files of ours that a change should not leave behind."""
    out = [str(p) for p in (guest.root / "etc/systemd/system").rglob("nightlatch-*")]
    out += [str(p) for folder in FOLDERS for p in (guest.root / folder[1:]).rglob(".nightlatch-*")]
    return out


def until_guarded(guest: Guest, seconds: float = 30) -> None:
    """Wait for the late guard: it is a plain service, which a boot doesn't wait for."""

    def asked() -> Iterator[bool]:
        while True:
            state = guest.inside("systemctl", "is-active", "nightlatch-guard-late.service", check=False).strip()
            yield state not in ("active", "activating", "deactivating")

    waited(f"{guest.name}: the late guard's end", asked(), seconds)


class Points:
    """Counts the points that were tried and keeps what went wrong, so that one failure does not hide the next."""

    def __init__(self, what: str) -> None:
        self.what, self.count, self.wrong = what, 0, []  # type: ignore[var-annotated]

    def look(self, x: Subject, point: str) -> None:
        """After the dust has settled: byte for byte as before, the running service too, and the door opens."""
        self.count += 1
        differences = x.differences()
        try:
            methods = x.door()
        except AssertionError as error:
            methods = str(error)
        if differences or methods != x.offered:
            self.wrong.append(f"{self.what} at {point}: {differences[:4]}, offers {methods}")

    def done(self, tell: Tell) -> None:
        """Tell the count; fail with everything that went wrong."""
        tell(f"{self.what}: {self.count} points, {len(self.wrong)} wrong")
        assert not self.wrong, "\n".join(self.wrong)


def enact(station: Station, path: Path, name: str, **more: object) -> LiveChange:
    """Enact on one guest from the desk."""
    with station.client() as client:
        return enact_draft(load(path), name, datetime.now(UTC), client=client, seconds=60, **more)  # type: ignore[arg-type]


def proved(station: Station, path: Path, name: str) -> ProvedDraft:
    """The proved draft of one guest, from a survey of this moment."""
    estate, at = load(path), datetime.now(UTC)
    with station.client() as client:
        (found,) = survey(estate, [name], client=client)
    assert found.snapshot is not None, found.problem
    return prove(estate, draft(estate, found.snapshot, at), found.snapshot, at)
