"""Why somebody gets into a guest, or does not: the logins that the question is about, each with its chain of links.

The logins are those that grants speak of, those that somebody holds the secrets of without a grant, and where there are
neither, those that they would try: their own account with what they hold.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from datetime import datetime
from enum import StrEnum

from nightlatch.access.chains import Chain, chains
from nightlatch.access.differences import ShutOut, find_shut_out
from nightlatch.access.grants import expand, proofs
from nightlatch.access.inner_chains import through
from nightlatch.access.paths import GuestAccess
from nightlatch.audit.answers import holders
from nightlatch.estate.model import Estate, Principal
from nightlatch.model.grants import Grant, GrantKind
from nightlatch.model.paths import AccessPath
from nightlatch.model.routes import Seal
from nightlatch.model.secrets import Certificate, Code, Key, Need, Password, ScreenPassword
from nightlatch.model.services import SSH
from nightlatch.model.sources import COMMON, Sources, common_to, joined, without
from nightlatch.net.addresses import EVERY_ADDRESS, LOOPBACK
from nightlatch.services.base import Kinds, Login
from nightlatch.services.ssh.entries import SshAccess


class AskerKind(StrEnum):
    """What a question names."""

    PERSON = "person"
    ROBOT = "robot"
    KEY = "key"
    ACCOUNT = "account"


class Standing(StrEnum):
    """How the access that was asked about stands."""

    AS_GRANTED = "as granted"
    GETS_IN = "gets in"
    BY_ANOTHER = "by another proof"
    SHUT_OUT = "shut out"
    HOLE = "hole"
    KEPT_OUT = "kept out"
    UNDECIDED = "undecided"


@dataclass(frozen=True, slots=True)
class WhyQuestion:
    """Who is asked about, on which guest: a person or robot, an account, or a key's fingerprint; `sources` None for where grants
    let them come from, or everywhere. `proofs` are alternatives of words after `with:`, `keys` fingerprints."""

    who: str
    guest: str
    services: tuple[str, ...] = ()
    account: str = ""
    sources: Sources | None = None
    proofs: tuple[tuple[str, ...], ...] = ()
    keys: tuple[str, ...] = ()


@dataclass(frozen=True)
class Answer:
    """The chains of a question, and how each part of it stands; `missing` are granted callers that don't get in, `ended` grants
    whose last day is over."""

    kind: AskerKind
    chains: tuple[tuple[Standing, Chain], ...]
    missing: tuple[ShutOut, ...] = ()
    ended: tuple[Grant, ...] = ()


@dataclass(frozen=True, slots=True)
class _Asked:
    """A login by one service, from where it is asked about, and the grants that speak of it."""

    service: str
    login: Login
    sources: Sources
    grants: tuple[Grant, ...] = ()


def asker_of(estate: Estate, who: str) -> AskerKind:
    """What a name or a fingerprint stands for; a name that is no person's or robot's is an account's."""
    if who.startswith("SHA256:"):
        return AskerKind.KEY
    person = estate.principals.get(who)
    if person is None:
        return AskerKind.ACCOUNT
    return AskerKind.ROBOT if person.is_robot else AskerKind.PERSON


def answer(estate: Estate, access: GuestAccess, asked: WhyQuestion, at: datetime, kinds: Kinds) -> Answer:
    """The answer for one guest at a moment (aware)."""
    return _Work(estate, access, asked, at, kinds).answer()


