"""The login entries of each account over SSH: what it gives for which proof, to callers as the server sees them, without
filters and routes.

For each account and listening socket the sources are split into classes (`settings.py`); within a class everything is
decided concretely. What can't be decided makes several worlds.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from datetime import datetime
from itertools import product

from nightlatch.formats.authorized_keys import Options
from nightlatch.formats.sshd_keywords import spelled
from nightlatch.model.bounds import Addresses, Bounds, exactly, in_all, in_any, only_perhaps
from nightlatch.model.causes import AccountState, Cause, Chroot, Condition, PamEnd, PamSays, SettingLine
from nightlatch.model.gaps import Gap
from nightlatch.model.powers import ADMINISTER, SHELL, Power, PowerKind
from nightlatch.model.secrets import Code, Need, Password, Secret, Unknown, UnknownSecret
from nightlatch.model.services import SSH, ServiceWords
from nightlatch.model.sockets import Listener
from nightlatch.net.addresses import NO_ADDRESS, AddressSet
from nightlatch.readings.accounts import Account
from nightlatch.readings.filters.rules import Rules
from nightlatch.readings.guest import GuestReading
from nightlatch.services.base import LoginEntries, LoginEntry, ServerState
from nightlatch.services.posix.login_stack import CODE, PASSWORD
from nightlatch.services.posix.privilege import Sudo
from nightlatch.services.posix.rights import rights
from nightlatch.services.ssh.files import ChrootProblem, Judge, chroot_problem
from nightlatch.services.ssh.logins import Logins, RejectedKey
from nightlatch.services.ssh.powers import powers, root_folder
from nightlatch.services.ssh.settings import MOST_UNSURE, Caller, Effective, Settings, usable
from nightlatch.services.ssh.user_lists import permitted


@dataclass(frozen=True, slots=True)
class _Way:
    """One way in within a class of sources: what is shown, from where, and what limits the session."""

    need: Need
    seen: Addresses
    options: Options
    causes: tuple[Cause, ...]
    gaps: tuple[Gap, ...] = ()


@dataclass(frozen=True)
class SshAccess:
    """A guest's SSH server as it stands: its settings, where it listens, the keys that it rejected, and accounts that it lets
    nobody into, with the cause. `logins` is None where there is no server, or it does not start."""

    reading: GuestReading = field(repr=False)
    effective: Effective
    state: ServerState
    listeners: tuple[Listener, ...] = ()
    rejected: tuple[RejectedKey, ...] = ()
    shut: tuple[tuple[str, Cause], ...] = ()
    logins: Logins | None = field(default=None, compare=False, repr=False)
    words: ServiceWords = SSH
    screen: str = ""

    @property
    def behind(self) -> tuple[Rules, ...]:
        """Filters behind the guest's own, for callers of SSH only: the filter of its unit, and libwrap."""
        return self.reading.filter.behind

    def settings(self, account: str, sources: AddressSet) -> list[Settings]:
        """The settings that hold for an account somewhere in `sources`, each once; the general ones for no such account."""
        found = self.reading.accounts.by_name.get(account)
        if found is None or not self.listeners:
            return [self.effective.top]
        worlds, _ = self.effective.worlds(Caller(account, found.groups, self.listeners[0]))
        truths = dict.fromkeys(part.truth for part in worlds[0] if part.sources & sources)
        return [self.effective.settings(truth) for truth in truths] or [self.effective.top]


