"""What the wire showed, as text and as JSON: the first stage that failed, who can get in from here, who was not proven."""

from __future__ import annotations

from hashlib import sha256
from typing import TYPE_CHECKING, Any

from nightlatch.audit import documents
from nightlatch.audit.wire import NOT_LET_IN, GrantStanding, GrantState
from nightlatch.probe.hostkeys import md5_fingerprint
from nightlatch.report.audit_text import count
from nightlatch.report.page import Page

if TYPE_CHECKING:
    from nightlatch.audit.findings import Finding
    from nightlatch.model.handshake import SealSeen
    from nightlatch.ops.reach import GuestReach, OtherService, Reach
    from nightlatch.probe.causes import Cause
    from nightlatch.probe.stages import Look

INDENT = 2


def text(page: Page, result: Reach) -> None:
    """All guests: those with something wrong first, those that answer as granted in few lines."""
    if result.here:
        page.wrapped("Tried from " + ", ".join(f"{a} ({place or 'in no place of the estate'})" for a, place in result.here) + ".")
        page.blank()
    seen = [each for each in result.guests if each.look is not None]
    loud = [each for each in seen if each.problem or any(f.severity.rank < 3 and not f.waived for f in each.findings)]
    for each in [*loud, *(each for each in seen if each not in loud)]:
        _guest(page, each)
        page.blank()
    _not_looked_at(page, result)
    _sum(page, result)


def _not_looked_at(page: Page, result: Reach) -> None:
    """Guests that were not looked at, each reason once."""
    because: dict[str, list[str]] = {}
    for each in result.guests:
        if each.look is None:
            because.setdefault(each.problem, []).append(each.guest)
    for problem, guests in because.items():
        page.line((", ".join(guests), "name"), "   not looked at")
        page.wrapped(problem, indent=INDENT, label="because")
        page.blank()


def _guest(page: Page, each: GuestReach) -> None:
    look = each.look
    assert look is not None
    page.line((each.guest, "name"), "   " + _head(look))
    if each.waited is not None:
        answered = "answered" if look.identified else "did not answer"
        page.wrapped(f"{answered} after {each.waited:.0f} s", indent=INDENT, label="waited")
    for change in each.changes:
        page.wrapped(change, indent=INDENT, label="changed", style="medium")
    if look.identified is not None:
        page.wrapped(look.identified.text, indent=INDENT, label="server", style="place")
    for address, how in look.others if look.identified else ():
        page.wrapped(
            f"{address}, which its name has as well: {how}; it answered at {look.address}",
            indent=INDENT,
            label="but",
            style="medium",
        )
    _keys(page, look)
    for step in look.steps:
        if step.stage == "login" and look.failed != "login":
            page.wrapped(f"{step.text} ({_time(step.seconds)})", indent=INDENT, label="logged in", style="good")
    _stands(page, each.stands)
    for other in each.others:
        page.wrapped(_head(other.look), indent=INDENT, label=other.service)
        if other.look.answered:
            page.wrapped(other.look.answered, indent=INDENT, label="server", style="place")
        _stands(page, other.stands)
        causes(page, other.causes, each.guest)
    for finding in each.findings:
        _finding(page, finding)
    causes(page, each.causes, each.guest)
    if each.problem:
        page.wrapped(each.problem, indent=INDENT, label="unread")
    if each.against:
        page.wrapped(f"held against {each.against}", indent=INDENT, label="evidence", style="place")


def _head(look: Look) -> str:
    whole = sum(step.seconds for step in look.steps)
    where = look.target.text if look.address in ("", look.target.host) else f"{look.target.text}, {look.address}"
    stages: dict[str, float] = {}
    for step in look.steps:
        stages[step.stage.value] = stages.get(step.stage.value, 0) + step.seconds
    spent = ", ".join(f"{name} {_time(seconds)}" for name, seconds in stages.items() if seconds >= 0.0005)
    if look.failed is None:
        return f"{where}: answers in {_time(whole)} ({spent})"
    return f"{where}: stops at {look.failed.value} after {_time(whole)}: {look.how}"


