"""The beginning of an SSH connection, from the caller's side, as a machine without I/O (RFC 4253; RFC 4252, 5).

It gets bytes and gives bytes and events: who answers, what is offered, the host key once its signature was verified
over the whole exchange, and the methods of authentication that a name is offered. It never authenticates. Everything
that it keeps is bounded; after a fault it stays dead.
"""

from __future__ import annotations

import os
import struct
from collections import deque
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from enum import Enum, IntEnum
from typing import Final

from nightlatch import __version__
from nightlatch.formats.keys import PublicKey
from nightlatch.formats.ssh_wire import integer, names, string
from nightlatch.probe import hostkeys, packets
from nightlatch.probe.exchange import EXCHANGES, GROUP_BITS, Exchange, Half, proposed
from nightlatch.probe.wire import NothingInCommonFault, PeerFault, Reader

IDENTIFICATION = f"SSH-2.0-Nightlatch_{__version__}".encode()
LONGEST_LINE = 1024  # RFC 4253, 4.2 allows 255 for the identification and says nothing of lines before it
MOST_LINES = 32
MOST_BYTES = 256 << 10
MOST_ASIDE = 16  # IGNORE, DEBUG, UNIMPLEMENTED and banners


class Message(IntEnum):
    """Message numbers (RFC 4250, 4.1.2)."""

    DISCONNECT = 1
    IGNORE = 2
    UNIMPLEMENTED = 3
    DEBUG = 4
    SERVICE_REQUEST = 5
    SERVICE_ACCEPT = 6
    EXT_INFO = 7
    KEXINIT = 20
    NEWKEYS = 21
    EXCHANGE_INIT = 30  # KEXDH_INIT, KEX_ECDH_INIT
    EXCHANGE_REPLY = 31  # and KEX_DH_GEX_GROUP
    GROUP_INIT = 32
    GROUP_REPLY = 33
    GROUP_REQUEST = 34
    AUTH_REQUEST = 50
    AUTH_FAILURE = 51
    AUTH_SUCCESS = 52
    BANNER = 53


class Phase(Enum):
    """Where the conversation is."""

    IDENTIFYING = "identification"
    OFFERING = "offer of algorithms"
    GROUP = "group for the key exchange"
    EXCHANGING = "key exchange"
    SWITCHING = "new keys"
    ASKING = "service"
    METHODS = "methods"
    DONE = "done"
    DEAD = "dead"


NEED_DATA: Final = "need data"


@dataclass(frozen=True, slots=True)
class Identification:
    """The identification string, and the lines that came before it."""

    text: str
    before: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class AlgorithmOffer:
    """The peer's lists of algorithms, each in its order of preference."""

    exchanges: tuple[str, ...]
    host_keys: tuple[str, ...]
    ciphers: tuple[str, ...]
    macs: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class ProvenKey:
    """A host key whose signature over this very exchange holds, and by what."""

    key: PublicKey
    exchange: str
    algorithm: str


@dataclass(frozen=True, slots=True)
class Methods:
    """The methods that an account name is offered; `let_in` when nothing at all was asked for."""

    account: str
    methods: tuple[str, ...]
    let_in: bool = False


@dataclass(frozen=True, slots=True)
class Failure:
    """The conversation is over before its end: in which phase, and why; `sound` when the peer did nothing wrong."""

    phase: Phase
    why: str
    sound: bool = False


Event = Identification | AlgorithmOffer | ProvenKey | Methods | Failure


@dataclass(slots=True)
class _Agreed:
    """The algorithms agreed on: the first of ours that the peer has, too (RFC 4253, 7.1)."""

    exchange: Exchange
    host_key: str
    cipher_out: str
    cipher_in: str
    mac_out: str
    mac_in: str
    half: Half | None = None
    asked: bytes = b""  # the sizes and the group, as they are hashed with a proposed group (RFC 4419, 3)
    hash: bytes = b""
    secret: bytes = b""


