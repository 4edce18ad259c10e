"""Commands run at a terminal of their own, answered as a person would."""

from __future__ import annotations

import contextlib
import fcntl
import os
import pty
import select
import subprocess
import termios
import time

from nightlatch.lab.machine import environment
from tests.live.station import ROOT, Station, interruptible


def at_a_terminal(station: Station, words: list[str], answers: list[tuple[str, str]]) -> tuple[int, str]:
    """Run nightlatch at a terminal of its own; after each text has come, type the answer. Returns code and output."""
    ours, theirs = pty.openpty()
    process = subprocess.Popen(
        interruptible(station.words(*words)),
        cwd=station.folder,
        stdin=theirs,
        stdout=theirs,
        stderr=theirs,
        env=environment({"PYTHONPATH": str(ROOT / "src"), "TERM": "dumb"}),
        start_new_session=True,
        preexec_fn=lambda: fcntl.ioctl(0, termios.TIOCSCTTY, 0),
    )
    os.close(theirs)
    said, end = "", time.monotonic() + 90
    with contextlib.suppress(OSError):  # the other end is closed when it has ended
        while time.monotonic() < end:
            if not select.select([ours], [], [], 1)[0]:
                continue
            part = os.read(ours, 4096).decode()
            if not part:
                break
            said += part
            if answers and answers[0][0] in said:
                time.sleep(0.5)  # as a person would; what is typed before the question stands is thrown away
                os.write(ours, answers.pop(0)[1].encode())
    os.close(ours)
    with contextlib.suppress(subprocess.TimeoutExpired):
        process.wait(10)
    process.kill()
    return process.wait(10), said
