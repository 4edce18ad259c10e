"""The interface of transports to running guests: run one sh script as root, and say how the connection logged in."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from nightlatch.transports.bounded import Bounds, Follow


@dataclass(frozen=True, slots=True)
class ShellLogin:
    """How a connection came in: `account`, the address the guest saw, the fingerprint of the key that was accepted.

    `offered` are the methods the guest named while it had not let us in yet (RFC 4252, 5.1).
    """

    account: str = ""
    source: str = ""
    key: str = ""
    offered: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Answer:
    """A script's output and exit code, and the door it came through."""

    out: bytes
    code: int
    door: ShellLogin


class Shell(Protocol):
    """A live guest."""

    guest: str
    kind: str

    def run(self, script: bytes, bounds: Bounds | None = None, follow: Follow | None = None) -> Answer:
        """Run `script` with `sh` as root; its first parameter is SSH_CONNECTION (ssh(1)), empty where there is none.

        `follow` says what the same shell runs next, once the output shows what there is to ask. Every call is a
        connection of its own. Raises UnreachableError, which names the stage that failed.
        """
