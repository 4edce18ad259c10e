"""RFB's handshake as a machine without I/O, up to the choice of a security type (RFC 6143, 7.1; and VeNCrypt).

One connection shows version, types and VeNCrypt's subtypes; where one of these has a certificate it is chosen and TLS begun, to
see it. Nobody logs in, and no further connection is made: to TigerVNC each one that ends so counts as a failed login, of which it
takes few.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Callable, Iterator, Sequence

from nightlatch.model.handshake import Event, PeerIdentity, ProtocolBreach, RequestedProof, SealRefused, SealSeen
from nightlatch.model.routes import Seal

VERSION = re.compile(rb"RFB (\d{3})\.(\d{3})\n")
LENGTH = 12
NONE, VNC_AUTH, RA2, RA2_NE, TLS_18, VENCRYPT, RA2_256, RA2_NE_256 = 1, 2, 5, 6, 18, 19, 129, 130
PLAIN, TLS_NONE, TLS_VNC, TLS_PLAIN, X509_NONE, X509_VNC, X509_PLAIN = range(256, 263)
SCREEN, ACCOUNT, NOTHING = "screen password", "password", "none"
CLEAR, ANONYMOUS, SEALED = Seal.CLEAR, Seal.TLS_WITHOUT_CERTIFICATE, Seal.TLS
# What each type asks for, and its seal; those that are not here are told by their number and say nothing of either.
KNOWN = {
    NONE: (NOTHING, CLEAR),
    VNC_AUTH: (SCREEN, CLEAR),
    RA2: (SCREEN, ANONYMOUS),
    RA2_NE: (SCREEN, CLEAR),
    RA2_256: (SCREEN, ANONYMOUS),
    RA2_NE_256: (SCREEN, CLEAR),
    PLAIN: (ACCOUNT, CLEAR),
    TLS_NONE: (NOTHING, ANONYMOUS),
    TLS_VNC: (SCREEN, ANONYMOUS),
    TLS_PLAIN: (ACCOUNT, ANONYMOUS),
    X509_NONE: (NOTHING, SEALED),
    X509_VNC: (SCREEN, SEALED),
    X509_PLAIN: (ACCOUNT, SEALED),
}
CERTIFIED = (X509_VNC, X509_PLAIN, X509_NONE)
LONGEST = 1024  # of a reason that a server gives
MOST_TYPES = 255


class Handshake:
    """One conversation, about the screens of some accounts."""

    def __init__(self, accounts: Sequence[str]) -> None:
        self.accounts = tuple(accounts)
        self.done = self.wants_tls = False
        self._held = b""
        self._found: list[Event] = []
        self._out = b""
        self._then: Callable[[], bool] = self._version
        self._types: list[int] = []

    def start(self) -> bytes:
        """Nothing: the server speaks first."""
        return b""

    def receive(self, data: bytes) -> None:
        """Take what the server sent; empty when it closed."""
        if self.done or self.wants_tls:
            return
        if not data:
            self._breach("it closed before it said which logins it takes" if self._held else "it closed at once")
            return
        self._held = (self._held + data)[: LENGTH + LONGEST + 5 * MOST_TYPES]
        while not self.done and not self.wants_tls and self._then():
            pass

    def _take(self, count: int) -> bytes | None:
        if len(self._held) < count:
            return None
        found, self._held = self._held[:count], self._held[count:]
        return found

    def _version(self) -> bool:
        if not b"RFB ".startswith(self._held[:4]):
            return self._breach("it does not answer as a server of VNC")
        line = self._take(LENGTH)
        if line is None:
            return False
        found = VERSION.fullmatch(line)
        if found is None:
            return self._breach("its version has an unknown form")
        major, minor = int(found[1]), int(found[2])
        self._found.append(PeerIdentity(f"RFB {major}.{minor}"))
        if (major, minor) < (3, 3):
            return self._breach(f"its version {major}.{minor} is too old")
        ours = 3 if (major, minor) < (3, 7) else 7 if (major, minor) == (3, 7) else 8
        self._out += b"RFB 003.%03d\n" % ours
        self._then = self._one_type if ours == 3 else self._list
        return True

    def _one_type(self) -> bool:
        """Before 3.7 the server decides (RFC 6143, 7.1.2)."""
        found = self._take(4)
        if found is None:
            return False
        (only,) = struct.unpack(">I", found)
        if not only:
            self._then = self._reason
            return True
        self._types = [only]
        return self._end()

    def _list(self) -> bool:
        if not self._held:
            return False
        count = self._held[0]
        if not count:
            self._held, self._then = self._held[1:], self._reason
            return True
        found = self._take(1 + count)
        if found is None:
            return False
        self._types = list(found[1:])
        if VENCRYPT not in self._types:
            return self._end()
        self._out += bytes([VENCRYPT])
        self._then = self._vencrypt
        return True

    def _vencrypt(self) -> bool:
        found = self._take(2)
        if found is None:
            return False
        if found < b"\x00\x02":
            return self._breach(f"its VeNCrypt {found[0]}.{found[1]} is too old")
        self._out += b"\x00\x02"
        self._then = self._agreed
        return True

    def _agreed(self) -> bool:
        found = self._take(1)
        if found is None:
            return False
        if found != b"\x00":
            return self._breach("it does not take the version of VeNCrypt that it named")
        self._then = self._subtypes
        return True

    def _subtypes(self) -> bool:
        if not self._held or len(self._held) < 1 + 4 * self._held[0]:
            return False
        count = self._held[0]
        body = self._take(1 + 4 * count) or b""
        found = list(struct.unpack(f">{count}I", body[1:]))
        if not count:
            return self._breach("it offers VeNCrypt with nothing in it")
        self._types = [each for each in self._types if each != VENCRYPT] + found
        certified = next((each for each in CERTIFIED if each in found), None)
        if certified is None:
            return self._end()
        self._out += struct.pack(">I", certified)
        self._then = self._begins
        return True

    def _begins(self) -> bool:
        """A byte says whether TLS begins; what follows it in the clear is a breach."""
        found = self._take(1)
        if found is None:
            return False
        if found != b"\x01":
            self._end()
            self._found.append(SealRefused(SEALED, "it has no certificate that it can use"))
            return False
        if self._held:
            return self._breach("it goes on in the clear after it promised TLS")
        self.wants_tls = True
        return False

    def _reason(self) -> bool:
        if len(self._held) < 4:
            return False
        (length,) = struct.unpack(">I", self._held[:4])
        if length > LONGEST:
            return self._breach("its reason is longer than a reason")
        found = self._take(4 + length)
        if found is None:
            return False
        said = "".join(chr(each) if 32 <= each < 127 else "?" for each in found[4:104])
        return self._breach(f'it turns callers away: "{said}"')

    def _end(self, served: SealSeen | None = None) -> bool:
        """All that is offered is known: seals, and what each account is asked for."""
        known = [KNOWN[each] for each in self._types if each in KNOWN]
        seals = dict.fromkeys(seal for _, seal in known if seal is not SEALED)
        if TLS_18 in self._types:
            seals[ANONYMOUS] = None
        self._found += [*(SealSeen(seal) for seal in seals), *([served] if served is not None else [])]
        opens = [word for word, seal in known if seal is not SEALED or served is not None]
        proofs, free = tuple(dict.fromkeys(word for word in opens if word != NOTHING)), NOTHING in opens
        self._found += [RequestedProof(each, proofs, free) for each in self.accounts]
        self.wants_tls, self.done = False, True
        return False

    def sealed(self, version: str, certificate: bytes) -> None:
        """TLS stands: its version, and the server's certificate (DER)."""
        self._end(SealSeen(SEALED, version, certificate))

    def unsealed(self, why: str) -> None:
        """TLS could not be begun."""
        self._end()
        self._found.append(SealRefused(SEALED, why))

    def another(self) -> Handshake | None:
        """Nothing more: each connection counts."""
        return None

    def _breach(self, why: str) -> bool:
        self._found.append(ProtocolBreach(why))
        self.done = True
        return False

    def events(self) -> Iterator[Event]:
        """The events since the last call."""
        found, self._found = self._found, []
        return iter(found)

    def to_send(self) -> bytes:
        """The answers to what came."""
        out, self._out = self._out, b""
        return out
