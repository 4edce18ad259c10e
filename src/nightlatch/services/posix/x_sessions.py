"""Whether a session by Debian's Xsession starts for an account, and stays, whatever server it is shown by (Xsession(5)).

Not covered: other systems' own Xsession, and what a desktop does once it runs.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.model.causes import Cause, SessionProgram, UnusableFile
from nightlatch.model.gaps import Gap
from nightlatch.origin import Origin
from nightlatch.readings.accounts import Account
from nightlatch.services.posix import readable, scripts
from nightlatch.services.posix.scripts import Lasts

XSESSION, XSESSION_OPTIONS = "/etc/X11/Xsession", "/etc/X11/Xsession.options"
XMESSAGE = "/usr/bin/xmessage"
# What Debian's Xsession starts where an account has no file of its own, the first that is there (Xsession(5)).
STARTED = ("/usr/bin/x-session-manager", "/usr/bin/x-window-manager", "/usr/bin/x-terminal-emulator")


@dataclass(frozen=True, slots=True)
class SessionStart:
    """Whether a session starts: `refused` says why none does, `gap` why that is not known; `by` what it is made by."""

    by: tuple[Cause, ...] = ()
    refused: Cause | None = None
    gap: Gap | None = None

    @property
    def stays(self) -> bool:
        """Whether it surely starts, and stays."""
        return self.refused is None and self.gap is None


def unknown(because: str, path: str) -> SessionStart:
    """A session of which something was not read."""
    return SessionStart(gap=Gap("session", because, Origin(path)))


@dataclass(frozen=True)
class XSessions:
    """The sessions of one guest by Xsession."""

    snapshot: Snapshot
    _known: dict[str, SessionStart] = field(default_factory=dict, compare=False, repr=False)  # what is the same for all accounts

    def debian(self, account: Account) -> SessionStart:
        """Debian's Xsession: the account's own file, else the first of the system's programs that is there."""
        entry = self.snapshot.resolve(XSESSION).entry
        if entry is None:
            return unknown(f"{XSESSION} was not looked at", XSESSION)
        if entry.kind is not EntryKind.FILE:
            return SessionStart(refused=UnusableFile(XSESSION, "there is no such file", Origin(XSESSION)))
        for name in (".profile", ".xsessionrc"):
            before = self.snapshot.content(f"{account.home}/{name}")
            if before is not None and scripts.may_leave(before):
                return unknown("it may end the session before it begins", f"{account.home}/{name}")
        options = self.snapshot.content(XSESSION_OPTIONS)
        if options is not None and b"\nallow-user-xsession" in b"\n" + options:
            for name in (".xsession", ".Xsession"):
                found = self._of_user(account, f"{account.home}/{name}")
                if found is not None:
                    return found
        if XSESSION not in self._known:
            self._known[XSESSION] = self._of_all()
        return self._known[XSESSION]

    def _of_user(self, account: Account, path: str) -> SessionStart | None:
        found = self.snapshot.resolve(path)
        if found.problem or found.entry is None or found.entry.kind is EntryKind.ABSENT:
            return None if found.entry is not None or found.problem else unknown(f"{path} was not looked at", path)
        at = Origin(path)
        if found.entry.kind is not EntryKind.FILE:
            return SessionStart(refused=UnusableFile(path, "it is no regular file", at))
        why = readable.unreadable(self.snapshot, found, account)
        if why is not None:
            return SessionStart(refused=why)
        content = found.entry.content
        return self.judged(scripts.read(content), path) if content is not None else unknown(f"{path} was not read", path)

    def _of_all(self) -> SessionStart:
        for path in STARTED:
            entry = self.snapshot.resolve(path).entry
            if entry is None:
                return unknown(f"{path} was not looked at", path)
            if entry.kind is EntryKind.FILE and entry.mode & 0o111:
                return SessionStart((SessionProgram(path, Origin(XSESSION)),))
        shown = "; its message box is all that comes up" if self.there(XMESSAGE) is None else ""
        return SessionStart(refused=UnusableFile(STARTED[0], f"no desktop is installed{shown}", Origin(XSESSION)))

    def judged(self, script: scripts.Script, path: str) -> SessionStart:
        """Whether a session that a script makes starts, and lasts."""
        at = Origin(path, script.line)
        if script.lasts is Lasts.ENDS:
            return SessionStart(refused=UnusableFile(path, script.because, at))
        if script.lasts is Lasts.UNKNOWN:
            return SessionStart(gap=Gap("session", f"{path}: {script.because}", at))
        name = script.program.rpartition("/")[2]
        program = script.program if script.program.startswith("/") else f"/usr/bin/{name}"
        missing = self.runs(program)
        if missing is not None:
            return missing
        if name not in scripts.LAST:
            return SessionStart(gap=Gap("session", f"whether {script.program} lasts is not known", at))
        return SessionStart((SessionProgram(script.program, at),))

    def runs(self, path: str) -> SessionStart | None:
        """Why a program can't be run, or is not known to be there; None where it can."""
        entry = self.snapshot.resolve(path).entry
        if entry is None:
            return unknown(f"{path} was not looked at", path)
        if entry.kind is EntryKind.FILE and entry.mode & 0o111:
            return None
        because = "there is no such program" if entry.kind is EntryKind.ABSENT else "it can't be run"
        return SessionStart(refused=UnusableFile(path, because, Origin(path)))

    def there(self, path: str) -> SessionStart | None:
        """Why a file is not there, or not known to be; None where it is."""
        entry = self.snapshot.resolve(path).entry
        if entry is None:
            return unknown(f"{path} was not looked at", path)
        if entry.kind is EntryKind.FILE:
            return None
        return SessionStart(refused=UnusableFile(path, "there is no such file", Origin(path)))
