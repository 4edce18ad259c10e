"""Many commands of nightlatch from one process that has imported it: importing takes longer than most of what they do.

Each command still is a process of its own, forked from that one, with its own streams, folder and environment, and ends with its
own exit code. `python -m tests.commands` is the process that forks: a request a line comes on standard input, an answer a line
goes to standard output.
"""

from __future__ import annotations

import atexit
import contextlib
import importlib
import io
import json
import os
import pkgutil
import select
import signal
import subprocess
import sys
import tempfile
import threading
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parents[1]
STREAMS = ("in", "out", "err")


@dataclass(frozen=True)
class Done:
    """How a command ended, and all that it printed."""

    returncode: int
    stdout: str
    stderr: str


class Commands:
    """Runs commands; `prefix` is what stands before them on a command line, to enter the network of a lab's machine."""

    def __init__(self, *prefix: str) -> None:
        self.prefix = prefix
        self._turn = threading.Lock()
        self._server: subprocess.Popen[str] | None = None

    def run(self, *words: str, cwd: Path, env: Mapping[str, str], stdin: str | None = None, timeout: float = 60) -> Done:
        """Run `nightlatch WORDS`; without `stdin` it reads from /dev/null. Raises TimeoutExpired after `timeout` seconds."""
        if not self._turn.acquire(blocking=False):  # several at a time: each by itself
            done = subprocess.run(
                [*self.prefix, sys.executable, "-m", "nightlatch.cli", *words],
                input=stdin,
                stdin=subprocess.DEVNULL if stdin is None else None,
                capture_output=True,
                text=True,
                cwd=cwd,
                env=dict(env),
                timeout=timeout,
            )
            return Done(done.returncode, done.stdout, done.stderr)
        try:
            return self._asked(words, cwd, env, stdin, timeout)
        finally:
            self._turn.release()

    def _asked(self, words: tuple[str, ...], cwd: Path, env: Mapping[str, str], stdin: str | None, timeout: float) -> Done:
        with tempfile.TemporaryDirectory() as place:
            files = {name: f"{place}/{name}" for name in STREAMS}
            Path(files["in"]).write_text(stdin or "")
            files |= {} if stdin is not None else {"in": os.devnull}
            answer = self._answer({"words": words, "cwd": str(cwd), "env": dict(env), **files}, timeout)
            if answer is None:
                self.close()
                raise subprocess.TimeoutExpired(["nightlatch", *words], timeout)
            return Done(answer, Path(files["out"]).read_text(), Path(files["err"]).read_text())

    def _answer(self, request: Mapping[str, object], timeout: float) -> int | None:
        server = self._started()
        assert server.stdin is not None
        assert server.stdout is not None
        server.stdin.write(json.dumps(request) + "\n")
        server.stdin.flush()
        ready, _, _ = select.select([server.stdout], [], [], timeout)
        if not ready:
            return None
        line = server.stdout.readline()
        if not line:
            self.close()
            raise RuntimeError("the process that forks commands has died; what it said stands above")
        return int(line)

    def _started(self) -> subprocess.Popen[str]:
        if self._server is None:
            self._server = subprocess.Popen(
                [*self.prefix, sys.executable, "-m", "tests.commands"],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                text=True,
                cwd=ROOT,
                env={**os.environ, "PYTHONPATH": str(ROOT / "src")},
            )
        return self._server

    def close(self) -> None:
        """End the process that forks, and the command that it waits for."""
        if self._server is not None:
            self._server.terminate()
            self._server.communicate()
            self._server = None


COMMANDS = Commands()
atexit.register(COMMANDS.close)


def _serve() -> None:
    """Fork a command for each request, wait for it, and answer with its exit code."""
    import nightlatch

    for found in pkgutil.walk_packages(nightlatch.__path__, "nightlatch."):
        if not found.name.endswith("__main__"):
            importlib.import_module(found.name)
    running: list[int] = []

    def end(*_: object) -> None:
        for pid in running:
            with contextlib.suppress(OSError):
                os.kill(pid, signal.SIGKILL)
        os._exit(0)

    signal.signal(signal.SIGTERM, end)
    while line := sys.stdin.readline():
        running[:] = [os.fork()]
        if not running[0]:
            _child(json.loads(line))
        _, status = os.waitpid(running[0], 0)
        running.clear()
        print(os.waitstatus_to_exitcode(status), flush=True)


def _child(request: dict[str, object]) -> None:
    """Become the command. Never returns."""
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    code: object = 1
    try:
        _streams(request)
        os.chdir(str(request["cwd"]))
        os.environ.clear()
        os.environ.update(request["env"])  # type: ignore[call-overload]
        from nightlatch.cli.main import main

        sys.argv = ["nightlatch", *request["words"]]  # type: ignore[misc]
        main()
        code = 0
    except SystemExit as done:
        code = done.code
    except BaseException:
        import traceback

        traceback.print_exc()
    finally:
        with contextlib.suppress(OSError):
            sys.stdout.flush()
            sys.stderr.flush()
        os._exit(code if isinstance(code, int) else 0 if code is None else 1)


def _streams(request: dict[str, object]) -> None:
    """Standard streams as Python sets them up at a start."""
    ways = (os.O_RDONLY, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
    for number, (name, way) in enumerate(zip(STREAMS, ways, strict=True)):
        descriptor = os.open(str(request[name]), way, 0o600)
        os.dup2(descriptor, number)
        os.close(descriptor)
    sys.stdin = io.TextIOWrapper(io.FileIO(0, closefd=False), encoding="utf-8", errors="strict")
    sys.stdout = io.TextIOWrapper(io.BufferedWriter(io.FileIO(1, "w", closefd=False)), encoding="utf-8", errors="strict")
    sys.stderr = io.TextIOWrapper(
        io.BufferedWriter(io.FileIO(2, "w", closefd=False)), encoding="utf-8", errors="backslashreplace", line_buffering=True
    )


if __name__ == "__main__":
    _serve()
