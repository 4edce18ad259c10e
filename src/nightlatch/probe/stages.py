"""A look at a service from the wire as a value: its stages in their order, and how one of them fails."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from enum import StrEnum

from nightlatch.model.handshake import Machine, RequestedProof, SealRefused, SealSeen
from nightlatch.model.services import SSH
from nightlatch.probe.ssh import AlgorithmOffer, Identification, Methods, ProvenKey


class Stage(StrEnum):
    """The stages, in the order in which they are gone through."""

    NAME = "name"
    ROUTE = "route"
    CONNECT = "connect"
    IDENTIFY = "identify"
    HOST_KEY = "host key"
    METHODS = "methods"
    LOGIN = "login"


class FailureMode(StrEnum):
    """How a stage fails, as far as the caller's side can tell it apart."""

    UNKNOWN_NAME = "the name is not known here"
    NO_ROUTE = "no route from here"
    REFUSED = "refused"
    SILENT = "no answer"
    UNREACHABLE = "reported as unreachable"
    NO_NEIGHBOUR = "nobody has that address"
    DENIED_HERE = "not allowed on this machine"
    CLOSED = "closed without a word"
    MUTE = "connected, and nothing came"
    SLOW = "too slow"
    NO_SSH = "no SSH server"
    BROKEN = "the protocol was broken"
    NOTHING_IN_COMMON = "no algorithm in common"
    OTHER_KEY = "another host key"
    NOT_OFFERED = "the granted proof is not offered"
    REJECTED = "rejected"


@dataclass(frozen=True, slots=True)
class Step:
    """One stage that was gone through, how long it took (seconds), and what it showed."""

    stage: Stage
    seconds: float
    text: str


@dataclass(frozen=True, slots=True)
class Target:
    """What to look at: by a `service`, whose `handshake` asks about accounts; None for SSH's, which the driver knows itself.

    `accounts` are names to ask methods for; with `pins`, more types of keys only until one fits."""

    host: str
    port: int = 22
    accounts: tuple[str, ...] = ()
    pins: tuple[str, ...] = ()
    every_key: bool = False
    service: str = SSH.name
    handshake: Callable[[Sequence[str]], Machine] | None = None

    @property
    def text(self) -> str:
        """As a person would write it."""
        host = f"[{self.host}]" if ":" in self.host and self.port != 22 else self.host
        return host if self.port == 22 else f"{host}:{self.port}"


@dataclass(frozen=True, slots=True)
class Look:
    """One look. `failed` is the first stage that failed, `how` and `why` say in which way; `here` is our own address.

    `addresses` are all that the name has, `address` the one that was used; `others` are those that did not answer, with
    the reason. `answered` and `asks` are what a service other than SSH says of itself, and asks of accounts; `seals` are those
    that it served, `unserved` those that it was asked for in vain.
    """

    target: Target
    steps: tuple[Step, ...] = ()
    failed: Stage | None = None
    how: FailureMode | None = None
    why: str = ""
    addresses: tuple[str, ...] = ()
    address: str = ""
    here: str = ""
    others: tuple[tuple[str, FailureMode], ...] = ()
    identified: Identification | None = None
    offered: AlgorithmOffer | None = None
    keys: tuple[ProvenKey, ...] = ()
    methods: tuple[Methods, ...] = ()
    answered: str = ""
    asks: tuple[RequestedProof, ...] = ()
    seals: tuple[SealSeen, ...] = ()
    unserved: tuple[SealRefused, ...] = ()

    @property
    def fingerprints(self) -> tuple[str, ...]:
        """The SHA256 fingerprints of all host keys that were proven."""
        return tuple(proven.key.fingerprint for proven in self.keys)
