"""Holes as findings: one for each cause, with all accounts, keys and powers that it opens."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from nightlatch.access.differences import Hole
from nightlatch.access.waivers import KINDS
from nightlatch.audit import cause_words
from nightlatch.audit.findings import Finding, Group, Proof, Severity, Subject
from nightlatch.audit.names import Names, by, listed, powers
from nightlatch.model.causes import Cause, SudoRule
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import PowerKind
from nightlatch.model.secrets import Certificate, Code, Key, Need, Password, ScreenPassword, UnknownSecret
from nightlatch.model.sources import Sources, joined, without

REFERENCE = "reasoning: what is open minus what is granted"
STRONG = (PowerKind.SHELL, PowerKind.DESKTOP, PowerKind.ADMINISTER)


@dataclass
class HoleGroup:
    """All holes with one cause. `granted` says that the same login is granted, only less of it."""

    cause: Cause
    kind: str
    items: list[Hole] = field(default_factory=list)

    @property
    def paths(self) -> list[AccessPath]:
        """The paths behind it."""
        return [item.path for item in self.items]

    @property
    def service(self) -> str:
        """The service by which it is open."""
        return self.items[0].path.service

    @property
    def by_sudo(self) -> bool:
        """Whether a rule of sudo's is what opens it."""
        return isinstance(self.cause, SudoRule)


def kind_of(path: AccessPath) -> str:
    """The kind of proof that opens a path: nothing, the account's password, that of a screen or of a look at it, a key or
    what else has a holder, a certificate, a code, or something unknown."""
    kinds = {type(secret) for secret in path.need}
    if not path.need:
        return "nothing"
    if UnknownSecret in kinds:
        return "unknown"
    if kinds == {Password}:
        own = all(isinstance(each, Password) and each.account == path.account for each in path.need)
        return "password" if own else "key"
    if kinds == {ScreenPassword}:
        return "look" if any(isinstance(each, ScreenPassword) and each.look for each in path.need) else "screen"
    if Code in kinds:
        return "code"
    if Certificate in kinds:
        return "certificate"
    return "key" if Key in kinds or ScreenPassword in kinds else "password"


def cause_of(path: AccessPath) -> Cause:
    """The line to which the path is owed: the one that lets root's rights be had, else the first of its causes."""
    if path.power.gives is PowerKind.ADMINISTER and isinstance(path.causes[-1], SudoRule):
        return path.causes[-1]
    return path.causes[0]


def holes(items: Iterable[Hole]) -> list[HoleGroup]:
    """Holes grouped by cause. What an open shell implies anyhow is not told again."""
    found = list(items)
    whole = {
        (s.path.service, s.path.account, s.path.need): s
        for s in found
        if s.path.power.gives in (PowerKind.SHELL, PowerKind.DESKTOP)
    }
    out: dict[tuple[str, Cause, str, bool], HoleGroup] = {}
    for each in found:
        path = each.path
        cause = cause_of(path)
        extra = bool(each.granted) and path.power.gives not in STRONG
        for (service, account, need), shell in whole.items():
            same = (service, account) == (path.service, path.account) and need <= path.need
            if same and path is not shell.path and _inside(each, shell):
                cause, extra = cause_of(shell.path), False
                break
        key = (path.service, cause, kind_of(path), extra)
        out.setdefault(key, HoleGroup(cause, kind_of(path))).items.append(each)
    return list(out.values())


def _inside(a: Hole, b: Hole) -> bool:
    return not without(joined([a.certain, a.possible]), joined([b.certain, b.possible]))


def findings(items: Iterable[Hole], guest: str, names: Names) -> Iterator[Finding]:
    """One finding a hole; holes that are only possible are undecided."""
    for hole in holes(items):
        certain = joined(item.certain for item in hole.items)
        possible = joined(item.possible for item in hole.items)
        if any(certain.values()):
            proofs = _proofs(hole)
            yield Finding(
                "hole",
                _severity(hole),
                guest,
                Group.HOLE,
                sentence(hole, certain, names),
                proofs,
                tuple(dict.fromkeys(p.account for p in hole.paths)),
                REFERENCE,
                about=tuple(_about(hole, names)),
                service=hole.service,
            )
        elif any(possible.values()):
            gaps = dict.fromkeys(cause_words.proof(g) for p in hole.paths for g in p.callers.because)
            yield Finding(
                "hole.possible",
                Severity.LOW,
                guest,
                Group.UNDECIDED,
                "Possibly: " + sentence(hole, possible, names),
                (*_proofs(hole), *gaps),
                tuple(dict.fromkeys(p.account for p in hole.paths)),
                REFERENCE,
                about=tuple(_about(hole, names)),
                service=hole.service,
            )


