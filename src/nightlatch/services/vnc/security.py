"""Security types of VNC: what each asks for, and how it seals a connection (RFC 6143, 7.1.2; Xvnc(1), SecurityTypes).

Measured: 1.12, 1.15. Unknown words in a list are dropped by the server, and one with a blank beside it is unknown.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from nightlatch.model.routes import Seal


class Asks(StrEnum):
    """What a security type has a caller show."""

    NOTHING = "nothing"
    SCREEN = "the password of the screen"
    ACCOUNT = "an account's password"


class Needs(StrEnum):
    """What the server itself needs for a type, or every login fails."""

    NOTHING = "nothing"
    CERTIFICATE = "a certificate and its key"
    RSA_KEY = "an RSA key"


@dataclass(frozen=True, slots=True)
class SecurityType:
    """One type, by the `name` of the manual; `since` is the first release of TigerVNC that knows it."""

    name: str
    seal: Seal
    asks: Asks
    needs: Needs = Needs.NOTHING
    since: tuple[int, ...] = ()


CLEAR, ANONYMOUS, TLS = Seal.CLEAR, Seal.TLS_WITHOUT_CERTIFICATE, Seal.TLS
NEWER = (1, 13)
# An RSA key of RA2 is a server's identity that no authority vouches for; the types that end in "ne" encrypt the login alone.
TYPES = (
    SecurityType("None", CLEAR, Asks.NOTHING),
    SecurityType("VncAuth", CLEAR, Asks.SCREEN),
    SecurityType("Plain", CLEAR, Asks.ACCOUNT),
    SecurityType("TLSNone", ANONYMOUS, Asks.NOTHING),
    SecurityType("TLSVnc", ANONYMOUS, Asks.SCREEN),
    SecurityType("TLSPlain", ANONYMOUS, Asks.ACCOUNT),
    SecurityType("X509None", TLS, Asks.NOTHING, Needs.CERTIFICATE),
    SecurityType("X509Vnc", TLS, Asks.SCREEN, Needs.CERTIFICATE),
    SecurityType("X509Plain", TLS, Asks.ACCOUNT, Needs.CERTIFICATE),
    SecurityType("RA2", ANONYMOUS, Asks.SCREEN, Needs.RSA_KEY),
    SecurityType("RA2ne", CLEAR, Asks.SCREEN, Needs.RSA_KEY),
    SecurityType("RA2_256", ANONYMOUS, Asks.SCREEN, Needs.RSA_KEY, NEWER),
    SecurityType("RA2ne_256", CLEAR, Asks.SCREEN, Needs.RSA_KEY, NEWER),
    SecurityType("DH", CLEAR, Asks.ACCOUNT, since=NEWER),
)
_BY_NAME = {each.name.lower(): each for each in TYPES}


def offered(value: str, version: tuple[int, ...]) -> tuple[SecurityType, ...]:
    """The types of a list, each once, in its order; an empty `version` stands for one that is not known, which knows all."""
    found = (_BY_NAME.get(word.lower()) for word in value.split(","))
    return tuple(dict.fromkeys(each for each in found if each is not None and (not version or version >= each.since)))
