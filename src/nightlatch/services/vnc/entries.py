"""The login entries of one VNC server: the screen that it shows, or a look at it, by each security type that is offered.

The account of an entry is the one whose session is shown; the password names no account (RFC 6143, 7.2).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime

from nightlatch.model.bounds import Addresses, Bounds, only_perhaps
from nightlatch.model.causes import Cause, ListenAddress, SettingLine
from nightlatch.model.gaps import Gap
from nightlatch.model.powers import ADMINISTER, DESKTOP, VIEW, Power
from nightlatch.model.routes import Seal
from nightlatch.model.secrets import Need, Password, ScreenPassword, Unknown, UnknownSecret
from nightlatch.model.services import VNC, ServiceWords
from nightlatch.model.sockets import Listener
from nightlatch.net.addresses import AddressSet
from nightlatch.origin import Origin
from nightlatch.readings.accounts import Account
from nightlatch.readings.filters.rules import Rules
from nightlatch.readings.guest import GuestReading
from nightlatch.services.base import LoginEntries, LoginEntry, ServerState
from nightlatch.services.posix.login_stack import PASSWORD, LoginStack
from nightlatch.services.posix.pam import PamOutcome
from nightlatch.services.posix.privilege import Sudo
from nightlatch.services.posix.rights import rights
from nightlatch.services.vnc.security import Asks
from nightlatch.services.vnc.serving import Door, Serving
from nightlatch.services.vnc.starts import Start


@dataclass(frozen=True)
class VncAccess:
    """One VNC server of a guest as it stands; `start` is the line that starts it, None for one that is known by its socket alone.
    `shut` are accounts whose own password would open it and does not, each with the cause."""

    reading: GuestReading = field(repr=False)
    state: ServerState
    start: Start | None = None
    serving: Serving | None = None
    listeners: tuple[Listener, ...] = ()
    shut: tuple[tuple[str, Cause], ...] = ()
    behind: tuple[Rules, ...] = ()
    words: ServiceWords = VNC

    @property
    def screen(self) -> str:
        """The account whose screen it shows."""
        return self.serving.screen if self.serving is not None else ""

    @property
    def is_known(self) -> bool:
        """Whether it is read how it serves."""
        return self.start is not None and self.serving is not None


@dataclass(frozen=True, slots=True)
class _Way:
    """One way to the screen: what is shown, what for, by which lines, and why that is not sure."""

    need: Need
    power: Power
    seal: Seal
    causes: tuple[Cause, ...]
    gap: Gap | None = None


class VncServer:
    """One server at one moment (aware)."""

    def __init__(self, access: VncAccess, serving: Serving, at: datetime) -> None:
        self.access, self.serving, self.reading = access, serving, access.reading
        self.today = int(at.timestamp() // 86400)
        self.sudo = Sudo(access.reading.sudo)
        self.shut: dict[tuple[str, Cause], None] = {}
        unsure = (*serving.gaps, *([access.start.gap] if access.start is not None and access.start.gap is not None else []))
        self.unread: tuple[Gap, ...] = unsure
        self._gaps: dict[Gap, None] = dict.fromkeys((*unsure, *(door.gap for door in serving.doors if door.gap is not None)))
        self._found: list[_Way] | None = None

    @property
    def stands(self) -> VncAccess:
        """The server as it stands, with what was gathered so far."""
        access = self.access
        return VncAccess(access.reading, access.state, access.start, access.serving, access.listeners, tuple(self.shut))

    @property
    def gaps(self) -> tuple[Gap, ...]:
        """The gaps that were met so far."""
        return tuple(self._gaps)

    def entries(self, socket: Listener, within: AddressSet) -> Iterator[LoginEntries]:
        """The entries for the one screen at the socket."""
        if self._found is None:
            self._found = list(self._ways())
        inside = within & socket.admits()
        takes = self.serving.callers
        seen = Bounds(takes.surely & inside, takes.perhaps & inside, takes.because)
        listens = ListenAddress(f"{socket.address or 'all addresses'}, port {socket.port}", socket.origin or Origin("ss -ltunp"))
        found = [entry for way in self._found for entry in self._entered(way, seen, listens)]
        yield LoginEntries((tuple(found),), unread=self.unread)

    def _entered(self, way: _Way, seen: Addresses, listens: Cause) -> Iterator[LoginEntry]:
        gaps = (*([way.gap] if way.gap is not None else []), *(seen.because if seen.surely != seen.perhaps else ()))
        callers = only_perhaps(seen) if way.gap is not None else seen
        causes = (*way.causes[:1], listens, *way.causes[1:])
        yield LoginEntry(self.serving.screen, way.need, way.power, callers, causes, gaps, way.seal)
        account = self.reading.accounts.by_name.get(self.serving.screen)
        if way.power != DESKTOP or account is None:
            return
        for right in rights(self.sudo, account, self.reading.guest, self._has_password):
            more = (*gaps, right.gap) if right.gap is not None else gaps
            narrowed = only_perhaps(seen) if more else callers
            need = way.need | right.asked
            yield LoginEntry(account.name, need, ADMINISTER, narrowed, (*causes, right.rule), more, way.seal)

    def _has_password(self, name: str) -> bool:
        account = self.reading.accounts.by_name.get(name)
        return account is not None and bool(account.hash_method or account.has_empty_password)

    def _ways(self) -> Iterator[_Way]:
        whole = DESKTOP if self.serving.touches else VIEW
        if not self.access.is_known:
            at = next((each.origin for each in self.access.listeners if each.origin is not None), Origin("ss -ltunp"))
            secret = UnknownSecret("how this VNC server was started is not read", at, Unknown.ANYTHING)
            yield _Way(frozenset([secret]), DESKTOP, Seal.TLS, ())
            return
        for door in self.serving.doors:
            if door.lacking is not None:
                continue
            kind = SettingLine("security type", door.type.name, door.cause.origin)
            if door.accounts != () or door.type.asks is Asks.ACCOUNT:
                yield from self._by_account(door, whole, kind)
            elif door.type.asks is Asks.NOTHING:
                yield _Way(frozenset(), whole, door.type.seal, (door.cause, kind), door.gap)
            else:
                yield from self._by_secret(door, whole, kind)

    def _by_secret(self, door: Door, whole: Power, kind: Cause) -> Iterator[_Way]:
        secret = self.serving.secret
        if secret is None or secret.lacking is not None:
            return
        gap = door.gap
        causes = (door.cause, kind, *([secret.cause] if secret.cause is not None and secret.cause != door.cause else []))
        for there, look in ((secret.whole, whole == VIEW), (secret.view, True)):
            if there is not False:
                unsure = Gap("VNC server", "what this file holds is not read", Origin(secret.file)) if there is None else None
                self._gaps.update({unsure: None} if unsure is not None else {})
                need: Need = frozenset([ScreenPassword(self.reading.guest, self.serving.screen, look)])
                yield _Way(need, VIEW if look else whole, door.type.seal, causes, gap or unsure)

    def _by_account(self, door: Door, whole: Power, kind: Cause) -> Iterator[_Way]:
        """Accounts that are named, by their own passwords; a server that is not root's can check its own account's alone."""
        known = self.reading.accounts.by_name
        runs = known.get(self.serving.account)
        stack = LoginStack(self.reading, door.service, self.today)
        for name in door.accounts if door.accounts is not None else tuple(known):
            account = known.get(name)
            if account is None or runs is None or (runs.uid != 0 and runs.uid != account.uid):
                continue
            yield from self._asked(stack, account, door, whole, kind)

    def _asked(self, stack: LoginStack, account: Account, door: Door, whole: Power, kind: Cause) -> Iterator[_Way]:
        asked, verdict = stack.asked(account, empty_allowed=True), stack.account(account, blocked=False)
        gap = door.gap or asked.gap or verdict.gap
        if gap is not None:
            self._gaps[gap] = None
        opens = any(need <= {PASSWORD} for need in asked.needs) or asked.gap is not None
        if not opens or verdict.outcome in (PamOutcome.SHUT, PamOutcome.CHANGE):
            self.shut[(account.name, SettingLine("PAM service", door.service, Origin(f"/etc/pam.d/{door.service}")))] = None
            return
        need: Need = frozenset([Password(self.reading.guest, account.name)])
        free = any(not need for need in asked.needs)
        yield _Way(frozenset() if free else need, whole, door.type.seal, (door.cause, kind), gap)
