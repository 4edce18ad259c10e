"""The login entries of each account over RDP: a desktop, for its password, by each of the seals that are served.

A login that no session comes of gives nothing. Sections of xrdp.ini that have an X server started for the account count here;
those that dial another host are told by a check. Not covered: channels.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property

from nightlatch.evidence.screen_files import MAIN, SESMAN
from nightlatch.formats.xrdp_ini import Line
from nightlatch.model.bounds import exactly, only_perhaps
from nightlatch.model.causes import Cause, ListenAddress, SettingLine
from nightlatch.model.gaps import Gap
from nightlatch.model.powers import ADMINISTER, DESKTOP
from nightlatch.model.routes import Seal
from nightlatch.model.secrets import Need, Password
from nightlatch.model.services import RDP, ServiceWords
from nightlatch.model.sockets import Listener
from nightlatch.net.addresses import AddressSet
from nightlatch.origin import Origin
from nightlatch.readings.accounts import Account
from nightlatch.readings.filters.rules import Rules
from nightlatch.readings.guest import GuestReading
from nightlatch.services.base import LoginEntries, LoginEntry, ServerState
from nightlatch.services.posix.privilege import Sudo
from nightlatch.services.posix.rights import rights
from nightlatch.services.posix.x_sessions import SessionStart
from nightlatch.services.rdp import seal
from nightlatch.services.rdp.manager import Manager
from nightlatch.services.rdp.ports import Listening
from nightlatch.services.rdp.seal import Seals
from nightlatch.services.rdp.sessions import LIBRARIES, Sessions
from nightlatch.services.rdp.settings import RdpSettings

OWN = ("", "-1")  # a port of a section that has an X server started, in place of dialling one
ASKED = "ask"


@dataclass(frozen=True)
class RdpAccess:
    """A guest's RDP server as it stands. `shut` are accounts that it lets nobody into, `without` those whose login ends at once
    for want of a session, each with the cause; `fault` is why the server does not start, `gap` why it is not known where it
    listens."""

    reading: GuestReading = field(repr=False)
    state: ServerState
    settings: RdpSettings | None = None
    seals: Seals | None = None
    listeners: tuple[Listener, ...] = ()
    gap: Gap | None = None
    shut: tuple[tuple[str, Cause], ...] = ()
    without: tuple[tuple[str, Cause], ...] = ()
    fault: str = ""
    behind: tuple[Rules, ...] = ()
    words: ServiceWords = RDP
    screen: str = ""


@dataclass(frozen=True, slots=True)
class _Way:
    """One way into an account: what is shown, by which lines, and why that is not sure."""

    need: Need
    causes: tuple[Cause, ...]
    gaps: tuple[Gap, ...] = ()


class RdpServer:
    """The RDP server of one guest at one moment (aware). Accounts that it lets nobody into are gathered as it is asked."""

    def __init__(self, reading: GuestReading, settings: RdpSettings, takes: Listening, state: ServerState, at: datetime) -> None:
        self.reading, self.settings, self.takes, self.state = reading, settings, takes, state
        self.seals = seal.seals(settings, reading.snapshot, reading.accounts)
        self.manager = Manager(reading, settings, int(at.timestamp() // 86400))
        self.sessions = Sessions(settings, reading.snapshot)
        self.sudo = Sudo(reading.sudo)
        self.shut: dict[tuple[str, Cause], None] = {}
        self.without: dict[tuple[str, Cause], None] = {}
        unsure = [takes.gap, settings.unread(SESMAN)]
        self._gaps: dict[Gap, None] = dict.fromkeys([*(gap for gap in unsure if gap is not None), *self.seals.unsure])

    @property
    def stands(self) -> RdpAccess:
        """The server as it stands, with what was gathered so far."""
        shut, without = tuple(self.shut), tuple(self.without)
        return RdpAccess(self.reading, self.state, self.settings, self.seals, self.takes.sockets, self.takes.gap, shut, without)

    @property
    def gaps(self) -> tuple[Gap, ...]:
        """The gaps that were met so far."""
        return tuple(self._gaps)

    def entries(self, socket: Listener, within: AddressSet) -> Iterator[LoginEntries]:
        """The entries of each account at the socket."""
        seen = exactly(within & socket.admits())
        listens = ListenAddress(f"{socket.address or 'all addresses'}, port {socket.port}", self.settings.ports.origin)
        unread = tuple(gap for gap in (self.takes.gap, self.settings.unread(SESMAN)) if gap is not None)
        for account in self.reading.accounts.by_name.values():
            found: list[LoginEntry] = []
            for way in self._ways(account):
                for sealed, gaps in self._sealed():
                    every = (*way.gaps, *gaps)
                    self._gaps.update(dict.fromkeys(every))
                    callers = only_perhaps(seen) if every else seen
                    causes = (listens, *way.causes, *(self.seals.causes if sealed is Seal.CLEAR else ()))
                    found.append(LoginEntry(account.name, way.need, DESKTOP, callers, causes, every, sealed))
                    for right in rights(self.sudo, account, self.reading.guest, self._has_password):
                        more = (*every, right.gap) if right.gap is not None else every
                        need, up = way.need | right.asked, (*causes, right.rule)
                        narrowed = only_perhaps(seen) if more else seen
                        found.append(LoginEntry(account.name, need, ADMINISTER, narrowed, up, more, sealed))
            yield LoginEntries((tuple(found),), unread=unread)

    def _sealed(self) -> Iterator[tuple[Seal, tuple[Gap, ...]]]:
        if self.seals.tls:
            yield Seal.TLS, self.seals.unsure
        if self.seals.clear:
            yield Seal.CLEAR, ()

    def _has_password(self, name: str) -> bool:
        account = self.reading.accounts.by_name.get(name)
        return account is not None and bool(account.hash_method or account.has_empty_password)

    def _ways(self, account: Account) -> Iterator[_Way]:
        """The ways into an account; none where it is not let in, or no session comes of it."""
        admitted = self.manager.admits(account)
        if admitted.refused is not None:
            self.shut[(account.name, admitted.refused)] = None
            return
        starts = [(line, self.sessions.start(account, library)) for line, library in self.made_by]
        open_ones = [(line, start) for line, start in starts if start.refused is None]
        if not open_ones:
            refused = next((start.refused for _, start in starts), None) or self._no_section()
            self.without[(account.name, refused)] = None
            return
        line, start = next(((line, start) for line, start in open_ones if start.stays), open_ones[0])
        gaps = tuple(gap for gap in (admitted.gap, start.gap) if gap is not None)
        need: Need = frozenset([Password(self.reading.guest, account.name)]) if admitted.asks else frozenset()
        section = SettingLine("section", line.section, Origin(MAIN, line.number))
        yield _Way(need, (*admitted.causes, *(start.by or (section,))), gaps)
        yield from self._preset(account, starts)

    def _preset(self, account: Account, starts: list[tuple[Line, SessionStart]]) -> Iterator[_Way]:
        """A section that holds an account's name and password lets in as that account, whatever is typed."""
        for line, start in starts:
            name, word = (self.settings.main.last(line.section, key) for key in ("username", "password"))
            if name is None or word is None or start.refused is not None or name.value != account.name:
                continue
            if word.value and not word.value.lower().startswith(ASKED):
                at = Origin(MAIN, word.number)
                gap = Gap("RDP server", "whether the password that stands there is right is not known", at)
                yield _Way(frozenset(), (SettingLine("password", "(preset)", at), *start.by), (gap,))

    @cached_property
    def made_by(self) -> list[tuple[Line, str]]:
        """The sections that have an X server started for the account, each with its library."""
        out = []
        for line in self.settings.sessions:
            library, port = (self.settings.main.last(line.section, key) for key in ("lib", "port"))
            if library is not None and library.value in LIBRARIES and (port.value if port is not None else "") in OWN:
                out.append((line, library.value))
        return out

    def _no_section(self) -> Cause:
        return SettingLine("lib", "libxup.so in no section", Origin(MAIN))
