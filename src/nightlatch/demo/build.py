"""Write the four guests of Skerry Point as folders: small Debian roots with what SSH needs, and one story each."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path

from nightlatch.demo.filters import FILTERS

HERE = Path(__file__).parent / "skerry"
HASH = "$y$j9T$c2tlcnJ5cG9pbnQ1$Zm9yLWRlbW8tb25seS1ub3QtYS1yZWFsLWhhc2gtMTIzNA"
PEOPLE = {"keeper": 1000, "mara": 1001, "joon": 1002, "charts": 1003, "copier": 1004, "lantern": 1010}
PAM = {
    "sshd": "@include common-auth\naccount required pam_nologin.so\n@include common-account\n@include common-session\n",
    "common-auth": (
        "auth [success=1 default=ignore] pam_unix.so nullok\nauth requisite pam_deny.so\nauth required pam_permit.so\n"
    ),
    "common-account": (
        "account [success=1 new_authtok_reqd=done default=ignore] pam_unix.so\n"
        "account requisite pam_deny.so\naccount required pam_permit.so\n"
    ),
    "common-session": "session required pam_unix.so\n",
}


STATUS = """\
Package: openssh-server
Status: install ok installed
Version: 1:9.2p1-2+deb12u3

Package: sudo
Status: install ok installed
Version: 1.9.13p3
"""
SUDOERS = """\
Defaults env_reset
root ALL=(ALL:ALL) ALL
%sudo ALL=(ALL:ALL) ALL
keeper ALL=(ALL:ALL) NOPASSWD: ALL
"""


@dataclass
class Story:
    """What makes one guest different: extra files, modes, and groups of accounts."""

    name: str
    files: dict[str, str] = field(default_factory=dict)
    modes: dict[str, tuple[int, int, int]] = field(default_factory=dict)  # mode, uid, gid
    passwords: tuple[str, ...] = ("lantern", "mara")
    twin: str = ""  # the guest whose host key it has: both are copies of one image


def public(name: str, keys: Path = HERE / "keys") -> str:
    """A public key of the station, one line."""
    path = HERE / f"{name}.pub"
    return (path if path.exists() else keys / f"{name}.pub").read_text().strip()


def key_lines(keys: Path = HERE / "keys") -> dict[str, str]:
    """The key files as they should be."""
    bench = 'from="192.168.40.0/24,2001:db8:40::/64"'

    key = partial(public, keys=keys)
    return {
        "keeper": f"{bench} {key('keeper')}\n",
        "mara": f"{bench} {key('mara-desk')}\n{bench} {key('mara-token')}\n",
        "joon": f"# joon's desk\n{bench} {key('joon-desk')}\n",
        "lantern": f"{bench} {key('lantern')}\n",
        "copier": f'from="192.168.56.109",restrict,command="/usr/local/bin/copy-out" {key("nightcopy")}\n',
        "charts": f'cert-authority,principals="tove",from="203.0.113.20",restrict {key("skerry-users")}\n',
    }


STARTED = "/etc/systemd/system/multi-user.target.wants"
DISPLAY = "/etc/systemd/system/tide-web.service"
# How each guest comes by its address: by four systems, for that is how stations grow.
INTERFACES = """\
auto lo
iface lo inet loopback

# the cable along the pier
auto enp0s8
iface enp0s8 inet static
    address 192.168.56.21/24
    gateway 192.168.56.254
    dns-nameservers 192.168.56.254
"""
PROFILE = """\
[connection]
id=pier
uuid=7f1d0c52-3a86-4e0b-9c55-0d6f2a9be022
type=ethernet
interface-name=enp0s8

[ethernet]
mac-address=52:54:00:38:00:22

[ipv4]
method=manual
address1=192.168.56.22/24,192.168.56.254
dns=192.168.56.254;

[ipv6]
method=disabled
"""
PLAN = """\
network:
  version: 2
  ethernets:
    enp0s3:
      dhcp4: true            # the mobile router, when it is plugged in
    enp0s8:
      addresses: [192.168.56.23/24]
      nameservers: {addresses: [192.168.56.254]}
      routes:
        - {to: default, via: 192.168.56.254}
