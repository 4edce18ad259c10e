"""The handshake of VNC as a machine without I/O: servers of all versions, cut at every byte, and those that don't keep to it."""

from __future__ import annotations

import struct

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nightlatch.model.handshake import Event, PeerIdentity, ProtocolBreach, RequestedProof, SealRefused, SealSeen
from nightlatch.model.routes import Seal
from nightlatch.services.vnc.rfb import LONGEST, Handshake

HELLO = b"RFB 003.008\n"
CLEAR, ANONYMOUS, SEALED = Seal.CLEAR, Seal.TLS_WITHOUT_CERTIFICATE, Seal.TLS


def types(*kinds: int) -> bytes:
    return bytes([len(kinds), *kinds])


def subtypes(*kinds: int) -> bytes:
    return b"\0\2\0" + struct.pack(f">B{len(kinds)}I", len(kinds), *kinds)


def reason(text: bytes) -> bytes:
    return struct.pack(">I", len(text)) + text


def talk(*parts: bytes, sealed: bool = True) -> tuple[list[Event], bytes, Handshake]:
    """What a machine makes of a server's words, and what it sent."""
    machine, events, sent = Handshake(["mara", "joon"]), list[Event](), b""
    for part in parts:
        machine.receive(part)
        sent += machine.to_send()
        if machine.wants_tls:
            (machine.sealed("TLSv1.3", b"der") if sealed else machine.unsealed("no"))
        events += machine.events()
    return events, sent, machine


GOOD = [
    (HELLO + types(2), [SealSeen(CLEAR)], ("screen password",), False, HELLO),
    (HELLO + types(1, 2), [SealSeen(CLEAR)], ("screen password",), True, HELLO),
    (
        HELLO + types(19) + subtypes(258, 256),
        [SealSeen(ANONYMOUS), SealSeen(CLEAR)],
        ("screen password", "password"),
        False,
        HELLO + b"\x13\0\2",
    ),
    (
        HELLO + types(19, 2) + subtypes(262, 261) + b"\1",
        [SealSeen(CLEAR), SealSeen(SEALED, "TLSv1.3", b"der")],
        ("screen password", "password"),
        False,
        HELLO + b"\x13\0\2" + struct.pack(">I", 261),
    ),
    (b"RFB 003.003\n" + struct.pack(">I", 2), [SealSeen(CLEAR)], ("screen password",), False, b"RFB 003.003\n"),
    (b"RFB 003.007\n" + types(1), [SealSeen(CLEAR)], (), True, b"RFB 003.007\n"),
    (b"RFB 005.000\n" + types(5), [SealSeen(ANONYMOUS)], ("screen password",), False, HELLO),
    (HELLO + types(30, 77), [], (), False, HELLO),
    (HELLO + types(18), [SealSeen(ANONYMOUS)], (), False, HELLO),
]


@pytest.mark.parametrize("said, seals, proofs, free, sent", GOOD)
def test_what_a_server_offers(said: bytes, seals: list[Event], proofs: tuple[str, ...], free: bool, sent: bytes) -> None:
    events, out, machine = talk(said)
    assert isinstance(events[0], PeerIdentity)
    assert events[1:] == [*seals, *(RequestedProof(name, proofs, free) for name in ("mara", "joon"))]
    assert out == sent
    assert machine.done
    assert machine.another() is None, "each further connection would count as a failed login"


@pytest.mark.parametrize("said", [each[0] for each in GOOD])
def test_it_makes_no_difference_how_the_words_come(said: bytes) -> None:
    whole = talk(said)
    for cut in range(1, len(said)):
        assert talk(said[:cut], said[cut:])[:2] == whole[:2]
    assert talk(*(said[at : at + 1] for at in range(len(said))))[:2] == whole[:2]


@pytest.mark.parametrize("said", [each[0] for each in GOOD])
def test_a_server_that_leaves_is_a_breach_at_every_byte(said: bytes) -> None:
    for cut in range(len(said)):
        events, _, machine = talk(said[:cut], b"")
        assert machine.done
        assert isinstance(events[-1], ProtocolBreach)
        assert not [each for each in events if isinstance(each, SealSeen | RequestedProof)]


@pytest.mark.parametrize(
    "said, why",
    [
        (b"SSH-2.0-x\r\n", "it does not answer as a server of VNC"),
        (b"RFB 3.8\n____", "its version has an unknown form"),
        (b"RFB 002.000\n", "its version 2.0 is too old"),
        (HELLO + b"\0" + reason(b"Too many security failures"), 'it turns callers away: "Too many security failures"'),
        (b"RFB 003.003\n\0\0\0\0" + reason(b"\x1b[31mred"), 'it turns callers away: "?[31mred"'),
        (HELLO + b"\0" + struct.pack(">I", LONGEST + 1), "its reason is longer than a reason"),
        (HELLO + types(19) + b"\0\1", "its VeNCrypt 0.1 is too old"),
        (HELLO + types(19) + b"\0\2\1", "it does not take the version of VeNCrypt that it named"),
        (HELLO + types(19) + subtypes(), "it offers VeNCrypt with nothing in it"),
        (HELLO + types(19) + subtypes(261) + b"\1clear", "it goes on in the clear after it promised TLS"),
    ],
)
def test_servers_that_don_t_keep_to_it(said: bytes, why: str) -> None:
    events, _, machine = talk(said)
    assert machine.done
    assert events[-1] == ProtocolBreach(why)
    assert not [each for each in events if isinstance(each, SealSeen)]


def test_a_certificate_that_can_t_be_had_is_no_seal() -> None:
    for events in (
        talk(HELLO + types(19) + subtypes(261, 256) + b"\1", sealed=False)[0],
        talk(HELLO + types(19) + subtypes(261, 256) + b"\0")[0],
    ):
        assert [each.seal for each in events if isinstance(each, SealSeen)] == [CLEAR]
        assert [each.seal for each in events if isinstance(each, SealRefused)] == [SEALED]
        assert RequestedProof("mara", ("password",)) in events


@given(st.lists(st.binary(max_size=40), max_size=8), st.booleans())
def test_whatever_comes_is_bounded_and_no_error(parts: list[bytes], begins: bool) -> None:
    events, sent, machine = talk(*([HELLO] if begins else []), *parts, b"")
    assert machine.done
    assert len(sent) <= 40
    assert len(events) < 12