@dataclass
class Conversation:
    """One connection. `host_keys` and `exchanges` are what to ask for; with `account`, the methods it is offered.

    With `pins` (SHA256 fingerprints), a server that shows another key is told no account name: it ends at the key.

    Use: send what `start` gives; then, until Failed or `done`, take `events`, send `to_send`, and `receive` more;
    an empty `receive` is the end of the stream.
    """

    account: str = ""
    host_keys: tuple[str, ...] = tuple(hostkeys.KEY_TYPES)
    exchanges: tuple[str, ...] = tuple(EXCHANGES)
    pins: tuple[str, ...] = ()
    phase: Phase = Phase.IDENTIFYING
    _stream: packets.Stream = field(default_factory=packets.Stream)
    _out: bytearray = field(default_factory=bytearray)
    _lines: list[str] = field(default_factory=list)
    _events: deque[Event] = field(default_factory=deque)
    _skip: bool = False
    _aside: int = 0
    _bytes: int = 0
    _session: bytes = b""
    _strange: bool = False
    _peer: bytes = b""
    _own_offer: bytes = b""
    _peer_offer: bytes = b""
    _agreed: _Agreed | None = None

    def start(self) -> bytes:
        """The first bytes to send."""
        self._own_offer = self._offer()
        return IDENTIFICATION + b"\r\n" + self._stream.send(self._own_offer)

    @property
    def done(self) -> bool:
        """Whether nothing more will come."""
        return self.phase in (Phase.DONE, Phase.DEAD)

    def to_send(self) -> bytes:
        """The bytes to send now."""
        out = bytes(self._out)
        self._out.clear()
        return out

    def events(self) -> Iterator[Event]:
        """The events since the last call."""
        while self._events:
            yield self._events.popleft()

    def receive(self, data: bytes) -> None:
        """Bytes from the peer, however they were split; none at all is the end."""
        if self.done:
            return
        try:
            if not data:
                raise PeerFault("the connection was closed")
            self._bytes += len(data)
            self._stream.receive(data)
            if self._bytes > MOST_BYTES:
                raise PeerFault(f"more than {MOST_BYTES >> 10} KiB came")
            while not self.done and self._step():
                pass
        except PeerFault as error:
            self._fail(str(error), sound=isinstance(error, NothingInCommonFault))

    def _fail(self, why: str, *, sound: bool) -> None:
        self._events.append(Failure(self.phase, why, sound))
        self.phase = Phase.DEAD
        self._out.clear()

    def _step(self) -> bool:
        if self.phase is Phase.IDENTIFYING:
            return self._identification()
        payload = self._stream.packet()
        if payload is None:
            return False
        number = payload[0]
        if number in (Message.IGNORE, Message.DEBUG, Message.UNIMPLEMENTED, Message.EXT_INFO, Message.BANNER):
            self._aside += 1
            if self._aside > MOST_ASIDE:
                raise PeerFault("nothing but asides came")
            return True
        reader = Reader(payload)
        reader.byte()
        if number == Message.DISCONNECT:
            reader.number()
            raise PeerFault(f"the server ended it: {reader.text()[:200]}")
        if self._skip and self.phase in (Phase.EXCHANGING, Phase.GROUP):
            self._skip = False
            return True
        known = MOVES.get((self.phase, number))
        if known is None:
            raise PeerFault(f"message {number} came where none of that kind can")
        known(self, payload, reader)
        return True

    def _identification(self) -> bool:
        line = self._stream.line()
        if line is None:
            if self._stream.waiting > LONGEST_LINE:
                raise PeerFault(f"no line end within {LONGEST_LINE} bytes: this is no SSH server")
            return False
        if len(line) > LONGEST_LINE or b"\0" in line:
            raise PeerFault("what answers is no SSH server")
        text = line.decode("utf-8", "replace")
        if not line.startswith(b"SSH-"):
            self._lines.append(text)
            if len(self._lines) > MOST_LINES:
                raise PeerFault(f"no identification within {MOST_LINES} lines: this is no SSH server")
            return True
        self._events.append(Identification(text, tuple(self._lines)))
        if not line.startswith((b"SSH-2.0-", b"SSH-1.99-")):
            raise PeerFault(f"it speaks another version: {text[:60]}")
        self._peer = line
        self.phase = Phase.OFFERING
        return True

    def _offer(self) -> bytes:
        ciphers, macs = tuple(packets.CIPHERS), tuple(packets.MACS)
        lists = (self.exchanges, self.host_keys, ciphers, ciphers, macs, macs, ("none",), ("none",), (), ())
        return bytes([Message.KEXINIT]) + os.urandom(16) + b"".join(map(names, lists)) + bytes(5)

    def _offered(self, payload: bytes, reader: Reader) -> None:
        reader.take(16)
        theirs = [reader.names() for _ in range(10)]
        guessed = reader.flag()
        reader.number()
        reader.end()
        self._peer_offer = payload
        self._events.append(AlgorithmOffer(theirs[0], theirs[1], theirs[3], theirs[5]))
        agreed = _Agreed(
            EXCHANGES[_first("key exchange", self.exchanges, theirs[0])],
            _first("host key algorithm", self.host_keys, theirs[1]),
            _first("cipher", tuple(packets.CIPHERS), theirs[2]),
            _first("cipher", tuple(packets.CIPHERS), theirs[3]),
            "",
            "",
        )
        macs = tuple(packets.MACS)
        agreed.mac_out = _first("MAC", macs, theirs[4]) if packets.CIPHERS[agreed.cipher_out].make is None else ""
        agreed.mac_in = _first("MAC", macs, theirs[5]) if packets.CIPHERS[agreed.cipher_in].make is None else ""
        self._agreed = agreed
        # A packet that was sent on a wrong guess is to be ignored (RFC 4253, 7.1).
        wrong = theirs[0][:1] != self.exchanges[:1] or theirs[1][:1] != self.host_keys[:1]
        self._skip = guessed and wrong
        if agreed.exchange.half is None:
            agreed.asked = struct.pack(">III", *GROUP_BITS)
            self._send(bytes([Message.GROUP_REQUEST]) + agreed.asked)
            self.phase = Phase.GROUP
            return
        agreed.half = agreed.exchange.half()
        self._send(bytes([Message.EXCHANGE_INIT]) + agreed.exchange.hashed(agreed.half.public))
        self.phase = Phase.EXCHANGING

    def _group(self, payload: bytes, reader: Reader) -> None:
        agreed = self._now
        prime, generator = reader.integer(), reader.integer()
        reader.end()
        agreed.half = proposed(prime, generator)
        agreed.asked += integer(prime) + integer(generator)
        self._send(bytes([Message.GROUP_INIT]) + agreed.exchange.hashed(agreed.half.public))
        self.phase = Phase.EXCHANGING

    def _reply(self, payload: bytes, reader: Reader) -> None:
        agreed = self._now
        assert agreed.half is not None
        expected = Message.GROUP_REPLY if agreed.exchange.half is None else Message.EXCHANGE_REPLY
        if payload[0] != expected:
            raise PeerFault(f"message {payload[0]} came where {expected} was due")
        blob = reader.string()
        half = reader.string() if not agreed.exchange.numbers else _bytes(reader.integer())
        signature = reader.string()
        reader.end()
        agreed.secret = integer(agreed.half.shared(half))
        hashed = b"".join(map(string, (IDENTIFICATION, self._peer, self._own_offer, self._peer_offer, blob)))
        hashed += agreed.asked + agreed.exchange.hashed(agreed.half.public) + agreed.exchange.hashed(half) + agreed.secret
        agreed.hash = agreed.exchange.hash(hashed)
        key = hostkeys.proven(agreed.host_key, blob, signature, agreed.hash)
        self._session = agreed.hash
        self._strange = bool(self.pins) and key.fingerprint not in self.pins
        self._events.append(ProvenKey(key, agreed.exchange.name, agreed.host_key))
        self._send(bytes([Message.NEWKEYS]))
        self._stream.outgoing = packets.guard(agreed.cipher_out, agreed.mac_out, self._derived, "out")
        self.phase = Phase.SWITCHING

    def _switched(self, payload: bytes, reader: Reader) -> None:
        reader.end()
        agreed = self._now
        self._stream.incoming = packets.guard(agreed.cipher_in, agreed.mac_in, self._derived, "in")
        if not self.account or self._strange:
            self._good_bye()
            return
        self._send(bytes([Message.SERVICE_REQUEST]) + string(b"ssh-userauth"))
        self.phase = Phase.ASKING

    def _served(self, payload: bytes, reader: Reader) -> None:
        # "none" asks which methods there are (RFC 4252, 5.2).
        words = (self.account.encode(), b"ssh-connection", b"none")
        self._send(bytes([Message.AUTH_REQUEST]) + b"".join(map(string, words)))
        self.phase = Phase.METHODS

    def _refused(self, payload: bytes, reader: Reader) -> None:
        methods = reader.names()
        reader.flag()
        reader.end()
        self._events.append(Methods(self.account, methods))
        self._good_bye()

    def _let_in(self, payload: bytes, reader: Reader) -> None:
        self._events.append(Methods(self.account, (), let_in=True))
        self._good_bye()

    def _good_bye(self) -> None:
        """RFC 4253, 11.1: by application."""
        self._send(bytes([Message.DISCONNECT]) + struct.pack(">I", 11) + string(b"seen") + string(b""))
        self.phase = Phase.DONE

    def _send(self, payload: bytes) -> None:
        self._out += self._stream.send(payload)

    @property
    def _now(self) -> _Agreed:
        assert self._agreed is not None
        return self._agreed

    def _derived(self, letter: str, size: int) -> bytes:
        """RFC 4253, 7.2."""
        agreed = self._now
        seed = agreed.secret + agreed.hash
        out = agreed.exchange.hash(seed + letter.encode() + self._session)
        while len(out) < size:
            out += agreed.exchange.hash(seed + out)
        return out[:size]


def _bytes(number: int) -> bytes:
    return number.to_bytes((number.bit_length() + 7) // 8, "big")


def _first(what: str, ours: tuple[str, ...], theirs: tuple[str, ...]) -> str:
    for name in ours:
        if name in theirs:
            return name
    raise NothingInCommonFault(f"no {what} in common; the server offers {', '.join(theirs)[:300] or 'none'}")


MOVES: dict[tuple[Phase, int], Callable[[Conversation, bytes, Reader], None]] = {
    (Phase.OFFERING, Message.KEXINIT): Conversation._offered,
    (Phase.GROUP, Message.EXCHANGE_REPLY): Conversation._group,
    (Phase.EXCHANGING, Message.EXCHANGE_REPLY): Conversation._reply,
    (Phase.EXCHANGING, Message.GROUP_REPLY): Conversation._reply,
    (Phase.SWITCHING, Message.NEWKEYS): Conversation._switched,
    (Phase.ASKING, Message.SERVICE_ACCEPT): Conversation._served,
    (Phase.METHODS, Message.AUTH_FAILURE): Conversation._refused,
    (Phase.METHODS, Message.AUTH_SUCCESS): Conversation._let_in,
}
