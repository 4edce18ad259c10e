"""Lab guests for the tests: the station's networks, an administrator's desk, and guests in a few words."""

from __future__ import annotations

import json
import shlex
import subprocess
import sys
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from nightlatch.lab.image import PASSWORD, Account
from nightlatch.lab.labs import Lab
from nightlatch.lab.machine import Guest, Node, environment
from nightlatch.lab.tools import run
from nightlatch.transports.ssh import Client
from tests.commands import Commands

ROOT = Path(__file__).parents[2]
# A key exchange against quantum computers takes a tenth of a second of a processor, and is not what these logins try.
DEBIAN_13 = Path("/var/cache/nightlatch-lab/debian-13")  # tools/release-tree.sh
QUICK = "KexAlgorithms=curve25519-sha256"
KEYS = ("desk", "mara", "joon", "other")
NETWORKS = {
    "isle": ("192.168.56.254/24", "2001:db8:56::fe/64"),
    "bench": ("192.168.40.254/24", "2001:db8:40::fe/64"),
    "field": ("203.0.113.254/24",),
}
HEAD = """\
nightlatch: 1
estate: Station
places: {bench: [192.168.40.0/24, "2001:db8:40::/64"], field: [203.0.113.0/24]}
people: {mara: {keys: [mara.pub]}, joon: {keys: [joon.pub]}}
"""


