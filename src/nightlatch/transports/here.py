"""The machine itself as a guest: the same scripts, run here, with no connection. Needs root."""

from __future__ import annotations

import os

from nightlatch.faults import UnreachableError
from nightlatch.transports import bounded
from nightlatch.transports.bounded import Bounds, Follow, StopSignal
from nightlatch.transports.shell import Answer, ShellLogin


class LocalMachine:
    """The machine that runs this program."""

    kind = "here"

    def __init__(self, guest: str = "here", stop: StopSignal | None = None) -> None:
        self.guest, self.stop = guest, stop

    def run(self, script: bytes, bounds: Bounds | None = None, follow: Follow | None = None) -> Answer:
        """Run `script` with sh. Raises UnreachableError without root's rights."""
        if os.geteuid() != 0:
            raise UnreachableError(self.guest, "root", "this machine can only be read by root", "run it with sudo")
        ended = bounded.run(["sh", "-s", "--", "none"], script, bounds or Bounds(), self.stop, follow=follow)
        if ended.broken:
            raise UnreachableError(self.guest, "read", ended.broken)
        return Answer(ended.out, ended.code, ShellLogin("root"))
