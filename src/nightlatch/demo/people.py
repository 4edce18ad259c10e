"""The chapter of the story in which a colleague joins, one leaves, and a key is replaced: three edits of the estate file."""

from __future__ import annotations

from datetime import datetime, timedelta
from pathlib import Path

import nightlatch
from nightlatch.report import change_text
from nightlatch.report.page import Page

GUEST = "gauge"
MARA, JOON = "  mara: {keys: [keys/mara-desk.pub, keys/mara-token.pub]}", "  joon: {keys: [keys/joon-desk.pub]}"
CREW = "  crew: [mara, joon]"


def edited(text: str, at: datetime) -> tuple[str, list[str]]:
    """The estate file with the three edits, and its new lines."""
    yesterday, later = (at - timedelta(days=1)).date(), (at + timedelta(days=30)).date()
    ending = f"{{key: keys/mara-desk.pub, until: {later}, then: keys/mara-desk-2027.pub}}"
    new = {
        MARA: f"  mara: {{keys: [{ending}, keys/mara-token.pub]}}",
        JOON: f"  joon: {{keys: [keys/joon-desk.pub], until: {yesterday}}}\n  olav: {{keys: [keys/olav-desk.pub]}}",
        CREW: "  crew: [mara, joon, olav]",
    }
    for before, after in new.items():
        text = text.replace(before, after)
    return text, [line.strip() for after in new.values() for line in after.split("\n")]


def tell(sheet: Page, path: Path, at: datetime) -> None:
    """Edit the file, draft and enact on one guest, and take it back."""
    written = path.read_text()
    text, lines = edited(written, at)
    path.write_text(text)
    for line in lines:
        sheet.line("  ", (line, "add"))
    sheet.blank()
    estate = nightlatch.load_estate(path)
    (found,) = nightlatch.survey(estate, [GUEST])
    if found.snapshot is not None:
        made = nightlatch.draft(estate, found.snapshot, at)
        change_text.draft(sheet, nightlatch.prove(estate, made, found.snapshot, at))
        change_text.enacted(sheet, nightlatch.enact(estate, GUEST, at).changed, "estate.yaml")
        change_text.undone(sheet, nightlatch.undo(estate, GUEST, at).changed)
    path.write_text(written)
