"""Whether a session starts for an account, and stays (sesman.ini(5), Xsession(5), Xwrapper.config(5); measured: 0.9.21, 0.10.1).

Needed are a home, an X server, and a program that lasts. Not covered: sections of sesman.ini without a `param`, other systems'
own Xsession, and what a desktop does once it runs.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from nightlatch.evidence.screen_files import FOLDER
from nightlatch.evidence.snapshot import Entry, EntryKind, Snapshot
from nightlatch.formats import shell_vars, xrdp_ini
from nightlatch.model.causes import SessionProgram, SettingLine, UnusableFile
from nightlatch.origin import Origin
from nightlatch.readings.accounts import Account
from nightlatch.services.posix import readable, scripts
from nightlatch.services.posix.x_sessions import SessionStart, XSessions, unknown
from nightlatch.services.rdp.collected import (
    WRAPPER,
    WRAPS,
    XORG,
    XORG_DRIVER,
    XTERM,
)
from nightlatch.services.rdp.settings import RdpSettings

LIBRARIES = {"libxup.so": "Xorg", "libvnc.so": "Xvnc"}  # which section of sesman.ini has their X server


@dataclass(frozen=True)
class Sessions:
    """The sessions of one guest."""

    settings: RdpSettings
    snapshot: Snapshot
    x: XSessions = field(init=False, compare=False, repr=False)
    _known: dict[str, SessionStart] = field(default_factory=dict, compare=False, repr=False)  # what is the same for all accounts

    def __post_init__(self) -> None:
        object.__setattr__(self, "x", XSessions(self.snapshot))

    def start(self, account: Account, library: str) -> SessionStart:
        """Whether an account gets a session by a section with this library."""
        found: list[SessionStart] = []
        for asked in (self._home(account), self._server(library), self._program(account)):
            if asked.refused is not None:
                return asked
            found.append(asked)
        gap = next((each.gap for each in found if each.gap is not None), None)
        return SessionStart(tuple(cause for each in found for cause in each.by), gap=gap)

    def _home(self, account: Account) -> SessionStart:
        entry = self.snapshot.resolve(account.home).entry
        if entry is None:
            return unknown(f"{account.home} was not looked at", account.home)
        at = Origin(account.home)
        if entry.kind is not EntryKind.FOLDER or account.home in ("", "/"):
            return SessionStart(refused=UnusableFile(account.home, f"{account.name} has no home there", at))
        if account.uid != 0 and (entry.uid != account.uid or not entry.mode & 0o300):
            because = f"it is not {account.name}'s own to write (owner {entry.uid}, mode {entry.mode:04o})"
            return SessionStart(refused=UnusableFile(account.home, because, at))
        return SessionStart()

    def _server(self, library: str) -> SessionStart:
        if library not in self._known:
            self._known[library] = self._looked_for(library)
        return self._known[library]

    def _looked_for(self, library: str) -> SessionStart:
        section = LIBRARIES[library]
        named = self.settings.sesman.every(section.lower(), "param")
        if not named:
            return unknown(f"the session manager's file names no program under [{section}]", f"{FOLDER}/sesman.ini")
        word = named[0].value
        path = word if word.startswith("/") else f"/usr/bin/{word}"
        missing = self.x.runs(path)
        if missing is None and section == "Xorg":
            missing = self.x.there(XORG_DRIVER)
        if missing is not None:
            return missing
        return self._wrapped() if section == "Xorg" and path != XORG else SessionStart()

    def _wrapped(self) -> SessionStart:
        """Xorg by its usual name goes through a program that lets only who sits at the console start it."""
        entry = self.snapshot.resolve(WRAPS).entry
        if entry is None:
            return unknown("whether Xorg's wrapper is installed was not looked at", WRAPS)
        if entry.kind is not EntryKind.FILE:
            return SessionStart()
        stated = shell_vars.parse(self.snapshot.content(WRAPPER) or b"").last("allowed_users")
        if stated is not None and stated.value == "anybody":
            return SessionStart()
        origin = Origin(WRAPPER, stated.number if stated is not None else 0)
        return SessionStart(refused=SettingLine("allowed_users", stated.value if stated is not None else "console", origin))

    def _program(self, account: Account) -> SessionStart:
        """What runs in the session: the account's own, or what is for all."""
        own = self._own(account)
        if own is not None:
            return own
        setting = self.settings.of_sesman("Globals", "DefaultWindowManager")
        if not setting.value:
            return unknown("which program is started is not set", f"{FOLDER}/sesman.ini")
        path = setting.value if setting.value.startswith("/") else f"{FOLDER}/{setting.value}"
        entry, content = self.snapshot.resolve(path).entry, self.snapshot.content(path)
        if entry is None or (content is None and entry.kind is EntryKind.FILE):
            return unknown(f"{path} was not read", path)
        broken = content is None or not entry.mode & 0o111 or not content.startswith(b"#!") or b"\r\n" in content
        if broken:  # the session manager starts a terminal in its place
            return self.x.there(XTERM) or SessionStart((SessionProgram(XTERM, Origin(path)),))
        assert content is not None
        if b"/etc/X11/Xsession" in content:
            return self.x.debian(account)
        return self.x.judged(scripts.read(content), path)

    def _own(self, account: Account) -> SessionStart | None:
        """The account's own window manager, where there is one that can be run."""
        allowed = self.settings.of_sesman("Globals", "EnableUserWindowManager")
        named = self.settings.of_sesman("Globals", "UserWindowManager")
        if not xrdp_ini.is_true(allowed.value) or not named.value:
            return None
        path = f"{account.home}/{named.value}"
        entry, content = self.snapshot.resolve(path).entry, self.snapshot.content(path)
        if entry is None:
            return unknown(f"{path} was not looked at", path)
        if entry.kind is not EntryKind.FILE or not _executable(entry, account):
            return None
        if content is None:
            return unknown(f"{path} was not read", path)
        if not content.startswith(b"#!") or b"\r\n" in content:
            return None
        return self.x.judged(scripts.read(content), path)


def _executable(entry: Entry, account: Account) -> bool:
    return bool(entry.mode & 0o111) if account.uid == 0 else readable.may(entry, account, 0o1)
