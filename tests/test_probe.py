"""The SSH machine against real sshd, split at every byte, and against peers that lie."""

from __future__ import annotations

import copy
import socket
import struct
import subprocess
from dataclasses import dataclass, field
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nightlatch.formats.ssh_wire import integer, names, string
from nightlatch.probe import hostkeys, packets
from nightlatch.probe.exchange import EXCHANGES
from nightlatch.probe.ssh import AlgorithmOffer, Conversation, Event, Failure, Identification, Methods, Phase, ProvenKey
from nightlatch.probe.wire import PeerFault, Reader

KEYS = {
    "ssh-ed25519": ("ed25519", ""),
    "ssh-rsa": ("rsa", "2048"),
    **{f"ecdsa-sha2-nistp{bits}": ("ecdsa", str(bits)) for bits in (256, 384, 521)},
}
# sshd in a mount namespace of its own, where it may have its folder under /run; its peer is standard input.
START = 'mount -t tmpfs tmpfs /run && mkdir -m 755 /run/sshd && exec /usr/sbin/sshd -i -f "$0"'
judge = pytest.mark.judge("sshd", "ssh-keygen", "unshare", root=True)


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    made = tmp_path_factory.mktemp("hostkeys")
    for name, (kind, bits) in KEYS.items():
        more = ["-b", bits] if bits else []
        subprocess.run(["ssh-keygen", "-q", "-t", kind, *more, "-N", "", "-f", str(made / name)], check=True)
    return made


@dataclass
class Talk:
    """A conversation with a real sshd: the events, and every chunk it sent with the machine as it was before."""

    events: list[Event] = field(default_factory=list)
    chunks: list[tuple[Conversation, bytes]] = field(default_factory=list)

    def only(self, kind: type) -> list[Event]:
        return [event for event in self.events if isinstance(event, kind)]


def talk(
    folder: Path,
    machine: Conversation,
    config: str = "",
    keys: tuple[str, ...] = ("ssh-ed25519",),
    *,
    step: int = 65536,
    keep: bool = False,
) -> Talk:
    path = folder / "sshd_config"
    path.write_text("".join(f"HostKey {folder / key}\n" for key in keys) + config + "\nUsePAM no\n")
    ours, theirs = socket.socketpair()
    with subprocess.Popen(
        ["unshare", "--mount", "--propagation", "private", "sh", "-c", START, str(path)],
        stdin=theirs.fileno(),
        stdout=theirs.fileno(),
        stderr=subprocess.DEVNULL,
    ) as process:
        theirs.close()
        ours.settimeout(60)
        out = Talk()
        ours.sendall(machine.start())
        while not machine.done:
            try:
                data = ours.recv(65536)
            except ConnectionResetError:
                data = b""
            if keep:
                out.chunks.append((copy.deepcopy(machine), data))
            for at in range(0, max(1, len(data)), step):
                machine.receive(data[at : at + step])
            out.events += machine.events()
            ours.sendall(machine.to_send())
        ours.close()
        process.wait(60)
    return out


def fingerprint(folder: Path, key: str, form: str) -> str:
    words = ["ssh-keygen", "-l", "-E", form, "-f", str(folder / f"{key}.pub")]
    return subprocess.run(words, capture_output=True, text=True, check=True).stdout.split()[1]


@judge
@pytest.mark.parametrize("exchange", EXCHANGES)
def test_every_exchange_that_sshd_knows(folder: Path, exchange: str) -> None:
    found = talk(folder, Conversation("mara", exchanges=(exchange,)), f"KexAlgorithms +{exchange}")
    (proven,) = found.only(ProvenKey)
    assert isinstance(proven, ProvenKey)
    assert proven.exchange == exchange
    assert proven.key.fingerprint == fingerprint(folder, "ssh-ed25519", "sha256")
    assert found.events[-1] == Methods("mara", ("publickey", "password", "keyboard-interactive"))


