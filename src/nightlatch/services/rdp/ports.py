"""Where xrdp listens, of its `port` (xrdp.ini(5); xrdp_listen.c, measured: 0.9.21).

What looks like no address is searched for digits: each run of them is a port of its own on all addresses. Not covered:
addresses that the guest doesn't have, for which xrdp ends; they are taken to be its own.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from nightlatch.model.gaps import Gap
from nightlatch.model.sockets import Listener
from nightlatch.net.literal import address_or_none
from nightlatch.origin import Origin

ALL, ALL_V4, ALL_V6 = "::", "0.0.0.0", "::"
PRIVILEGED = 1024
# In the order in which xrdp tries them; what none of them begins at is passed over by one letter.
_FORMS = tuple(
    (re.compile(pattern), fixed)
    for pattern, fixed in (
        (r"unix://\.(?P<path>[^ \t,]*)", "unix"),
        (r"vsock://", "vsock"),
        (r"tcp://\.:", "127.0.0.1"),
        (r"tcp://:", ALL_V4),
        (r"tcp://(?P<v4>[0-9.]+):", ""),
        (r"tcp6://\.:", "::1"),
        (r"tcp6://:", ALL_V6),
        (r"tcp6://\{(?P<v6>[0-9A-Fa-f:.]+)\}:", ""),
        (r"(?=[0-9])", ALL),
    )
)
_SCHEME = re.compile(r"tcp6?://|vsock://")
_NUMBER = re.compile(r"[^0-9]*(?P<digits>[0-9]*)")


@dataclass(frozen=True, slots=True)
class Listening:
    """The sockets that are taken; `fault` says why xrdp ends at its start, `gap` what can't be said of them."""

    sockets: tuple[Listener, ...] = ()
    fault: str = ""
    gap: Gap | None = None


def listening(value: str, origin: Origin, *, privileged: bool) -> Listening:
    """The sockets for a value of `port`; `privileged` says that the process may take ports below 1024."""
    found = list(_found(value, origin))
    gaps = [each for each in found if isinstance(each, Gap)]
    sockets = [each for each in found if isinstance(each, Listener)]
    if gaps:
        return Listening(tuple(sockets), gap=gaps[0])
    if not privileged and any(each.port < PRIVILEGED for each in sockets):
        least = min(each.port for each in sockets)
        return Listening(fault=f"port {least} is below {PRIVILEGED}, and xrdp does not run as root")
    twice = _twice(sockets)
    if twice is not None:
        return Listening(fault=f"port {twice} is taken twice")
    return Listening(tuple(sockets))


def _found(value: str, origin: Origin) -> Iterator[Listener | Gap]:
    at = 0
    while at < len(value):
        form = next(((match, fixed) for pattern, fixed in _FORMS if (match := pattern.match(value, at)) is not None), None)
        if form is None:
            if _SCHEME.match(value, at):
                yield Gap("RDP server", f'which address "{value[at:][:60]}" means is not known', origin)
                return
            at += 1
            continue
        match, fixed = form
        if fixed in ("unix", "vsock"):
            if fixed == "vsock" or match.end() < len(value):
                yield Gap("RDP server", f"{fixed} beside others, or a socket of the machine itself, is not followed", origin)
            return
        address = fixed or match.groupdict().get("v4") or match.groupdict().get("v6") or ""
        number = _NUMBER.match(value, match.end())
        assert number is not None
        port = int(number["digits"] or 0) % 65536
        at = number.end()
        if port == 0:
            yield Gap("RDP server", "a port of 0 is one by chance", origin)
            return
        if not fixed and address_or_none(address) is None:
            yield Gap("RDP server", f'"{address}" is no address that is known', origin)
            return
        yield Listener("" if address == ALL else address, port, "any" if address == ALL else "inet", origin)


def _twice(sockets: list[Listener]) -> int | None:
    """A port that two sockets want of one address; all of IPv6 is all of IPv4, too, as xrdp opens it."""
    for number, each in enumerate(sockets):
        for other in sockets[:number]:
            if each.port == other.port and (each.address == other.address or "" in (each.address, other.address)):
                return each.port
            v4 = ":" not in each.address and ":" not in other.address
            if each.port == other.port and v4 and ALL_V4 in (each.address, other.address):
                return each.port
    return None
