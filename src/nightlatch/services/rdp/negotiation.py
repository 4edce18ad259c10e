"""RDP's negotiation as machines without I/O: which protocols a server takes ([MS-RDPBCGR] 2.2.1.1, 2.2.1.2; RFC 1006, 6).

One conversation asks for TLS and, where that is selected, has it begun to see version and certificate; a second one, on a new
connection, asks for none, which shows whether a client that does not ask is served without. Nobody logs in.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence

from nightlatch.model.handshake import Event, PeerIdentity, ProtocolBreach, RequestedProof, SealRefused, SealSeen
from nightlatch.model.routes import Seal

TPKT, REQUEST, CONFIRM = 3, 0xE0, 0xD0
NEGOTIATE, ANSWER, FAILURE = 1, 2, 3  # types of the negotiation's own data
STANDARD, TLS = 0, 1
HEAD = 4
LARGEST = 512  # of a confirm; that of the specification has 19 bytes
FAILURES = {
    1: "it wants TLS",
    2: "it takes no TLS",
    3: "it has no certificate that it can use",
    4: "it did not expect that",
    5: "it wants an identity before TLS",
    6: "it wants TLS and a client's certificate",
}
PASSWORD = ("password",)


def request(protocols: int) -> bytes:
    """A connection request for these protocols."""
    data = struct.pack("<BBHI", NEGOTIATE, 0, 8, protocols)
    body = struct.pack(">BBHHB", 6 + len(data), REQUEST, 0, 0, 0) + data
    return struct.pack(">BBH", TPKT, 0, HEAD + len(body)) + body


class Negotiation:
    """One conversation, about accounts that are all asked for the same; `protocols` are asked for."""

    def __init__(self, accounts: Sequence[str], protocols: int = TLS) -> None:
        self.accounts, self.protocols = tuple(accounts), protocols
        self.done = self.wants_tls = False
        self._held = b""
        self._found: list[Event] = []

    def start(self) -> bytes:
        """The request."""
        return request(self.protocols)

    def receive(self, data: bytes) -> None:
        """Take what the server sent; empty when it closed."""
        if self.done or self.wants_tls:
            return
        self._held = (self._held + data)[: LARGEST + 1]
        if not data:
            self._breach("it closed before it answered" if not self._held else "its answer is cut short")
        elif len(self._held) >= HEAD:
            version, _, length = struct.unpack(">BBH", self._held[:HEAD])
            if version != TPKT or not HEAD + 7 <= length <= LARGEST:
                self._breach("it does not answer as a server of RDP")
            elif len(self._held) >= length:
                self._confirmed(self._held[HEAD:length], more=len(self._held) > length)
        elif self._held[0] != TPKT:
            self._breach("it does not answer as a server of RDP")

    def _confirmed(self, body: bytes, *, more: bool) -> None:
        """A confirm (X.224, 13.4): its own length, its kind, and the negotiation's data, which the oldest servers don't have.

        What follows a refusal is a farewell (measured: xrdp); what follows a promise of TLS in the clear (`more`) is a breach.
        """
        if body[0] != len(body) - 1 or body[1] != CONFIRM:
            self._breach("its confirm does not hold what it says")
            return
        data = body[7:]
        if not data:
            self._selected(STANDARD)
            return
        if len(data) != 8 or data[2:4] != b"\x08\x00" or data[0] not in (ANSWER, FAILURE):
            self._breach("its answer to the negotiation has an unknown form")
            return
        (value,) = struct.unpack("<I", data[4:])
        if data[0] == FAILURE:
            self._found += [PeerIdentity("RDP"), SealRefused(self._asked, FAILURES.get(value, f"failure {value}"))]
            self.done = True
        else:
            self._selected(value)
            if more and self.wants_tls:
                self._found, self.wants_tls = [], False
                self._breach("it goes on in the clear after it promised TLS")

    @property
    def _asked(self) -> Seal:
        return Seal.TLS if self.protocols & TLS else Seal.CLEAR

    def _selected(self, protocol: int) -> None:
        if protocol == STANDARD:
            self._served(SealSeen(Seal.CLEAR))
        elif protocol & ~self.protocols:
            self._breach("it selects what was not asked for")
        else:
            self._found.append(PeerIdentity("RDP"))
            self.wants_tls = True

    def _served(self, seen: SealSeen) -> None:
        identity: tuple[Event, ...] = () if self.wants_tls else (PeerIdentity("RDP"),)
        self._found += [*identity, seen, *(RequestedProof(each, PASSWORD) for each in self.accounts)]
        self.wants_tls, self.done = False, True

    def sealed(self, version: str, certificate: bytes) -> None:
        """TLS stands: its version, and the server's certificate (DER)."""
        self._served(SealSeen(Seal.TLS, version, certificate))

    def unsealed(self, why: str) -> None:
        """TLS could not be begun."""
        self._found.append(SealRefused(Seal.TLS, why))
        self.wants_tls, self.done = False, True

    def another(self) -> Negotiation | None:
        """The second conversation, which asks for none."""
        return Negotiation(self.accounts, STANDARD) if self.protocols & TLS else None

    def _breach(self, why: str) -> None:
        self._found.append(ProtocolBreach(why))
        self.done = True

    def events(self) -> Iterator[Event]:
        """The events since the last call."""
        found, self._found = self._found, []
        return iter(found)

    def to_send(self) -> bytes:
        """Nothing more."""
        return b""
