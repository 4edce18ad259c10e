"""What a lab guest owns of its root: the files laid over the machine's own root before it starts.

The lower layer gives programs only. Homes, accounts, keys and units are the guest's own; folders that could show
something of this machine are hidden.
"""

from __future__ import annotations

import contextlib
import os
import stat
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from nightlatch.lab.tools import run

HIDDEN = tuple(
    """
    /home /root /srv /opt /etc/systemd/system /etc/ssh/sshd_config.d /etc/sudoers.d /etc/netplan /etc/network
    /etc/NetworkManager /etc/systemd/network /var/lib/dhcp /var/lib/misc /var/lib/NetworkManager
    /var/lib/nightlatch /var/log
""".split()
)
SYSTEM = ("bin", "boot", "dev", "etc", "lib", "lib32", "lib64", "libx32", "proc", "run", "sbin", "sys", "tmp", "usr", "var")
KEPT_UNITS = (
    "systemd-journald",
    "systemd-tmpfiles-setup.service",
    "dbus",
    "systemd-logind",
    "systemd-user-sessions",
    "systemd-update-utmp",
    "systemd-journal",
)
UNITS, GENERATORS = "lib/systemd/system", "lib/systemd/system-generators"
KEPT_GENERATORS = ("netplan", "systemd-sysv-generator", "postgresql-generator")
PASSWORD = "tide-gauge-7"


@dataclass(frozen=True)
class Account:
    """One account of a lab guest. `password` is clear text, hashed when it is written; empty for none that opens."""

    name: str
    uid: int
    password: str = ""
    shell: str = "/bin/bash"
    groups: tuple[str, ...] = ()
    keys: str = ""