class _Work:
    def __init__(self, estate: Estate, access: GuestAccess, asked: WhyQuestion, at: datetime, kinds: Kinds) -> None:
        self.estate, self.access, self.asked, self.kinds = estate, access, asked, kinds
        self.guest = access.guest
        self.kind = asker_of(estate, asked.who)
        self.person: Principal | None = estate.principals.get(asked.who)
        told = expand(estate, access.guest, at, access.reading.snapshot.told.came)
        mine = [each for each in told if self._is_mine(each) and self._is_asked(each.service, each.account)]
        self.grants = [each for each in mine if any(each.callers.perhaps.values())]
        self.missing = tuple(self._missing())
        self.ended = tuple(each for each in mine if not any(each.callers.perhaps.values()))

    def answer(self) -> Answer:
        granted = list(self._granted())
        beside = list(self._beside(granted))
        found = granted + beside or list(self._would_try())
        told = [(self._standing(chain), chain) for each in found for chain in self._chains(each)]
        return Answer(self.kind, tuple(told), self.missing, self.ended)

    def _is_mine(self, grant: Grant) -> bool:
        if self.kind is AskerKind.KEY:
            return any(Key(self.asked.who) in need for need in grant.proofs)
        if self.kind is AskerKind.ACCOUNT:
            return grant.account == self.asked.who
        return grant.kind is GrantKind.GRANT and grant.who == self.asked.who

    def _is_asked(self, service: str, account: str) -> bool:
        return (not self.asked.services or service in self.asked.services) and self.asked.account in ("", account)

    def _shows(self, need: Need) -> bool:
        """Whether a need is among the proofs that were asked about."""
        if self.kind is AskerKind.KEY and Key(self.asked.who) not in need:
            return False
        keys = {each.fingerprint for each in need if isinstance(each, Key)}
        if self.asked.keys and not keys & set(self.asked.keys):
            return False
        return not self.asked.proofs or any(_words(need) == tuple(sorted(each)) for each in self.asked.proofs)

    def _missing(self) -> Iterator[ShutOut]:
        for each in find_shut_out(self.access.paths, self.grants, self.access.reading.accounts):
            if self.asked.sources is None:
                yield each
                continue
            inside = replace(
                each,
                certain=common_to(each.certain, self.asked.sources),
                possible=common_to(each.possible, self.asked.sources),
            )
            if inside.certain or inside.possible:
                yield inside

    # The logins.

    def _granted(self) -> Iterator[_Asked]:
        """What grants speak of; those that let in the same callers by the same login are one."""
        same: list[tuple[Grant, Need, list[Grant]]] = []
        for grant in self.grants:
            for need in sorted(grant.proofs, key=repr):
                alike = (e for e in same if e[1] == need and (e[0].place, e[0].callers) == (grant.place, grant.callers))
                found = next(alike, None)
                if found is not None:
                    found[2].append(grant)
                elif self._shows(need):
                    same.append((grant, need, [grant]))
        for grant, need, grants in same:
            after = frozenset().union(*(each.after for each in grants))
            gives = frozenset().union(*(each.gives for each in grants))
            login = Login(grant.account, need, after, gives, min(each.seal for each in grants))
            yield _Asked(grant.service, login, self.asked.sources or grant.callers.surely, tuple(grants))

    def _beside(self, granted: list[_Asked]) -> Iterator[_Asked]:
        """Ways in that they hold the secrets of, for callers that no grant lets in."""
        found: dict[tuple[str, str, Need], list[Sources]] = {}
        for path in self._least(path for path in self.access.paths if self._opens(path)):
            covered = [g.callers.surely for g in self.grants if g.place == path.place and any(n <= path.need for n in g.proofs)]
            left = without(without(path.callers.perhaps, joined(covered)), {COMMON: LOOPBACK})
            if self.asked.sources is not None:
                left = common_to(left, self.asked.sources)
                left = {} if any(_is_by(each, path) for each in granted) else left
            if left:
                found.setdefault((path.service, path.account, path.need), []).append(left)
        for (service, account, need), sources in found.items():
            yield _Asked(service, Login(account, need, seal=Seal.CLEAR), self.asked.sources or joined(sources))

    def _opens(self, path: AccessPath) -> bool:
        """Whether they get in by a path."""
        if not self._is_asked(path.service, path.account) or (path.need and not self._shows(path.need)):
            return False
        if self.kind is AskerKind.KEY:
            return Key(self.asked.who) in path.need
        if self.kind is AskerKind.ACCOUNT:
            return path.account == self.asked.who
        return not path.need or self.asked.who in holders(self.estate, self.guest, path.need)

    def _least(self, paths: Iterable[AccessPath]) -> Iterator[AccessPath]:
        """The paths whose account asks for no less by another: what root's rights ask on top is no login of its own."""
        found = list(paths)
        needs: dict[object, set[Need]] = {}
        for path in found:
            needs.setdefault(path.place, set()).add(path.need)
        yield from (path for path in found if not any(need < path.need for need in needs[path.place]))

    def _would_try(self) -> Iterator[_Asked]:
        """What somebody without a grant or a way in would try."""
        everywhere = joined([{COMMON: EVERY_ADDRESS - LOOPBACK}, *({s: own} for s, own, _ in self.access.spaces.inside)])
        sources = self.asked.sources or everywhere
        for service in self.asked.services or (SSH.name,):
            for account, need in dict.fromkeys(self._tries()):
                yield _Asked(service, Login(account, need, seal=Seal.CLEAR), sources)

    def _tries(self) -> Iterator[tuple[str, Need]]:
        held = self._least(path for path in self.access.paths if self._opens(path))
        yield from dict.fromkeys((path.account, path.need) for path in held)
        rejected = [each for s in self.access.services if isinstance(s, SshAccess) for each in s.rejected]
        for account in self._accounts([(each.account, each.fingerprint) for each in rejected]):
            tried = [need for need in self._needs(account) if self._shows(need)]
            if self.kind is AskerKind.ACCOUNT:
                lines = [frozenset([Key(each.fingerprint)]) for each in rejected if each.account == account and each.fingerprint]
                tried = [*filter(self._shows, lines), *tried]
            yield from ((account, need) for need in tried)

    def _accounts(self, rejected: list[tuple[str, str]]) -> Iterator[str]:
        """The accounts that they would try: the one that was asked about, else their own, and those that list a key of theirs."""
        if self.asked.account:
            yield self.asked.account
            return
        if self.kind is AskerKind.ACCOUNT:
            yield self.asked.who
            return
        keys = {self.asked.who}
        if self.person is not None:
            keys = {each.fingerprint for each in self.person.keys}
            yield self.person.accounts.get(self.guest, self.person.name)
        for name in self.estate.key_holders.get(self.asked.who, ()) if self.kind is AskerKind.KEY else ():
            yield self.estate.principals[name].accounts.get(self.guest, name)
        yield from (account for account, fingerprint in rejected if fingerprint in keys)

    def _needs(self, account: str) -> Iterator[Need]:
        password: Need = frozenset([Password(self.guest, account)])
        if self.kind is AskerKind.KEY:
            yield frozenset([Key(self.asked.who)])
            return
        if self.asked.proofs and self.person is not None:
            words = proofs(self.estate, self.asked.proofs, self.person, self.person.keys, self.guest, account)
            yield from sorted(words, key=repr)
            return
        held = list(_held(self.estate, self.person)) if self.person is not None else []
        yield from held or [password]

    # Chains, and how they stand.

    def _chains(self, each: _Asked) -> Iterator[Chain]:
        if each.grants and each.grants[0].shape:
            for chain in through(self.access, self.kinds, self.estate, each.login, each.grants[0], each.sources):
                yield replace(chain, grants=each.grants)
            return
        for chain in chains(self.access, self.kinds, self.estate, each.login, each.service, each.sources):
            if chain.asked:
                yield replace(chain, grants=each.grants)

    def _standing(self, chain: Chain) -> Standing:
        """How one chain stands: what gets in, against what is granted; without an estate nothing is."""
        if not self.estate.name and chain.certain:
            return Standing.GETS_IN
        granted = joined(grant.callers.surely for grant in chain.grants)
        if without(chain.certain, granted):
            return Standing.HOLE
        wanted = common_to(chain.asked, granted)
        if not wanted:
            return Standing.UNDECIDED if chain.possible else Standing.KEPT_OUT
        served = [without(wanted, bounds.surely) for _, bounds in chain.serves]
        if not any(served):
            return Standing.AS_GRANTED
        lacking = [each for each in self.missing if each.grant in chain.grants]
        if not lacking:
            return Standing.BY_ANOTHER
        return Standing.SHUT_OUT if any(each.certain for each in lacking) else Standing.UNDECIDED


def _is_by(asked: _Asked, path: AccessPath) -> bool:
    """Whether a login goes by this path."""
    return (asked.service, asked.login.account) == (path.service, path.account) and path.need <= asked.login.need


def _held(estate: Estate, person: Principal) -> Iterator[Need]:
    """All that somebody holds, each by itself."""
    for key in person.keys:
        yield frozenset([Key(key.fingerprint)])
    if person.certificate is not None:
        authority = estate.authorities[person.certificate.authority].fingerprint
        for principal in person.certificate.principals:
            yield frozenset([Certificate(authority, principal)])


_WORDS: dict[type, str] = {
    Key: "key",
    Certificate: "certificate",
    Password: "password",
    ScreenPassword: "screen password",
    Code: "code",
}


def _words(need: Need) -> tuple[str, ...]:
    """The words after `with:` that a need stands for, sorted."""
    return tuple(sorted(_WORDS.get(type(each), "") for each in need))
