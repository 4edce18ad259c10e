"""The words of a first contact: what to type at the console, what the wire shows, what a changed key can mean."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from nightlatch.probe.causes import causes
from nightlatch.probe.hostkeys import md5_fingerprint
from nightlatch.report import reach
from nightlatch.report.page import Page

if TYPE_CHECKING:
    from nightlatch.ops.meet import FirstContact
    from nightlatch.probe.ssh import ProvenKey

CHANGED = (
    "It was pinned before, and none of the pinned keys is shown now. From here these can't be told apart: the guest was "
    "rebuilt or got new host keys; its address or forward leads to another guest; somebody answers in its place. The console "
    "decides: when it shows the keys above, the first is true, and the new keys can be pinned. When it still shows the old "
    "ones, the server that answers here is not this guest: send nothing there, and look where the address leads."
)


def shown(page: Page, met: FirstContact) -> None:
    """Print the command for the console, and the keys on the wire."""
    from nightlatch.ops.meet import CONSOLE, MD5_FORM

    look = met.look
    page.line(
        (met.guest, "name"),
        f"   {look.target.text}" + (f", {look.address}" if look.address not in ("", look.target.host) else ""),
    )
    if look.failed is not None:
        page.wrapped(
            f"stops at {look.failed}: {look.how}" + (f" ({look.why})" if look.why else ""),
            indent=2,
            label="failed",
            style="high",
        )
        reach.causes(page, causes(look), met.guest)
    if not met.keys:
        return
    page.blank()
    page.line("Type this at its console:")
    page.line("    ", (CONSOLE, "next"))
    page.line("    ", (f"for the older MD5 form: the same with {MD5_FORM}", "place"))
    page.blank()
    page.line(f"On the wire from {look.here}, each proven by its signature over the exchange:")
    for proven in met.keys:
        pinned = "   pinned" if proven in met.known else ""
        held = "   in the evidence" if proven in met.vouched else ""
        page.line(f"  {proven.key.kind + ' ' + str(proven.key.bits):<13}{proven.key.fingerprint}", (pinned + held, "good"))
        page.line(" " * 15, (md5_fingerprint(proven.key.blob), "place"))
    if met.changed:
        page.blank()
        page.wrapped(CHANGED, label="changed", style="high")
        page.evidence([(pin, "pinned in the estate file") for pin in met.pinned], indent=11)
        if met.vouched:
            page.wrapped("The evidence holds the keys above: the guest itself has new host keys.", label="evidence", style="good")
        elif {fingerprint for fingerprint, _ in met.held} & set(met.pinned):
            page.wrapped("The evidence still holds the pinned keys: another machine answers.", label="evidence", style="high")
    elif met.held and not met.vouched:
        page.wrapped(
            "The evidence holds other host keys than the wire shows: this is not the guest that was read.",
            label="evidence",
            style="high",
        )
    page.blank()


def answer(named: Sequence[ProvenKey]) -> str:
    """Print the answer to one typed fingerprint."""
    if not named:
        return "That holds no fingerprint: SHA256: and 43 letters, or 16 pairs of hexadecimal digits joined by colons."
    return ", ".join(proven.key.kind for proven in named) + ": the same."


def contradiction(met: FirstContact, strange: Sequence[str]) -> str:
    """Why a fingerprint ends the meeting."""
    return (
        f"{met.guest}: {', '.join(strange)} is not among the keys on the wire. Nothing was pinned. The server that answers is "
        "not the machine whose console was read, or a letter was mistyped: compare again, and look where the address leads"
    )


def done(page: Page, met: FirstContact, pins: Sequence[str], source: Path) -> None:
    """Print the pins that were written, and the next command."""
    left = [proven.key.kind for proven in met.keys if proven.key.fingerprint not in pins]
    page.wrapped(f"{met.guest}: {len(pins)} host key{'s' if len(pins) != 1 else ''} pinned in {source}.", style="good")
    if left:
        page.wrapped(
            f"Not confirmed, so not pinned: {', '.join(left)}. A client that prefers that type will ask.",
            style="medium",
        )
    gone = [pin for pin in met.pinned if pin not in pins]
    if gone:
        page.wrapped("No longer pinned: " + ", ".join(gone), style="place")
    page.line((f"Next: nightlatch survey {source} --on {met.guest}", "next"))
