"""Whether a session of TigerVNC's wrapper starts, and stays: where it ends, the server ends with it (tigervncserver(1); measured:
1.12).

The wrapper runs the account's own script, else Debian's, which starts Xsession in a login shell. Not covered: a session that is
named (`session`, `-- NAME`), or another script (`-xstartup`).
"""

from __future__ import annotations

from collections.abc import Sequence

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.model.causes import AccountState, Condition, SettingLine, UnusableFile
from nightlatch.origin import Origin
from nightlatch.readings.accounts import Account
from nightlatch.services.posix import readable, scripts
from nightlatch.services.posix.x_sessions import SessionStart, XSessions, unknown

OWN = ("Xtigervnc-session", "Xvnc-session", "xstartup")  # in the folder of the account's settings, the first that is there
SCRIPT = "/etc/X11/Xtigervnc-session"
NONE, OTHERS = "noxstartup", ("xstartup", "--", "session")
NO_SHELLS = ("nologin", "false")


def start(snapshot: Snapshot, account: Account, folder: str, words: Sequence[str], *, wanted: bool) -> SessionStart | None:
    """The session. Where the wrapper starts none (`wanted` is False, or an option says so) it ends the server at once, or leaves
    it alone (`-autokill no`): None. A session that is over within three seconds ends the server in any case."""
    named = [word.lstrip("-") or word for word in words]
    if not wanted or NONE in named:
        if _stays(named):
            return None
        cause = SettingLine("session", "none is started, and -autokill ends the server", Origin(f"{folder}/tigervnc.conf"))
        return SessionStart(refused=cause)
    other = next((word for word in named if word.partition("=")[0] in OTHERS), None)
    if other is not None:
        return unknown(f"another session is named ({other})", folder)
    for name in OWN:
        found = snapshot.resolve(f"{folder}/{name}")
        if found.entry is not None and found.entry.kind is EntryKind.FILE:
            return _own(snapshot, account, f"{folder}/{name}")
    return _of_all(snapshot, account)


def _stays(named: Sequence[str]) -> bool:
    """Whether the server is left alone where its session is over; the last of several options counts."""
    said = False
    for number, word in enumerate(named):
        name, sign, value = word.partition("=")
        if name == "autokill":
            said = (value if sign else next(iter(named[number + 1 : number + 2]), "")) in ("no", "0", "false")
    return said


def _own(snapshot: Snapshot, account: Account, path: str) -> SessionStart:
    entry, content = snapshot.resolve(path).entry, snapshot.content(path)
    assert entry is not None
    if not (entry.mode & 0o111 if account.uid == 0 else readable.may(entry, account, 0o1)):
        because = f"it can't be run (mode {entry.mode:04o})"
        return SessionStart(refused=UnusableFile(path, because, Origin(path)))
    if content is None:
        return unknown(f"{path} was not read", path)
    return XSessions(snapshot).judged(scripts.read(content), path)


def _of_all(snapshot: Snapshot, account: Account) -> SessionStart:
    entry = snapshot.resolve(SCRIPT).entry
    if entry is None:
        return unknown(f"{SCRIPT} was not looked at", SCRIPT)
    if entry.kind is not EntryKind.FILE:
        return SessionStart(refused=UnusableFile(SCRIPT, "there is no such file", Origin(SCRIPT)))
    shell = account.shell or "/bin/sh"
    if shell.rpartition("/")[2] in NO_SHELLS:
        return SessionStart(refused=AccountState(Condition.NO_LOGIN_SHELL, account.origin, shell))
    if b"/etc/X11/Xsession" not in (snapshot.content(SCRIPT) or b""):
        return unknown("it is not the one of the package", SCRIPT)
    return XSessions(snapshot).debian(account)
