"""Parameters of TigerVNC's servers, on a command line or gathered by wrappers (Xvnc(1), x0vncserver(1); measured: 1.12, 1.15).

Names are read in any case, and the last of several counts. The server's own switches are yes with no word behind them.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import Enum

from nightlatch.model.causes import SettingLine
from nightlatch.origin import Origin, default


class Form(Enum):
    """The form of a parameter's value."""

    TEXT = "text"
    SWITCH = "switch"


# Those that decide about callers, or take a word that could be taken for another parameter.
PARAMETERS = {
    name.lower(): (name, form)
    for form, names in (
        (
            Form.TEXT,
            "SecurityTypes PasswordFile Password PlainUsers PAMService X509Cert X509Key RSAKey interface rfbport rfbunixpath "
            "rfbunixmode GnuTLSPriority desktop BlacklistThreshold BlacklistTimeout IdleTimeout MaxIdleTime MaxConnectionTime "
            "MaxDisconnectionTime QueryConnectTimeout Log RemapKeys FrameRate CompareFB ZlibLevel MaxCutText AllowOverride "
            "HostsFile Geometry display PollingCycle MaxProcessorUsage",
        ),
        (
            Form.SWITCH,
            "localhost UseIPv4 UseIPv6 UseBlacklist AcceptPointerEvents AcceptKeyEvents AlwaysShared NeverShared "
            "DisconnectClients RequireUsername QueryConnect AcceptSetDesktopSize AcceptCutText SendCutText SendPrimary "
            "SetPrimary RawKeyboard ImprovedHextile Protocol3.3 AvoidShiftNumLock UseSHM",
        ),
    )
    for name in names.split()
}
ALIASES = {"rfbauth": "passwordfile", "pam_service": "pamservice", "passwdfile": "passwordfile"}
YES, NO = ("1", "on", "true", "yes"), ("0", "off", "false", "no")
# Words of the X server itself that take one more (Xserver(1), Xvnc(1)).
WITH_A_WORD = frozenset(
    """
    geometry depth pixelformat auth fp co fc fn nolisten listen screen displayfd maxclients seat extension a br c dpi f
    fakescreenfps ld ls lf p s t to ac-file render config iglx-file background
""".split()
)
DISPLAY = re.compile(r":([0-9]{1,4})(?:\.[0-9]+)?")


@dataclass(frozen=True)
class Parameters:
    """The parameters that a server is started with, by their names in small letters. `display` is None where none is named;
    `fault` says why the server does not start, `by_socket` that a socket unit hands it each connection, `wrapped` that the
    wrapper starts it, which makes a certificate where none is named."""

    values: Mapping[str, SettingLine]
    display: int | None = None
    fault: str = ""
    by_socket: bool = False
    wrapped: bool = False

    def of(self, name: str) -> SettingLine:
        """A parameter, by its name in the manual."""
        return self.values.get(name.lower()) or SettingLine(name, "", default(name))

    def is_set(self, name: str) -> bool:
        """Whether somebody set a parameter, be it to nothing in a file."""
        found = self.of(name)
        return found.origin.line > 0 or found.value != ""

    def switch(self, name: str, otherwise: bool) -> bool:
        """A switch; what is neither yes nor no leaves it as it is."""
        word = self.of(name).value.lower()
        return word in YES if word in (*YES, *NO) else otherwise


def key_of(name: str) -> str:
    """The name that a parameter is known by, in small letters."""
    small = name.lower()
    return ALIASES.get(small, small)


def read(words: Sequence[str], origin: Origin) -> Parameters:
    """The words that Xtigervnc or X0tigervnc itself is started with."""
    values: dict[str, SettingLine] = {}
    display, fault, by_socket = None, "", False
    rest = iter(words)
    for word in rest:
        found = DISPLAY.fullmatch(word)
        if found is not None:
            display = int(found[1])
            continue
        name, sign, value = word.lstrip("-").partition("=")
        known = PARAMETERS.get(key_of(name))
        if known is None:
            by_socket = by_socket or word == "-inetd"
            fault = fault or _unknown(word, rest)
        elif sign:
            values[key_of(name)] = SettingLine(known[0], value, origin)
        elif known[1] is Form.SWITCH:
            values[key_of(name)] = SettingLine(known[0], "1", origin)
        else:
            following = next(rest, None)
            fault = fault or ("" if following is not None else f"nothing stands behind {word}")
            values[key_of(name)] = SettingLine(known[0], following or "", origin)
    return Parameters(values, display, fault, by_socket)


def _unknown(word: str, rest: Iterator[str]) -> str:
    """Pass over a word of the X server with the one that belongs to it; what begins with no dash is none of its words."""
    if not word.startswith(("-", "+")):
        return f'the server does not know "{word}"'
    if word.lstrip("-+") in WITH_A_WORD:
        next(rest, None)
    return ""
