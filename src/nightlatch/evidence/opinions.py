"""The guest's own word on its settings: `sshd -T -C` for chosen callers, asked in one script (sshd(8), -T and -C).

The listing keeps the first answer whole, and of each later one the lines that differ from the first.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from nightlatch.evidence.script import secrets, trust
from nightlatch.systems import posix

MOST = 200


@dataclass(frozen=True, slots=True)
class Question:
    """One caller to ask about, as `-C` takes it."""

    user: str
    address: str
    local_address: str
    local_port: int

    @property
    def words(self) -> str:
        """The text behind -C."""
        return f"user={self.user},host={self.address},addr={self.address},laddr={self.local_address},lport={self.local_port}"


@dataclass(frozen=True, slots=True)
class Opinion:
    """One answer: the lines that sshd printed, sorted; `failed` is what it said instead."""

    question: str
    lines: tuple[str, ...]
    failed: str = ""


@dataclass(frozen=True, slots=True)
class Daemon:
    """What is asked: a program, with the options it runs with. `pid` and `started` tell the very process that was read, 0 and
    "" where none runs; the guest compares both, and that only root can write the program, before it runs it."""

    program: str = posix.SSHD
    options: tuple[str, ...] = ()
    pid: int = 0
    started: str = ""


def script(questions: Iterable[Question], daemon: Daemon, nonce: str) -> bytes:
    """The script that asks; it changes nothing, and asks nothing where the daemon is another by now."""
    asked = "\n".join(each.words for each in questions)
    options = " ".join(shlex.quote(word) for word in daemon.options)
    return f"""nightlatch_ask() {{
LC_ALL=C PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin:$PATH
export LC_ALL PATH
{trust()}
safe_path
set -f
asked={shlex.quote(asked)}
program=$(realpath -- {shlex.quote(daemon.program)})
printf '\\n@nightlatch/opinions/1 %s\\n' {nonce}
same() {{ [ {daemon.pid} = 0 ] || {{ started {daemon.pid} && [ "$since" = {shlex.quote(daemon.started)} ]; }}; }}
if is_roots "$program" && same; then
    IFS=$nl
    for each in $asked; do
        printf '@question %s\\n' "$each"
        "$program" -T {options} -C "$each" 2>&1 </dev/null | sed 's/^/ /'
    done | awk -v lines=1 {shlex.quote(secrets())}
fi
printf '@end %s\\n' {nonce}
}}
nightlatch_ask
""".encode()


def packed(raw: bytes, nonce: str) -> bytes | None:
    """What the script printed as a listing; None when it is not whole, or nothing was asked."""
    start = raw.find(b"@nightlatch/opinions/1 " + nonce.encode() + b"\n")
    end = raw.rfind(b"@end " + nonce.encode() + b"\n")
    if start < 0 or end < start or b"\n@question " not in raw[start:end]:
        return None
    first: set[bytes] | None = None
    out: list[bytes] = []
    for block in re.split(rb"(?m)^@question ", raw[start:end])[1:]:
        head, *lines = block.rstrip(b"\n").split(b"\n")
        told = {line[1:] for line in lines if line.startswith(b" ")}
        out.append(b"question " + head)
        base = set() if first is None else first
        out += [b"+" + line for line in sorted(told - base)] + [b"-" + line for line in sorted(base - told)]
        first = told if first is None else first
    return b"\n".join(out) + b"\n"


def unpacked(listing: bytes) -> Iterator[Opinion]:
    """The answers in a listing."""
    first: set[str] | None = None
    for block in re.split(r"(?m)^question ", listing.decode("utf-8", "replace"))[1:]:
        head, *lines = block.rstrip("\n").split("\n")
        told = set(first or ()) | {line[1:] for line in lines if line.startswith("+")}
        told -= {line[1:] for line in lines if line.startswith("-")}
        first = told if first is None else first
        wrong = sorted(line for line in told if not re.match(r"[a-z0-9]+( |$)", line))
        failed = wrong[0] if wrong and len(told) < 20 else ""
        yield Opinion(head, tuple(sorted(told)), failed)
