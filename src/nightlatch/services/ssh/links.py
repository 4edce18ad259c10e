"""SSH's own links: what its settings, the account and the proof say of one login, each by itself; session_links.py has the rest.

What the whole comes to is worked out in entries.py; here it is taken apart.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from itertools import product

from nightlatch.model.bounds import EVERYBODY, NOBODY, Addresses, Bounds, exactly, in_all, in_any, only_perhaps
from nightlatch.model.causes import (
    AccountLine,
    Cause,
    Effect,
    KeysPlace,
    NoAccount,
    PasswordField,
    SettingLine,
    UserList,
)
from nightlatch.model.gaps import Gap
from nightlatch.model.links import Break, Link, LinkKind, link
from nightlatch.model.secrets import Certificate, Code, Key, Password, Secret, may_open
from nightlatch.model.sockets import Listener
from nightlatch.net.addresses import EVERY_ADDRESS, NO_ADDRESS, AddressSet, union
from nightlatch.origin import Kind, Origin
from nightlatch.readings import lockouts
from nightlatch.readings.accounts import Account
from nightlatch.services.base import Login
from nightlatch.services.posix.login_stack import CODE, PASSWORD, Asked
from nightlatch.services.ssh import session_links
from nightlatch.services.ssh.entries import SshAccess
from nightlatch.services.ssh.logins import Logins, Offer
from nightlatch.services.ssh.settings import SWITCHES, Caller, Settings, usable
from nightlatch.services.ssh.user_lists import limiting, permitted

EACH_ALONE: list[tuple[str, ...]] = [("publickey",), ("password",), ("keyboard-interactive",)]  # AuthenticationMethods any
LISTS = ("allowusers", "allowgroups")


@dataclass(frozen=True, slots=True)
class _Said:
    """What one link says of one part of the callers."""

    admits: Addresses
    by: tuple[Cause, ...] = ()
    breaks: tuple[Break, ...] = ()


@dataclass
class _Told:
    """What one link says of all callers: in each world, part by part."""

    worlds: list[list[_Said]] = field(default_factory=list)

    def link(self, kind: LinkKind, asked: AddressSet, gaps: tuple[Gap, ...]) -> Link:
        """The link over all worlds."""
        each = [in_any(said.admits for said in world) for world in self.worlds]
        surely, perhaps = EVERY_ADDRESS, union(world.perhaps for world in each)
        for world in each:
            surely &= world.surely
        because = dict.fromkeys([*(gap for world in each for gap in world.because), *gaps])
        admits = Bounds(surely, perhaps, tuple(because) if surely & asked != perhaps & asked else ())
        said = [one for world in self.worlds for one in world]
        breaks = (each for one in said for each in one.breaks if not each.sources <= perhaps)
        return link(kind, asked, admits, (cause for one in said for cause in one.by), breaks)


def links(access: SshAccess, asked: Login, socket: Listener, seen: AddressSet) -> Iterator[Link]:
    """The links of one login at one socket, for callers as the guest sees them."""
    account = access.reading.accounts.by_name.get(asked.account)
    if access.logins is None:
        yield _account_alone(access, asked, account, seen)
        return
    yield from _Login(access, access.logins, account or _made_new(asked.account), asked, account is not None).links(socket, seen)


def _account_alone(access: SshAccess, asked: Login, account: Account | None, seen: AddressSet) -> Link:
    """Without a server only the account can be asked about."""
    if account is not None:
        return link(LinkKind.ACCOUNT, seen, EVERYBODY, (AccountLine(account.name, account.shell, account.origin),))
    return link(LinkKind.ACCOUNT, seen, NOBODY, (), (Break(_no_account(asked.account), seen),))


def _no_account(name: str) -> NoAccount:
    return NoAccount(name, Origin("/etc/passwd"))


def _made_new(name: str) -> Account:
    """An account that is missing, as it would be made: in a group of its own. What lists say of its name is asked of it."""
    nowhere = Origin("/etc/passwd")
    return Account(name, 1 << 31, 1 << 31, f"/home/{name}", "/bin/sh", (name,), "*", nowhere, nowhere)


class _Login:
    """One login: an account with the secrets that somebody shows."""

    def __init__(self, access: SshAccess, logins: Logins, account: Account, asked: Login, exists: bool) -> None:
        self.access, self.logins, self.account, self.asked, self.exists = access, logins, account, asked, exists
        self.keys = [each for each in sorted(asked.need, key=repr) if isinstance(each, Key | Certificate)]
        self.passwords = [each for each in asked.need if isinstance(each, Password)]
        kinds = {Password: PASSWORD, Code: CODE}
        self.typed = frozenset(kinds[type(each)] for each in asked.need if type(each) in kinds)

    def links(self, socket: Listener, seen: AddressSet) -> Iterator[Link]:
        """Settings, account, proof, session and rights; only the first two of an account that is missing."""
        effective = self.access.effective
        worlds, undecided = effective.worlds(Caller(self.account.name, self.account.groups, socket))
        told = {kind: _Told() for kind in (LinkKind.SETTINGS, LinkKind.ACCOUNT, LinkKind.PROOF)}
        ways: list[Addresses] = []
        held: list[Settings] = []
        for world in worlds:
            for one_link in told.values():
                one_link.worlds.append([])
            joint = []
            for part in world:
                here = part.sources & seen
                if here:
                    said = self._part(part.truth, here)
                    for kind, one in said.items():
                        told[kind].worlds[-1].append(one)
                    joint.append(in_all([exactly(here), *(one.admits for one in said.values())]))
                    held.append(effective.settings(part.truth))
            ways.append(in_any(joint))
        gaps = (*undecided, *self.access.reading.sshd.gaps)
        for kind in (
            (LinkKind.SETTINGS, LinkKind.ACCOUNT, LinkKind.PROOF) if self.exists else (LinkKind.SETTINGS, LinkKind.ACCOUNT)
        ):
            found = told[kind].link(kind, seen, gaps)
            if self.access.reading.sshd.gaps:  # what was not read may say anything
                found = replace(found, admits=Bounds(NO_ADDRESS, seen, gaps), breaks=())
            yield replace(found, passing=tuple(self._locked_out())) if kind is LinkKind.PROOF else found
        if self.exists and held:
            surely = seen
            for each in ways:
                surely &= each.surely
            joined = Bounds(surely, union(each.perhaps for each in ways))
            yield from session_links.links(self.access, self.logins, self.account, self.asked, socket, seen, joined, held)

    def _part(self, truth: tuple[bool, ...], here: AddressSet) -> dict[LinkKind, _Said]:
        settings = self.access.effective.settings(truth)
        ends = self.access.effective.ends(truth)
        if ends is not None:
            line = SettingLine("authenticationmethods", " ".join(ends.value), ends.origin)
            said = _Said(NOBODY, (), (Break(line, here),))
        else:
            said = self._settings(settings, here)
        return {
            LinkKind.SETTINGS: said,
            LinkKind.ACCOUNT: self._account(settings, here),
            LinkKind.PROOF: self._proof(settings, here),
        }

    # Settings: lists of users and groups, switches, and the methods that are asked for together.

    def _settings(self, settings: Settings, here: AddressSet) -> _Said:
        allowed, because = permitted(self.account, settings, names_looked_up=self.logins.names_looked_up)
        breaks = [Break(because, here)] if because else list(self._limits(settings, here - allowed.perhaps))
        by: list[Cause] = [UserList(name, Effect.NAMED, settings[name].origin) for name in LISTS if settings[name].value]
        admits = Bounds(allowed.surely & here, allowed.perhaps & here)
        if admits.surely != admits.perhaps:
            origin = settings["allowusers" if settings["allowusers"].value else "denyusers"].origin
            admits = replace(admits, because=(Gap("SSH server", "host names would have to be looked up", origin),))
        taken = self._alternatives(settings)
        if not taken:
            breaks += [Break(cause, here) for cause in self._switched_off(settings)]
            return _Said(NOBODY, (), tuple(breaks))
        switches = dict.fromkeys(SWITCHES[name] for each in taken for name in each if name in SWITCHES)
        by += [SettingLine(name, settings[name].word, settings[name].origin) for name in switches]
        return _Said(admits, tuple(by) if admits.perhaps else (), tuple(breaks))

    def _limits(self, settings: Settings, left: AddressSet) -> Iterator[Break]:
        """The lists that keep an account out from these addresses."""
        while left:
            found = limiting(self.account, settings, left, names_looked_up=self.logins.names_looked_up)
            if found is None:
                return
            yield Break(*found)
            left = left - found[1]

    def _alternatives(self, settings: Settings) -> list[tuple[str, ...]]:
        """The methods, together, that are asked for, that are switched on, and for which there are secrets to show."""
        lists = settings["authenticationmethods"]
        if lists.value == ("any",):
            found = EACH_ALONE
        else:
            asked = [each for each in lists.value if usable(each, settings)]
            found = [_names(each) for each in asked]
        return [each for each in found if all(self._is_on(name, settings) for name in each) and self._can_show(each, settings)]

    def _is_on(self, method: str, settings: Settings) -> bool:
        by_key_only = self.account.uid == 0 and settings["permitrootlogin"].word != "yes"
        if method == "publickey":
            return settings["pubkeyauthentication"].word == "yes"
        if method in ("password", "none"):
            return settings["passwordauthentication"].word == "yes" and not by_key_only
        if method == "keyboard-interactive":
            return settings["kbdinteractiveauthentication"].word == "yes" and self.logins.uses_pam and not by_key_only
        return False  # its answer lies outside the guest's files, and nobody's secrets are known to open it

    def _can_show(self, methods: tuple[str, ...], settings: Settings) -> bool:
        asked = self._asks(settings)
        secrets = bool(self.typed) or asked.opens(()) or not self.asked.need  # who shows nothing is asked
        if methods == ("none",):
            return asked.opens(()) and asked.empty
        return methods.count("publickey") <= len(self.keys) and (secrets or not set(methods) - {"publickey"})

    def _asks(self, settings: Settings) -> Asked:
        """What the account is asked for besides keys."""
        return self.logins.asked(self.account, empty_allowed=settings["permitemptypasswords"].word == "yes")

    def _switched_off(self, settings: Settings) -> Iterator[Cause]:
        """The settings for which nothing that is shown counts."""
        lists = settings["authenticationmethods"]
        off = [name for name in self._methods_shown() if not self._is_on(name, settings)]
        for name in off:
            setting = settings[SWITCHES[name]]
            if setting.word != "yes":
                yield SettingLine(SWITCHES[name], setting.word, setting.origin)
            elif self.account.uid == 0:
                root = settings["permitrootlogin"]
                yield SettingLine("permitrootlogin", root.word, root.origin)
        if lists.value != ("any",) and (not off or self._more_is_asked(settings)):
            yield SettingLine("authenticationmethods", " ".join(lists.value), lists.origin)

    def _more_is_asked(self, settings: Settings) -> bool:
        """Whether every list of methods asks for something that is not shown."""
        return not any(self._can_show(_names(each), settings) for each in settings["authenticationmethods"].value)

    def _methods_shown(self) -> tuple[str, ...]:
        typing = ("keyboard-interactive",) if CODE in self.typed else ("password",)
        if self.keys:
            return ("publickey", *typing) if self.typed else ("publickey",)
        return typing

    # The account, and the proof.

    def _account(self, settings: Settings, here: AddressSet) -> _Said:
        if not self.exists:
            return _Said(NOBODY, (), (Break(_no_account(self.account.name), here),))
        door = self.logins.door(self.account, settings)
        if door.shut is not None:
            return _Said(NOBODY, (), (Break(door.shut, here),))
        admits = exactly(here)
        if door.gaps:
            admits = replace(only_perhaps(admits), because=door.gaps)
        return _Said(admits, (AccountLine(self.account.name, self.account.shell, self.account.origin),))

    def _proof(self, settings: Settings, here: AddressSet) -> _Said:
        alternatives = self._alternatives(settings) or [self._methods_shown()]
        found: list[Addresses] = []
        by: dict[Cause, None] = {}
        for methods in alternatives:
            for chosen in self._combined(methods, settings, here):
                found.append(in_all([exactly(here), *(bounds for bounds, _ in chosen)]))
                if found[-1].perhaps:
                    by.update(dict.fromkeys(cause for _, causes in chosen for cause in causes))
        admits = in_any(found)
        left = here - admits.perhaps
        breaks = [replace(each, sources=each.sources & left) for each in self._lacking(settings, here)] if left else []
        return _Said(admits, tuple(by), tuple(breaks))

    def _combined(
        self, methods: tuple[str, ...], settings: Settings, here: AddressSet
    ) -> Iterator[tuple[tuple[Addresses, tuple[Cause, ...]], ...]]:
        """Every choice of secrets for these methods; no key counts twice."""
        choices: list[list[Secret | None]] = [list(self.keys) if name == "publickey" else [None] for name in methods]
        for chosen in product(*choices):
            shown = [each for each in chosen if each is not None]
            if len(shown) == len(set(shown)):
                yield tuple(
                    self._by_typing(name, settings, here) if each is None else self._by_key(each, settings)
                    for name, each in zip(methods, chosen, strict=True)
                )

    def _by_key(self, secret: Secret, settings: Settings) -> tuple[Addresses, tuple[Cause, ...]]:
        mine = self._offers(secret, settings)
        found = self.logins.offers(self.account, settings).offers
        maybe = [each for each in found if may_open(frozenset([each.secret]), frozenset([secret]))]
        bounds = in_any(Bounds(each.surely, each.perhaps, each.gaps) for each in (*mine, *maybe))
        return bounds, tuple(dict.fromkeys(cause for each in mine for cause in each.causes))

    def _offers(self, secret: Secret, settings: Settings) -> list[Offer]:
        only_forced = self.account.uid == 0 and settings["permitrootlogin"].word == "forced-commands-only"
        found = self.logins.offers(self.account, settings).offers
        return [each for each in found if each.secret == secret and (each.options.command or not only_forced)]

    def _by_typing(self, method: str, settings: Settings, here: AddressSet) -> tuple[Addresses, tuple[Cause, ...]]:
        asked = self._asks(settings)
        if asked.gap is not None and self.typed:
            return Bounds(NO_ADDRESS, here, (asked.gap,)), ()
        # The method "password" has one text for all that is asked.
        shown = self.typed - {CODE} if method == "password" else self.typed
        if asked.opens(shown):
            field = PasswordField("not asked for" if asked.opens(()) else "set", self.account.password_origin)
            return exactly(here), (field,)
        return NOBODY, ()

    def _locked_out(self) -> Iterator[Cause]:
        """A lock that passes by itself, where a password is shown and sshd's stack counts wrong ones."""
        lines = [each.line for each in self.access.reading.pam.get("sshd", ()) if each.line.module == lockouts.MODULE]
        common = [each.line for each in self.access.reading.pam.get("common-auth", ()) if each.line.module == lockouts.MODULE]
        counting = [each for each in (*lines, *common) if each.facility == "auth"]
        if not self.passwords or not self.logins.uses_pam or not counting:
            return
        clock = self.access.reading.snapshot.told.clock
        at = clock if clock is not None else int(self.logins.at.timestamp())
        found = self.access.reading.lockouts.of(self.account.name, self.account.uid, counting[0].arguments, at)
        if found is not None:
            yield found

    def _lacking(self, settings: Settings, here: AddressSet) -> Iterator[Break]:
        """Why a secret is not taken, secret by secret."""
        for secret in self.keys:
            mine = self._offers(secret, settings)
            left = here - union(each.perhaps for each in mine)
            if mine and left:
                yield Break(mine[0].causes[-1], left)
            elif not mine:
                yield Break(self._not_listed(secret, settings), here)
        asked = self._asks(settings)
        if (self.typed and asked.gap is None and not asked.opens(self.typed)) or not self.asked.need:
            yield Break(PasswordField(self.account.password or "empty", self.account.password_origin), here)

    def _not_listed(self, secret: Secret, settings: Settings) -> Cause:
        found = self.logins.offers(self.account, settings)
        if isinstance(secret, Certificate):
            trusted = any(isinstance(e.secret, Certificate) and e.secret.authority == secret.authority for e in found.offers)
            principals = settings["authorizedprincipalsfile"]
            setting = principals if trusted and principals.word.lower() != "none" else settings["trustedusercakeys"]
            return SettingLine(
                "authorizedprincipalsfile" if setting is principals else "trustedusercakeys",
                " ".join(setting.value),
                setting.origin,
            )
        root = settings["permitrootlogin"]
        if any(each.secret == secret for each in found.offers):
            return SettingLine("permitrootlogin", root.word, root.origin)
        fingerprint = secret.fingerprint if isinstance(secret, Key) else ""
        rejected = next((each for each in found.rejected if each.fingerprint in ("", fingerprint)), None)
        return rejected.cause if rejected is not None else KeysPlace(self._keys_file(settings))

    def _keys_file(self, settings: Settings) -> Origin:
        word = settings["authorizedkeysfile"].word
        path = f"{self.account.home}/{word}" if not word.startswith(("/", "%")) else word
        entry = self.access.reading.snapshot.resolve(path).entry
        absent = entry is None or entry.kind.value == "absent"
        return Origin(path, kind=Kind.ABSENT if absent else Kind.FILE)


def _names(methods: str) -> tuple[str, ...]:
    """The methods of one list of AuthenticationMethods."""
    return tuple(name.partition(":")[0] for name in methods.split(","))
