"""What a peer sends: a packet must be used up exactly, and what is left over is a fault."""

from __future__ import annotations

from nightlatch.formats import ssh_wire


class PeerFault(Exception):
    """The peer broke the protocol; the message says how. Nothing it says after this counts."""


class NothingInCommonFault(PeerFault):
    """Both sides follow the protocol, and have no algorithm of one kind in common."""


class Reader(ssh_wire.Reader):
    """Takes one packet's payload apart from its start."""

    fault = PeerFault
    within = "its packet"
