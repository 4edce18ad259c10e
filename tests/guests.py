"""Small guests and estates for the tests: made in memory or written to a folder, in a few words each."""

from __future__ import annotations

import os
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

from nightlatch.access.address_spaces import AddressSpaces
from nightlatch.access.grants import address_spaces
from nightlatch.access.paths import GuestAccess, guest_access
from nightlatch.estate.load import load
from nightlatch.estate.model import Estate
from nightlatch.evidence.snapshot import Entry, EntryKind, Snapshot
from nightlatch.readings import guest as readings

AT = datetime(2026, 11, 25, 12, tzinfo=UTC)
KEYS = Path(__file__).parent.parent / "src/nightlatch/demo/skerry/keys"
HASH = "{yescrypt}"
UIDS = {"root": 0, "mara": 1001, "joon": 1002, "keeper": 1000, "charts": 1003, "copier": 1004, "lantern": 1010}
PAM = {
    "/etc/pam.d/sshd": "auth required pam_unix.so nullok\naccount required pam_nologin.so\naccount required pam_unix.so\n",
}

# A filter that refuses what no rule lets in; {rule} stands last.
NFT = """#!/usr/sbin/nft -f
flush ruleset
table inet filter {{
	chain input {{
		type filter hook input priority filter; policy drop;
		ct state established,related accept
		iif "lo" accept
		meta l4proto {{ icmp, ipv6-icmp }} accept
		{rule}
	}}
}}
"""


def pub(name: str) -> str:
    """A public key of the sample estate, one line."""
    return (KEYS / f"{name}.pub").read_text().strip()


@dataclass
class Guest:
    """A guest in the making. `keys` are authorized_keys by account, `files` any other files, `modes` overrides."""

    config: str = ""
    keys: dict[str, str] = field(default_factory=dict)
    files: dict[str, str | bytes] = field(default_factory=dict)
    modes: dict[str, tuple[int, int, int]] = field(default_factory=dict)
    passwords: dict[str, str] = field(default_factory=dict)
    accounts: tuple[str, ...] = ("root", "mara", "joon", "keeper")
    groups: str = ""
    name: str = "gauge"
    pam: bool = False

    def contents(self) -> dict[str, bytes]:
        """All files by path."""
        passwd = [f"{n}:x:{UIDS[n]}:{UIDS[n]}::{self.home(n)}:/bin/bash" for n in self.accounts]
        shadow = [f"{n}:{self.passwords.get(n, '*')}:20000:0:99999:7:::" for n in self.accounts]
        group = [f"{n}:x:{UIDS[n]}:" for n in self.accounts]
        out: dict[str, str | bytes] = {
            "/etc/os-release": "ID=debian\n",
            "/etc/passwd": "\n".join(passwd) + "\n",
            "/etc/shadow": "\n".join(shadow) + "\n",
            "/etc/group": "\n".join(group) + "\n" + self.groups,
            "/etc/ssh/sshd_config": f"UsePAM {'yes' if self.pam else 'no'}\n{self.config}",
            **dict.fromkeys(("/usr/sbin/sshd", "/usr/bin/sudo", "/bin/bash", "/bin/sh"), ""),
            "/etc/sudoers": "root ALL=(ALL) ALL\n",
            **PAM,
            **{f"{self.home(n)}/.ssh/authorized_keys": t for n, t in self.keys.items()},
            **self.files,
        }
        return {path: text.encode() if isinstance(text, str) else text for path, text in out.items()}

    @staticmethod
    def home(account: str) -> str:
        return "/root" if account == "root" else f"/home/{account}"

    def _status(self, path: str, *, folder: bool) -> tuple[int, int, int]:
        if path in self.modes:
            return self.modes[path]
        uid = next((UIDS[n] for n in self.accounts if (path + "/").startswith(f"{self.home(n)}/")), 0)
        program = path.startswith(("/bin/", "/usr/"))
        mode = 0o755 if folder or program else 0o440 if path.startswith("/etc/sudoers") else 0o644
        return mode, uid, uid

    def snapshot(self) -> Snapshot:
        """The guest as evidence."""
        entries = {"/": Entry(EntryKind.FOLDER, 0o755)}
        for path, content in self.contents().items():
            parts = path.strip("/").split("/")
            for depth in range(1, len(parts)):
                above = "/" + "/".join(parts[:depth])
                mode, uid, gid = self._status(above, folder=True)
                entries.setdefault(above, Entry(EntryKind.FOLDER, mode, uid, gid))
            mode, uid, gid = self._status(path, folder=False)
            entries[path] = Entry(EntryKind.FILE, mode, uid, gid, len(content), content)
        for name in self.accounts:
            mode, uid, gid = self._status(self.home(name), folder=True)
            entries.setdefault("/home", Entry(EntryKind.FOLDER, 0o755))
            entries.setdefault(self.home(name), Entry(EntryKind.FOLDER, mode, uid, gid))
        folders = frozenset(path for path, entry in entries.items() if entry.kind is EntryKind.FOLDER)
        return Snapshot(self.name, entries, folders)

    def write(self, root: Path) -> Path:
        """The guest as a folder (root's rights are needed for the owners)."""
        for path, entry in sorted(self.snapshot().entries.items()):
            target = root / path.lstrip("/")
            if entry.kind is EntryKind.FOLDER:
                target.mkdir(parents=True, exist_ok=True)
            else:
                target.write_bytes(entry.content or b"")
            if os.geteuid() == 0:
                os.chown(target, entry.uid, entry.gid)
            os.chmod(target, entry.mode)
        return root

    def access(self, within: AddressSpaces | None = None, at: datetime = AT) -> GuestAccess:
        """What the guest lets in."""
        return guest_access(readings.read(self.snapshot()), at, within)


