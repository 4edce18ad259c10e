"""The second opinion: which callers to ask the guest's own sshd about, and where its answers differ from ours."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator, Set
from dataclasses import dataclass

from nightlatch.evidence.opinions import MOST, Question, unpacked
from nightlatch.formats.sshd_keywords import KEYWORDS
from nightlatch.model.sockets import Listener
from nightlatch.net.addresses import AddressSet
from nightlatch.readings.guest import GuestReading
from nightlatch.readings.sshd import MAIN
from nightlatch.services.ssh.entries import SshAccess
from nightlatch.services.ssh.settings import Caller, Setting, dump

# Not settings that decide who gets in, or printed in a form of its own by each release.
NOT_COMPARED = frozenset(["listenaddress", "port", "addressfamily", "hostkey", "versionaddendum", "debianbanner"])


@dataclass(frozen=True, slots=True)
class Disagreement:
    """One setting for one caller: what we reason, and what the guest's sshd says."""

    question: str
    keyword: str
    ours: tuple[str, ...]
    theirs: tuple[str, ...]
    setting: Setting | None = None


def questions(access: SshAccess, reached: Set[str]) -> tuple[Question, ...]:
    """One caller for each account, socket and class of sources; accounts that no Match line tells apart share one, but for those
    that are `reached`: that somebody gets into."""
    out: dict[Question, None] = {}
    if access.effective.refusal is not None:
        return ()
    for socket in access.listeners:
        told_apart: set[tuple[object, ...]] = set()
        for account in access.reading.accounts.by_name.values():
            worlds, _ = access.effective.worlds(Caller(account.name, account.groups, socket))
            for part in worlds[0]:
                address = _some(part.sources & socket.admits())
                mark = (part.truth, address)
                if address is None or (mark in told_apart and account.name not in reached):
                    continue
                told_apart.add(mark)
                if _askable(account.name):
                    out[Question(account.name, address, _local(socket, address), socket.port)] = None
    return tuple(out)[:MOST]


def options(reading: GuestReading) -> tuple[str, ...]:
    """The options that change settings, as the running daemon or the unit states them, with its main file."""
    out = tuple(f"-o{option}" for option, _ in reading.options)
    return ("-f", reading.main_file, *out) if reading.main_file != MAIN else out


def _askable(name: str) -> bool:
    return not set(name) & set(", =\n")


def _some(sources: AddressSet) -> str | None:
    """An address of the set that is like a caller's, not the first of all (0.0.0.0)."""
    for ranges, size in ((sources.v4, 32), (sources.v6, 128)):
        for low, high in ranges:
            number = min(high, low + 7) if low == 0 or high - low > 8 else low
            return str(ipaddress.IPv4Address(number) if size == 32 else ipaddress.IPv6Address(number))
    return None


def _local(socket: Listener, address: str) -> str:
    if socket.address not in ("", "0.0.0.0", "::"):
        return socket.address
    return "::1" if ":" in address else "127.0.0.1"


def disagreements(access: SshAccess, reached: Set[str]) -> Iterator[Disagreement]:
    """Where the listing of opinions differs from our settings. Lines of newer releases that we don't know are left out."""
    listing = access.reading.snapshot.listings.get("opinions")
    if not listing:
        return
    ours_by_question = dict(_ours(access, reached))
    for opinion in unpacked(listing):
        ours = ours_by_question.get(opinion.question)
        if ours is None:
            continue
        if opinion.failed:
            if "privilege separation directory" in opinion.failed and not access.reading.service.is_running:
                continue  # the unit makes it when it starts (systemd.exec(5), RuntimeDirectory=)
            yield Disagreement(opinion.question, "", ("it starts",), (opinion.failed,))
            continue
        settings, lines = ours
        for keyword in KEYWORDS:
            mine, theirs = _of(keyword, lines), _of(keyword, opinion.lines)
            # A list is printed only where it has members; of any other keyword, no line means another release.
            if keyword not in NOT_COMPARED and mine != theirs and (theirs or KEYWORDS[keyword].per_line):
                yield Disagreement(opinion.question, keyword, mine, theirs, settings[keyword])


def _of(keyword: str, lines: tuple[str, ...] | list[str]) -> tuple[str, ...]:
    return tuple(sorted(line.partition(" ")[2] for line in lines if line.partition(" ")[0] == keyword))


def _ours(access: SshAccess, reached: Set[str]) -> Iterator[tuple[str, tuple[dict[str, Setting], list[str]]]]:
    by_name = access.reading.accounts.by_name
    for question in questions(access, reached):
        account = by_name[question.user]
        socket = next(s for s in access.listeners if s.port == question.local_port)
        worlds, _ = access.effective.worlds(Caller(account.name, account.groups, socket))
        if len(worlds) != 1:
            continue
        truth = next((p.truth for p in worlds[0] if question.address in p.sources), None)
        if truth is not None and access.effective.ends(truth) is None:
            settings = access.effective.settings(truth)
            yield question.words, ({name: settings[name] for name in KEYWORDS}, dump(settings))