def _about(hole: HoleGroup, names: Names) -> Iterator[Subject]:
    """Each login that is open, once for all that it gives."""
    logins: dict[tuple[str, Need], list[Hole]] = {}
    for item in hole.items:
        logins.setdefault((item.path.account, item.path.need), []).append(item)
    for (account, need), items in logins.items():
        where = names.where(joined(sources for item in items for sources in (item.certain, item.possible)))
        key = next((secret.fingerprint for secret in need if isinstance(secret, Key)), "")
        proof = "" if key else next((word for word, kind in KINDS.items() for each in need if isinstance(each, kind)), "none")
        administers = any(item.path.power.gives is PowerKind.ADMINISTER for item in items)
        yield Subject(account, where, key, proof, administers=administers, service=hole.service)


def _proofs(hole: HoleGroup) -> tuple[Proof, ...]:
    out = dict.fromkeys([cause_words.proof(hole.cause)])
    out.update(dict.fromkeys(Proof("this grant is over", g.origin) for item in hole.items for g in item.over))
    for path in hole.paths:
        if len(out) < 6:
            out.update(dict.fromkeys(cause_words.proofs(path.causes)))
    return tuple(out)[:6]


def _severity(hole: HoleGroup) -> Severity:
    strong = any(path.power.gives in STRONG or path.power.gives is PowerKind.COMMAND for path in hole.paths)
    if hole.kind == "nothing":
        return Severity.CRITICAL
    if any(path.account == "root" for path in hole.paths) and hole.kind == "password":
        return Severity.CRITICAL
    return Severity.HIGH if strong or any(p.power.gives is PowerKind.FILES for p in hole.paths) else Severity.MEDIUM


def sentence(hole: HoleGroup, sources: Sources, names: Names) -> str:
    """The hole as a sentence a person could say."""
    accounts = list(dict.fromkeys(path.account for path in hole.paths))
    where = names.where(sources)
    gives, over = powers(hole.paths), by(hole.service)
    if hole.kind == "nothing":
        return f"Anyone gets {gives}{_as(gives, accounts)}{over} without showing anything, from {where}."
    if hole.kind == "password":
        if hole.by_sudo:
            return f"{listed(accounts)} gets root's rights by sudo, from {where}."
        return f"Anyone with the password of {_either(accounts)} gets {_by_account(hole)}{over}, from {where}."
    if hole.kind in ("screen", "look"):
        shown = listed(dict.fromkeys(names.need(path.need) for path in hole.paths))
        return f"Anyone with {shown} gets {gives}{over}, from {where}."
    logins = {(path.account, path.need) for path in hole.paths}
    least = [path for path in hole.paths if _less(path.account, path.need, logins) is None]
    shown = listed(dict.fromkeys(names.need(path.need) for path in least), 4)
    verb = "also gets" if all(item.granted for item in hole.items) or hole.by_sudo else "gets"
    gives = powers(least)
    besides = {secret for name, need in logins for secret in need - (_less(name, need, logins) or need)}
    more = f", and with {listed(sorted(map(names.secret, besides)), 4)} {powers(hole.paths)}" if besides else ""
    return f"{shown[0].upper()}{shown[1:]} {verb} {gives}{_as(gives, accounts)}{over}{more}, from {where}."


def _less(account: str, need: Need, logins: set[tuple[str, Need]]) -> Need | None:
    """A part of what is shown that opens the same account: a single secret of it, or all but one."""
    parts = [*(frozenset((secret,)) for secret in need), *(need - {secret} for secret in need)]
    return next((part for part in parts if part != need and (account, part) in logins), None)


def _by_account(hole: HoleGroup) -> str:
    """The powers that a password gives, by account where they differ."""
    given: dict[str, list[str]] = {}
    for account in dict.fromkeys(path.account for path in hole.paths):
        given.setdefault(powers(p for p in hole.paths if p.account == account), []).append(account)
    if len(given) == 1:
        return next(iter(given))
    parts = sorted(given.items(), key=lambda item: (item[0] != "a shell", item[0]))
    first, rest = parts[0], parts[1:]
    return first[0] + "".join(f", and {text} as {listed(names)}" for text, names in rest)


def _as(gives: str, accounts: list[str]) -> str:
    return "" if accounts == ["root"] and gives == "a root shell" else f" as {listed(accounts)}"


def _either(accounts: list[str]) -> str:
    return listed(accounts).replace(" and ", " or ") if len(accounts) <= 6 else listed(accounts)