"""
MANAGED = {
    "/etc/NetworkManager/system-connections/pier.nmconnection": PROFILE,
    "/usr/sbin/NetworkManager": "",
    f"{STARTED}/NetworkManager.service": "",
    "/etc/machine-id": "6c1f8a52e0b94d7d8f00c2a19be5d022\n",
}
NETWORKS = {
    "gauge": {
        "/etc/network/interfaces": INTERFACES,
        "/sbin/ifup": "",
        f"{STARTED}/networking.service": "",
        "/etc/machine-id": "0b7fd3a9c1264e58a1d34f6e9c80a021\n",
    },
    "gate": MANAGED,
    # copied from gate, settings and all; and the old display starts at boot
    "chartbox": {**MANAGED, f"{STARTED}/tide-web.service": ""},
    "plotter": {
        "/etc/netplan/50-pier.yaml": PLAN,
        "/usr/sbin/netplan": "",
        "/lib/systemd/systemd-networkd": "",
        "/etc/machine-id": "f49b6d0c7a3148c2b65de1709f42c023\n",
        "/etc/hosts": "127.0.0.1 localhost\n127.0.1.1 plotter\n192.168.56.24 chartbox\n",
    },
}
CHARTS = """\
# tove fetches charts, and nothing else
Match User charts
    ChrootDirectory /srv/charts
    ForceCommand internal-sftp
"""
IMAGE = "# written when the image was made\nPasswordAuthentication yes\n"
CREW = (
    "# Tablets on the bench have no key store.\nMatch Address 192.168.40.0/24\n    PasswordAuthentication yes\n"
    "\n# Root never logs in by name.\nPermitRootLogin no\n"
)


def stories() -> list[Story]:
    """The four guests."""
    return [
        Story("gauge"),
        Story(
            "gate",
            {"/etc/ssh/sshd_config.d/50-image.conf": IMAGE, "/home/charts/.ssh/authorized_keys": ""},
            passwords=("lantern", "mara", "keeper"),
        ),
        Story(
            "plotter",
            {"/etc/ssh/sshd_config.d/40-charts.conf": CHARTS},
            {"/home/joon/.ssh/authorized_keys": (0o664, PEOPLE["joon"], 2001)},
        ),
        Story(
            "chartbox",
            {
                "/etc/ssh/sshd_config.d/20-crew.conf": CREW,
                DISPLAY: "[Service]\nExecStart=/usr/bin/python3 -m http.server 8080\n\n[Install]\nWantedBy=multi-user.target\n",
                "/root/.ssh/authorized_keys": public("old-laptop") + "\n",
                "/home/copier/.ssh/authorized_keys": "",
                "/home/charts/.ssh/authorized_keys": "",
            },
            passwords=("lantern", "mara", "joon"),
            twin="gate",
        ),
    ]


def build(folder: Path) -> Path:
    """Write estate file, keys and guests into a new folder; returns the estate file's path. Raises FileExistsError."""
    folder.mkdir(parents=True)
    shutil.copy(HERE / "estate.yaml", folder / "estate.yaml")
    shutil.copytree(HERE / "keys", folder / "keys")
    shutil.copytree(HERE / "outer", folder / "outer")
    host_keys: dict[str, tuple[bytes, bytes]] = {}
    for story in stories():
        host_keys[story.name] = host_keys[story.twin] if story.twin else _host_key(story.name)
        _guest(folder / "images" / story.name, story, host_keys[story.name])
    return folder / "estate.yaml"


def write_guest(root: Path, story: Story, programs: Iterable[str] = (), passwd: str = "", group: str = "") -> None:
    """Write one guest more: its story, with `programs` and lines of passwd(5) and group(5) beside the usual ones."""
    _guest(root, story, _host_key(story.name))
    for program in programs:
        _write(root, program, b"# stands for the program\n", {program: (0o755, 0, 0)})
    for name, lines in (("passwd", passwd), ("group", group)):
        with (root / "etc" / name).open("a") as stream:
            stream.write(lines)


def _host_key(name: str) -> tuple[bytes, bytes]:
    from cryptography.hazmat.primitives import serialization
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    key = Ed25519PrivateKey.generate()
    private = key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.OpenSSH, serialization.NoEncryption())
    public_half = key.public_key().public_bytes(serialization.Encoding.OpenSSH, serialization.PublicFormat.OpenSSH)
    return private, public_half + f" root@{name}\n".encode()


