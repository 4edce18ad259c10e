"""What the lab runs on the machine itself: programs by list of words, never through a shell; and clearing up.

Everything the lab makes carries `PREFIX` in its name and its maker's process number, so that a later run can clear what
a dead one left behind.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import subprocess
import time
from collections.abc import Iterable, Iterator
from pathlib import Path

from nightlatch.faults import RefusedError

PREFIX = "nightlatch-lab"
NEEDED = ("ip", "unshare", "nsenter", "mount", "umount", "systemctl", "ssh-keygen", "openssl")
SEARCHED = os.environ.get("PATH", "/usr/bin:/bin") + ":/usr/sbin:/sbin"


def run(*words: str, stdin: str | bytes | None = None, check: bool = True, timeout: float = 60) -> str:
    """Run a program to its end and return what it printed. Raises CalledProcessError, TimeoutExpired."""
    raw = stdin.encode() if isinstance(stdin, str) else stdin
    done = subprocess.run(
        words,
        input=raw,
        stdin=None if raw is not None else subprocess.DEVNULL,
        capture_output=True,
        timeout=timeout,
        env={**os.environ, "PATH": SEARCHED, "LC_ALL": "C"},
        check=False,
    )
    if check and done.returncode:
        fault = subprocess.CalledProcessError(done.returncode, words, done.stdout, done.stderr)
        fault.add_note(done.stderr.decode("utf-8", "replace")[-2000:])  # else a report of it would not say why
        raise fault
    return done.stdout.decode("utf-8", "replace")


def missing() -> list[str]:
    """The needs of the lab that this machine lacks, in words; empty when it can run."""
    out = [f"the program {name}" for name in NEEDED if not shutil.which(name, path=SEARCHED)]
    if os.geteuid() != 0:
        out.append("root's rights")
    if not Path("/lib/systemd/systemd").exists():
        out.append("systemd")
    if cgroup_root() is None:
        out.append("a mounted cgroup2")
    return out


def require() -> None:
    """Raise RefusedError, which says what is missing, where the lab can't run."""
    lacking = missing()
    if lacking:
        raise RefusedError(f"live guests need {', '.join(lacking)}; run as root on a Linux machine with systemd's files")


def cgroup_root() -> Path | None:
    """Where cgroup2 is mounted (it need not be /sys/fs/cgroup)."""
    for _ in range(5):  # other labs mount and unmount meanwhile, and a table read in pieces can miss a line then
        for line in Path("/proc/self/mounts").read_text().splitlines():
            words = line.split(" ")
            if words[2] == "cgroup2":
                return Path(words[1])
    return None


def children(pid: int) -> list[int]:
    """The direct children of a process."""
    try:
        return [int(word) for word in Path(f"/proc/{pid}/task/{pid}/children").read_text().split()]
    except OSError:
        return []


def waited(what: str, ready: Iterator[bool] | Iterable[bool], seconds: float = 20) -> None:
    """Ask `ready` again and again until it is true. Raises TimeoutError naming `what`."""
    end = time.monotonic() + seconds
    for each in ready:
        if each:
            return
        if time.monotonic() > end:
            raise TimeoutError(f"{what} did not happen within {seconds:g} s")
        time.sleep(0.02)


def kill(pid: int) -> None:
    """End one process at once, by its number."""
    with contextlib.suppress(ProcessLookupError):
        os.kill(pid, signal.SIGKILL)


def alive(pid: int) -> bool:
    """Whether a process of this number is there."""
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


def drop_cgroup(folder: Path) -> None:
    """End what is left in a cgroup folder and remove it, deepest first."""
    for _ in range(100):
        pids = [int(p) for top, _, _ in os.walk(folder) for p in _read(Path(top) / "cgroup.procs").split()]
        if not pids:
            break
        for pid in pids:
            kill(pid)
        time.sleep(0.02)
    for top, _, _ in os.walk(folder, topdown=False):  # somebody else may be clearing it away at the same time
        with contextlib.suppress(OSError):
            os.rmdir(top)


def _read(path: Path) -> str:
    try:
        return path.read_text()
    except OSError:
        return ""


def unmount_below(folder: Path) -> None:
    """Unmount everything at and below a folder, deepest first."""
    mounted = [line.split(" ")[1] for line in Path("/proc/self/mounts").read_text().splitlines()]
    for each in sorted((m for m in mounted if m == str(folder) or m.startswith(f"{folder}/")), key=len, reverse=True):
        run("umount", "-l", each, check=False)
