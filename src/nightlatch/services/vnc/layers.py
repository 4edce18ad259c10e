"""The layers of settings that TigerVNC's wrappers put together, each replacing the former: the defaults of the guest, the user's
file, the command line, the mandatory ones (tigervnc.conf(5x), tigervncserver(1); measured: 1.12).

The wrapper derives what is not set: types that don't seal, and those that ask nothing, are kept on the loopback address.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import perl_settings
from nightlatch.formats.lines import split, text_of
from nightlatch.model.causes import SettingLine
from nightlatch.model.gaps import Gap
from nightlatch.net.numbers import whole
from nightlatch.origin import Origin, default
from nightlatch.readings.accounts import Account
from nightlatch.services.posix import readable
from nightlatch.services.vnc.parameters import DISPLAY, PARAMETERS, Form, Parameters, key_of

FOLDER = "/etc/tigervnc"
DEFAULTS, MANDATORY = f"{FOLDER}/vncserver-config-defaults", f"{FOLDER}/vncserver-config-mandatory"
PERL = ("tigervnc.conf", "vnc.conf")  # below the user's folder; the first that is there is the only one that is read
TEXT = "config"
INSECURE = "I-KNOW-THIS-IS-INSECURE"
YES, NO = ("", "1", "yes", "true"), ("0", "no", "false")
# The wrapper's own words: in Perl a name counts in these letters alone.
OWN_WITH_A_WORD = frozenset("display passwd session wmDecoration geometry depth pixelformat fp name auth xstartup".split())
OWN = frozenset(
    f"help kill clean list cleanstale version fg useold verbose dry-run xdisplaydefaults noxstartup autokill {INSECURE}".split()
)
FILE_NAMES = {"vncPasswdFile": "PasswordFile", "rfbauth": "PasswordFile", "pam_service": "PAMService", "desktopName": "desktop"}
FILE_ONLY = frozenset(
    "sslAutoGenCertCommand vncUserDir vncStartup xauthorityFile getDefaultFrom scrapingGeometry fontPath geometry wmDecoration "
    "depth pixelformat session fp auth".split()
)
_TEXT_LINE = re.compile(r"[ \t]*(?P<name>\w+)[ \t]*(?:=[ \t]*(?P<value>.*))?")


@dataclass
class _Gathered:
    """What the layers came to so far."""

    values: dict[str, SettingLine] = field(default_factory=dict)
    display: int | None = None
    fault: str = ""
    gap: Gap | None = None
    insecure: bool = False
    folder: str = ""
    session: bool = True

    def put(self, name: str, value: str | None, origin: Origin) -> None:
        """One setting of a layer; `undef` takes it back, and is yes for a switch."""
        key = key_of(FILE_NAMES.get(name, name))
        known = PARAMETERS.get(key, (name, Form.TEXT))
        if value is None and known[1] is Form.TEXT:
            self.values.pop(key, None)
            return
        value = value or ""
        if known[1] is Form.SWITCH:
            if value not in (*YES, *NO):
                self.fault = self.fault or f"{known[0]} takes yes or no, and is {value!r}"
                return
            value = "1" if value in YES else "0"
        if key == "interface":
            self.values.pop("localhost", None)
        self.values[key] = SettingLine(known[0], value, origin)


@dataclass(frozen=True, slots=True)
class Gathered:
    """The parameters that a wrapper comes to, why that is not sure, the `folder` of the account's settings, and whether it starts
    a session beside the server."""

    parameters: Parameters
    gap: Gap | None = None
    folder: str = ""
    session: bool = True


def gathered(snapshot: Snapshot, account: Account, words: Sequence[str], origin: Origin) -> Gathered:
    """The parameters of a server that an account starts by the wrapper with these words."""
    found = _Gathered(folder=f"{account.home}/.vnc")
    _perl(snapshot, DEFAULTS, account, found)
    _of_user(snapshot, account, found)
    _command_line(words, origin, found)
    _perl(snapshot, MANDATORY, account, found)
    if not found.fault:
        _derive(snapshot, account, origin, found)
    return Gathered(Parameters(found.values, found.display, found.fault, wrapped=True), found.gap, found.folder, found.session)


def user_file(snapshot: Snapshot, folder: str) -> str:
    """The one file of a user that is read; empty where there is none."""
    for name in (*PERL, TEXT):
        entry = snapshot.resolve(f"{folder}/{name}").entry
        if entry is not None and entry.kind is EntryKind.FILE:
            return f"{folder}/{name}"
    return ""


def _of_user(snapshot: Snapshot, account: Account, found: _Gathered) -> None:
    path = user_file(snapshot, found.folder)
    if not path.endswith(f"/{TEXT}"):
        if path:
            _perl(snapshot, path, account, found)
        return
    content = _content(snapshot, path, account, found)
    for number, piece in enumerate(split(content or b""), 1):
        text = text_of(piece).rstrip("\n").partition("#")[0]
        line = _TEXT_LINE.fullmatch(text)
        if line is not None and (line["value"] is not None or text.rstrip() == text):
            found.put(_spelt(line["name"]), "1" if line["value"] is None else line["value"], Origin(path, number))


def _spelt(name: str) -> str:
    """A name of the plain file, which is read in any case, as the tables have it."""
    return next((each for each in FILE_NAMES if each.lower() == name.lower()), name)


def _content(snapshot: Snapshot, path: str, account: Account, found: _Gathered) -> bytes | None:
    """A file as the account reads it: one that it can't read is passed over without a word."""
    where = snapshot.resolve(path)
    if where.problem or where.entry is None or where.entry.kind is not EntryKind.FILE:
        if where.entry is None and not where.problem:
            found.gap = found.gap or Gap("VNC server", f"{path} was not looked at", Origin(path))
        return None
    if readable.unreadable(snapshot, where, account) is not None:
        return None
    if where.entry.content is None:
        found.gap = found.gap or Gap("VNC server", f"{path} {where.entry.note or 'was not read'}", Origin(path))
    return where.entry.content


