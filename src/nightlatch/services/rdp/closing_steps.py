"""Steps on xrdp's own files that shut a way in: TLS alone, root not let in, a listener for the guest itself."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from nightlatch.evidence.screen_files import MAIN, SESMAN
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.formats.lines import split, text_of
from nightlatch.formats.xrdp_ini import Document, Line
from nightlatch.model.candidates import Candidate
from nightlatch.model.paths import AccessPath
from nightlatch.model.routes import Seal
from nightlatch.model.services import RDP
from nightlatch.model.steps import FileStep, InsertAbove, ReplaceLine
from nightlatch.services.base import ServiceCase
from nightlatch.services.rdp import explanations

LOOPBACK = "tcp://.:{port}"


@dataclass(frozen=True, slots=True)
class _Wish:
    """One key that should count as another value, and what has to be started anew for it."""

    path: str
    section: str
    key: str
    value: str
    anew: str = ""


def close(path: AccessPath, why: str, case: ServiceCase) -> Iterator[Candidate]:
    """The steps that may shut a way in, the one that touches fewest first; on a running guest only those for which nothing has to
    be started anew, which would end its sessions."""
    access = explanations.of(case)
    if access.settings is None:
        return
    editing = Editing(case.reading.snapshot, why)
    for wish in _wishes(path, case):
        if wish.anew and case.reading.service.is_live:
            continue
        document = access.settings.main if wish.path == MAIN else access.settings.sesman
        yield from editing.set(wish.path, document, wish.section, wish.key, wish.value)


def hand(path: AccessPath, case: ServiceCase) -> str:
    """The same as advice to a person."""
    told = [
        f"write {wish.key}={wish.value} under [{wish.section}] of {wish.path}{f', then {wish.anew}' if wish.anew else ''}"
        for wish in _wishes(path, case)
    ]
    alone = f"xrdp tells no callers apart: have a packet filter let those who are granted in to port {path.route.port} alone"
    return "; or ".join(told) or alone


def _wishes(path: AccessPath, case: ServiceCase) -> Iterator[_Wish]:
    access = explanations.of(case)
    if path.account == "root":
        yield _Wish(SESMAN, "Security", "AllowRootLogin", "false", "start xrdp-sesman anew, which ends all sessions")
    if path.seal is Seal.CLEAR:
        yield _Wish(MAIN, "Globals", "security_layer", "tls")
    granted = any(grant.service == RDP.name for grant in case.grants)
    if not granted and len(access.listeners) == 1:
        value = LOOPBACK.format(port=access.listeners[0].port)
        yield _Wish(MAIN, "Globals", "port", value, "start xrdp anew, which ends all sessions")


class Editing:
    """Edits of single keys, as steps that name the line by its text."""

    def __init__(self, snapshot: Snapshot, why: str, *, opens: bool = False) -> None:
        self.snapshot, self.why, self.opens = snapshot, why, opens

    def set(self, path: str, document: Document, section: str, key: str, value: str) -> Iterator[Candidate]:
        """The step by which a key counts as a value; nothing where its file has no such section, or lines that end with CR."""
        raw = self.snapshot.content(path) or b""
        line, heading = document.last(section.lower(), key.lower()), document.heading(section.lower())
        if heading is None or b"\r" in raw.replace(b"\r\n", b""):
            return
        real = self.snapshot.resolve(path).path
        lines = [text_of(each).rstrip("\r\n") for each in split(raw)]
        if line is None:
            step = self._added(real, lines, heading, f"{key}={value}")
            if step is not None:
                yield (step,)
            return
        made = document.set(section, key, value).last(section.lower(), key.lower())
        if made is not None and made.raw != line.raw:
            before, nth = self._named(lines, line.number)
            yield (ReplaceLine(real, self.why, self.opens, before, text_of(made.raw).rstrip("\r\n"), nth),)

    def _added(self, path: str, lines: list[str], heading: Line, text: str) -> FileStep | None:
        """The key right below the heading of its section."""
        if heading.number >= len(lines):
            return None
        before, nth = self._named(lines, heading.number + 1)
        return InsertAbove(path, self.why, self.opens, before, nth, text)

    @staticmethod
    def _named(lines: list[str], number: int) -> tuple[str, int]:
        text = lines[number - 1]
        return text, lines[: number - 1].count(text)
