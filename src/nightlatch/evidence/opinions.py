"""The guest's own word on its settings: `sshd -T -C` for chosen callers, asked in one script (sshd(8), -T and -C).

The listing keeps the first answer whole, and of each later one the lines that differ from the first.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

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


def script(questions: Iterable[Question], program: str, options: Iterable[str], nonce: str) -> bytes:
    """The script that asks; it changes nothing."""
    asked = "\n".join(each.words for each in questions)
    words = " ".join(shlex.quote(word) for word in (program, "-T", *options))
    return f"""nightlatch_ask() {{
LC_ALL=C PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin:$PATH
export LC_ALL PATH
IFS='
'
set -f
asked={shlex.quote(asked)}
printf '\\n@nightlatch/opinions/1 %s\\n' {nonce}
for each in $asked; do
    printf '@question %s\\n' "$each"
    {words} -C "$each" 2>&1 </dev/null | sed 's/^/ /'
done
printf '@end %s\\n' {nonce}
}}
nightlatch_ask
""".encode()


def packed(raw: bytes, nonce: str) -> bytes | None:
    """What the script printed as a listing; None when it is not whole."""
    start = raw.find(b"@nightlatch/opinions/1 " + nonce.encode() + b"\n")
    end = raw.rfind(b"@end " + nonce.encode() + b"\n")
    if start < 0 or end < start:
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
