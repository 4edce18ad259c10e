"""A lab: networks joined by one router, guests and administrators' machines in them, all cleared away at the end.

Everything lies in namespaces of its own; no packet can leave them, for nothing joins them to the machine's network.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import tempfile
from collections.abc import Mapping, Sequence
from ipaddress import ip_interface
from pathlib import Path
from typing import Self

from nightlatch.lab.image import Image
from nightlatch.lab.machine import Guest, Node
from nightlatch.lab.tools import PREFIX, alive, cgroup_root, drop_cgroup, require, run, unmount_below


class Lab:
    """Use as a context manager. `network` first, then `node` and `guest`, each joined to networks by addresses."""

    def __init__(self) -> None:
        require()
        clear_dead()
        self.folder = Path(tempfile.mkdtemp(prefix=f"{PREFIX}-"))
        self.folder.chmod(0o755)
        (self.folder / "owner").write_text(str(os.getpid()))
        self.mark = self.folder.name.removeprefix(f"{PREFIX}-")
        root = cgroup_root()
        assert root is not None
        self.cgroup = root / f"{PREFIX}-{self.mark}"
        self.guests: dict[str, Guest] = {}
        self.networks: dict[str, list[str]] = {}
        self.links = 0
        (self.folder / "disk").mkdir()
        run("mount", "-t", "tmpfs", "-o", "size=2g,mode=755", "tmpfs", str(self.folder / "disk"))
        self.router = self._space("router")
        for key in ("net.ipv4.ip_forward", "net.ipv6.conf.all.forwarding"):
            self.router.run("sysctl", "-qw", f"{key}=1")

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def _space(self, name: str) -> Node:
        space = f"{PREFIX}-{self.mark}-{name}"
        run("ip", "netns", "add", space)
        node = Node(name, space)
        node.run("ip", "link", "set", "lo", "up")
        return node

    def network(self, name: str, *gateways: str) -> None:
        """A network; `gateways` are the router's addresses on it with their lengths, such as 192.168.56.254/24."""
        self.networks[name] = list(gateways)
        self.router.run("ip", "link", "add", f"br-{name}", "type", "bridge")
        for each in gateways:
            self._address(self.router, f"br-{name}", each)
        self.router.run("ip", "link", "set", f"br-{name}", "up")

    @staticmethod
    def _address(node: Node, device: str, address: str) -> None:
        node.run("ip", "addr", "add", address, "dev", device, *(["nodad"] if ":" in address else []))

    def join(self, node: Node, network: str, addresses: Sequence[str], device: str = "eth0") -> None:
        """Give a machine a link into a network."""
        self.links += 1
        outer = f"port{self.links}"
        self.router.run("ip", "link", "add", outer, "type", "veth", "peer", "name", device, "netns", node.space)
        self.router.run("ip", "link", "set", outer, "master", f"br-{network}", "up")
        for address in addresses:
            self._address(node, device, address)
        node.run("ip", "link", "set", device, "up")
        for gateway in self.networks[network]:
            via = str(ip_interface(gateway).ip)
            family = "-6" if ":" in via else "-4"
            if any((":" in address) == (family == "-6") for address in addresses):
                node.run("ip", family, "route", "add", "default", "via", via, check=False)

    def node(self, name: str, links: Mapping[str, Sequence[str]]) -> Node:
        """A machine that only calls: an administrator's, a colleague's."""
        node = self._space(name)
        self._join_all(node, links)
        return node

    def _join_all(self, node: Node, links: Mapping[str, Sequence[str]]) -> None:
        for number, (network, addresses) in enumerate(links.items()):
            self.join(node, network, addresses, f"eth{number}")

    def guest(
        self,
        name: str,
        links: Mapping[str, Sequence[str]],
        *,
        lower: Path = Path("/"),
        programs: tuple[Path, ...] = (),
        bare: bool = False,
        size: str = "",
    ) -> Guest:
        """A guest, not started yet; fill its `image` first. `programs` are trees of unpacked packages that it has, too; `size`,
        such as 2m, gives it a small disk of its own."""
        node = self._space(name)
        self._join_all(node, links)
        folder = self.folder / "disk" / name
        folder.mkdir(parents=True)
        if size:
            run("mount", "-t", "tmpfs", "-o", f"size={size},mode=755", "tmpfs", str(folder))
        (folder / "upper").mkdir()
        image = Image(folder / "upper", lower, tuple(map(self._apart, programs)))
        image.base(name)
        made = Guest(name, node.space, folder, self.cgroup / name, image, bare=bare)
        self.guests[name] = made
        return made

    def _apart(self, tree: Path) -> Path:
        """A copy of a tree on the lab's own disk: no layer of an overlay may lie inside another one."""
        copy = self.folder / "disk" / f"programs-{tree.name}"
        if not copy.exists():
            run("cp", "-a", str(tree), str(copy))
        return copy

    def close(self) -> None:
        """End all guests and clear everything away."""
        for each in self.guests.values():
            with contextlib.suppress(OSError):
                each.close()
        _clear(self.folder)


def _clear(folder: Path) -> None:
    root = cgroup_root()
    if root is not None and (root / folder.name).exists():
        drop_cgroup(root / folder.name)
    unmount_below(folder)
    for line in run("ip", "netns", "list", check=False).splitlines():
        name = line.split(" ")[0]
        if name.startswith(f"{folder.name}-"):
            run("ip", "netns", "delete", name, check=False)
    shutil.rmtree(folder, ignore_errors=True)


def clear_dead() -> None:
    """Clear away what labs left behind whose makers are dead."""
    for folder in Path(tempfile.gettempdir()).glob(f"{PREFIX}-*"):
        try:
            owner = int((folder / "owner").read_text())
        except (OSError, ValueError):
            continue
        if not alive(owner):
            _clear(folder)