def _guest(root: Path, story: Story, host_key: tuple[bytes, bytes]) -> None:
    files = {**_base(story), **told_files(story)}
    for path, text in files.items():
        _write(root, path, text.encode(), story.modes)
    _write(root, "/etc/ssh/ssh_host_ed25519_key", host_key[0], {"/etc/ssh/ssh_host_ed25519_key": (0o600, 0, 0)})
    _write(root, "/etc/ssh/ssh_host_ed25519_key.pub", host_key[1], {})
    for program in (
        "/usr/sbin/sshd",
        "/usr/bin/sudo",
        "/bin/bash",
        "/bin/sh",
        "/usr/sbin/nologin",
        "/usr/local/bin/copy-out",
    ):
        _write(root, program, b"# stands for the program\n", {program: (0o755, 0, 0)})
    (root / "srv/charts").mkdir(parents=True, exist_ok=True)


def told_files(story: Story, keys: Path = HERE / "keys") -> dict[str, str]:
    """The key files of a guest and what makes its story, by path."""
    files = {**{f"/home/{n}/.ssh/authorized_keys": t for n, t in key_lines(keys).items()}, **story.files}
    if story.name in ("gate", "chartbox"):
        files["/home/copier/.ssh/authorized_keys"] = ""
    if story.name == "gate":
        files["/home/mara/.ssh/authorized_keys"] = (
            files["/home/mara/.ssh/authorized_keys"].partition("\n")[0] + "\n" + public("mara-token", keys) + "\n"
        )
    if story.name == "gauge":
        files["/home/charts/.ssh/authorized_keys"] = ""
    return files


def _base(story: Story) -> dict[str, str]:
    passwd = [
        "root:x:0:0:root:/root:/bin/bash",
        "daemon:x:1:1:daemon:/usr/sbin:/usr/sbin/nologin",
        "sshd:x:101:65534::/run/sshd:/usr/sbin/nologin",
    ]
    shadow = ["root:*:20400:0:99999:7:::", "daemon:*:20400:0:99999:7:::", "sshd:!:20400::::::"]
    group = ["root:x:0:", "daemon:x:1:", "sudo:x:27:mara", "nogroup:x:65534:", "boats:x:2001:joon,mara"]
    for name, uid in PEOPLE.items():
        passwd.append(f"{name}:x:{uid}:{uid}::/home/{name}:/bin/bash")
        shadow.append(f"{name}:{HASH if name in story.passwords or name == 'mara' else '*'}:20400:0:99999:7:::")
        group.append(f"{name}:x:{uid}:")
    status = STATUS
    return {
        "/etc/os-release": 'ID=debian\nVERSION_ID="12"\n',
        "/etc/hostname": f"{story.name}\n",
        "/etc/passwd": "\n".join(passwd) + "\n",
        "/etc/group": "\n".join(group) + "\n",
        "/etc/shadow": "\n".join(shadow) + "\n",
        "/etc/sudoers": SUDOERS,
        "/etc/ssh/sshd_config": (HERE / "sshd_config").read_text(),
        "/var/lib/dpkg/status": status,
        **{f"/etc/pam.d/{name}": text for name, text in PAM.items()},
        **NETWORKS.get(story.name, {}),
        **FILTERS.get(story.name, {}),
    }


def _write(root: Path, path: str, content: bytes, modes: Mapping[str, tuple[int, int, int]]) -> None:
    target = root / path.lstrip("/")
    target.parent.mkdir(parents=True, exist_ok=True)
    target.write_bytes(content)
    owner = next((uid for name, uid in PEOPLE.items() if path.startswith(f"/home/{name}/")), 0)
    secret = path.startswith(("/home/", "/root/", "/etc/netplan/", "/etc/NetworkManager/")) or path in (
        "/etc/shadow",
        "/etc/sudoers",
    )
    mode, uid, gid = modes.get(path, (0o600 if secret else 0o644, owner, owner))
    if os.geteuid() != 0 and mode & 0o020:
        mode |= 0o002  # an ordinary user can't give a file another group, so the story needs another mode
    os.chmod(target, 0o440 if path == "/etc/sudoers" else mode)
    if os.geteuid() == 0:
        os.chown(target, uid, gid)
        for folder in target.relative_to(root).parents:
            inside = folder.parts[:1] == ("home",) and len(folder.parts) > 1
            os.chown(root / folder, owner if inside else 0, owner if inside else 0)
    for folder in target.relative_to(root).parents:
        os.chmod(root / folder, 0o700 if folder.name == ".ssh" or folder.parts == ("root",) else 0o755)
