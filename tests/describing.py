"""What several tests ask of `new --from`: the estate file that describes guests leaves nothing open and nobody shut out."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from nightlatch.access.paths import GuestAccess
from nightlatch.describe.text import GuestLine
from nightlatch.ops.describe import Description, written


def described(folder: Path, access: GuestAccess, at: datetime, name: str = "estate") -> Description:
    """Write the estate file of one guest into a folder of its own."""
    place = folder / name
    place.mkdir(parents=True)
    line = GuestLine(access.guest, '{folder: "nowhere"}', "", (), "")
    return written(place / "estate.yaml", [(access, line)], at)


def complain(done: Description) -> list[str]:
    """Findings that the file leaves, but for accounts of which it says that no sentence can tell it all."""
    beyond = {text.split(": ", 2)[1] for text in done.unsaid}
    return [text for text in done.left if not any(account in text for account in beyond)]
