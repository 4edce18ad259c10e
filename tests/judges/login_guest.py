"""A throw-away guest in namespaces of its own: the machine's root with another /etc and /home, and a real sshd on it.

Runs as a process inside `unshare --mount --net --pid`; nothing it does is seen outside, and the kernel ends all its
processes with it. Used by `login_driver.py`.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import time
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path

GUEST = "192.168.56.21"
BENCH, FIELD, V6 = "192.168.40.7", "203.0.113.9", "2001:db8:40::5"
GUEST6 = "2001:db8:56::21"
SOURCES = {"bench": BENCH, "field": FIELD, "six": V6, "ten": "10.0.0.1"}
PASSWORD = "tide-gauge-7"


def run(*words: str, stdin: str | None = None, check: bool = True) -> str:
    return subprocess.run(words, input=stdin, capture_output=True, text=True, check=check, timeout=30).stdout


@dataclass
class Person:
    """An account to be made; `shadow` are the fields behind the password."""

    name: str
    uid: int
    password: str = "HASH"
    shell: str = "/bin/bash"
    groups: tuple[str, ...] = ()
    shadow: str = "19800:0:99999:7:::"
    keys: str = ""
    home_mode: int = 0o755
    key_mode: int = 0o600
    folder_mode: int = 0o700
    owner: int | None = None
    key_owner: int | None = None


@dataclass
class Scene:
    """Everything that makes one guest: sshd_config and other files, and accounts."""

    config: str
    people: list[Person]
    files: dict[str, str] = field(default_factory=dict)
    modes: dict[str, int] = field(default_factory=dict)
    pam: bool = False


class Guest:
    """The namespaces are entered already when this is made."""

    def __init__(self, work: Path) -> None:
        self.work = work
        self.daemon: subprocess.Popen[bytes] | None = None
        run("mount", "-t", "tmpfs", "tmpfs", str(work))
        self._overlay("/etc")
        self._overlay("/var/lib")
        for folder in ("/home", "/srv", "/run"):
            run("mount", "-t", "tmpfs", "tmpfs", folder)
            os.chmod(folder, 0o755)
        os.makedirs("/run/sshd")
        run("ip", "link", "set", "lo", "up")
        for address in (GUEST, *SOURCES.values(), GUEST6):
            length, more = ("128", ["nodad"]) if ":" in address else ("32", [])
            run("ip", "addr", "add", f"{address}/{length}", "dev", "lo", *more)
        self.hash = run("openssl", "passwd", "-6", "-stdin", stdin=PASSWORD + "\n").strip()
        self._keys()

    def _overlay(self, target: str) -> None:
        upper, spare = (self.work / f"{kind}{target.replace('/', '-')}" for kind in ("upper", "spare"))
        upper.mkdir()
        spare.mkdir()
        run("mount", "-t", "overlay", "overlay", "-o", f"lowerdir={target},upperdir={upper},workdir={spare}", target)

    def _keys(self) -> None:
        keys = self.work / "keys"
        keys.mkdir()
        for name, kind, bits in (
            ("ed", "ed25519", "256"),
            ("ec", "ecdsa", "256"),
            ("rsa", "rsa", "2048"),
            ("weak", "rsa", "1024"),
            ("other", "ed25519", "256"),
            ("ca", "ed25519", "256"),
        ):
            run("ssh-keygen", "-q", "-t", kind, "-b", bits, "-N", "", "-C", name, "-f", str(keys / name))
        for name, principals in (("mara", ["-n", "mara"]), ("charts", ["-n", "charts"]), ("nobody", [])):
            shutil.copy(keys / "ed", keys / f"cert-{name}")
            shutil.copy(keys / "ed.pub", keys / f"cert-{name}.pub")
            run("ssh-keygen", "-q", "-s", str(keys / "ca"), "-I", name, *principals, str(keys / f"cert-{name}.pub"))

    def public(self, name: str) -> str:
        return (self.work / "keys" / f"{name}.pub").read_text().strip()

    def set_up(self, scene: Scene) -> None:
        """Write the guest's files and start sshd."""
        self.stop()
        shutil.rmtree("/etc/ssh", ignore_errors=True)
        os.makedirs("/etc/ssh/sshd_config.d")
        # Units of this machine would be read as the guest's own, filters among them.
        shutil.rmtree("/etc/systemd/system", ignore_errors=True)
        os.makedirs("/etc/systemd/system")
        for path in ("/etc/nologin",):
            if os.path.exists(path):
                os.unlink(path)
        for folder in ("/home", "/srv"):
            for name in os.listdir(folder):
                shutil.rmtree(f"{folder}/{name}")
        run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", "/etc/ssh/ssh_host_ed25519_key")
        head = "HostKey /etc/ssh/ssh_host_ed25519_key\nMaxStartups 100\nMaxAuthTries 20\n"
        Path("/etc/ssh/sshd_config").write_text(head + f"UsePAM {'yes' if scene.pam else 'no'}\n" + self.fill(scene.config))
        self._accounts(scene.people)
        for name, text in scene.files.items():
            Path(name).parent.mkdir(parents=True, exist_ok=True)
            Path(name).write_text(self.fill(text))
        for name, mode in scene.modes.items():
            os.chmod(name, mode)
        self.start()

    def fill(self, text: str) -> str:
        for name in ("ed", "ec", "rsa", "weak", "other", "ca"):
            text = text.replace(f"<{name}>", self.public(name))
        return text

    def _accounts(self, people: Iterable[Person]) -> None:
        passwd = [
            "root:x:0:0:root:/home/root:/bin/bash",
            "sshd:x:101:65534::/run/sshd:/usr/sbin/nologin",
            "daemon:x:1:1::/:/usr/sbin/nologin",
        ]
        shadow = [f"root:{self.hash}:19800:0:99999:7:::", "sshd:!:19800::::::", "daemon:*:19800:0:99999:7:::"]
        group = ["root:x:0:", "daemon:x:1:", "nogroup:x:65534:", "shadow:x:42:"]
        extra: dict[str, list[str]] = {}
        for each in people:
            if each.uid:
                passwd.append(f"{each.name}:x:{each.uid}:{each.uid}::/home/{each.name}:{each.shell}")
                if each.password != "NONE":
                    shadow.append(f"{each.name}:{each.password.replace('HASH', self.hash)}:{each.shadow}")
                group.append(f"{each.name}:x:{each.uid}:")
            for name in each.groups:
                extra.setdefault(name, []).append(each.name)
            self._home(each)
        group += [f"{name}:x:{3000 + i}:{','.join(members)}" for i, (name, members) in enumerate(extra.items())]
        for name, lines, mode in (("passwd", passwd, 0o644), ("group", group, 0o644), ("shadow", shadow, 0o600)):
            Path(f"/etc/{name}").write_text("\n".join(lines) + "\n")
            os.chmod(f"/etc/{name}", mode)

    def _home(self, each: Person) -> None:
        home = Path(f"/home/{each.name}")
        ssh = home / ".ssh"
        shutil.rmtree(ssh, ignore_errors=True)
        ssh.mkdir(parents=True, exist_ok=True)
        (ssh / "authorized_keys").write_text(self.fill(each.keys))
        for path, mode in ((home, each.home_mode), (ssh, each.folder_mode), (ssh / "authorized_keys", each.key_mode)):
            owner = each.uid if each.owner is None or path != home else each.owner
            if path == ssh / "authorized_keys" and each.key_owner is not None:
                owner = each.key_owner
            os.chown(path, owner, each.uid)
            os.chmod(path, mode)

    def start(self) -> None:
        log = open(self.work / "log", "wb")  # noqa: SIM115 - the daemon keeps it
        self.daemon = subprocess.Popen(["/usr/sbin/sshd", "-D", "-e"], stdout=log, stderr=log)
        for _ in range(200):
            if self.daemon.poll() is not None:
                return
            if ":22 " in run("ss", "-ltn"):
                return
            time.sleep(0.01)

    def stop(self) -> None:
        if self.daemon is not None and self.daemon.poll() is None:
            self.daemon.kill()
            self.daemon.wait(10)

    def log(self) -> str:
        return (self.work / "log").read_text(errors="replace")

    def attempt(self, user: str, how: str, source: str) -> bool:
        """One real login: `how` is "key ed", "cert mara", "password", "kbd", "none", or parts joined by "+"."""
        parts = how.split("+")
        methods: list[str] = []
        words = ["ssh", "-F", "none", "-v", "-T", "-b", SOURCES[source], "-o", "ConnectTimeout=5"]
        words += ["-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "IdentitiesOnly=yes"]
        words += ["-o", "KexAlgorithms=curve25519-sha256", "-o", "NumberOfPasswordPrompts=1"]
        identity = False
        for part in parts:
            kind, _, name = part.partition(" ")
            if kind in ("key", "cert"):
                methods.append("publickey")
                file = self.work / "keys" / (name if kind == "key" else f"cert-{name}")
                words += ["-i", str(file)]
                identity = True
            else:
                methods.append({"password": "password", "kbd": "keyboard-interactive"}.get(kind, ""))
        if not identity:
            words += ["-o", "PubkeyAuthentication=no"]
        wanted = ",".join(dict.fromkeys(m for m in methods if m)) or "password"
        words += ["-o", f"PreferredAuthentications={wanted}", f"{user}@{GUEST6 if source == 'six' else GUEST}", "true"]
        ask = self.work / "ask"
        ask.write_text(f"#!/bin/sh\necho {PASSWORD if how != 'none' else 'wrong'}\n")
        ask.chmod(0o700)
        env = {**os.environ, "SSH_ASKPASS": str(ask), "SSH_ASKPASS_REQUIRE": "force", "HOME": str(self.work)}
        env.pop("SSH_AUTH_SOCK", None)
        done = subprocess.run(words, capture_output=True, text=True, env=env, timeout=20, stdin=subprocess.DEVNULL)
        # "Authenticated" alone is not enough: a bad ChrootDirectory ends the connection right after it.
        return (
            "Authenticated to" in done.stderr
            and "Entering interactive session" in done.stderr
            and (
                ("Sending command" in done.stderr and "Connection closed by" not in done.stderr.split("Authenticated to")[1])
                or done.returncode != 255
            )
        )
