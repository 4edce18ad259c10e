"""The only module that opens connections: names, routes and connections for the machines, every wait bounded (asyncio).

A route is looked up by connecting a datagram socket, which sends nothing. The server may say nothing, send slowly,
flood or lie: each connection has a limit in time, in silence and, by its machine, in bytes.
"""

from __future__ import annotations

import asyncio
import contextlib
import errno
import socket
import ssl
import threading
import time
import warnings
from collections.abc import AsyncIterator, Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from nightlatch.model.handshake import Machine, PeerIdentity, ProtocolBreach, RequestedProof, SealRefused, SealSeen
from nightlatch.probe.hostkeys import KEY_TYPES, one_of_each
from nightlatch.probe.ssh import AlgorithmOffer, Conversation, Failure, Identification, Methods, Phase, ProvenKey
from nightlatch.probe.stages import FailureMode, Look, Stage, Step, Target

MOST_ADDRESSES = 4
MOST_CONNECTIONS = 12  # to one target, one after the other
READ = 16 << 10
NEIGHBOUR_SECONDS = 0.9  # an answer from a router comes at once; looking for a neighbour is given up after seconds


@dataclass(frozen=True, slots=True)
class Limits:
    """In seconds: for a name, for a connection to stand, without a byte, and for one conversation in all."""

    name: float = 5
    connect: float = 5
    silent: float = 8
    whole: float = 15


class _StageFailedError(Exception):
    def __init__(self, stage: Stage, how: FailureMode, why: str) -> None:
        super().__init__(why)
        self.stage, self.how, self.why = stage, how, why


@dataclass
class _Looking:
    """One look while it is being made."""

    target: Target
    limits: Limits
    found: Look
    steps: list[Step] = field(default_factory=list)
    since: float = field(default_factory=time.monotonic)

    def step(self, stage: Stage, text: str) -> None:
        now = time.monotonic()
        self.steps.append(Step(stage, now - self.since, text))
        self.since = now


def looks(
    targets: Sequence[Target],
    *,
    at_once: int = 64,
    limits: Limits | None = None,
    told: Callable[[Look], None] | None = None,
) -> list[Look]:
    """Look at many targets, `at_once` at a time; `told` gets each as soon as it is there. In the order of `targets`."""

    async def every() -> list[Look]:
        gate = asyncio.Semaphore(at_once)

        async def one(target: Target) -> Look:
            async with gate:
                found = await look(target, limits)
            if told is not None:
                told(found)
            return found

        return list(await asyncio.gather(*map(one, targets)))

    return asyncio.run(every())


async def look(target: Target, limits: Limits | None = None) -> Look:
    """Go through all stages at one target, up to the first that fails. Never raises for what a peer does."""
    work = _Looking(target, limits or Limits(), Look(target))
    try:
        await _resolve(work)
        _route(work)
        await (_converse(work) if target.handshake is None else _ask(work, target.handshake))
    except _StageFailedError as error:
        work.step(error.stage, f"{error.how}: {error.why}" if error.why else str(error.how))
        work.found = replace(work.found, failed=error.stage, how=error.how, why=error.why)
    return replace(work.found, steps=tuple(work.steps))


async def _resolve(work: _Looking) -> None:
    host = work.target.host
    try:
        found = await asyncio.wait_for(_addresses(host, work.target.port), work.limits.name)
    except TimeoutError:
        raise _StageFailedError(
            Stage.NAME, FailureMode.SILENT, f"no name server answered within {work.limits.name:g} s"
        ) from None
    except (OSError, UnicodeError) as error:
        raise _StageFailedError(
            Stage.NAME, FailureMode.UNKNOWN_NAME, f"{host}: {getattr(error, 'strerror', None) or error}"
        ) from None
    addresses = tuple(dict.fromkeys(_written(entry[4]) for entry in found))
    work.found = replace(work.found, addresses=addresses)
    work.step(Stage.NAME, ", ".join(addresses) if addresses != (host,) else "an address")