@dataclass
class Station:
    """A lab with a desk on the bench network; `folder` holds keys, the estate file and a client configuration."""

    lab: Lab
    folder: Path
    desk: Node = field(init=False)
    commands: Commands = field(init=False)
    keys: dict[str, str] = field(default_factory=dict)
    host_keys: dict[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for name, gateways in NETWORKS.items():
            self.lab.network(name, *gateways)
        self.desk = self.lab.node("desk", {"bench": ["192.168.40.7/24", "2001:db8:40::7/64"]})
        self.commands = Commands(*self.desk.words())
        for name in KEYS:
            run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", f"{name}-key", "-f", str(self.folder / name))
            self.keys[name] = (self.folder / f"{name}.pub").read_text().strip()
        (self.folder / "ssh_config").write_text(
            f"Host *\n    IdentitiesOnly yes\n    IdentityFile {self.folder}/desk\n    UserKnownHostsFile /dev/null\n"
            f"    {QUICK.replace('=', ' ')}\n"
        )

    def guest(
        self,
        name: str,
        address: str = "192.168.56.21",
        *,
        unit: str = "ssh.service",
        bare: bool = False,
        config: str = "",
        sudo: str = "keeper ALL=(ALL) NOPASSWD: ALL\n",
        more: list[Account] | None = None,
        pam: bool = True,
        size: str = "",
        lower: Path = Path("/"),
        programs: tuple[Path, ...] = (),
    ) -> Guest:
        """A guest with keeper (management access), mara and joon; not booted. `lower` is the system it has its programs of."""
        last = address.rsplit(".", 1)[1]
        links = {"isle": [f"{address}/24", f"2001:db8:56::{last}/64"]}
        made = self.lab.guest(name, links, bare=bare, size=size, lower=lower, programs=programs)
        made.image.base(name, pam=pam)
        if size:
            made.image.write("/etc/systemd/journald.conf", "[Journal]\nStorage=volatile\n")
        made.image.accounts(
            [
                Account("keeper", 1000, PASSWORD, groups=("sudo",), keys=self.keys["desk"] + "\n"),
                Account("mara", 1001, PASSWORD, keys=self.keys["mara"] + "\n"),
                Account("joon", 1002, keys=self.keys["joon"] + "\n"),
                *(more or []),
            ]
        )
        made.image.units(*([unit] if unit else []))
        made.image.write("/etc/sudoers.d/keeper", sudo, 0o440)
        if config:
            made.image.write("/etc/ssh/sshd_config.d/10-station.conf", config)
        public = made.image.host_key()
        self.host_keys[name] = run("ssh-keygen", "-l", "-f", "-", stdin=public).split()[1]
        return made

    def client(self, **more: Any) -> Client:
        """A client for this process whose ssh runs at the desk, with only the desk's keys."""
        program = self.folder / "ssh-at-desk"
        if not program.exists():
            program.write_text(f'#!/bin/sh\nexec {shlex.join(self.desk.words())} ssh "$@"\n')
            program.chmod(0o755)
        return Client(self.folder / "ssh_config", program=str(program), **more)

    def estate(
        self,
        grants: str,
        *,
        via: dict[str, str] | None = None,
        pins: dict[str, str] | None = None,
        more: str = "",
        others: dict[str, str] | None = None,
        labels: dict[str, str] | None = None,
    ) -> Path:
        """The estate file of all guests of the lab; `via`, `pins`, `labels` are for single guests, `others` need no lab guest."""
        lines = [f'  {name}: {{via: {way}, host_keys: ["SHA256:{"A" * 43}"]}}\n' for name, way in (others or {}).items()]
        for name, guest in self.lab.guests.items():
            address = guest.run("ip", "-o", "-4", "addr", "show", "eth0").split()[3].split("/")[0]
            way = (via or {}).get(name, f"{{ssh: {address}, as: keeper, key: desk.pub, from: bench}}")
            pin = (pins or {}).get(name, self.host_keys[name])
            label = (labels or {}).get(name, "lab")
            lines.append(f'  {name}: {{via: {way}, host_keys: ["{pin}"], labels: [{label}]}}\n')
        sentences = "".join(f"  - {{{line.strip()}}}\n" for line in grants.strip().splitlines())
        path = self.folder / "estate.yaml"
        path.write_text(HEAD + "guests:\n" + "".join(lines) + "grants:\n" + sentences + more)
        return path

    def close(self) -> None:
        """End what runs at the desk."""
        self.commands.close()

    def words(self, *words: str) -> list[str]:
        """The command line of nightlatch at the desk."""
        return self.desk.words(sys.executable, "-m", "nightlatch.cli", *words)

    def nightlatch(self, *words: str, code: int | None = 0, stdin: str | None = None, timeout: float = 90) -> str:
        """Run nightlatch at the desk in the station's folder; returns all it printed."""
        env = environment({"PYTHONPATH": str(ROOT / "src")})
        done = self.commands.run(*words, cwd=self.folder, env=env, stdin=stdin, timeout=timeout)
        out = done.stdout + done.stderr
        assert code is None or done.returncode == code, f"exit {done.returncode}\n{out}"
        return out

    def json(self, *words: str, code: int | None = 0) -> dict[str, object]:
        """The same, as JSON."""
        found = json.loads(self.nightlatch(*words, "--format", "json", code=code))
        assert isinstance(found, dict)
        return found

    def login(
        self,
        guest: Guest,
        account: str = "keeper",
        key: str = "desk",
        *,
        node: Node | None = None,
        options: tuple[str, ...] = (),
    ) -> bool:
        """One real login over the lab's network."""
        address = guest.run("ip", "-o", "-4", "addr", "show", "eth0").split()[3].split("/")[0]
        words = ssh("BatchMode=yes", "IdentitiesOnly=yes", "ConnectTimeout=5", "LogLevel=ERROR")
        words += ["-i", str(self.folder / key), *options, f"{account}@{address}", "echo", "in"]
        done = subprocess.run(
            (node or self.desk).words(*words),
            capture_output=True,
            text=True,
            timeout=60,
            stdin=subprocess.DEVNULL,
            env=environment({}),
        )
        return done.stdout == "in\n"


def ssh(*options: str) -> list[str]:
    """The system's client with these options, and nothing of this user's own."""
    stated = ("StrictHostKeyChecking=no", "UserKnownHostsFile=/dev/null", QUICK, *options)
    return ["ssh", "-F", "none", *(word for each in stated for word in ("-o", each))]


def interruptible(words: list[str]) -> list[str]:
    """The command with Ctrl-C as at a terminal, even when the tests were started in the background, where it is ignored."""
    reset = "import os, signal, sys; signal.signal(signal.SIGINT, signal.SIG_DFL); os.execvp(sys.argv[1], sys.argv[1:])"
    return [sys.executable, "-c", reset, *words]