def _time(seconds: float) -> str:
    return f"{seconds * 1000:.0f} ms" if seconds < 1 else f"{seconds:.1f} s"


def _keys(page: Page, look: Look) -> None:
    for proven in look.keys:
        pinned = proven.key.fingerprint in look.target.pins
        words = f"{proven.key.kind} {proven.key.fingerprint}, proven{', as pinned' if pinned else ''}"
        page.wrapped(words, indent=INDENT, label="host key", style="good" if pinned else "plain")


_TOLD = {
    GrantState.OFFERED: ("open", "good"),
    GrantState.ELSEWHERE: ("unproven", "place"),
    GrantState.NOT_SEEN: ("unasked", "place"),
}


def _stands(page: Page, stands: tuple[GrantStanding, ...]) -> None:
    grouped: dict[tuple[GrantState, str, str], list[str]] = {}
    for each in stands:
        if each.state in (*NOT_LET_IN, GrantState.NOT_REACHED):
            continue  # a finding tells it
        who = each.who if each.who.endswith(each.account) else f"{each.who} (as {each.account})"
        where = each.where if each.state is GrantState.ELSEWHERE else ""
        key = (each.state, "" if where else each.kind, where)
        known = grouped.setdefault(key, [])
        known += [who] if who not in known else []
    for (state, kind, where), people in grouped.items():
        label, style = _TOLD[state]
        listed = ", ".join(people)
        words = {
            GrantState.OFFERED: f"{listed}: {kind} may be shown, as granted",
            GrantState.ELSEWHERE: f"{listed}: let in from {where}, which a look from here can't prove",
            GrantState.NOT_SEEN: f"{listed}: not asked about",
        }[state]
        page.wrapped(words, indent=INDENT, label=label, style=style)


def _finding(page: Page, finding: Finding) -> None:
    if finding.waived:
        page.wrapped(f"{finding.check}: {finding.waived}", indent=INDENT, label="waived", style="place")
        return
    page.wrapped(finding.text, indent=INDENT, label="finding", right=finding.severity.value)
    if finding.check != "reach.not-reached":  # its evidence stands in the head
        page.evidence([(str(proof.origin), proof.text) for proof in finding.proofs], indent=13)


def causes(page: Page, found: tuple[Cause, ...], guest: str) -> None:
    """Likely causes, the likeliest first, each with the next look."""
    for number, cause in enumerate(found):
        page.wrapped(cause.text, indent=INDENT, label="likely" if number == 0 else "or")
        page.line(" " * 15, ("next: " + cause.look.replace("GUEST", guest), "place"))


def _sum(page: Page, result: Reach) -> None:
    answered = sum(each.answers for each in result.guests)
    parts = [f"{answered} of {count(len(result.guests), 'guest')} answer as they should"]
    unlooked = sum(each.look is None for each in result.guests)
    parts += [f"{unlooked} not looked at"] if unlooked else []
    elsewhere = any(s.state is GrantState.ELSEWHERE for each in result.guests for s in each.stands)
    parts += ["other places are not proven from here"] if elsewhere else []
    page.line("; ".join(parts) + ".")


def single(page: Page, look: Look, found: tuple[Cause, ...]) -> None:
    """One look at a server that no estate speaks of: every stage with its time."""
    page.line((look.target.text, "name"), f"   from {look.here or 'here'}")
    for step in look.steps:
        failed = step.stage is look.failed
        page.wrapped(
            step.text,
            indent=INDENT,
            label=step.stage.value,
            style="high" if failed else "plain",
            right=_time(step.seconds),
        )
    for proven in look.keys:
        page.line(" " * 13, (f"{proven.key.kind}, {proven.key.bits} bits, also {md5_fingerprint(proven.key.blob)}", "place"))
    if look.offered is not None:
        lists = {
            "exchanges": look.offered.exchanges,
            "keys": look.offered.host_keys,
            "ciphers": look.offered.ciphers,
            "macs": look.offered.macs,
        }
        for label, names in lists.items():
            page.wrapped(", ".join(names), indent=INDENT, label=label, style="place")
    causes(page, found, look.target.text)


