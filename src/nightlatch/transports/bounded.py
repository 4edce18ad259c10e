"""Run a client program with every bound held: how long, how long silent, how much it may say.

The program gets its input in full while its output is read, so that neither side waits for the other. When a bound is
broken, or the caller gives up, the program and its children are ended.
"""

from __future__ import annotations

import contextlib
import os
import selectors
import signal
import subprocess
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Protocol

STEP = 0.1  # seconds between two looks at whether to give up
MOST_ERRORS = 64 << 10
TAIL = 128  # bytes in which a mark is looked for


@dataclass(frozen=True, slots=True)
class Bounds:
    """`seconds` in all, `silent` seconds without a byte, `most` bytes of output."""

    seconds: float = 90
    silent: float = 30
    most: int = 96 << 20


@dataclass(frozen=True, slots=True)
class ProgramResult:
    """The output and exit of a program. `broken` names the bound that was broken, empty where none was."""

    out: bytes
    err: bytes
    code: int
    broken: str = ""


@dataclass(slots=True)
class StopSignal:
    """Tells running programs to give up; shared by all of one survey."""

    event: threading.Event = field(default_factory=threading.Event)


class Follow(Protocol):
    """A dialogue over one connection: when the output so far ends with `mark`, `next` gives the next input."""

    @property
    def mark(self) -> bytes:
        """The bytes that end the part now running."""

    def next(self, out: bytes) -> bytes:
        """More input, given the output since the last time; empty when all is said."""


def run(
    words: Sequence[str],
    stdin: bytes,
    bounds: Bounds,
    stop: StopSignal | None = None,
    *,
    own_group: bool = True,
    follow: Follow | None = None,
) -> ProgramResult:
    """Run `words` to its end or to a bound. `own_group` False leaves the terminal to it, so that it can ask.

    With `follow` the input stays open until it has nothing more to say.
    """
    process = subprocess.Popen(
        words,
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        start_new_session=own_group,
        env={**os.environ, "LC_ALL": "C"},
        bufsize=0,
    )
    try:
        out, err, broken = _talk(process, stdin, bounds, stop, follow)
    finally:
        _end(process, own_group)
    return ProgramResult(out, err, process.returncode, broken)


def _talk(
    process: subprocess.Popen[bytes], stdin: bytes, bounds: Bounds, stop: StopSignal | None, follow: Follow | None
) -> tuple[bytes, bytes, str]:
    assert process.stdin
    assert process.stdout
    assert process.stderr
    out: list[bytes] = []
    err = bytearray()
    size, left, part_from, tail = 0, memoryview(stdin), 0, b""
    start = heard = time.monotonic()
    with selectors.DefaultSelector() as selector:
        for stream in (process.stdin, process.stdout, process.stderr):
            os.set_blocking(stream.fileno(), False)
        selector.register(process.stdin, selectors.EVENT_WRITE)
        selector.register(process.stdout, selectors.EVENT_READ)
        selector.register(process.stderr, selectors.EVENT_READ)
        talking = 2
        while talking:
            now = time.monotonic()
            broken = _broken(now - start, now - heard, size, bounds, stop)
            if broken:
                return b"".join(out), bytes(err), broken
            for key, _ in selector.select(STEP):
                if key.fileobj is process.stdin:
                    left = _fed(process, left, selector, open_still=follow is not None)
                    continue
                part = os.read(key.fd, 1 << 17)
                if not part:
                    selector.unregister(key.fileobj)
                    talking -= 1
                elif key.fileobj is process.stdout:
                    out.append(part)
                    size += len(part)
                    heard = time.monotonic()
                    tail = (tail + part)[-TAIL:]
                    if follow is not None and tail.endswith(follow.mark):
                        more = follow.next(b"".join(out[part_from:]))
                        part_from, tail, heard = len(out), b"", time.monotonic()
                        left = memoryview(more)
                        if more:
                            selector.register(process.stdin, selectors.EVENT_WRITE)
                        else:
                            follow = None
                            process.stdin.close()
                elif len(err) < MOST_ERRORS:
                    err += part
    with contextlib.suppress(subprocess.TimeoutExpired):
        process.wait(max(0.1, bounds.seconds - (time.monotonic() - start)))
    return b"".join(out), bytes(err), ""


def _broken(lasted: float, silent: float, size: int, bounds: Bounds, stop: StopSignal | None) -> str:
    if stop is not None and stop.event.is_set():
        return "given up"
    if lasted > bounds.seconds:
        return f"it took longer than {bounds.seconds:g} s"
    if silent > bounds.silent:
        return f"nothing came for {bounds.silent:g} s"
    if size > bounds.most:
        return f"it sent more than {bounds.most >> 20} MiB"
    return ""


def _fed(process: subprocess.Popen[bytes], left: memoryview, selector: selectors.BaseSelector, *, open_still: bool) -> memoryview:
    assert process.stdin
    try:
        left = left[os.write(process.stdin.fileno(), left[: 1 << 16]) :]
    except BlockingIOError:
        return left
    except BrokenPipeError:
        left = left[len(left) :]
    if not left:
        selector.unregister(process.stdin)
        if not open_still:
            process.stdin.close()
    return left


def _end(process: subprocess.Popen[bytes], own_group: bool) -> None:
    if process.poll() is None:
        for number in (signal.SIGTERM, signal.SIGKILL):
            with contextlib.suppress(ProcessLookupError):
                os.killpg(process.pid, number) if own_group else process.send_signal(number)
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(0.5)
                break
    for stream in (process.stdin, process.stdout, process.stderr):
        if stream is not None:
            with contextlib.suppress(OSError):
                stream.close()
