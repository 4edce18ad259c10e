"""`nightlatch/audit/2`: an audit as plain values, for JSON and for programs. A draft until screens have used it.

Nothing here is worked out: what stands in a `GuestAudit` is named, with places, and with a text for people beside it.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import fields
from datetime import datetime
from enum import Enum
from typing import Any

from nightlatch.audit import cause_words
from nightlatch.audit.answers import Callers, WayIn
from nightlatch.audit.findings import DoorState, Finding, GuestAudit, Proof, ServiceState, Subject, identified
from nightlatch.model import causes as known
from nightlatch.model.causes import Cause, ForwardHop
from nightlatch.model.gaps import Gap
from nightlatch.model.powers import Power
from nightlatch.model.routes import Route
from nightlatch.model.secrets import (
    Certificate,
    ClientCertificate,
    Code,
    Key,
    Password,
    ScreenPassword,
    Secret,
    UnknownSecret,
)
from nightlatch.origin import Origin

FORMAT = "nightlatch/audit/2"
CAUSES: dict[type[Any], str] = {
    known.AccountLine: "account there",
    known.Dialled: "dialled",
    known.NoFilter: "no filter",
    known.Translated: "translation",
    known.NotListening: "no socket",
    known.NotRunning: "not running",
    known.OtherHostKey: "other host key",
    known.LockedOut: "locked out",
    known.NoServer: "no server",
    known.NoAccount: "no account",
    known.RuleLine: "filter rule",
    known.ListenAddress: "socket",
    known.PrivateNetwork: "private network",
    known.PasswordField: "password field",
    known.KeysPlace: "key file",
    known.NoSudoRule: "no sudo rule",
    known.GrantSentence: "grant",
    known.SettingLine: "setting",
    known.UserList: "user list",
    known.KeyLine: "key line",
    known.PrincipalLine: "principal line",
    known.RefusedKey: "key refused",
    known.UnusableFile: "file",
    known.SessionProgram: "session",
    known.AccountState: "account",
    known.NoLogin: "nologin",
    known.PamEnd: "pam",
    known.Chroot: "root folder",
    known.SudoRule: "sudo rule",
    known.ForwardHop: "forward",
    Gap: "undecided",
}
SECRETS: dict[type[Any], str] = {
    Key: "key",
    Certificate: "certificate",
    Password: "password",
    ScreenPassword: "screen password",
    Code: "code",
    ClientCertificate: "client certificate",
    UnknownSecret: "unknown",
}
NAMES = {"kind": "type"}  # of fields that are called otherwise in a document


def audit(estate: str, at: datetime, left_out: int, guests: Iterable[GuestAudit]) -> dict[str, Any]:
    """The whole document."""
    return {
        "format": FORMAT,
        "draft": True,
        "estate": estate or None,
        "at": at.isoformat(timespec="seconds"),
        "guests_left_out": left_out,
        "guests": [guest(each) for each in guests],
    }


def guest(found: GuestAudit) -> dict[str, Any]:
    """One guest."""
    return {
        "guest": found.guest,
        "service": found.service,
        "services": [_service(each) for each in found.services],
        "unread": found.unread or None,
        "findings": findings(found.findings),
        "ways_in": [way(each) for each in found.answers],
        "kept_access": [_door(each) for each in found.doors],
        "undecided": evidence(found.undecided),
        "notes": list(found.notes),
        "sha256": dict(found.digests),
    }


def origin(place: Origin) -> dict[str, Any]:
    """A place, as it stands in every document."""
    out: dict[str, Any] = {"kind": place.kind.value, "path": place.path}
    if place.line:
        out["line"] = place.line
    if place.column:
        out["column"] = place.column
    return out


def evidence(proofs: Iterable[Proof]) -> list[dict[str, Any]]:
    """Lines of evidence, as they stand in every document."""
    return [{"text": proof.text, "origin": origin(proof.origin)} for proof in proofs]


def findings(found: Iterable[Finding]) -> list[dict[str, Any]]:
    """Findings with their ids, as they stand in every document."""
    return [{"id": id, **_finding(each)} for id, each in identified(found)]


def _finding(found: Finding) -> dict[str, Any]:
    out: dict[str, Any] = {
        "check": found.check,
        "severity": found.severity.value,
        "group": found.group.value,
        "by": found.service or None,
        "text": found.text,
        "subjects": list(found.subjects),
        "evidence": evidence(found.proofs),
        "reference": found.reference,
    }
    if found.about:
        out["about"] = [_subject(each) for each in found.about]
    if found.waived:
        out["waived"] = found.waived
    return out


def _subject(each: Subject) -> dict[str, Any]:
    """The subject of a difference, by the keys of a waiver."""
    out: dict[str, Any] = {"account": each.account}
    for key, value in (("person", each.person), ("key", each.key), ("with", each.proof)):
        if value:
            out[key] = value
    if each.administers:
        out["may"] = "administer"
    return {**out, "by": each.service, "from": each.where}


def _service(each: ServiceState) -> dict[str, Any]:
    sockets = [
        {
            "address": socket.address or None,
            "port": socket.port,
            "origin": origin(socket.origin) if socket.origin else None,
        }
        for socket in each.sockets
    ]
    return {"by": each.service, "program": each.program, "state": each.state, "sockets": sockets}


def way(way: WayIn) -> dict[str, Any]:
    """A way in, as it stands in every document."""
    return {
        "account": way.account,
        "held_by": list(way.held_by),
        "by": way.service,
        "route": _route(way.route),
        "through": [{"guest": leg.guest, "by": leg.service, "account": leg.account} for leg in way.through],
        "shown": [secret(each) for each in way.shown],
        "powers": [power(each) for each in way.powers],
        "seal": way.seal.words,
        "certain": callers(way.certain),
        "possible": callers(way.possible),
        "causes": [cause(each) for each in way.causes],
        "undecided": [cause(each) for each in way.undecided],
    }


def _door(each: DoorState) -> dict[str, Any]:
    return {
        "kind": each.kind,
        "account": each.account,
        "by": each.service,
        "shown": each.shown,
        "gives": each.gives,
        "from": each.where,
        "evidence": evidence(each.proofs),
    }


def _route(route: Route) -> dict[str, Any]:
    return {
        "address": route.address or None,
        "port": route.port,
        "forward": cause(route.forward) if route.forward is not None else None,
        "filters": [{"layer": each.layer.value, "name": each.name or None} for each in route.filters],
    }


def callers(those: Callers) -> dict[str, Any] | None:
    """Null where there are none. The common address space has no name."""
    if not those.prefixes:
        return None
    spaces = [{"inside": space or None, "prefixes": list(found)} for space, found in those.prefixes]
    return {"text": those.text, "places": list(those.places), "addresses": spaces}


def secret(each: Secret) -> dict[str, Any]:
    """A secret by what tells it apart."""
    return {"kind": SECRETS[type(each)], **_fields(each)}


def power(each: Power) -> dict[str, Any]:
    """One thing that a login gives."""
    return {"gives": each.gives.value, **({"what": each.what} if each.what else {})}


def cause(each: Cause | ForwardHop) -> dict[str, Any]:
    """A cause with its place: its kind, what it says, and a text for people."""
    return {"kind": CAUSES[type(each)], "text": cause_words.words(each), **_fields(each)}


def _fields(value: Any) -> dict[str, Any]:
    """The fields of a value by name; empty ones are left out."""
    out: dict[str, Any] = {}
    for each in fields(value):
        said = getattr(value, each.name)
        if isinstance(said, Origin):
            out["origin"] = origin(said)
        elif isinstance(said, Enum):
            out[NAMES.get(each.name, each.name)] = said.value
        elif said not in ("", None):
            out[NAMES.get(each.name, each.name)] = said
    return out
