"""Labels of ports under mandatory access control: whether a policy is enforced, and on which ports it lets sshd listen.

selinux(8), semanage-port(8). The policy's own label of SSH is port 22; what administrators added stands in ports.local,
as semanage writes it (measured: 3.4 on Debian 12). AppArmor has no labels of ports (apparmor.d(5)).
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.origin import Origin

CONFIG = "/etc/selinux/config"
OWN = 22  # the policy's own ssh_port_t
PORT = re.compile(r"\s*portcon\s+(tcp|udp)\s+([0-9]{1,5})(?:\s*-\s*([0-9]{1,5}))?\s+\S+?:\S+?:(\w+)")


@dataclass(frozen=True)
class PortLabels:
    """`mode` is enforcing, permissive or disabled, by the files, and empty where there are none. `local` are ranges of TCP
    ports with the type that was given to them here."""

    mode: str = ""
    local: tuple[tuple[int, int, str], ...] = ()
    origin: Origin | None = None

    @property
    def enforced(self) -> bool:
        """Whether a port without its label can't be listened on, after the next boot at the latest."""
        return self.mode == "enforcing"

    def lets_ssh(self, port: int) -> bool:
        """Whether the policy lets sshd listen on a port."""
        for low, high, kind in self.local:
            if low <= port <= high:
                return kind == "ssh_port_t"
        return port == OWN


def read(snapshot: Snapshot) -> PortLabels:
    """The labels of a snapshot."""
    text = (snapshot.content(CONFIG) or b"").decode("utf-8", "replace")
    mode = re.search(r"(?m)^SELINUX=(enforcing|permissive|disabled)\s*$", text)
    kind = re.search(r"(?m)^SELINUXTYPE=(\w{1,40})\s*$", text)
    if mode is None:
        return PortLabels()
    path = f"/var/lib/selinux/{kind[1] if kind else 'targeted'}/active/ports.local"
    local = [PORT.match(line) for line in (snapshot.content(path) or b"").decode("utf-8", "replace").splitlines()]
    ranges = tuple((int(each[2]), int(each[3] or each[2]), each[4]) for each in local if each and each[1] == "tcp")
    line = text[: mode.start()].count("\n") + 1
    return PortLabels(mode[1], ranges, Origin(CONFIG, line, 1))