def _written(place: tuple[Any, ...]) -> str:
    """A socket address as text, a link-local one with its scope (RFC 4007, 11)."""
    scoped = len(place) > 3 and place[3] and "%" not in place[0]
    return f"{place[0]}%{place[3]}" if scoped else str(place[0])


_Entries = list[tuple[Any, ...]]


async def _addresses(host: str, port: int) -> _Entries:
    """getaddrinfo(3). It can't be stopped, and it may wait for a dead name server for a minute: so nobody waits for it."""
    with contextlib.suppress(OSError):
        return list(socket.getaddrinfo(host, port, type=socket.SOCK_STREAM, flags=socket.AI_NUMERICHOST))
    loop = asyncio.get_running_loop()
    answer: asyncio.Future[_Entries] = loop.create_future()

    def give(entries: _Entries, error: Exception | None) -> None:
        if not answer.done():
            answer.set_exception(error) if error is not None else answer.set_result(entries)

    def ask() -> None:
        entries: _Entries = []
        error: Exception | None = None
        try:
            entries = list(socket.getaddrinfo(host, port, type=socket.SOCK_STREAM))
        except (OSError, UnicodeError) as failed:
            error = failed
        with contextlib.suppress(RuntimeError):  # the loop has ended meanwhile
            loop.call_soon_threadsafe(give, entries, error)

    threading.Thread(target=ask, daemon=True).start()
    return await answer


def _route(work: _Looking) -> None:
    reasons = []
    for address in work.found.addresses[:MOST_ADDRESSES]:
        with socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, socket.SOCK_DGRAM) as probe:
            try:
                probe.connect((address, work.target.port))
            except OSError as error:
                reasons.append(f"{address}: {error.strerror}")
                continue
            here = str(probe.getsockname()[0])
        work.found = replace(work.found, address=address, here=here)
        work.step(Stage.ROUTE, f"from {here}")
        return
    raise _StageFailedError(Stage.ROUTE, FailureMode.NO_ROUTE, "; ".join(reasons))


_Streams = tuple[asyncio.StreamReader, asyncio.StreamWriter]


async def _connect(work: _Looking) -> _Streams:
    """To the first of the addresses that answers; the one that worked is tried alone after that."""
    last: _StageFailedError | None = None
    others: list[tuple[str, FailureMode]] = []
    known = work.found.address if work.found.identified or work.found.answered else ""
    for address in (known,) if known else work.found.addresses[:MOST_ADDRESSES]:
        start = time.monotonic()
        try:
            wanted = asyncio.open_connection(address, work.target.port, limit=READ)
            reader, writer = await asyncio.wait_for(wanted, work.limits.connect)
        except OSError as error:
            how, why = _connecting(error, time.monotonic() - start, work.limits.connect)
            last = _StageFailedError(Stage.CONNECT, how, f"{address}{why}")
            others.append((address, how))
            continue
        here = str(writer.get_extra_info("sockname")[0])
        work.found = replace(work.found, address=address, here=here, others=tuple(others))
        return reader, writer
    assert last is not None
    raise last


def _connecting(error: OSError, seconds: float, limit: float) -> tuple[FailureMode, str]:
    """How a connection did not come to be (connect(2), icmp(7))."""
    if isinstance(error, TimeoutError) or error.errno == errno.ETIMEDOUT:
        return FailureMode.SILENT, f" within {limit:g} s"
    if error.errno in (errno.ECONNREFUSED, errno.ECONNRESET):
        return FailureMode.REFUSED, ""
    if error.errno == errno.EHOSTUNREACH and seconds > NEIGHBOUR_SECONDS:
        return FailureMode.NO_NEIGHBOUR, " on its network"
    if error.errno in (errno.EHOSTUNREACH, errno.ENETUNREACH, errno.EPROTO):
        return FailureMode.UNREACHABLE, ""
    if error.errno in (errno.EACCES, errno.EPERM):
        return FailureMode.DENIED_HERE, ""
    return FailureMode.UNREACHABLE, f": {error.strerror or error}"


