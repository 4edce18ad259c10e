"""The last links of a login over SSH: the session that it comes to, and the rights of the account.

Both follow what the whole reasoning gives for the secrets that are shown (entries.py); where these open nothing, what they would.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace

from nightlatch.formats.authorized_keys import Options
from nightlatch.model.bounds import Addresses, Bounds, exactly, in_any, only_perhaps
from nightlatch.model.causes import (
    AccountLine,
    AccountState,
    Cause,
    Chroot,
    Condition,
    KeyLine,
    NoSudoRule,
    SettingLine,
    SudoRule,
)
from nightlatch.model.links import Break, Link, LinkKind, link
from nightlatch.model.powers import ADMINISTER, SHELL, Power, PowerKind
from nightlatch.model.secrets import Need, Password, may_open
from nightlatch.model.sockets import Listener
from nightlatch.net.addresses import NO_ADDRESS, AddressSet, union
from nightlatch.origin import Origin
from nightlatch.readings.accounts import Account
from nightlatch.services.base import Login, LoginEntry
from nightlatch.services.ssh.entries import SshAccess, SshServer
from nightlatch.services.ssh.files import chroot_problem
from nightlatch.services.ssh.logins import Logins
from nightlatch.services.ssh.powers import powers, root_folder
from nightlatch.services.ssh.settings import Settings


def links(
    access: SshAccess,
    logins: Logins,
    account: Account,
    asked: Login,
    socket: Listener,
    seen: AddressSet,
    ways: Addresses,
    held: list[Settings],
) -> Iterator[Link]:
    """Session and rights for callers `seen` at a socket; `ways` are those whose proof is taken, `held` the settings for them."""
    server = SshServer(access.reading, access.effective, access.listeners, logins.at)
    entries = server.entries_of(account, socket, seen)
    worlds = tuple(tuple(_opened(world, asked.need | asked.after)) for world in entries.worlds)
    yield from _Session(access, account, asked, seen, ways, held, server, worlds, unread=bool(entries.unread)).links()


def _opened(entries: Iterable[LoginEntry], shown: Need) -> Iterator[LoginEntry]:
    """The entries that what is shown opens, or may open, where something is asked that can't be read."""
    for each in entries:
        if each.need <= shown:
            yield each
        elif may_open(each.need, shown):
            yield replace(each, seen=only_perhaps(each.seen))