class Image:
    """The upper layer of a guest's root, under construction in `folder`; `programs` are trees of unpacked packages between it and
    the lower root, the first above the others."""

    def __init__(self, folder: Path, lower: Path = Path("/"), programs: tuple[Path, ...] = ()) -> None:
        self.folder, self.lower, self.programs = folder, lower, programs
        self.hashes: dict[str, str] = {}
        for path in HIDDEN:
            self.hidden(path)
        for found in lower.iterdir():
            if found.name not in SYSTEM and f"/{found.name}" not in HIDDEN:
                self.removed(found)
        self.folder.chmod(0o755)

    def path(self, path: str) -> Path:
        """Where a path of the guest lies while the image is made; the folders above it are made."""
        target = self.folder / path.lstrip("/")
        missing = [p for p in target.parents if not p.exists()]
        for above in reversed(missing):
            above.mkdir(mode=0o755)
            above.chmod(0o755)
            like = self.lower / above.relative_to(self.folder)
            with contextlib.suppress(OSError):
                found = os.stat(like)
                os.chown(above, found.st_uid, found.st_gid)
                os.chmod(above, found.st_mode & 0o7777)
        return target

    def hidden(self, path: str) -> None:
        """An empty folder in place of what the lower layer has there (overlay: an opaque directory)."""
        target = self.path(path)
        target.mkdir(exist_ok=True)
        target.chmod(0o700 if path == "/root" else 0o755)
        os.setxattr(target, "trusted.overlay.opaque", b"y")

    def removed(self, found: Path) -> None:
        """Something of the lower layer's top that is no part of a system (overlay: a whiteout for what is no folder)."""
        if found.is_dir() and not found.is_symlink():
            self.hidden(f"/{found.name}")
        else:
            os.mknod(self.path(f"/{found.name}"), stat.S_IFCHR, os.makedev(0, 0))

    def write(self, path: str, content: str | bytes, mode: int = 0o644, uid: int = 0, gid: int = 0) -> None:
        """A file of the guest."""
        target = self.path(path)
        target.write_bytes(content.encode() if isinstance(content, str) else content)
        os.chown(target, uid, gid)
        target.chmod(mode)

    def own(self, path: str, mode: int, uid: int, gid: int) -> None:
        """Mode and owner of a folder, made where it is missing."""
        target = self.path(path)
        target.mkdir(exist_ok=True)
        os.chown(target, uid, gid)
        target.chmod(mode)

    def link(self, path: str, target: str) -> None:
        """A symbolic link."""
        place = self.path(path)
        place.unlink(missing_ok=True)
        place.symlink_to(target)

    def units(self, *wanted: str) -> None:
        """Only what a small guest needs is started, and the units named here."""
        for folder in (self.lower / UNITS).glob("*.target.wants"):
            for unit in folder.iterdir():
                if not unit.name.startswith(KEPT_UNITS):
                    self.link(f"/etc/systemd/system/{unit.name}", "/dev/null")
        # Each of them is a process at every start and at every reload of the manager (systemd.generator(7)).
        for generator in (self.lower / GENERATORS).glob("*"):
            if generator.name not in KEPT_GENERATORS:
                self.link(f"/etc/systemd/system-generators/{generator.name}", "/dev/null")
        for unit_name in wanted:
            kind = "sockets" if unit_name.endswith(".socket") else "multi-user"
            self.link(f"/etc/systemd/system/{kind}.target.wants/{unit_name}", f"/lib/systemd/system/{unit_name}")

    def accounts(self, people: list[Account], *, root_keys: str = "", numbers: Mapping[str, int] | None = None) -> None:
        """passwd, shadow and group: the system's own accounts of the lower layer, and these; `numbers` are of groups."""
        lower = (self.lower / "etc/passwd").read_text().splitlines()
        system = [line for line in lower if int(line.split(":")[2]) < 1000 or line.startswith("nobody:")]
        passwd = ["root:x:0:0:root:/root:/bin/bash", *[line for line in system if not line.startswith("root:")]]
        shadow = [f"{line.split(':')[0]}:*:19800:0:99999:7:::" for line in passwd]
        group = [
            ":".join([*line.split(":")[:3], ""])
            for line in (self.lower / "etc/group").read_text().splitlines()
            if int(line.split(":")[2]) < 1000 or line.startswith("nogroup:")
        ]
        members: dict[str, list[str]] = {}
        for each in people:
            passwd.append(f"{each.name}:x:{each.uid}:{each.uid}::/home/{each.name}:{each.shell}")
            shadow.append(f"{each.name}:{self.hash(each.password)}:20400:0:99999:7:::")
            group.append(f"{each.name}:x:{each.uid}:")
            for name in each.groups:
                members.setdefault(name, []).append(each.name)
            self.home(each)
        if root_keys:
            self.write("/root/.ssh/authorized_keys", root_keys, 0o600)
            self.own("/root/.ssh", 0o700, 0, 0)
        known = {line.split(":")[0] for line in group}
        group += [f"{name}:x:{(numbers or {}).get(name, 3000 + n)}:" for n, name in enumerate(members) if name not in known]
        group = [line + ",".join(members.get(line.split(":")[0], [])) for line in group]
        for name, lines, mode in (("passwd", passwd, 0o644), ("group", group, 0o644), ("shadow", shadow, 0o640)):
            self.write(f"/etc/{name}", "\n".join(lines) + "\n", mode)

    def home(self, each: Account) -> None:
        """A home with its keys."""
        home = f"/home/{each.name}"
        self.own(home, 0o755, each.uid, each.uid)
        self.own(f"{home}/.ssh", 0o700, each.uid, each.uid)
        if each.keys:
            self.write(f"{home}/.ssh/authorized_keys", each.keys, 0o600, each.uid, each.uid)

    def hash(self, password: str) -> str:
        """The password field of shadow(5)."""
        if not password:
            return "*"
        if password not in self.hashes:
            self.hashes[password] = run("openssl", "passwd", "-6", "-stdin", stdin=password + "\n").strip()
        return self.hashes[password]

    def host_key(self, kind: str = "ed25519") -> str:
        """Make a host key; returns its public line."""
        private = self.path(f"/etc/ssh/ssh_host_{kind}_key")
        private.unlink(missing_ok=True)
        run("ssh-keygen", "-q", "-t", kind, "-N", "", "-C", "lab", "-f", str(private))
        return Path(f"{private}.pub").read_text().strip()

    def base(self, name: str, *, pam: bool = True) -> None:
        """The files that every guest has: its name, a plain sshd configuration, and sudo for the group sudo."""
        for kind in ("rsa", "ecdsa"):
            for half in ("", ".pub"):
                self.write(f"/etc/ssh/ssh_host_{kind}_key{half}", "", 0o600)
        self.write("/etc/hostname", f"{name}\n")
        self.write("/etc/hosts", f"127.0.0.1 localhost\n127.0.1.1 {name}\n")
        self.write("/etc/machine-id", os.urandom(16).hex() + "\n", 0o444)
        self.write("/etc/ssh/sshd_config", CONFIG.format(pam="yes" if pam else "no"))
        self.write("/etc/sudoers", SUDOERS, 0o440)
        self.write("/etc/sudoers.d/README", "# rules of their own go into files here\n", 0o440)
        self.own("/var/log/journal", 0o755, 0, 0)


CONFIG = """\
Include /etc/ssh/sshd_config.d/*.conf
HostKey /etc/ssh/ssh_host_ed25519_key
UsePAM {pam}
KbdInteractiveAuthentication no
PrintMotd no
AcceptEnv LANG LC_*
Subsystem sftp /usr/lib/openssh/sftp-server
"""
SUDOERS = """\
Defaults env_reset
Defaults secure_path="/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
root ALL=(ALL:ALL) ALL
%sudo ALL=(ALL:ALL) ALL
@includedir /etc/sudoers.d
"""
