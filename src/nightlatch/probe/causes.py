"""From a symptom on the wire to its likely causes, the likeliest first, each with the next look that tells.

Measured: a filter that drops gives silence; no listener, a listener on the loopback only and a filter that rejects all
look alike from outside; a probe made on the guest itself never meets the filters that others meet.
"""

from __future__ import annotations

from dataclasses import dataclass

from nightlatch.probe.stages import FailureMode, Look, Stage


@dataclass(frozen=True, slots=True)
class Cause:
    """One likely cause, and where to look next to confirm it or rule it out."""

    text: str
    look: str


_AT_CONSOLE = "at the guest's console"
_FILTER = f"{_AT_CONSOLE}: nft list ruleset; then the filter outside"
_ADDRESS = f"{_AT_CONSOLE}: ip -br addr"
_LISTENERS = f"{_AT_CONSOLE}: ss -Hltn"
_LOG = f"{_AT_CONSOLE}: journalctl -u ssh -u sshd -n 20"

CAUSES: dict[FailureMode, tuple[Cause, ...]] = {
    FailureMode.UNKNOWN_NAME: (
        Cause("the name is misspelt, or known to your ssh client's configuration only", "write its address under dial"),
        Cause("the link here is down, or no name server is set", "here: ip -br link; then /etc/resolv.conf"),
    ),
    FailureMode.NO_ROUTE: (
        Cause("the interface that leads there is down on this machine", "here: ip -br addr; ip route get ADDRESS"),
        Cause("a private address is dialled from outside its network", "dial the forward, or go through a jump host"),
    ),
    FailureMode.SILENT: (
        Cause("a filter drops it: the guest's own, or one outside", _FILTER),
        Cause("the address is wrong or not routed to the guest", _ADDRESS),
        Cause("a rule was added in another network, or an earlier rule or a later table drops", _FILTER),
    ),
    FailureMode.REFUSED: (
        Cause("nothing listens on that port", _LISTENERS),
        Cause("the listener is bound to the loopback only", _LISTENERS + " and read its address"),
        Cause("a filter rejects it", _FILTER),
    ),
    FailureMode.NO_NEIGHBOUR: (
        Cause("the guest is off, or still starting", "nightlatch reach --wait 2m"),
        Cause("its address is another today (leased, not static)", _ADDRESS),
    ),
    FailureMode.UNREACHABLE: (
        Cause("a filter rejects it and says so", _FILTER),
        Cause("a router on the way has no route to it, or the guest is off", "here: ip route get ADDRESS"),
    ),
    FailureMode.DENIED_HERE: (Cause("a filter on this machine forbids it", "here: nft list ruleset"),),
    FailureMode.CLOSED: (
        Cause("the server is full, starting or ending (MaxStartups)", _LOG),
        Cause("this address is being rejected for a while (PerSourcePenalties, a ban list)", _LOG),
        Cause("a forward accepts, and the guest behind it is off", "look at the host that forwards"),
    ),
    FailureMode.MUTE: (
        Cause("a forward accepts, and nobody is behind it", "look at the host that forwards"),
        Cause("the guest is out of memory or its disk hangs", f"{_AT_CONSOLE}: uptime; dmesg"),
        Cause("another service listens there and waits for its client to begin", _LISTENERS),
    ),
    FailureMode.SLOW: (
        Cause("the guest or the way to it is overloaded", f"{_AT_CONSOLE}: uptime"),
        Cause("the server sends slowly on purpose", "look at who owns that address"),
    ),
    FailureMode.NO_SSH: (Cause("another service has that port, or the forward leads elsewhere", _LISTENERS),),
    FailureMode.BROKEN: (Cause("the server is no sound SSH server, or does not hold the key it shows", "nightlatch meet GUEST"),),
    FailureMode.NOTHING_IN_COMMON: (
        Cause("the server's lists leave only algorithms that this probe does not know", "nightlatch audit GUEST"),
    ),
    FailureMode.OTHER_KEY: (
        Cause("the guest was rebuilt, or its host keys were made anew", "nightlatch meet GUEST, with its console open"),
        Cause("the address or forward leads to another guest now", _ADDRESS),
        Cause("somebody answers in its place; from here this can't be told apart", "compare at the console first"),
    ),
    FailureMode.NOT_OFFERED: (
        Cause("the service's settings for this caller have it switched off", "nightlatch audit --on GUEST"),
        Cause("its files were changed and not loaded yet", "nightlatch audit --on GUEST"),
    ),
    FailureMode.REJECTED: (
        Cause("key file, folder or home can be written by others, or belong to somebody else", "nightlatch audit --on GUEST"),
        Cause("an allow list, an expired account or a shell that does not exist", "nightlatch audit --on GUEST"),
        Cause("this client does not hold the key", "here: ssh-add -l"),
    ),
}


def causes(look: Look) -> tuple[Cause, ...]:
    """The likely causes of the first stage that failed; none when nothing did."""
    if look.failed is None or look.how is None:
        return ()
    if look.failed is Stage.NAME and look.how is FailureMode.SILENT:
        return (Cause("no name server answers", "here: /etc/resolv.conf; or dial by address"),)
    return CAUSES[look.how]
