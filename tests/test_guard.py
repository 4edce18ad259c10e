"""Whether the boot guard would close a ring of units, told from what a service manager lists (guard.sh)."""

from __future__ import annotations

import subprocess
from importlib.resources import files

import pytest

GUARD = files("nightlatch.latch").joinpath("guard.sh").read_text()
USUAL = {
    "local-fs.target": "-.mount var.mount",
    "sysinit.target": "local-fs.target",
    "ssh.service": "sysinit.target basic.target",
    "ssh.socket": "sysinit.target",
    "sockets.target": "ssh.socket",
    "basic.target": "sockets.target sysinit.target",
    "network-online.target": "basic.target",
    "home.mount": "network-online.target",
    "remote-fs.target": "home.mount",
    "var.mount": "-.mount",
    "-.mount": "",
}
# What is other than usual, what the guard waits for, what waits for the guard; whether that closes a ring.
CASES = [
    ("the usual order", {}, "local-fs.target", "ssh.service ssh.socket", False),
    ("homes behind the network, were they waited for", {}, "home.mount", "ssh.service ssh.socket", True),
    ("homes behind the network, with a service only", {}, "home.mount", "ssh.service", False),
    (
        "a local file system that waits for sshd",
        {"var.mount": "ssh.service", "ssh.service": ""},
        "local-fs.target",
        "ssh.service",
        True,
    ),
    ("by the unit's second name", {"var.mount": "ssh.service", "ssh.service": ""}, "local-fs.target", "sshd.service", True),
    (
        "over many steps",
        {f"u{n}.service": f"u{n + 1}.service" for n in range(40)}
        | {"var.mount": "u0.service", "u40.service": "ssh.socket", "ssh.socket": ""},
        "local-fs.target",
        "ssh.socket",
        True,
    ),
    (
        "a ring that is none of ours",
        {"a.service": "b.service", "b.service": "a.service", "var.mount": "a.service"},
        "local-fs.target",
        "ssh.service",
        False,
    ),
]


@pytest.mark.parametrize("shell", ["sh", "bash"])
@pytest.mark.parametrize("more, after, before, ring", [case[1:] for case in CASES], ids=[case[0] for case in CASES])
def test_a_ring(shell: str, more: dict[str, str], after: str, before: str, ring: bool) -> None:
    units = USUAL | more
    listed = "\n".join(
        f"Id={name}\nNames={name}{' sshd.service' if name == 'ssh.service' else ''}\nAfter={waits}\n"
        for name, waits in units.items()
    )
    script = f"systemctl() {{ cat <<'E'\n{listed}E\n}}\n{GUARD}\nafter='{after}' before='{before}'\ncloses_a_cycle && echo ring || echo none\n"
    done = subprocess.run([shell, "-c", script], capture_output=True, text=True, timeout=20, check=True)
    assert done.stdout == ("ring\n" if ring else "none\n"), done.stderr