def _perl(snapshot: Snapshot, path: str, account: Account, found: _Gathered) -> None:
    content = _content(snapshot, path, account, found)
    document = perl_settings.parse(content or b"")
    if document.unread is not None:
        found.gap = found.gap or Gap("VNC server", "a line of Perl that is not followed", Origin(path, document.unread.number))
    for line in document.assignments:
        known = PARAMETERS.get(key_of(FILE_NAMES.get(line.name, line.name)))
        other_case = known is not None and line.name != known[0] and line.name not in FILE_NAMES
        if line.name == "vncUserDir":
            found.folder = line.value or found.folder
        elif line.name == "vncStartup":
            found.session = line.value is not None
        elif line.name not in FILE_ONLY and not other_case:
            found.put(line.name, line.value, Origin(path, line.number, line.column))


def _command_line(words: Sequence[str], origin: Origin, found: _Gathered) -> None:
    rest = list(words)
    while rest:
        word = rest.pop(0)
        if word == "--":
            return
        display = DISPLAY.fullmatch(word)
        if display is not None:
            found.display = int(display[1])
            continue
        name, sign, value = word.lstrip("-").partition("=")
        known = PARAMETERS.get(key_of(name))
        if name == INSECURE:
            found.insecure = True
        elif name in OWN_WITH_A_WORD and not (known and name == "passwd"):
            value = value if sign else (rest.pop(0) if rest else "")
            _own_word(name, value, origin, found)
        elif name == "autokill" and not sign:  # what it comes to is for the session to say
            _following(Form.SWITCH, rest, word, found)
        elif name in OWN:
            continue
        elif known is None:
            found.gap = found.gap or Gap("VNC server", f'what "{word[:60]}" means to the wrapper is not known', origin)
        else:
            found.put(name, value if sign else _following(known[1], rest, word, found), origin)


