"""`nightlatch demo`: the whole loop told as a story on Skerry Point. Uses the public functions only."""

from __future__ import annotations

import shutil
import tempfile
import time
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import nightlatch
from nightlatch.demo import people, screens, table_service
from nightlatch.demo.build import build
from nightlatch.faults import RefusedError
from nightlatch.report import audit_text, change_text, page, perimeter


def tell_demo(*, leave: bool = False, folder: Path | None = None, live: bool = False) -> None:
    """Copy the sample estate to a work folder, tell the loop, and tidy up unless `leave`.

    `live` boots the guests in namespaces of their own and needs root. Raises RefusedError when `folder` is there
    already, or when guests can't run here.
    """
    if live:
        from nightlatch.demo.live import tell_live

        tell_live(leave=leave, folder=folder)
        return
    if folder is not None and folder.exists():
        raise RefusedError(f"{folder} is there already; name a folder that is not")
    home = folder or Path(tempfile.mkdtemp(prefix="skerry-point-")) / "skerry"
    try:
        _tell(page.Page(page.console()), build(home))
    finally:
        if not leave:
            shutil.rmtree(home if folder else home.parent, ignore_errors=True)
    if leave:
        _next(page.Page(page.console()), home)


def chapter(sheet: page.Page, title: str, words: str) -> None:
    """A heading and what it is about."""
    sheet.blank()
    sheet.line((f"== {title} ", "name"), ("=" * max(3, sheet.width - len(title) - 4), "place"))
    sheet.wrapped(words)
    sheet.blank()


def _tell(sheet: page.Page, path: Path) -> None:
    at = datetime.now(UTC)
    started = time.perf_counter()
    estate = nightlatch.load_estate(path)
    chapter(
        sheet,
        "Skerry Point",
        "Four small machines look after a tide gauge. One file, estate.yaml, says who is let into which of them, by "
        "what, from where, with what proof. Each grant is a sentence:",
    )
    for spec in estate.grants:
        sheet.wrapped(spec.text, indent=2)
    chapter(
        sheet,
        "1. audit",
        "Nightlatch reads what the guests hold and says who can really get in: exactly, for every address. What is "
        "open and not granted is a hole; who is granted and can't get in is shut out.",
    )
    audit_text.audit(sheet, nightlatch.audit(estate, at), "estate.yaml")
    chapter(
        sheet,
        "2. draft",
        "The fewest steps that close the differences. They are worked out on the evidence, and the whole reasoning runs "
        "again on the result, before a byte is written.",
    )
    proved = list(_proved(estate, at))
    for each in proved:
        change_text.draft(sheet, each)
    chapter(sheet, "3. enact", "Survey again, prove again, then apply. Every original is kept on the guest.")
    for each in proved:
        if each.draft.steps:
            change_text.enacted(sheet, nightlatch.enact(estate, each.draft.guest, at).changed, "estate.yaml")
    chapter(sheet, "4. audit again", "The same question once more.")
    audit_text.audit(sheet, nightlatch.audit(estate, at), "estate.yaml")
    chapter(
        sheet,
        "5. outside",
        "Before the guests stands the router's filter. Its table was read, so the rows that it should have are drafted, too; "
        "where its service takes them, they are put there and read back. Here a stand-in keeps the table.",
    )
    _outside(sheet, path, at)
    chapter(
        sheet,
        "6. people",
        "Olav joins the crew, joon has left, and mara's key at her desk is replaced: four lines of the estate file. What that "
        "means on each guest is drafted; here on gauge.",
    )
    people.tell(sheet, path, at)
    chapter(
        sheet,
        "7. screens",
        "Two guests more, with an estate file of their own: watch shows the tides on a screen by VNC, berth is a desktop by RDP. "
        "Both were set up by a recipe. mara's screen is granted through SSH, and so by no other way.",
    )
    screens.tell(sheet, path.parent, at)
    chapter(sheet, "8. undo", "Any change can be taken back: every byte, mode and owner.")
    change_text.undone(sheet, nightlatch.undo(estate, "gate", at).changed)
    sheet.blank()
    sheet.line(f"That was the whole loop, in {time.perf_counter() - started:.1f} seconds.")


def _proved(estate: nightlatch.Estate, at: datetime) -> Iterator[nightlatch.ProvedDraft]:
    """The drafts of all guests that were read, each proved."""
    for surveyed in nightlatch.survey(estate):
        if surveyed.snapshot is not None:
            made = nightlatch.draft(estate, surveyed.snapshot, at)
            yield nightlatch.prove(estate, made, surveyed.snapshot, at)


def _outside(sheet: page.Page, path: Path, at: datetime) -> None:
    """The router's table drafted, put at the stand-in on a free port, read back."""
    written = path.read_text()
    with table_service.running(path.parent / "outer") as port:
        path.write_text(written.replace(f":{table_service.PORT}/", f":{port}/"))
        estate = nightlatch.load_estate(path)
        found = nightlatch.draft_perimeter(estate, at)
        perimeter.text(sheet, found, "estate.yaml")
        perimeter.done(sheet, [nightlatch.enact_perimeter(estate, each, at) for each in found.drafts], "put and read back")
    path.write_text(path.read_text().replace(f":{port}/", f":{table_service.PORT}/"))


def _next(sheet: page.Page, home: Path) -> None:
    sheet.blank()
    sheet.line(f"Everything is in {home}. Try next:", "")
    for command in (
        f"cd {home}",
        "nightlatch audit estate.yaml",
        "nightlatch audit images/chartbox",
        "nightlatch draft estate.yaml --on gate",
        "nightlatch addresses estate.yaml --from bench",
        "nightlatch enact estate.yaml --on gate",
        "nightlatch undo estate.yaml",
        "nightlatch perimeter estate.yaml",
        "nightlatch demo --outer outer",
        "nightlatch survey estate.yaml",
        "nightlatch audit screens.yaml",
        "nightlatch why joon berth screens.yaml",
        "nightlatch checks",
    ):
        sheet.line("  ", (command, "next"))
