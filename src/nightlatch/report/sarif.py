"""Findings in SARIF 2.1.0 (OASIS, 27 March 2020), for programs that collect results with file and line.

A guest's file is named by the guest and its path there, below the base "guests"; what has no file (a built-in default, an
answer of a live guest) is a logical location.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from nightlatch import __version__
from nightlatch.audit.findings import Proof, identified
from nightlatch.origin import Kind, Origin
from nightlatch.report.safe import shown

if TYPE_CHECKING:
    from nightlatch.audit.findings import Finding, GuestAudit
    from nightlatch.ops.audit import Audit

SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
LEVELS = {"critical": "error", "high": "error", "medium": "warning", "low": "note", "note": "note"}
BASE, HERE = "guests", "folder"


def audit(result: Audit) -> dict[str, Any]:
    """One run: its rules are the checks, its notifications what could not be read or decided."""
    rules = _rules()
    index = {rule["id"]: number for number, rule in enumerate(rules)}
    notes = [note for guest in result.guests for note in _notifications(guest)]
    run = {
        "tool": {"driver": {"name": "Nightlatch", "version": __version__, "rules": rules}},
        "columnKind": "unicodeCodePoints",
        "originalUriBaseIds": {
            BASE: {"description": {"text": "One folder for each guest: its root."}},
            HERE: {"description": {"text": "The folder in which Nightlatch ran."}},
        },
        "invocations": [
            {
                "executionSuccessful": not any(guest.unread for guest in result.guests),
                "endTimeUtc": result.at.isoformat(timespec="seconds").replace("+00:00", "Z"),
                "toolExecutionNotifications": notes,
            }
        ],
        "results": [_result(guest.guest, id, each, index) for guest in result.guests for id, each in identified(guest.findings)],
    }
    return {"$schema": SCHEMA, "version": "2.1.0", "runs": [run]}


def _rules() -> list[dict[str, Any]]:
    from nightlatch.audit.checks import CATALOGUE

    return [
        {
            "id": each.id,
            "shortDescription": {"text": each.reason},
            "help": {"text": each.source},
            "defaultConfiguration": {"level": LEVELS[each.severity.value]},
        }
        for each in sorted(CATALOGUE.values(), key=lambda check: check.id)
    ]


def _result(guest: str, id: str, finding: Finding, index: dict[str, int]) -> dict[str, Any]:
    first = next((p for p in finding.proofs if p.origin.kind is Kind.FILE), finding.proofs[0] if finding.proofs else None)
    out: dict[str, Any] = {
        "ruleId": finding.check,
        "level": LEVELS[finding.severity.value],
        "message": {"text": f"{guest}: {shown(finding.text, 4000)}"},
        "locations": [_location(guest, first.origin)] if first is not None else [],
        "relatedLocations": [_related(guest, n, proof) for n, proof in enumerate(finding.proofs) if proof is not first],
        "partialFingerprints": {"nightlatchFinding/1": id},
        "properties": {
            "guest": guest,
            "severity": finding.severity.value,
            "group": finding.group.value,
            "by": finding.service,
            "subjects": [shown(subject) for subject in finding.subjects],
        },
    }
    if finding.check in index:
        out["ruleIndex"] = index[finding.check]
    if finding.waived:
        out["suppressions"] = [{"kind": "external", "justification": finding.waived}]
    return out


def _estate_file(path: str) -> dict[str, str]:
    """The estate file as it lies below the folder in which the report was made; elsewhere by its whole path."""
    whole = Path(path).absolute()
    below = whole.relative_to(Path.cwd()) if whole.is_relative_to(Path.cwd()) else None
    return {"uri": quote(below.as_posix()), "uriBaseId": HERE} if below is not None else {"uri": whole.as_uri()}


def _location(guest: str, origin: Origin) -> dict[str, Any]:
    if origin.kind is Kind.FILE:
        place: dict[str, Any] = {"artifactLocation": {"uri": f"{quote(guest)}{_quoted(origin.path)}", "uriBaseId": BASE}}
    elif origin.kind is Kind.ESTATE:
        place = {"artifactLocation": _estate_file(origin.path)}
    else:
        return {"logicalLocations": [{"name": guest, "fullyQualifiedName": f"{guest}: {shown(origin)}", "kind": "resource"}]}
    if origin.line:
        place["region"] = {"startLine": origin.line} | ({"startColumn": origin.column} if origin.column else {})
    return {"physicalLocation": place}


def _quoted(path: str) -> str:
    return quote(path.encode("utf-8", "surrogateescape"))


def _related(guest: str, number: int, proof: Proof) -> dict[str, Any]:
    return {"id": number, "message": {"text": shown(proof.text, 4000)}, **_location(guest, proof.origin)}


def _notifications(guest: GuestAudit) -> list[dict[str, Any]]:
    out: list[dict[str, Any]] = []
    if guest.unread:
        out.append({"level": "error", "message": {"text": f"{guest.guest}: not read: {shown(guest.unread, 4000)}"}})
    for proof in guest.undecided:
        text = f"{guest.guest}: undecided: {shown(proof.text, 4000)}"
        out.append({"level": "warning", "message": {"text": text}, "locations": [_location(guest.guest, proof.origin)]})
    return out
