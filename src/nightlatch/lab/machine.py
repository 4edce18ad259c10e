"""One machine of the lab: a network namespace, and for a guest a root of its own with systemd or a single daemon in it.

A guest's power can be cut: everything in it dies at once, and it boots again on the same root.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
from collections.abc import Iterator, Mapping
from pathlib import Path

from nightlatch.lab.image import Image
from nightlatch.lab.tools import SEARCHED, children, drop_cgroup, kill, run, unmount_below, waited

INIT = Path(__file__).with_name("init.sh")
# The first process of a guest without systemd: starts one daemon and takes leave of whatever ends.
BARE = 'echo lab-init >/proc/$$/comm; sleep 1000000 & "$@" & while :; do wait; sleep 1; done'
SYSTEMD = ("/lib/systemd/systemd", "--system", "--unit=multi-user.target", "--log-target=journal")


class Node:
    """A network namespace in which programs of this machine can be run: an administrator's or a caller's place."""

    def __init__(self, name: str, space: str) -> None:
        self.name, self.space = name, space

    def words(self, *words: str) -> list[str]:
        """The command line that runs `words` in this machine's network."""
        return ["nsenter", f"--net=/run/netns/{self.space}", "--", *words]

    def run(self, *words: str, stdin: str | bytes | None = None, check: bool = True, timeout: float = 60) -> str:
        """Run a program here and return what it printed."""
        return run(*self.words(*words), stdin=stdin, check=check, timeout=timeout)

    def start(self, *words: str, **more: object) -> subprocess.Popen[bytes]:
        """Start a program here and leave it running; the caller ends it."""
        return subprocess.Popen(self.words(*words), **more)  # type: ignore[call-overload,no-any-return]


