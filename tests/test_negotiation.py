"""RDP's negotiation against scripted servers: cut at every byte, and lies of every kind. The real one is in tests/live."""

from __future__ import annotations

import struct

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nightlatch.model.handshake import Event, PeerIdentity, ProtocolBreach, RequestedProof, SealRefused, SealSeen
from nightlatch.model.routes import Seal
from nightlatch.services.rdp.negotiation import LARGEST, Negotiation, request

ASKED = RequestedProof("mara", ("password",))


def confirm(kind: int = 2, value: int = 1, flags: int = 0x1F, length: int = 8) -> bytes:
    """An answer to the negotiation."""
    body = struct.pack(">BBHHB", 14, 0xD0, 0, 0x1234, 0) + struct.pack("<BBHI", kind, flags, length, value)
    return struct.pack(">BBH", 3, 0, 4 + len(body)) + body


BARE = struct.pack(">BBHBBHHB", 3, 0, 11, 6, 0xD0, 0, 0x1234, 0)


def heard(machine: Negotiation, *parts: bytes) -> list[Event]:
    found: list[Event] = []
    for part in parts:
        machine.receive(part)
        found += machine.events()
    return found


def test_the_request_is_that_of_the_specification() -> None:
    assert request(1) == bytes.fromhex("030000130ee000000000000100080001000000")
    assert request(0)[-4:] == bytes(4)


@pytest.mark.parametrize("cut", range(len(confirm()) + 1))
def test_an_answer_split_anywhere(cut: int) -> None:
    machine = Negotiation(["mara"])
    found = heard(machine, *(part for part in (confirm()[:cut], confirm()[cut:]) if part))
    assert found == [PeerIdentity("RDP")]
    assert machine.wants_tls
    machine.sealed("TLSv1.3", b"der")
    assert list(machine.events()) == [SealSeen(Seal.TLS, "TLSv1.3", b"der"), ASKED]
    assert machine.done
    second = machine.another()
    assert second is not None
    assert heard(second, confirm(value=0)) == [PeerIdentity("RDP"), SealSeen(Seal.CLEAR), ASKED]
    assert second.another() is None


@pytest.mark.parametrize(
    "protocols, answer, events",
    [
        (1, confirm(value=0), [PeerIdentity("RDP"), SealSeen(Seal.CLEAR), ASKED]),
        (0, confirm(value=0), [PeerIdentity("RDP"), SealSeen(Seal.CLEAR), ASKED]),
        (1, BARE, [PeerIdentity("RDP"), SealSeen(Seal.CLEAR), ASKED]),
        (0, confirm(3, 1), [PeerIdentity("RDP"), SealRefused(Seal.CLEAR, "it wants TLS")]),
        (0, confirm(3, 5), [PeerIdentity("RDP"), SealRefused(Seal.CLEAR, "it wants an identity before TLS")]),
        (1, confirm(3, 3), [PeerIdentity("RDP"), SealRefused(Seal.TLS, "it has no certificate that it can use")]),
        (
            0,
            confirm(3, 1) + b"\x03\x00\x00\x09\x02\xf0\x80\x21\x80",
            [PeerIdentity("RDP"), SealRefused(Seal.CLEAR, "it wants TLS")],
        ),
        (1, confirm(3, 99), [PeerIdentity("RDP"), SealRefused(Seal.TLS, "failure 99")]),
    ],
)
def test_what_a_server_answers(protocols: int, answer: bytes, events: list[Event]) -> None:
    machine = Negotiation(["mara"], protocols)
    assert heard(machine, answer) == events
    assert machine.done


def test_a_handshake_that_fails_is_no_seal() -> None:
    machine = Negotiation(["mara"])
    heard(machine, confirm())
    machine.unsealed("TLS was not agreed on")
    assert list(machine.events()) == [SealRefused(Seal.TLS, "TLS was not agreed on")]
    assert machine.done


LIES = [
    b"",
    confirm()[:10],
    b"SSH-2.0-OpenSSH_9.2\r\n",
    b"HTTP/1.0 400 Bad Request\r\n\r\n",
    b"RFB 003.008\n",
    confirm() + b"x",
    confirm() * 2,
    confirm(value=2),
    confirm(value=8),
    confirm(value=3),
    confirm(4),
    confirm(length=9),
    b"\x03\x00\xff\xff" + bytes(600),
    b"\x03\x00\x00\x00",
    b"\x03\x00\x00\x0a" + bytes(6),
    confirm()[:4] + b"\xff" + confirm()[5:],
    confirm()[:5] + b"\xe0" + confirm()[6:],
    bytes(5000),
]


@pytest.mark.parametrize("lie", LIES)
def test_a_liar_is_told_and_nothing_more_is_taken_from_it(lie: bytes) -> None:
    machine = Negotiation(["mara"])
    found = heard(machine, lie, b"") if lie else heard(machine, b"")
    assert [type(each) for each in found] == [ProtocolBreach]
    assert machine.done
    assert not machine.wants_tls
    assert heard(machine, confirm(), b"") == []
    assert len(machine._held) <= LARGEST + 1


@given(st.binary(max_size=900), st.integers(0, 900))
def test_whatever_comes_it_ends_or_waits(data: bytes, cut: int) -> None:
    machine = Negotiation(["mara"])
    found = heard(machine, data[:cut] or b"\x03", data[cut:] or b"\x00", b"")
    assert machine.done or machine.wants_tls
    assert len([each for each in found if isinstance(each, ProtocolBreach)]) <= 1