async def _converse(work: _Looking) -> None:
    """As many conversations as it takes to see the keys and methods that are asked for."""
    accounts, pins = list(work.target.accounts), work.target.pins
    types: list[tuple[str, ...]] = [tuple(KEY_TYPES)]
    good: tuple[str, ...] = ()  # algorithms that brought a pinned key
    for _ in range(MOST_CONNECTIONS):
        algorithms = types.pop(0) if types else good or tuple(KEY_TYPES)
        first = work.found.identified is None
        await _once(work, Conversation(accounts[0] if accounts else "", algorithms, pins=pins))
        accounts = [name for name in accounts if name not in {seen.account for seen in work.found.methods}]
        last = work.found.keys[-1] if work.found.keys else None
        if first:
            assert work.found.offered is not None
            shown = {KEY_TYPES[proven.algorithm] for proven in work.found.keys}
            types = [each for each in one_of_each(work.found.offered.host_keys) if KEY_TYPES[each[0]] not in shown]
        if last is not None and last.key.fingerprint in pins:
            good = (last.algorithm,)
            types = types if work.target.every_key else []
        if not types and (not accounts or (pins and not good)):
            return


async def _ask(work: _Looking, handshake: Callable[[Sequence[str]], Machine]) -> None:
    """Another service, in as many conversations as it has, up to a bound."""
    machine: Machine | None = handshake(work.target.accounts)
    for _ in range(MOST_CONNECTIONS):
        if machine is None:
            return
        await _talk(work, machine)
        machine = machine.another()


async def _talk(work: _Looking, machine: Machine) -> None:
    """One conversation on a connection of its own."""
    async with _connected(work, lambda: _far(work), told=not work.found.answered) as (reader, writer):
        writer.write(machine.start())
        while not machine.done:
            await _hear(work, machine, reader, writer)
            if machine.wants_tls:
                await _seal(machine, writer)
                _told(work, machine, closed=False)


@contextlib.asynccontextmanager
async def _connected(work: _Looking, far: Callable[[], Stage], *, told: bool) -> AsyncIterator[_Streams]:
    """A connection for one conversation, with its limit in time, ended however that goes; `far` says how far it came."""
    reader, writer = await _connect(work)
    if told:
        work.step(Stage.CONNECT, f"{work.found.address} port {work.target.port}")
    try:
        async with asyncio.timeout(work.limits.whole):
            yield reader, writer
    except TimeoutError:
        raise _StageFailedError(far(), FailureMode.SLOW, f"not done within {work.limits.whole:g} s") from None
    finally:
        writer.transport.abort()