def _own_word(name: str, value: str, origin: Origin, found: _Gathered) -> None:
    if name == "passwd":
        found.put("PasswordFile", value, origin)
    elif name == "display" and (display := DISPLAY.fullmatch(value)) is not None:
        found.display = int(display[1])


def _following(form: Form, rest: list[str], word: str, found: _Gathered) -> str:
    """The value in the word behind a name; a switch takes it only if it is yes or no."""
    if form is Form.SWITCH:
        return rest.pop(0) if rest and rest[0] in (*YES[1:], *NO) else ""
    if not rest:
        found.fault = found.fault or f"nothing stands behind {word}"
        return ""
    return rest.pop(0)


def _derive(snapshot: Snapshot, account: Account, line: Origin, found: _Gathered) -> None:
    """What the wrapper adds, in its order."""
    values, by = found.values, default("tigervncserver")

    def add(name: str, value: str) -> None:
        values.setdefault(key_of(name), SettingLine(name, value, by))

    local, stated = values.get("localhost"), values.get("passwordfile")
    typed = stated is not None and stated.origin == line
    add("PlainUsers", account.name)
    service = snapshot.resolve("/etc/pam.d/vnc").entry
    add("PAMService", "vnc" if service is not None and service.kind is EntryKind.FILE else "tigervnc")
    add("PasswordFile", f"{found.folder}/passwd")
    if "securitytypes" not in values:
        alone = local is None or local.value == "1"
        add("SecurityTypes", "VncAuth" if alone else "VncAuth,TLSVnc")
        add("localhost", "1" if alone else "0")
    words = [word.lower() for word in values["securitytypes"].value.split(",")]
    asks_nothing = any(word.endswith("none") for word in words)
    seals = any(word.startswith(("x509", "tls")) for word in words)
    add("localhost", "1" if asks_nothing or not seals else "0")
    by_secret = any(word.endswith("vnc") or word == "vncauth" for word in words)
    if by_secret:
        found.fault = _asks_for_a_password(snapshot, values["passwordfile"], by_hand=typed)
    certified = any(word.startswith("x509") for word in words)
    copied = [*(["passwordfile"] if by_secret else []), *(["x509cert", "x509key"] if certified else [])]
    found.fault = found.fault or next(filter(None, (_not_copied(snapshot, account, values.get(name)) for name in copied)), "")
    port = values.get("rfbport")
    if port is not None and (whole(port.value, 9) or 0) <= 0 and "rfbunixpath" not in values:
        found.fault = found.fault or f"rfbport is {port.value}, and there is no rfbunixpath"
    if values["localhost"].value == "0" and asks_nothing and not found.insecure:
        found.fault = f"the wrapper refuses types that ask nothing beyond the loopback address, without --{INSECURE}"
    if found.display is None:
        found.gap = found.gap or Gap("VNC server", "its display is the first that is free", Origin(found.folder))
    else:
        add("rfbport", str(5900 + found.display))


def _not_copied(snapshot: Snapshot, account: Account, stated: SettingLine | None) -> str:
    """The wrapper starts a server on copies of these files, and does not start it where it can't make one."""
    if stated is None or not stated.value:
        return ""
    entry = snapshot.resolve(stated.value).entry
    if entry is not None and entry.kind is EntryKind.FOLDER:
        return f"{stated.value} is a folder"
    why = readable.opened(snapshot, stated.value, account)
    return f"it can't copy {stated.value}: {why.because}" if why is not None else ""


def _asks_for_a_password(snapshot: Snapshot, stated: SettingLine, *, by_hand: bool) -> str:
    """Where the file is not there, or others may read it, the wrapper asks for a new password: nobody is there to type one."""
    entry = snapshot.resolve(stated.value).entry
    if by_hand or entry is None:
        return ""
    if entry.kind is EntryKind.ABSENT:
        return f"there is no password file {stated.value}, and nobody is there to type one"
    return (
        f"others may read {stated.value}, so the wrapper removes it and asks for another password" if entry.mode & 0o077 else ""
    )
