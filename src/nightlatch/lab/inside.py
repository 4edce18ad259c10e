"""A lab guest's own shell as a transport: what a person at its console would do, without a login."""

from __future__ import annotations

import os

from nightlatch.faults import UnreachableError
from nightlatch.lab.machine import Guest
from nightlatch.lab.tools import SEARCHED
from nightlatch.transports import bounded
from nightlatch.transports.bounded import Bounds, Follow
from nightlatch.transports.shell import Answer, ShellLogin


class Inside:
    """Runs scripts in a guest as its root; `shell` is the program that reads them, `path` where programs are looked for."""

    kind = "here"

    def __init__(self, guest: Guest, *shell: str, path: str = "/usr/sbin:/usr/bin:/sbin:/bin") -> None:
        self.machine, self.guest = guest, guest.name
        self.shell, self.path = shell or ("sh",), path

    def run(self, script: bytes, bounds: Bounds | None = None, follow: Follow | None = None) -> Answer:
        """Run `script`. Raises UnreachableError when a bound is broken."""
        enter = ["nsenter", "-t", str(self.machine.pid), "-m", "-p", "-u", "-i", "-n", "-C", "-r", "-w", "--"]
        words = [*enter, "env", "-i", f"PATH={self.path}", *self.shell, "-s", "--", "none"]
        os.environ.setdefault("PATH", SEARCHED)
        ended = bounded.run(words, script, bounds or Bounds(), follow=follow)
        if ended.broken:
            raise UnreachableError(self.guest, "read", ended.broken)
        return Answer(ended.out, ended.code, ShellLogin("root"))
