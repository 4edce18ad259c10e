"""Steps on xrdp's own files that shut a way in: TLS alone, root not let in, a listener for the guest itself."""

from __future__ import annotations

from collections.abc import Iterator

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
from nightlatch.services.rdp.settings import RdpSettings

LOOPBACK = "tcp://.:{port}"


def close(path: AccessPath, why: str, case: ServiceCase) -> Iterator[Candidate]:
    """The steps that may shut a way in, the one that touches fewest first."""
    access = explanations.of(case)
    if access.settings is None:
        return
    found = Editing(access.settings, case.reading.snapshot, why)
    if path.account == "root":
        yield from found.set(SESMAN, access.settings.sesman, "Security", "AllowRootLogin", "false")
    if path.seal is Seal.CLEAR:
        yield from found.set(MAIN, access.settings.main, "Globals", "security_layer", "tls")
    granted = any(grant.service == RDP.name for grant in case.grants)
    if not granted and len(access.listeners) == 1:
        value = LOOPBACK.format(port=access.listeners[0].port)
        yield from found.set(MAIN, access.settings.main, "Globals", "port", value)


class Editing:
    """Edits of single keys, as steps that name the line by its text."""

    def __init__(self, settings: RdpSettings, snapshot: Snapshot, why: str) -> None:
        self.settings, self.snapshot, self.why = settings, snapshot, why

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
            yield (ReplaceLine(real, self.why, False, before, text_of(made.raw).rstrip("\r\n"), nth),)

    def _added(self, path: str, lines: list[str], heading: Line, text: str) -> FileStep | None:
        """The key right below the heading of its section."""
        if heading.number >= len(lines):
            return None
        before, nth = self._named(lines, heading.number + 1)
        return InsertAbove(path, self.why, False, before, nth, text)

    @staticmethod
    def _named(lines: list[str], number: int) -> tuple[str, int]:
        text = lines[number - 1]
        return text, lines[: number - 1].count(text)
