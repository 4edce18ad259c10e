"""Findings as CSV (RFC 4180), one row each, for a spreadsheet that must not take a guest's text for a formula."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from typing import TYPE_CHECKING

from nightlatch.audit.findings import identified
from nightlatch.report.safe import shown

if TYPE_CHECKING:
    from nightlatch.audit.findings import Finding, GuestAudit
    from nightlatch.ops.audit import Audit

COLUMNS = ("guest", "severity", "group", "check", "text", "place", "subjects", "reference", "waived", "id", "by")
STARTS_A_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def audit(result: Audit) -> str:
    """All findings, what could not be decided, and the guests that could not be read. Lines end with CR LF."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(COLUMNS)
    for guest in result.guests:
        writer.writerows([cell(text) for text in row] for row in _rows(guest))
    return out.getvalue()


def cell(text: str) -> str:
    """One cell: nothing hidden in it, and an apostrophe before what a spreadsheet would work out."""
    plain = shown(text, 4000)
    return f"'{plain}" if plain.startswith(STARTS_A_FORMULA) else plain


def _rows(guest: GuestAudit) -> Iterator[tuple[str, ...]]:
    if guest.unread:
        yield (guest.guest, "", "not read", "", guest.unread, "", "", "", "", "", "")
    for id, finding in identified(guest.findings):
        yield _row(guest.guest, finding, id)
    for proof in guest.undecided:
        yield (guest.guest, "", "undecided", "", proof.text, str(proof.origin), "", "", "", "", "")


def _row(guest: str, finding: Finding, id: str) -> tuple[str, ...]:
    place = str(finding.proofs[0].origin) if finding.proofs else ""
    return (
        guest,
        finding.severity.value,
        finding.group.value,
        finding.check,
        finding.text,
        place,
        " ".join(finding.subjects),
        finding.reference,
        finding.waived,
        id,
        finding.service,
    )