@judge
@pytest.mark.parametrize("algorithm", hostkeys.KEY_TYPES)
def test_every_host_key_type(folder: Path, algorithm: str) -> None:
    kind = hostkeys.KEY_TYPES[algorithm]
    found = talk(folder, Conversation(host_keys=(algorithm,)), "HostKeyAlgorithms +ssh-rsa", (kind,))
    (proven,) = found.only(ProvenKey)
    assert isinstance(proven, ProvenKey)
    assert proven.algorithm == algorithm
    assert proven.key.fingerprint == fingerprint(folder, kind, "sha256")
    assert hostkeys.md5_fingerprint(proven.key.blob) == fingerprint(folder, kind, "md5")
    (offered,) = found.only(AlgorithmOffer)
    assert isinstance(offered, AlgorithmOffer)
    assert hostkeys.one_of_each(offered.host_keys) == tuple(
        tuple(a for a in ("rsa-sha2-512", "rsa-sha2-256", "ssh-rsa")) if kind == "ssh-rsa" else (algorithm,) for _ in "1"
    )


@judge
def test_what_is_offered_is_what_sshd_says(folder: Path) -> None:
    found = talk(folder, Conversation(), keys=tuple(KEYS))
    (offered,) = found.only(AlgorithmOffer)
    assert isinstance(offered, AlgorithmOffer)
    path = folder / "sshd_config"
    said = subprocess.run(
        ["unshare", "--mount", "--propagation", "private", "sh", "-c", START.replace("-i", "-T"), str(path)],
        capture_output=True,
        text=True,
        check=True,
    ).stdout
    lines = dict(line.split(" ", 1) for line in said.splitlines())
    assert ",".join(offered.ciphers) == lines["ciphers"]
    assert ",".join(offered.macs) == lines["macs"]
    assert [name for name in offered.exchanges if "strict" not in name] == lines["kexalgorithms"].split(",")
    assert len(hostkeys.one_of_each(offered.host_keys)) == len(KEYS)


PAIRS = [(c, m) for c, suite in packets.CIPHERS.items() for m in (packets.MACS if suite.make is None else ("",))]


@judge
@pytest.mark.parametrize(("cipher", "mac"), PAIRS)
def test_every_cipher_and_mac(folder: Path, cipher: str, mac: str) -> None:
    config = f"Ciphers {cipher}\n" + (f"MACs {mac}\n" if mac else "") + "PasswordAuthentication no\n"
    found = talk(folder, Conversation("mara"), config)
    assert found.events[-1] == Methods("mara", ("publickey", "keyboard-interactive"))


@judge
def test_one_byte_at_a_time_is_the_same(folder: Path) -> None:
    found = talk(folder, Conversation("mara"), keys=("ssh-rsa",), step=1)
    assert [type(event) for event in found.events] == [Identification, AlgorithmOffer, ProvenKey, Methods]


@judge
def test_split_at_every_byte_and_every_byte_changed(folder: Path, tell: object) -> None:
    # With this cipher a machine can be copied: each chunk is given anew in two parts, cut at every place.
    found = talk(
        folder,
        Conversation("mara"),
        "Ciphers chacha20-poly1305@openssh.com\nKexAlgorithms curve25519-sha256",
        keep=True,
    )
    cuts = changed = 0
    for machine, data in found.chunks:
        whole = copy.deepcopy(machine)
        whole.receive(data)
        expected = list(whole.events())
        for cut in range(1, len(data)):
            again = copy.deepcopy(machine)
            again.receive(data[:cut])
            early = list(again.events())
            again.receive(data[cut:])
            assert early + list(again.events()) == expected, cut
            assert again.phase == whole.phase
            cuts += 1
        if any(isinstance(event, ProvenKey) for event in expected):
            changed += _nothing_changed_is_proven(machine, data)
    assert cuts > 900
    assert changed > 150
    tell(f"handshake: cut at {cuts} places, {changed} bytes of the proof changed, 0 wrong")  # type: ignore[operator]


def _nothing_changed_is_proven(machine: Conversation, data: bytes) -> int:
    """Every byte of the reply with one bit turned; what follows the reply, or is padding, proves nothing either way."""
    (length,) = struct.unpack(">I", data[:4])
    covered = range(4 + 1 + 1, 4 + length - data[4])
    for at in covered:
        again = copy.deepcopy(machine)
        again.receive(data[:at] + bytes([data[at] ^ 1]) + data[at + 1 :])
        assert not [event for event in again.events() if isinstance(event, ProvenKey)], at
    return len(covered)


