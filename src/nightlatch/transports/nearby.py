"""This machine's knowledge of its neighbours: its own addresses, neighbour table and lease files. Nothing is sent.

By ip(8), bounded in time and size; files are only looked at where programs keep them.
"""

from __future__ import annotations

from collections.abc import Iterator
from glob import glob
from pathlib import Path

from nightlatch.faults import UnreadableError
from nightlatch.formats import leases
from nightlatch.formats.ip_listing import LiveAddress, Neighbour, addresses, neighbours
from nightlatch.formats.leases import Lease
from nightlatch.transports import bounded
from nightlatch.transports.bounded import Bounds

LARGEST = 16 << 20
QUICK = Bounds(seconds=10, silent=10, most=LARGEST)
# Where servers keep what they gave out (dnsmasq(8); libvirt's and NetworkManager's own dnsmasq; dhcpd.leases(5)), and
# what this machine itself was given by systemd-networkd.
KEPT = (
    "/var/lib/misc/dnsmasq.leases",
    "/var/lib/dnsmasq/dnsmasq.leases",
    "/var/lib/NetworkManager/dnsmasq-*.leases",
    "/var/lib/libvirt/dnsmasq/*.leases",
    "/var/lib/dhcp/dhcpd.leases",
    "/run/systemd/netif/leases/*",
)


def own_addresses() -> tuple[LiveAddress, ...]:
    """This machine's addresses."""
    return tuple(addresses(_asked("ip", "-o", "addr")))


def table() -> tuple[Neighbour, ...]:
    """This machine's neighbour table."""
    return tuple(neighbours(_asked("ip", "-o", "neigh")))


def _asked(*words: str) -> str:
    try:
        return bounded.run(words, b"", QUICK).out.decode("utf-8", "replace")
    except OSError:  # there is no ip(8): then nothing is known here
        return ""


def kept_leases() -> Iterator[tuple[str, Lease]]:
    """Every lease in the files of this machine, with its file; what can't be read is left out."""
    for pattern in KEPT:
        for path in sorted(glob(pattern)):
            try:
                yield from ((path, lease) for lease in leases_in(Path(path)))
            except UnreadableError:
                continue


def leases_in(path: Path) -> list[Lease]:
    """The leases in one file, of whichever kind it is. Raises UnreadableError."""
    try:
        with path.open("rb") as stream:
            raw = stream.read(LARGEST + 1)
    except OSError as error:
        raise UnreadableError(f"{path} can't be read: {error.strerror}; expected a lease file") from None
    if len(raw) > LARGEST:
        raise UnreadableError(f"{path} is larger than {LARGEST >> 20} MiB")
    own = leases.networkd(raw)
    found = [own] if own is not None else list(leases.dhclient(raw)) or list(leases.dnsmasq(raw))
    if raw.strip() and not found:
        raise UnreadableError(f"{path} holds no lease; expected a lease file of dnsmasq, dhcpd, dhclient or systemd-networkd")
    return found