class Guest(Node):
    """A guest. Its root is an overlay of the lower root and `image`, which is kept over a power cut."""

    def __init__(self, name: str, space: str, folder: Path, cgroup: Path, image: Image, *, bare: bool = False) -> None:
        super().__init__(name, space)
        self.folder, self.cgroup, self.image, self.bare = folder, cgroup, image, bare
        self.options: tuple[str, ...] = ()
        self.process: subprocess.Popen[bytes] | None = None
        self.pid = 0
        self.root = folder / "root"
        self.spare = folder / "spare"
        for each in (self.root, self.spare):
            each.mkdir(exist_ok=True)
        self._mounted = self.booted = False

    def mount(self) -> None:
        """Put the layers together."""
        if not self._mounted:
            lower = ":".join(map(str, (*self.image.programs, self.image.lower)))
            layers = f"lowerdir={lower},upperdir={self.image.folder},workdir={self.spare}"
            run("mount", "-t", "overlay", "overlay", "-o", layers, str(self.root))
            self._mounted = True

    def boot(self, *, seconds: float = 60, ready: bool = True) -> None:
        """Start the guest and wait until it is up: units started, and a daemon or socket on port 22 where it has one."""
        self.mount()
        self.cgroup.mkdir(parents=True, exist_ok=True)
        if self.booted:
            self._forget_rules()
        self.booted = True
        program = ("/usr/sbin/sshd", "-D", *self.options) if self.bare else SYSTEMD
        inner = ("sh", "-c", BARE, "sh", *program) if self.bare else program
        words = ["sh", str(INIT), str(self.root), *inner]
        enter = f'echo $$ >{self.cgroup}/cgroup.procs; exec nsenter --net=/run/netns/{self.space} "$@"'
        outer = [
            "unshare",
            "--cgroup",
            "--mount",
            "--uts",
            "--ipc",
            "--pid",
            "--fork",
            "--kill-child",
            "--propagation",
            "private",
            "--",
        ]
        self.process = subprocess.Popen(
            ["sh", "-c", enter, "sh", *outer, *words],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=(self.folder / "boot.log").open("ab"),
            env={**os.environ, "PATH": SEARCHED},
            start_new_session=True,
        )
        self.pid = 0
        waited(f"{self.name}: the start of its first process", self._first_process(), seconds)
        if ready:
            waited(f"{self.name}: coming up", self._up(), seconds)

    def _forget_rules(self) -> None:
        """The network stays over a boot here, with the rules that a kernel would have lost."""
        if shutil.which("nft", path=SEARCHED):
            self.run("nft", "flush", "ruleset")

    def _first_process(self) -> Iterator[bool]:
        assert self.process is not None
        while True:
            if self.process.poll() is not None:
                raise RuntimeError(f"{self.name} did not start: {(self.folder / 'boot.log').read_text()[-500:]}")
            inner = children(self.process.pid)
            name = ""
            if inner:
                with contextlib.suppress(OSError):
                    name = Path(f"/proc/{inner[0]}/comm").read_text().strip()
            self.pid = inner[0] if name in ("systemd", "lab-init") else 0
            yield bool(self.pid)

    def _up(self) -> Iterator[bool]:
        while True:
            yield self.bare or self.state() in ("running", "degraded")

    def state(self) -> str:
        """The answer of `systemctl is-system-running`."""
        return self.inside("systemctl", "is-system-running", check=False).strip()

    def listening(self, port: int = 22) -> bool:
        """Whether somebody listens on a port."""
        return f":{port} " in self.run("ss", "-Hltn", check=False)

    def until_listening(self, seconds: float = 10) -> None:
        """Wait for port 22."""

        def asked() -> Iterator[bool]:
            while True:
                yield self.listening()

        waited(f"{self.name}: a listener on port 22", asked(), seconds)

    def inside(self, *words: str, stdin: str | bytes | None = None, check: bool = True, timeout: float = 60) -> str:
        """Run a program in the guest as its root."""
        enter = ["nsenter", "-t", str(self.pid), "-m", "-p", "-u", "-i", "-n", "-C", "-r", "-w", "--"]
        clean = ["env", "-i", "HOME=/root", "PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"]
        return run(*enter, *clean, *words, stdin=stdin, check=check, timeout=timeout)

    def power_cut(self) -> None:
        """Everything in the guest dies at once."""
        if self.process is not None:
            kill(self.process.pid)
            self.process.wait(10)
            self.process = None
        drop_cgroup(self.cgroup)
        self.pid = 0

    def power_off(self, seconds: float = 20) -> None:
        """The orderly way."""
        if self.process is None:
            return
        self.inside("systemctl", "poweroff", check=False)
        with contextlib.suppress(subprocess.TimeoutExpired):
            self.process.wait(seconds)
        self.power_cut()

    def close(self) -> None:
        """End and unmount."""
        self.power_cut()
        unmount_below(self.root)
        self._mounted = False

    def files(self, *folders: str) -> dict[str, tuple[object, ...]]:
        """Every path below these folders as the guest has it now: kind, mode, owner, attributes and content.

        Read through the overlay from outside, so that the guest's own programs can't disturb it.
        """
        self.mount()
        out: dict[str, tuple[object, ...]] = {}
        for folder in folders:
            top = self.root / folder.lstrip("/")
            for path in [top, *sorted(top.rglob("*"))]:
                out["/" + str(path.relative_to(self.root))] = _described(path)
        return out


def _described(path: Path) -> tuple[object, ...]:
    status = path.lstat()
    attributes = {n: os.getxattr(path, n, follow_symlinks=False) for n in os.listxattr(path, follow_symlinks=False)}
    shown = {name: value for name, value in attributes.items() if not name.startswith("trusted.overlay")}
    content: object = ""
    if path.is_symlink():
        content = os.readlink(path)
    elif path.is_file():
        content = path.read_bytes()
    return status.st_mode, status.st_uid, status.st_gid, tuple(sorted(shown.items())), content


def environment(more: Mapping[str, str]) -> dict[str, str]:
    """The environment for a client program: nothing of this user's own agent or configuration."""
    kept = {k: v for k, v in os.environ.items() if k not in ("SSH_AUTH_SOCK", "SSH_CONNECTION", "SSH_CLIENT")}
    return {**kept, **more}
