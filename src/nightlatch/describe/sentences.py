"""Access paths as grant sentences: the fewest that cover every path and are served by it, each with its evidence.

A sentence says: this person, into this account, with these proofs, from these sources, gets a shell, root's rights, one command,
files, or a desktop over a connection of some seal. What the grammar can't say (a tunnel alone, nothing asked, a change of
password alone, another account's password) is told and left out; the audit of the finished file then still names it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from nightlatch.access.paths import GuestAccess
from nightlatch.describe.holders import Holder, Holders
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import Power, PowerKind
from nightlatch.model.routes import Seal
from nightlatch.model.secrets import Certificate, Code, Key, Need, Password, ScreenPassword
from nightlatch.model.services import SSH
from nightlatch.model.sources import COMMON
from nightlatch.net.addresses import LOOPBACK, NO_ADDRESS, AddressSet, union
from nightlatch.origin import Origin

RANK = (PowerKind.SHELL, PowerKind.COMMAND, PowerKind.FILES, PowerKind.VIEW)


@dataclass(frozen=True, slots=True)
class Sentence:
    """One grant by a service, without its guests. `after` is "" where no root's rights come with it; `only` is a command or
    files."""

    who: str
    account: str
    proof: str
    sources: AddressSet
    after: str = ""
    only: Power | None = None
    service: str = SSH.name
    seal: Seal = Seal.TLS


@dataclass(frozen=True, slots=True)
class UncoveredPath:
    """Something that is open and that no sentence can say."""

    guest: str
    text: str
    origin: Origin


@dataclass
class SentenceSet:
    """Sentences with the guests and the places in files that each is owed to."""

    sentences: dict[Sentence, dict[str, dict[Origin, None]]] = field(default_factory=dict)
    unsaid: list[UncoveredPath] = field(default_factory=list)


@dataclass
class _Login:
    """All that one account gets by a service for one proof: sources by power."""

    service: str
    account: str
    need: Need
    holder: Holder
    proof: str
    powers: dict[Power, AddressSet]
    origins: dict[Origin, None]
    seal: Seal


def of(guests: Iterable[GuestAccess], holders: Holders) -> SentenceSet:
    """The sentences for all guests."""
    out = SentenceSet()
    for access in guests:
        for login in _logins(access, holders, out):
            for sentence in _said(login, access, out):
                entry = out.sentences.setdefault(sentence, {})
                entry.setdefault(access.guest, {}).update(login.origins)
    return out


def _sources(path: AccessPath) -> AddressSet:
    """Its callers. The guest itself counts by SSH only; by other services a call from it is the end of a tunnel."""
    found = path.callers.surely.get(COMMON, NO_ADDRESS)
    return found if path.service == SSH.name else found - LOOPBACK


def _logins(access: GuestAccess, holders: Holders, out: SentenceSet) -> Iterator[_Login]:
    """Paths of one guest by account and need; keys of one holder for one account are one login."""
    grouped: dict[tuple[str, str, Need], list[AccessPath]] = {}
    for path in access.paths:
        if path.power.gives is not PowerKind.ADMINISTER and _sources(path):
            grouped.setdefault((path.service, path.account, path.need), []).append(path)
    for (service, account, need), paths in grouped.items():
        first = paths[0].causes[0].origin
        spoken = _spoken(need, account, holders)
        if isinstance(spoken, str):
            out.unsaid.append(UncoveredPath(access.guest, f"{account}: {spoken}", first))
            continue
        holder, proof = spoken
        powers: dict[Power, AddressSet] = {}
        origins: dict[Origin, None] = {}
        for path in paths:
            powers[path.power] = powers.get(path.power, NO_ADDRESS) | _sources(path)
            origins[path.causes[0].origin] = None
        yield _Login(service, account, need, holder, proof, powers, origins, min(path.seal for path in paths))


def _spoken(need: Need, account: str, holders: Holders) -> tuple[Holder, str] | str:
    """The holder and the words of `with`, or why it can't be said."""
    if not need:
        return "it opens without anything being shown"
    who: dict[str, Holder] = {}
    words: list[str] = []
    for secret in sorted(need, key=lambda s: type(s).__name__):
        match secret:
            case Key(fingerprint):
                if fingerprint not in holders.by_key:
                    return "it opens for a key whose public half was not found"
                who[holders.by_key[fingerprint].name] = holders.by_key[fingerprint]
                words.append("key")
            case Certificate(authority, principal) if principal and (authority, principal) in holders.by_certificate:
                holder = holders.by_certificate[(authority, principal)]
                who[holder.name] = holder
                words.append("certificate")
            case Certificate():
                return "it opens for certificates that name nobody"
            case Password(_, owner):
                if owner != account:
                    return f"it opens with the password of {owner}"
                words.append("password")
            case Code(_, owner) if owner == account:
                words.append("code")
            case ScreenPassword(_, owner) if owner == account:
                words.append("screen password")
            case _:
                return "it opens for something that could not be read"
    if len(who) > 1 or len(words) != len(set(words)):
        return "it asks for two proofs of one kind, or of two people"
    holder = next(iter(who.values())) if who else holders.by_account[account]
    return holder, " + ".join(words)


def _said(login: _Login, access: GuestAccess, out: SentenceSet) -> Iterator[Sentence]:
    whole = access.of(login.service)[0].words.power  # what a sentence gives that says no more
    shell = login.powers.get(whole, NO_ADDRESS)
    nothing, own = _administering(login, access)
    name = login.holder.name
    for sources, after in (
        (shell & nothing, "nothing"),
        ((shell & own) - nothing, "own password"),
        (shell - nothing - own, ""),
    ):
        if sources:
            yield Sentence(name, login.account, login.proof, sources, after, service=login.service, seal=login.seal)
    rest = {power: sources - shell for power, sources in login.powers.items() if power != whole}
    for power, sources in rest.items():
        if sources and power.gives in RANK:
            yield Sentence(name, login.account, login.proof, sources, only=power, service=login.service, seal=login.seal)
    _leftover(login, access, rest, out)


def _administering(login: _Login, access: GuestAccess) -> tuple[AddressSet, AddressSet]:
    """Where the login gives root's rights for nothing more, and where for the account's own password."""
    own = login.need | {Password(access.guest, login.account)}
    same = (login.service, login.account, PowerKind.ADMINISTER)
    here = [path for path in access.paths if (path.service, path.account, path.power.gives) == same]
    if own == login.need:  # who came in by the password has it for sudo, too
        return NO_ADDRESS, union(_sources(p) for p in here if p.need == own)
    found: dict[bool, list[AddressSet]] = {False: [], True: []}
    for path in here:
        if path.need in (login.need, own):
            found[path.need != login.need].append(_sources(path))
    return union(found[False]), union(found[True])


def _leftover(login: _Login, access: GuestAccess, rest: dict[Power, AddressSet], out: SentenceSet) -> None:
    """Powers that no sentence can say: tunnels beside a command, an agent, a change of password alone."""
    extra = [str(power) for power, sources in rest.items() if sources and power.gives not in RANK]
    if extra:
        text = f"{login.account}: {', '.join(sorted(extra))} with {login.proof}"
        out.unsaid.append(UncoveredPath(access.guest, text, next(iter(login.origins))))
