"""The files that servers of VNC are started by and read, on a guest and in its accounts' homes (tigervnc.conf(5x), x11vnc(1))."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from nightlatch.evidence.screen_files import IN_HOME as SESSION
from nightlatch.evidence.selection import Purpose
from nightlatch.evidence.snapshot import ABSENT, Entry, EntryKind

TEMPLATE, INSTANCES = "tigervncserver@.service", "tigervncserver@{}.service"
USERS = "/etc/tigervnc/vncserver.users"
UNITS = "/etc/systemd/system"
# Links here start a unit at a boot.
WANTS = tuple(f"{UNITS}/{target}.target.wants" for target in ("multi-user", "graphical", "default"))
LINKED = (UNITS, *WANTS)  # what is linked to there has a file of its own, or is masked
_NAMES = "Xtigervnc Xvnc tigervncserver vncserver X0tigervnc x0tigervncserver x11vnc"
PROGRAMS = tuple(f"/usr/bin/{name}" for name in _NAMES.split())
# In a home; of passwords' files only mode, owner and size are looked at.
IN_HOME = (
    *((Purpose.TEXT, f".vnc/{name}") for name in ("tigervnc.conf", "vnc.conf", "config")),
    *((Purpose.TEXT, f".vnc/{name}") for name in ("xstartup", "Xvnc-session", "Xtigervnc-session")),
    *((Purpose.NAME, f".vnc/{name}") for name in ("passwd", "passwdfile")),
    (Purpose.TEXT, ".x11vncrc"),
)
# What starts with every session of every account, and what is announced to the network.
FOR_EVERYBODY = ("/etc/X11/Xsession.d", "/etc/xdg/autostart")
SERVICES = "/etc/avahi/services"
MOST_NAMED = 20
_PERL = ("/tigervnc.conf", "/vnc.conf", "/.vnc/config", "/vncserver-config-defaults", "/vncserver-config-mandatory")
_STARTS = (f"{UNITS}/", "/usr/lib/systemd/system/", "/lib/systemd/system/", "/etc/cron", "/var/spool/cron/")
_PATH = rb"(?P<path>/[^\s'\";]{1,300})"
# A word behind which a file stands: of a command line, of a setting.
_WORD = re.compile(
    rb"-?(?P<word>PasswordFile|rfbauth|passwd|passwdfile|X509Cert|X509Key|RSAKey|ssl|rc)[ \t=]+" + _PATH, re.IGNORECASE
)
_SETTING = re.compile(rb"(?P<word>vncPasswdFile|PasswordFile|X509Cert|X509Key|RSAKey)[ \t]*=[ \t]*[\"']?" + _PATH, re.IGNORECASE)
READ = (b"x509cert", b"rc", b"ssl")  # what these name is read; of all others only mode, owner and size are looked at


def named(entries: Mapping[str, Entry]) -> Iterator[tuple[str, Purpose]]:
    """The paths that lines which start a server name, and its settings."""
    for path, entry in list(entries.items()):
        shape = _SETTING if path.endswith(_PERL) else _WORD if path.endswith("/.x11vncrc") or _starts(path, entry) else None
        if shape is None or entry.content is None:
            continue
        for found in list(shape.finditer(entry.content))[:MOST_NAMED]:
            use = Purpose.TEXT if found["word"].lower() in READ else Purpose.NAME
            yield found["path"].decode("utf-8", "surrogateescape"), use


def drop_ins(entries: Mapping[str, Entry]) -> Iterator[str]:
    """Folders beside the units that start a server."""
    for path, entry in list(entries.items()):
        if path.endswith(".service") and _starts(path, entry):
            yield f"{UNITS}/{path.rpartition('/')[2]}.d"


def _starts(path: str, entry: Entry) -> bool:
    """Whether a unit or a table of cron(8) may start a server."""
    return entry.content is not None and path.startswith(_STARTS) and b"vnc" in entry.content


def in_homes(entries: Mapping[str, Entry]) -> tuple[tuple[Purpose, str], ...]:
    """The files below each home; none where no such server is installed."""
    there = (EntryKind.FILE, EntryKind.LINK)
    installed = any(entries.get(path, ABSENT).kind in there for path in PROGRAMS)
    return (*IN_HOME, *((use, name) for name, use in SESSION)) if installed else ()
