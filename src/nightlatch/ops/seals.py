"""The seals of services on the wire, once a change that touches them is on the latch: seen from here, as proved, or not."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

from nightlatch.access.paths import GuestAccess, guest_access
from nightlatch.audit.names import listed
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.model.routes import Seal
from nightlatch.net.addresses import LOOPBACK
from nightlatch.probe import driver
from nightlatch.probe.stages import Target
from nightlatch.readings import guest as readings
from nightlatch.services.base import Kinds
from nightlatch.services.table import KINDS
from nightlatch.transports.shell import Shell
from nightlatch.transports.ssh import Ssh

NOBODY = ("",)  # no account is asked about: only how connections are sealed is looked at


@dataclass(frozen=True, slots=True)
class SealProof:
    """What was seen of one service at one port: `seen` of the seals that are `foretold`; `problem` says what does not hold, and
    nothing could be looked at where `looked` is False."""

    service: str
    port: int
    foretold: tuple[Seal, ...]
    seen: tuple[Seal, ...] = ()
    looked: bool = True
    failed: str = ""

    @property
    def holds(self) -> bool:
        """Whether just those are served that were foretold."""
        return self.looked and not self.failed and set(self.seen) == set(self.foretold)


def shown(shell: Shell, was: Snapshot, now: Snapshot, at: datetime, kinds: Kinds = KINDS) -> tuple[SealProof, ...]:
    """How each service is sealed now whose seals a change has altered; `was` is the guest without it."""
    before, after = (guest_access(readings.read(each), at, kinds=kinds) for each in (was, now))
    found: list[SealProof] = []
    for name in kinds:
        ports = sorted({socket.port for _, socket in after.sockets(name) if not socket.admits() <= LOOPBACK})
        for port in ports:
            if _of(before, name, port) != _of(after, name, port):
                found += _looked(shell, after, name, port, kinds)
    return tuple(found)


def _of(access: GuestAccess, service: str, port: int) -> frozenset[Seal]:
    return frozenset(path.seal for path in access.paths if path.service == service and path.route.port == port)


def _looked(shell: Shell, access: GuestAccess, service: str, port: int, kinds: Kinds) -> Iterator[SealProof]:
    handshake, foretold = kinds[service].handshake, tuple(sorted(_of(access, service, port)))
    if handshake is None:
        return
    host, _, way = shell.wire() if isinstance(shell, Ssh) else ("", 0, "")
    if not host or way or not isinstance(shell, Ssh) or shell.client.program != "ssh":
        yield SealProof(service, port, foretold, looked=False)
        return
    look = driver.looks([Target(host, port, NOBODY, service=service, handshake=handshake)])[0]
    failed = f"{look.failed}: {look.how}" if look.failed is not None else ""
    yield SealProof(service, port, foretold, tuple(sorted({each.seal for each in look.seals})), failed=failed)


def problem(proof: SealProof) -> str:
    """Why what was seen is a reason not to keep the change; empty if it is no reason."""
    if proof.holds or not proof.looked:
        return ""
    foretold = listed(each.words for each in proof.foretold) if proof.foretold else "nothing"
    if proof.failed:
        return f"{proof.service} on port {proof.port} was to be served over {foretold}, and ends at {proof.failed}"
    seen = listed(each.words for each in proof.seen) if proof.seen else "nothing"
    return f"{proof.service} on port {proof.port} is served over {seen}, and was to be served over {foretold}"