HEAD = """\
nightlatch: 1
estate: Tests
places:
  bench: [192.168.40.0/24]
  field: {inside: [10.77.0.0/16], seen_as: [203.0.113.20, 203.0.113.21]}
authorities: {skerry-users: keys/skerry-users.pub}
people:
  mara: {keys: [keys/mara-desk.pub, keys/mara-token.pub]}
  joon: {keys: [keys/joon-desk.pub]}
  tove: {certificate: {authority: skerry-users, principals: [tove]}}
teams: {crew: [mara, joon]}
robots: {nightcopy: {keys: [keys/nightcopy.pub]}}
"""


def estate(folder: Path, grants: str, *, via: str = "", more: str = "", images: str = "images/gauge") -> Estate:
    """An estate with one guest, gauge, and these grant sentences (one a line, without the leading dash)."""
    folder.mkdir(parents=True, exist_ok=True)
    if not (folder / "keys").exists():
        os.symlink(KEYS, folder / "keys")
    lines = "".join(f"  - {{{line.strip()}}}\n" for line in grants.strip().splitlines())
    guests = f"guests:\n  gauge: {{via: {{folder: {images}{via}}}, labels: [loggers]}}\n"
    path = folder / "estate.yaml"
    path.write_text(HEAD + guests + ("grants:\n" + lines if lines else "") + more)
    return load(path)


def lifted(of: Estate) -> AddressSpaces:
    """The estate's address spaces."""
    return address_spaces(of)


def listening(*rows: tuple[str, str, int, str, int]) -> dict[str, bytes]:
    """What a running guest lists of its sockets: protocol, address as ss(8) has it, port, the program's name, its process."""
    state = {"tcp": "LISTEN", "udp": "UNCONN"}
    sockets = "".join(
        f"{protocol} {state[protocol]} 0 128 {address}:{port} *:* ino:{number} sk:{number} <->\n"
        for number, (protocol, address, port, _, _) in enumerate(rows, 1000)
    )
    holders = "".join(f"{number} {row[4]}\n" for number, row in enumerate(rows, 1000))
    programs = "".join(f"{pid} {name}\n" for name, pid in dict.fromkeys((row[3], row[4]) for row in rows))
    return {"sockets": sockets.encode(), "holders": holders.encode(), "programs": programs.encode()}


def sshd(pid: int, inode: int) -> dict[str, bytes]:
    """What a running guest lists of its own sshd and of the unit that it is in."""
    group = "/system.slice/ssh.service"
    daemon = (
        f"pid {pid}\ntitle sshd: /usr/sbin/sshd -D [listener] 0 of 10-100 startups\nuids root\nparent 1\nstarted 5\n"
        f"holds {inode}\ngroup 0::{group}\nprogram /usr/sbin/sshd\nroots yes\n"
    )
    unit = f"Id=ssh.service\nNames=ssh.service\nLoadState=loaded\nActiveState=active\nUnitFileState=enabled\nMainPID={pid}\nControlGroup={group}\n"
    return {"daemons": daemon.encode(), "units": unit.encode()}