class SshServer:
    """The SSH server of one guest at one moment. The keys it `rejected`, the accounts it `shut` out and its `gaps` are
    gathered as it is asked."""

    def __init__(self, reading: GuestReading, effective: Effective, sockets: tuple[Listener, ...], at: datetime) -> None:
        self.reading, self.effective, self.sockets = reading, effective, sockets
        top = effective.top
        judge = Judge(reading.snapshot, reading.accounts, top["strictmodes"].word == "yes", reading.debian_like)
        by_name = top["usedns"].word == "yes"
        self.logins = Logins(reading, at, by_name, top["usepam"].word == "yes", judge)
        self.sudo = Sudo(reading.sudo)
        self.rejected: dict[RejectedKey, None] = {}
        self._gaps: dict[Gap, None] = dict.fromkeys([*reading.accounts.gaps, *reading.sshd.gaps, *self.sudo.gaps])
        self.shut: dict[tuple[str, Cause], None] = {}

    @property
    def stands(self) -> SshAccess:
        """The server as it stands, with what was gathered so far. One that is stopped is judged as if it ran with its files."""
        service = self.reading.service
        stopped = service.is_live and not service.is_running and not service.strangers
        state = ServerState.STOPPED if stopped else ServerState.SERVES
        return SshAccess(self.reading, self.effective, state, self.sockets, tuple(self.rejected), tuple(self.shut), self.logins)

    @property
    def gaps(self) -> tuple[Gap, ...]:
        """The gaps that were met so far."""
        return tuple(self._gaps)

    def entries(self, socket: Listener, within: AddressSet) -> Iterator[LoginEntries]:
        """The entries of each account for callers from `within` at the socket."""
        return (self.entries_of(account, socket, within) for account in self.reading.accounts.by_name.values())

    def entries_of(self, account: Account, socket: Listener, within: AddressSet) -> LoginEntries:
        """The entries of one account at the socket."""
        worlds, undecided = self.effective.worlds(Caller(account.name, account.groups, socket))
        self._gaps.update(dict.fromkeys(undecided))
        within &= socket.admits()
        whole = []
        for world in worlds if within else ():
            found: list[LoginEntry] = []
            for part in world:
                if not self.effective.ends(part.truth):
                    settings = self.effective.settings(part.truth)
                    here = part.sources & within
                    for way in self._ways(account, settings, exactly(here)):
                        found += self._powers(account, settings, way)
            whole.append((*found, *self._not_read(account, within)))
        return LoginEntries(tuple(whole), tuple(undecided), self._unread(tuple(undecided)))

    def _not_read(self, account: Account, within: AddressSet) -> Iterator[LoginEntry]:
        """Where settings were not read, they may let in anybody by anything."""
        if self.reading.sshd.gaps:
            first = self.reading.sshd.gaps[0]
            need = frozenset([UnknownSecret(first.because, first.origin, Unknown.ANYTHING)])
            yield LoginEntry(account.name, need, SHELL, Bounds(NO_ADDRESS, within), (first,))

    def _unread(self, undecided: tuple[Gap, ...]) -> tuple[Gap, ...]:
        unread = tuple(self.reading.sshd.gaps)
        if len(undecided) > MOST_UNSURE:
            unread += (Gap("SSH server", f"more than {MOST_UNSURE} Match lines can't be decided", undecided[0].origin),)
        return unread

    def _powers(self, account: Account, settings: Settings, way: _Way) -> Iterator[LoginEntry]:
        door = self.logins.door(account, settings)
        if door.must_change:
            yield from self._due(account, settings, way, door.gaps)
            if not account.hash_method:
                return
            # By the present password another one is set, and then the rest is open (passwd(1) asks for it).
            way = replace(way, need=way.need | {Password(self.reading.guest, account.name)})
        granted = powers(settings, way.options, account)
        problem = self._chroot(account, settings)
        unsure = (*door.gaps, *([Gap("SSH server", problem.because, problem.origin)] if problem else []))
        seen, gaps = way.seen, way.gaps + unsure
        if unsure:
            seen = only_perhaps(seen)
            self._gaps.update(dict.fromkeys(unsure))
        for power in granted:
            yield LoginEntry(account.name, way.need, power, seen, way.causes, gaps)
        for right in rights(self.sudo, account, self.reading.guest, self._password_known) if SHELL in granted else ():
            unsure = (right.gap,) if right.gap is not None else ()
            self._gaps.update(dict.fromkeys(unsure))
            callers = only_perhaps(seen) if unsure else seen
            yield LoginEntry(
                account.name, way.need | right.asked, ADMINISTER, callers, (*way.causes, right.rule), (*gaps, *unsure)
            )

    def _due(self, account: Account, settings: Settings, way: _Way, unsure: tuple[Gap, ...]) -> Iterator[LoginEntry]:
        """What a login gives whose password has to be changed first: sshd runs passwd(1) in place of all else (session.c)."""
        seen = only_perhaps(way.seen) if unsure else way.seen
        causes = (*way.causes, AccountState(Condition.PASSWORD_DUE, account.password_origin))
        yield LoginEntry(account.name, way.need, Power(PowerKind.CHANGE_PASSWORD), seen, causes, way.gaps + unsure)

    def _chroot(self, account: Account, settings: Settings) -> ChrootProblem | None:
        root = root_folder(settings, account)
        return chroot_problem(self.reading.snapshot, root) if root != "/" else None

    def _password_known(self, name: str) -> bool:
        account = self.reading.accounts.by_name.get(name)
        return account is not None and self.logins.password_opens(account)

    def _ways(self, account: Account, settings: Settings, seen: Addresses) -> Iterator[_Way]:
        """Every combination of proofs that AuthenticationMethods accepts in this class of sources."""
        allowed, because = permitted(account, settings, names_looked_up=self.logins.names_looked_up)
        seen = in_all([seen, allowed])
        if because:
            self.shut[(account.name, because)] = None
        if not seen.perhaps:
            return
        door = self.logins.door(account, settings)
        if door.shut is not None:
            self.shut[(account.name, door.shut)] = None
            return
        problem = self._chroot(account, settings)
        if problem is not None and not problem.unknown:
            folder, origin = root_folder(settings, account), settings["chrootdirectory"].origin
            self.shut[(account.name, Chroot(folder, problem.because, origin))] = None
            return
        yield from self._others(settings, seen)
        single = {"publickey": list(self._keys(account, settings, seen))}
        single["password"] = list(self._passwords(account, settings, seen, "passwordauthentication"))
        single["keyboard-interactive"] = list(self._passwords(account, settings, seen, "kbdinteractiveauthentication"))
        lists = settings["authenticationmethods"]
        if lists.value == ("any",):
            for ways in single.values():
                yield from ways
            return
        cause = SettingLine("authenticationmethods", " ".join(lists.value), lists.origin)
        for each in lists.value:
            if usable(each, settings):
                yield from self._combined(each, single, settings, seen, cause)

    def _others(self, settings: Settings, seen: Addresses) -> Iterator[_Way]:
        """Methods whose answer lies outside the guest's own files: they may let somebody in."""
        for keyword in ("hostbasedauthentication", "gssapiauthentication", "kerberosauthentication"):
            if settings[keyword].word == "yes":
                because = f"{spelled(keyword)} trusts other machines, which no file here lists"
                gap = Gap("SSH server", because, settings[keyword].origin)
                self._gaps[gap] = None
                need: Need = frozenset([UnknownSecret(because, gap.origin)])
                cause = SettingLine(keyword, "yes", gap.origin)
                yield _Way(need, only_perhaps(seen), Options(), (cause,), (gap,))

    def _combined(
        self, methods: str, single: dict[str, list[_Way]], settings: Settings, seen: Addresses, cause: Cause
    ) -> Iterator[_Way]:
        names = [name.partition(":")[0] for name in methods.split(",")]
        if names == ["none"]:
            # The method "none" tries an empty password (auth2-none.c).
            if settings["passwordauthentication"].word == "yes":
                yield from (way for way in single["password"] if not way.need)
            return
        seen_needs: set[tuple[Need, Options]] = set()
        for ways in product(*(single.get(name, []) for name in names)):
            keys = [way.need for way, name in zip(ways, names, strict=True) if name == "publickey"]
            if len(keys) != len(set(keys)):
                continue  # the same key does not count twice (auth2.c, auth2_key_already_used)
            need: Need = frozenset().union(*(way.need for way in ways))
            options = next((w.options for w, n in zip(ways, names, strict=True) if n == "publickey"), Options())
            if (need, options) in seen_needs:
                continue
            seen_needs.add((need, options))
            pair = in_all([seen, *(way.seen for way in ways)])
            if pair.perhaps:
                causes = dict.fromkeys([c for way in ways for c in way.causes] + [cause])
                yield _Way(need, pair, options, tuple(causes), tuple(g for way in ways for g in way.gaps))

    def _keys(self, account: Account, settings: Settings, seen: Addresses) -> Iterator[_Way]:
        if settings["pubkeyauthentication"].word != "yes":
            return
        found = self.logins.offers(account, settings)
        self.rejected.update(dict.fromkeys(found.rejected))
        self._gaps.update(dict.fromkeys(found.gaps))
        forced_only = account.uid == 0 and settings["permitrootlogin"].word == "forced-commands-only"
        taken: dict[object, Addresses] = {}
        for offer in found.offers:
            if forced_only and not offer.options.command:
                continue
            pair = in_all([seen, Bounds(offer.surely, offer.perhaps)])
            # The first line of a key that lets a source in is the one that counts for it.
            before = taken.get(offer.secret)
            if before is not None:
                pair = Bounds(pair.surely - before.perhaps, pair.perhaps - before.surely)
            taken[offer.secret] = in_any([*([before] if before is not None else []), Bounds(offer.surely, offer.perhaps)])
            if pair.perhaps:
                yield _Way(frozenset([offer.secret]), pair, offer.options, offer.causes, offer.gaps)

    def _passwords(self, account: Account, settings: Settings, seen: Addresses, keyword: str) -> Iterator[_Way]:
        """Password and keyboard-interactive, which ask for the same password (RFC 4252, 8; RFC 4256), and the latter for more."""
        setting = settings[keyword]
        if setting.word != "yes" or (account.uid == 0 and settings["permitrootlogin"].word != "yes"):
            return
        asks = keyword == "kbdinteractiveauthentication"
        if asks and not self.logins.uses_pam:
            return  # without PAM there is nothing that could ask (measured: the method always fails)
        cause = SettingLine(keyword, "yes", setting.origin)
        empty = settings["permitemptypasswords"]
        asked = self.logins.asked(account, empty_allowed=empty.word == "yes")
        if asked.gap is not None:
            self._gaps[asked.gap] = None
            unknown: Need = frozenset([UnknownSecret(asked.gap.because, asked.gap.origin, Unknown.PASSWORD)])
            yield _Way(unknown, only_perhaps(seen), Options(), (cause,), (asked.gap,))
            return
        for words in asked.needs:
            if words:
                if CODE not in words or asks:  # the method "password" has one text for all that is asked
                    yield _Way(self._typed(account, words), seen, Options(), (cause,))
            elif asked.empty:
                line = SettingLine("permitemptypasswords", "yes", empty.origin)
                causes = (cause, line, AccountState(Condition.NO_PASSWORD, account.password_origin))
                yield _Way(frozenset(), seen, Options(), causes)
            else:
                end = PamEnd(PamSays.ANY_PASSWORD, asked.by or setting.origin)
                yield _Way(frozenset(), seen, Options(), (end, cause))

    def _typed(self, account: Account, words: frozenset[str]) -> Need:
        """What is typed: a password, a one-time code, or both."""
        guest = self.reading.guest
        kinds: dict[str, Secret] = {PASSWORD: Password(guest, account.name), CODE: Code(guest, account.name)}
        return frozenset(kinds[word] for word in words)