@judge
def test_a_pinned_server_that_shows_another_key_is_told_no_name(folder: Path) -> None:
    found = talk(folder, Conversation("mara", pins=("SHA256:" + "A" * 43,)))
    assert [type(event) for event in found.events] == [Identification, AlgorithmOffer, ProvenKey]


HELLO = b"SSH-2.0-liar\r\n"


def packet(payload: bytes, pad: int = 0) -> bytes:
    pad = pad or 8 - (len(payload) + 5) % 8 + (8 if 8 - (len(payload) + 5) % 8 < 4 else 0)
    return struct.pack(">IB", 1 + len(payload) + pad, pad) + payload + bytes(pad)


def kexinit(
    kex: str = "curve25519-sha256",
    key: str = "ssh-ed25519",
    cipher: str = "aes128-ctr",
    mac: str = "hmac-sha2-256",
    *,
    guess: bool = False,
    tail: bytes = b"",
) -> bytes:
    lists = [[kex], [key], [cipher], [cipher], [mac], [mac], ["none"], ["none"], [], []]
    return packet(bytes([20]) + bytes(16) + b"".join(map(names, lists)) + bytes([guess]) + bytes(4) + tail)


def reply(blob: bytes, half: bytes, signature: bytes, tail: bytes = b"") -> bytes:
    return packet(bytes([31]) + string(blob) + string(half) + string(signature) + tail)


# The base point as a key: one of small order (all zeros) would be signed for by zeros one time in four.
BLOB = string(b"ssh-ed25519") + string(bytes([0x58]) + bytes([0x66]) * 31)
SIGNATURE = string(b"ssh-ed25519") + string(bytes(64))
POINT = bytes([9]) + bytes(31)
LIES = {
    "another version": (b"SSH-1.5-x\r\n", Phase.IDENTIFYING, "another version"),
    "no line end": (b"x" * 2000, Phase.IDENTIFYING, "no SSH server"),
    "many lines": (b"hello\r\n" * 40, Phase.IDENTIFYING, "no SSH server"),
    "a zero byte": (b"SSH-2.0-\0\r\n", Phase.IDENTIFYING, "no SSH server"),
    "a huge packet": (HELLO + b"\xff\xff\xff\xff", Phase.OFFERING, "a packet of 4294967295 bytes"),
    "an empty packet": (HELLO + bytes(8), Phase.OFFERING, "a packet of 0 bytes"),
    "padding that is all": (HELLO + struct.pack(">IB", 12, 12) + bytes(11), Phase.OFFERING, "12 bytes of padding"),
    "too little padding": (HELLO + struct.pack(">IB", 12, 1) + bytes(11), Phase.OFFERING, "1 bytes of padding"),
    "out of order": (HELLO + packet(bytes([21])), Phase.OFFERING, "message 21"),
    "a goodbye": (
        HELLO + packet(bytes([1]) + bytes(4) + string(b"no \x1b[2J") + string(b"")),
        Phase.OFFERING,
        "the server ended it",
    ),
    "asides only": (HELLO + packet(bytes([2]) + string(b"")) * 40, Phase.OFFERING, "nothing but asides"),
    "half a list": (HELLO + packet(bytes([20]) + bytes(16) + b"\0\0\xff\xff"), Phase.OFFERING, "longer than its packet"),
    "something behind": (HELLO + kexinit(tail=b"x"), Phase.OFFERING, "bytes too many"),
    "no exchange": (HELLO + kexinit("none"), Phase.OFFERING, "no key exchange in common"),
    "no host key": (HELLO + kexinit(key="ssh-dss"), Phase.OFFERING, "no host key algorithm in common"),
    "no cipher": (HELLO + kexinit(cipher="none"), Phase.OFFERING, "no cipher in common"),
    "no mac": (HELLO + kexinit(mac="none"), Phase.OFFERING, "no MAC in common"),
    "a point at nowhere": (HELLO + kexinit() + reply(BLOB, bytes(32), SIGNATURE), Phase.EXCHANGING, "no point of curve25519"),
    "a short point": (HELLO + kexinit() + reply(BLOB, bytes(5), SIGNATURE), Phase.EXCHANGING, "no point of curve25519"),
    "no point of the curve": (
        HELLO + kexinit("ecdh-sha2-nistp256") + reply(BLOB, b"\x04" + bytes(64), SIGNATURE),
        Phase.EXCHANGING,
        "no point of secp256r1",
    ),
    "a group element of one": (
        HELLO + kexinit("diffie-hellman-group14-sha256") + packet(bytes([31]) + string(BLOB) + integer(1) + string(SIGNATURE)),
        Phase.EXCHANGING,
        "out of its range",
    ),
    "a negative number": (
        HELLO
        + kexinit("diffie-hellman-group14-sha256")
        + packet(bytes([31]) + string(BLOB) + string(b"\xff") + string(SIGNATURE)),
        Phase.EXCHANGING,
        "a negative number",
    ),
    "a group of 512 bits": (
        HELLO + kexinit("diffie-hellman-group-exchange-sha256") + packet(bytes([31]) + integer((1 << 511) + 1) + integer(2)),
        Phase.GROUP,
        "a group of 512 bits",
    ),
    "a group of 16384 bits": (
        HELLO + kexinit("diffie-hellman-group-exchange-sha256") + packet(bytes([31]) + integer((1 << 16383) + 1) + integer(2)),
        Phase.GROUP,
        "a group of 16384 bits",
    ),
    "no signature at all": (HELLO + kexinit() + reply(BLOB, POINT, SIGNATURE), Phase.EXCHANGING, "the signature does not hold"),
    "a key of another type": (
        HELLO + kexinit() + reply(string(b"ssh-rsa") + integer(3) + integer(7), POINT, SIGNATURE),
        Phase.EXCHANGING,
        "a key of type ssh-rsa",
    ),
    "a signature of another type": (
        HELLO + kexinit() + reply(BLOB, POINT, string(b"ssh-rsa") + string(b"x")),
        Phase.EXCHANGING,
        "the signature is of ssh-rsa",
    ),
    "a small RSA key": (
        HELLO
        + kexinit(key="rsa-sha2-512")
        + reply(string(b"ssh-rsa") + integer(3) + integer(1 << 511), POINT, string(b"rsa-sha2-512") + string(b"x")),
        Phase.EXCHANGING,
        "an RSA key of 512 bits",
    ),
    "a wrong guess that is never mended": (HELLO + kexinit(guess=True), Phase.EXCHANGING, "the connection was closed"),
}