def document(result: Reach) -> dict[str, Any]:
    """`nightlatch/reach/1`."""
    return {
        "format": "nightlatch/reach/1",
        "estate": result.estate,
        "at": result.at.isoformat(timespec="seconds"),
        "from": [{"address": address, "place": place or None} for address, place in result.here],
        "guests": [_one(each) for each in result.guests],
    }


def _one(each: GuestReach) -> dict[str, Any]:
    return {
        "guest": each.guest,
        "problem": each.problem or None,
        "answers": each.answers,
        "look": look_document(each.look) if each.look is not None else None,
        "grants": _grants(each.stands),
        "services": [_other(other) for other in each.others],
        "findings": documents.findings(each.findings),
        "causes": [{"cause": c.text, "look": c.look} for c in each.causes],
        "evidence": each.against or None,
        "waited_seconds": each.waited,
        "changes": list(each.changes),
    }


def _grants(stands: tuple[GrantStanding, ...]) -> list[dict[str, Any]]:
    return [{"who": s.who, "account": s.account, "proof": s.proof, "from": s.where, "state": s.state.value} for s in stands]


def _other(other: OtherService) -> dict[str, Any]:
    look = other.look
    return {
        "by": other.service,
        "target": look.target.host,
        "port": look.target.port,
        "address": look.address,
        "from": look.here,
        "failed": look.failed,
        "how": look.how,
        "why": look.why or None,
        "steps": _steps(look),
        "identification": look.answered or None,
        "asks": [{"account": a.account, "proofs": list(a.proofs), "let_in": a.let_in} for a in look.asks],
        "seals": [_seal(each) for each in look.seals],
        "unserved": [{"seal": each.seal.words, "why": each.why} for each in look.unserved],
        "grants": _grants(other.stands),
        "causes": [{"cause": c.text, "look": c.look} for c in other.causes],
    }


def _seal(seen: SealSeen) -> dict[str, Any]:
    """A seal that was served, with the fingerprint of the certificate that came with it."""
    print_of = sha256(seen.certificate).hexdigest() if seen.certificate else None
    return {"seal": seen.seal.words, "version": seen.version or None, "certificate_sha256": print_of}


def _steps(look: Look) -> list[dict[str, Any]]:
    return [{"stage": s.stage.value, "seconds": round(s.seconds, 4), "text": s.text} for s in look.steps]


def look_document(look: Look) -> dict[str, Any]:
    """One look, as it stands in documents."""
    offered = look.offered
    return {
        "target": look.target.host,
        "port": look.target.port,
        "addresses": list(look.addresses),
        "address": look.address,
        "others": [{"address": address, "how": how.value} for address, how in look.others],
        "from": look.here,
        "failed": look.failed,
        "how": look.how,
        "why": look.why or None,
        "steps": _steps(look),
        "identification": look.identified.text if look.identified else None,
        "host_keys": [
            {
                "type": p.key.algorithm,
                "bits": p.key.bits,
                "sha256": p.key.fingerprint,
                "md5": md5_fingerprint(p.key.blob),
                "exchange": p.exchange,
                "signature": p.algorithm,
            }
            for p in look.keys
        ],
        "algorithms": None
        if offered is None
        else {
            "exchanges": list(offered.exchanges),
            "host_keys": list(offered.host_keys),
            "ciphers": list(offered.ciphers),
            "macs": list(offered.macs),
        },
        "methods": [{"account": m.account, "methods": list(m.methods), "let_in": m.let_in} for m in look.methods],
    }