@dataclass(frozen=True)
class _Session:
    access: SshAccess
    account: Account
    asked: Login
    seen: AddressSet
    ways: Addresses
    held: list[Settings]
    server: SshServer
    worlds: tuple[tuple[LoginEntry, ...], ...]
    unread: bool

    def links(self) -> Iterator[Link]:
        inside = [list(_opened(world, self.asked.need)) for world in self.worlds]
        entered = self._over(inside)
        yield self._session(entered, [each for world in inside for each in world])
        yield self._rights(entered)

    def _over(self, worlds: Iterable[Iterable[LoginEntry]]) -> Addresses:
        """The callers that some entry lets in, over all worlds."""
        each = [in_any(entry.seen for entry in world) for world in worlds]
        surely = self.seen if each and not self.unread else NO_ADDRESS
        for world in each:
            surely &= world.surely
        because = dict.fromkeys(gap for world in each for gap in world.because)
        return Bounds(surely, union(world.perhaps for world in each) & self.seen, tuple(because))

    def _session(self, entered: Addresses, entries: list[LoginEntry]) -> Link:
        perhaps = entered.perhaps | (self.seen - self.ways.perhaps)
        gives = tuple(dict.fromkeys(each.power for each in entries))
        if not self.ways.perhaps:  # nothing opens it: what would a session be like?
            gives = tuple(dict.fromkeys(power for settings in self.held for power in self._would_give(settings)))
            perhaps = self.seen if gives else NO_ADDRESS
        surely = (entered.surely | (self.seen - self.ways.surely)) & perhaps
        left = self.seen - perhaps
        breaks = [Break(self._no_session(self.held[0]), left)] if left else []
        gaps = tuple(dict.fromkeys(gap for each in entries for gap in each.gaps)) or entered.because
        found = link(LinkKind.SESSION, self.seen, Bounds(surely, perhaps, gaps), self._lines(entries), breaks)
        return replace(found, powers=gives)

    def _would_give(self, settings: Settings) -> list[Power]:
        if self._shut_in(settings) is not None:
            return []
        if self._due() is not None:
            return [Power(PowerKind.CHANGE_PASSWORD)]
        return powers(settings, Options(), self.account)

    def _shut_in(self, settings: Settings) -> Chroot | None:
        """A root folder of sessions that sshd does not take."""
        root = root_folder(settings, self.account)
        problem = chroot_problem(self.access.reading.snapshot, root) if root != "/" else None
        if problem is None or problem.unknown:
            return None
        return Chroot(root, problem.because, settings["chrootdirectory"].origin)

    def _no_session(self, settings: Settings) -> Cause:
        shell = AccountState(Condition.NO_LOGIN_SHELL, self.account.origin, self.account.shell)
        return self._shut_in(settings) or shell

    def _lines(self, entries: list[LoginEntry]) -> Iterator[Cause]:
        """The account's own line, and those that make a session less than a shell."""
        yield AccountLine(self.account.name, self.account.shell, self.account.origin)
        for settings in self.held:
            for name in ("chrootdirectory", "forcecommand"):
                if settings[name].word.lower() != "none":
                    yield SettingLine(name, " ".join(settings[name].value), settings[name].origin)
        if not any(each.power == SHELL for each in entries):
            lines = (cause for each in entries if each.power.gives is PowerKind.COMMAND for cause in each.causes)
            yield from (cause for cause in lines if isinstance(cause, KeyLine))

    def _rights(self, entered: Addresses) -> Link:
        by = [cause for world in self.worlds for each in world for cause in each.causes if isinstance(cause, SudoRule)]
        surely, perhaps = self.seen, self.seen
        breaks: list[Break] = []
        for wanted in sorted(self.asked.gives, key=lambda power: (power.gives.value, power.what)):
            given = self._given(wanted, entered)
            surely, perhaps = surely & given.surely, perhaps & given.perhaps
            if self.seen - given.perhaps:
                breaks.append(Break(self._less(wanted), self.seen - given.perhaps))
        return link(LinkKind.RIGHTS, self.seen, Bounds(surely, perhaps, entered.because), by, breaks)

    def _given(self, wanted: Power, entered: Addresses) -> Addresses:
        """The callers who get a power, or do not get in at all, which another link says."""
        if not entered.perhaps:
            return exactly(self.seen if self._would_serve(wanted) else NO_ADDRESS)
        shown = self.asked.shown_for(wanted)
        given = self._over([each for each in _opened(w, shown) if each.power.offers(wanted)] for w in self.worlds)
        perhaps = given.perhaps | (self.seen - entered.perhaps)
        return Bounds((given.surely | (self.seen - entered.surely)) & perhaps, perhaps)

    def _would_serve(self, wanted: Power) -> bool:
        if wanted == ADMINISTER and self.account.uid != 0 and self._due() is None:
            known = {each.account for each in self.asked.shown_for(wanted) if isinstance(each, Password)}
            ways = (way for way in self.server.sudo.ways(self.account) if way is not None)
            return any(not way.password or way.password in known for way in ways)
        return any(power.offers(wanted) for settings in self.held for power in self._would_give(settings))

    def _less(self, wanted: Power) -> Cause:
        """Why a login gives less than that."""
        if due := self._due():
            return due
        if wanted == ADMINISTER:
            return NoSudoRule(self.account.name, Origin("/etc/sudoers"))
        for settings in self.held:
            if settings["forcecommand"].word.lower() != "none":
                return SettingLine("forcecommand", " ".join(settings["forcecommand"].value), settings["forcecommand"].origin)
        lines = (cause for world in self.worlds for each in world for cause in each.causes)
        key = next((cause for cause in lines if isinstance(cause, KeyLine)), None)
        return key or AccountLine(self.account.name, self.account.shell, self.account.origin)

    def _due(self) -> AccountState | None:
        """The account's password, where it has to be changed before the login gives anything else."""
        own = Password(self.access.reading.guest, self.account.name)
        passes = self.account.hash_method and own in self.asked.need  # the present one sets another, and then the rest is open
        if passes or not any(self.server.logins.door(self.account, settings).must_change for settings in self.held):
            return None
        return AccountState(Condition.PASSWORD_DUE, self.account.password_origin)