@pytest.mark.parametrize("name", LIES)
def test_a_lie_ends_it(name: str) -> None:
    sent, phase, why = LIES[name]
    machine = Conversation("mara")
    machine.start()
    machine.receive(sent)
    machine.receive(b"")
    failed = list(machine.events())[-1]
    assert isinstance(failed, Failure), failed
    assert failed.phase is phase
    assert why in failed.why
    assert machine.phase is Phase.DEAD
    machine.receive(HELLO + kexinit())  # dead is dead
    assert not list(machine.events())
    assert machine.to_send() == b""


def test_a_packet_sent_on_a_wrong_guess_is_skipped() -> None:
    machine = Conversation()
    machine.start()
    machine.receive(
        HELLO
        + kexinit("ecdh-sha2-nistp256", guess=True)
        + packet(bytes([31]) + b"nonsense")
        + reply(BLOB, b"\x04" + bytes(64), SIGNATURE)
    )
    assert "no point" in str(list(machine.events())[-1])


def test_a_flood_is_bounded() -> None:
    machine = Conversation()
    machine.start()
    machine.receive(HELLO)
    for _ in range(100):
        machine.receive(packet(bytes([20]) + bytes(16) + b"".join(names([]) for _ in range(9)), 250)[:200] + bytes(20000))
    assert machine.phase is Phase.DEAD


@given(st.binary(max_size=400), st.booleans())
def test_whatever_comes_only_faults_come_out(data: bytes, hello: bool) -> None:
    machine = Conversation("mara")
    machine.start()
    machine.receive((HELLO if hello else b"") + data)
    machine.receive(b"")
    assert machine.done
    assert all(not isinstance(event, ProvenKey) for event in machine.events())


@given(st.integers(min_value=0, max_value=1 << 600), st.binary(max_size=60))
def test_numbers_and_strings_come_back(number: int, text: bytes) -> None:
    reader = Reader(integer(number) + string(text))
    assert (reader.integer(), reader.string()) == (number, text)
    reader.end()
    with pytest.raises(PeerFault):
        reader.byte()