async def _seal(machine: Machine, writer: asyncio.StreamWriter) -> None:
    """Begin TLS, whatever the certificate is: who it is of is judged by what it is, not by a list of authorities."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", DeprecationWarning)
        context.minimum_version = ssl.TLSVersion.TLSv1
    context.set_ciphers("ALL:@SECLEVEL=0")
    try:
        await writer.start_tls(context)
    except (OSError, EOFError) as error:
        machine.unsealed(f"TLS was not agreed on: {getattr(error, 'reason', None) or 'the connection was closed'}")
        return
    sealed = writer.get_extra_info("ssl_object")
    machine.sealed(sealed.version() or "TLS", sealed.getpeercert(binary_form=True) or b"")


def _far(work: _Looking) -> Stage:
    return Stage.METHODS if work.found.answered else Stage.IDENTIFY


async def _hear(work: _Looking, machine: Machine, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    data = await _read(work, reader, _far(work))
    machine.receive(data)
    _told(work, machine, closed=not data)
    if not data and not machine.done:
        raise _StageFailedError(_far(work), FailureMode.CLOSED, "")
    await _send(writer, machine.to_send())


def _told(work: _Looking, machine: Machine, *, closed: bool) -> None:
    """What a machine made of the bytes so far."""
    for event in machine.events():
        found = work.found
        match event:
            case PeerIdentity(text) if not found.answered:
                work.found = replace(found, answered=text)
                work.step(Stage.IDENTIFY, text[:100])
            case RequestedProof(account, proofs, let_in) if event not in found.asks:
                work.found = replace(found, asks=(*found.asks, event))
                shown = "nothing is asked: it lets in" if let_in else ", ".join(proofs) or "none"
                work.step(Stage.METHODS, f"{account}: {shown}")
            case SealSeen(seal, version):
                work.found = replace(found, seals=(*found.seals, event))
                work.step(Stage.IDENTIFY, f"it serves {' with '.join(filter(None, (seal.words, version)))}")
            case SealRefused(seal, why):
                work.found = replace(found, unserved=(*found.unserved, event))
                work.step(Stage.IDENTIFY, f"it does not serve {seal.words}: {why}")
            case ProtocolBreach(why):
                raise _StageFailedError(_far(work), FailureMode.CLOSED if closed else FailureMode.BROKEN, why)


async def _once(work: _Looking, machine: Conversation) -> None:
    first = work.found.identified is None
    async with _connected(work, lambda: _stage(machine.phase), told=first) as (reader, writer):
        writer.write(machine.start())
        while not machine.done:
            await _exchange(work, machine, reader, writer, first)


async def _exchange(
    work: _Looking, machine: Conversation, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, first: bool
) -> None:
    phase = machine.phase
    data = await _read(work, reader, _stage(phase))
    machine.receive(data)
    for event in machine.events():
        _note(work, event, first, closed=not data)
    await _send(writer, machine.to_send())


async def _read(work: _Looking, reader: asyncio.StreamReader, stage: Stage) -> bytes:
    """The next bytes from the peer; empty once it closed."""
    try:
        return await asyncio.wait_for(reader.read(READ), work.limits.silent)
    except TimeoutError:
        raise _StageFailedError(stage, FailureMode.MUTE, f"for {work.limits.silent:g} s") from None
    except OSError:
        return b""


async def _send(writer: asyncio.StreamWriter, out: bytes) -> None:
    if out:
        with contextlib.suppress(OSError):  # what was closed under our hands is noticed by reading
            writer.write(out)
            await writer.drain()


def _note(work: _Looking, event: object, first: bool, *, closed: bool) -> None:
    found = work.found
    match event:
        case Identification(text):
            work.found = replace(found, identified=event)
            if first:
                work.step(Stage.IDENTIFY, text[:100])
        case AlgorithmOffer():
            work.found = replace(found, offered=found.offered or event)
        case ProvenKey(key, exchange, algorithm):
            known = key.fingerprint in found.fingerprints
            work.found = found if known else replace(found, keys=(*found.keys, event))
            if not known:
                work.step(Stage.HOST_KEY, f"{key.kind} {key.fingerprint}, proven over {exchange} with {algorithm}")
        case Methods(account, methods, let_in):
            work.found = replace(found, methods=(*found.methods, event))
            offered = "nothing is asked: it lets in" if let_in else ", ".join(methods) or "none"
            work.step(Stage.METHODS, f"{account}: {offered}")
        case Failure(phase, why, sound):
            raise _StageFailedError(_stage(phase), FailureMode.NOTHING_IN_COMMON if sound else _how(phase, closed), why)


def _stage(phase: Phase) -> Stage:
    if phase is Phase.IDENTIFYING:
        return Stage.IDENTIFY
    return Stage.METHODS if phase in (Phase.ASKING, Phase.METHODS) else Stage.HOST_KEY


def _how(phase: Phase, closed: bool) -> FailureMode:
    if closed:
        return FailureMode.CLOSED
    return FailureMode.NO_SSH if phase is Phase.IDENTIFYING else FailureMode.BROKEN
