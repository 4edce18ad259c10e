"""How strong a key is by its kind and size (NIST SP 800-57 part 1, table 2; RFC 9142; ssh-keygen(1), -b)."""

from __future__ import annotations

from enum import Enum

LEAST, TODAY = 2048, 3072  # bits of RSA: refused by most guidance below the one, ssh-keygen's own default is the other


class Weakness(Enum):
    """What is weak about a key."""

    DSA = "dsa"
    SHORT = "short rsa"
    BELOW_TODAY = "rsa below today's size"


def weakness(kind: str, bits: int) -> Weakness | None:
    """What is weak about a key of a family, such as RSA, with so many bits (0: not known); None where nothing is."""
    if kind == "DSA":
        return Weakness.DSA
    if kind != "RSA" or not 0 < bits < TODAY:
        return None
    return Weakness.SHORT if bits < LEAST else Weakness.BELOW_TODAY
