"""How x11vnc serves, by its options (x11vnc(1); measured: 0.9.16, 0.9.17).

It listens on IPv4 where it is told to, and on all of IPv6 besides, unless it is kept on the loopback address. Not covered:
`-inetd`, `-find` and `-create`, programs that decide about callers (`-accept`, `-passwdfile cmd:`), and reverse connections.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats.lines import split, text_of
from nightlatch.model.bounds import Addresses, Bounds, exactly
from nightlatch.model.causes import Cause, SettingLine, UnusableFile
from nightlatch.model.gaps import Gap
from nightlatch.model.routes import Seal
from nightlatch.model.sockets import EVERY_V4, EVERY_V6, Listener
from nightlatch.net.addresses import EVERY_ADDRESS, NO_ADDRESS, AddressSet, union
from nightlatch.net.literal import AddressError, address_or_none, parse_network
from nightlatch.net.numbers import whole
from nightlatch.origin import Origin, default
from nightlatch.readings.accounts import Account
from nightlatch.services.posix import readable
from nightlatch.services.vnc.security import Asks, SecurityType
from nightlatch.services.vnc.serving import BASE, Door, ScreenSecret, Serving

OWN_FILE, LOCAL_NAME = ".x11vncrc", "localhost"
# Options that take a word, of those that are met in practice (x11vnc(1), OPTIONS).
WITH_A_WORD = frozenset(
    """
    display auth rfbport rfbportv6 listen listen6 allow rfbauth passwd viewpasswd passwdfile ssl sslCertDir sslverify clip
    geometry scale desktop id sid wait defer o logfile rmflag gui cursor arrow timeout maxclients rc vencrypt anontls unixpw
    unixpw_list speeds input viewclients flag storepasswd users http_dir httpport httpdir connect proxy gone afteraccept accept
    pointer_mode input_skip xkbcomp remap fs visual blackout readtimeout ping rotate zeroconf_name sb grab_buster
""".split()
)
MAY_TAKE_A_WORD = frozenset(("ssl", "vencrypt", "anontls", "unixpw"))
UNREAD = frozenset(
    "inetd find create svc accept afteraccept users connect connect_or_exit unixpw unixpw_nis ultrafilexfer R remote".split()
)
FOR_ALL = frozenset(("forever", "many", "loop"))
ITSELF = parse_network("127.0.0.1") | parse_network("::1")
PREFIX = re.compile(r"(?:[0-9]{1,3}\.){1,3}")
DISPLAY = re.compile(r":([0-9]{1,4})(?:\.[0-9]+)?")
_KINDS = {  # by whether it asks, and the seal
    (Asks.NOTHING, Seal.CLEAR): "None",
    (Asks.SCREEN, Seal.CLEAR): "VncAuth",
    (Asks.NOTHING, Seal.TLS): "X509None",
    (Asks.SCREEN, Seal.TLS): "X509Vnc",
}


@dataclass(frozen=True)
class Options:
    """The options that count, by their names without dashes; `origin` is the line that starts the server."""

    values: Mapping[str, SettingLine]
    origin: Origin
    gaps: tuple[Gap, ...] = ()

    def of(self, name: str) -> SettingLine:
        """An option."""
        return self.values.get(name) or SettingLine(name, "", default(name))

    def has(self, *names: str) -> bool:
        """Whether one of these is set."""
        return any(name in self.values for name in names)


def options(snapshot: Snapshot, account: Account, words: Sequence[str], origin: Origin) -> Options:
    """The options of a server: those of its file first, for the command line counts before it."""
    found: dict[str, SettingLine] = {}
    gaps: list[Gap] = []
    typed = dict(_read(words, origin))
    path = typed["rc"].value if "rc" in typed else f"{account.home}/{OWN_FILE}"
    where = snapshot.resolve(path)
    if "norc" not in typed and where.entry is not None and where.entry.kind is EntryKind.FILE:
        if readable.unreadable(snapshot, where, account) is None:
            if where.entry.content is None:
                gaps.append(Gap("VNC server", f"{path} {where.entry.note or 'was not read'}", Origin(path)))
            _put(found, _of_file(where.entry.content or b"", path))
    elif "norc" not in typed and where.entry is None and not where.problem:
        gaps.append(Gap("VNC server", f"{path} was not looked at", Origin(path)))
    _put(found, typed.items())
    unread = next((each for name, each in found.items() if name in UNREAD), None)
    if unread is not None:
        gaps.append(Gap("VNC server", f"what -{unread.keyword} does is not followed", unread.origin))
    return Options(found, origin, tuple(gaps))


def _put(found: dict[str, SettingLine], more: Iterable[tuple[str, SettingLine]]) -> None:
    """Add options in the order in which they are read: of two that decide the same, the later one counts."""
    for name, setting in more:
        found.pop(name, None)
        found[name] = setting


def _of_file(content: bytes, path: str) -> Iterator[tuple[str, SettingLine]]:
    for number, piece in enumerate(split(content), 1):
        text = text_of(piece).partition("#")[0].strip()
        if text:
            name, _, rest = text.partition(" ")
            yield from _read([f"-{name.lstrip('-')}", *([rest.strip()] if rest.strip() else [])], Origin(path, number))


def _read(words: Sequence[str], origin: Origin) -> Iterator[tuple[str, SettingLine]]:
    rest = list(words)
    while rest:
        name = rest.pop(0).lstrip("-")
        takes = name in WITH_A_WORD and bool(rest)
        value = rest.pop(0) if takes and not (name in MAY_TAKE_A_WORD and rest[0].startswith("-")) else ""
        yield name, SettingLine(name, value, origin)


def serving(snapshot: Snapshot, account: Account, found: Options, screen: str) -> Serving:
    """A server that an account starts with these options, and that shows the `screen` of an account."""
    display = DISPLAY.fullmatch(found.of("display").value)
    number = int(display[1]) if display is not None else None
    listeners = tuple(_listeners(found))
    secret = _secret(snapshot, account, found)
    asks = Asks.NOTHING if secret is None else Asks.SCREEN
    doors = tuple(_doors(snapshot, account, found, asks, secret))
    once = not found.has(*FOR_ALL)
    return Serving(
        account.name,
        screen,
        number,
        listeners,
        doors,
        secret,
        not found.has("viewonly"),
        _fault(snapshot, account, found, secret),
        found.gaps,
        lockout=SettingLine("x11vnc", "has no list of failures", default("x11vnc")),
        once=once,
        callers=_callers(found),
    )


def _fault(snapshot: Snapshot, account: Account, found: Options, secret: ScreenSecret | None) -> str:
    """Why it does not start."""
    if len([name for name in ("rfbauth", "passwd", "passwdfile") if found.has(name)]) > 1:
        return "it takes its password from one option only, and several are set"
    if found.has("viewpasswd") and not found.has("passwd"):
        return "-viewpasswd stands without -passwd"
    if found.has("usepw") and secret is None:
        return f"-usepw finds no password in {account.home}/.vnc"
    if found.has("passwdfile") and secret is not None and secret.lacking is not None:
        return f"{secret.file} can't be used"
    named = found.of("ssl")
    if named.value.startswith("/"):
        entry = snapshot.resolve(named.value).entry
        why = readable.opened(snapshot, named.value, account)
        if why is not None:
            return f"{named.value}: {why.because}"
        if entry is not None and entry.content is not None:  # what holds a private key is not carried
            return f"{named.value} holds no private key"
    return ""


def _listeners(found: Options) -> Iterator[Listener]:
    """The sockets: on IPv6 the usual port is opened for all besides, unless `-localhost` or `-ssl` says otherwise."""
    port = whole(found.of("rfbport").value, 5) or BASE
    at = found.of("rfbport").origin if found.has("rfbport") else found.origin
    named, local = found.of("listen"), found.values.get("localhost")
    kept = local.origin if local is not None else named.origin if named.value else at
    inside = local is not None or named.value == LOCAL_NAME
    stated = named.value if address_or_none(named.value) is not None else "0.0.0.0"
    yield Listener("127.0.0.1" if inside else stated, port, "inet", kept)
    # Where all of IPv6 has the port already, the loopback address of it can't be had beside.
    alone = local is not None or (inside and (port != BASE or found.has("ssl")))
    yield Listener("::1" if alone else "::", port, "inet6", kept)
    if local is None and port != BASE and not found.has("ssl"):
        yield Listener("::", BASE, "inet6", kept)


def _secret(snapshot: Snapshot, account: Account, found: Options) -> ScreenSecret | None:
    """The password that is asked for; None where none is."""
    by_file, lines, typed = (found.of(name) for name in ("rfbauth", "passwdfile", "passwd"))
    if found.has("rfbauth"):
        return _of_file_at(snapshot, account, by_file, view=False)
    if found.has("passwdfile"):
        kind, _, path = lines.value.rpartition(":")
        if kind in ("cmd", "custom"):
            return ScreenSecret("", whole=None, view=None, cause=lines)
        return _of_file_at(snapshot, account, SettingLine(lines.keyword, path, lines.origin), view=None, least=1)
    if found.has("usepw"):
        for name in ("passwd", "passwdfile"):
            path = f"{account.home}/.vnc/{name}"
            entry = snapshot.resolve(path).entry
            if entry is not None and entry.kind is EntryKind.FILE:
                used = found.of("usepw")
                return _of_file_at(
                    snapshot, account, SettingLine("usepw", path, used.origin), view=False, least=8 if name == "passwd" else 1
                )
    if found.has("passwd"):
        view = found.has("viewpasswd")
        return ScreenSecret("", whole=True, view=view, cause=SettingLine("passwd", "(not shown)", typed.origin))
    return None


def _of_file_at(snapshot: Snapshot, account: Account, setting: SettingLine, *, view: bool | None, least: int = 8) -> ScreenSecret:
    cause, path = setting, setting.value
    why: Cause | None = readable.opened(snapshot, path, account)
    entry = snapshot.resolve(path).entry
    if why is None and entry is None:
        return ScreenSecret(path, whole=None, view=None, cause=cause)
    if why is None and entry is not None and (entry.kind is not EntryKind.FILE or entry.size < least):
        why = UnusableFile(path, "it holds no password", Origin(path))
    return ScreenSecret(path, whole=why is None, view=view if why is None else False, cause=cause, lacking=why)


def _doors(snapshot: Snapshot, account: Account, found: Options, asks: Asks, secret: ScreenSecret | None) -> Iterator[Door]:
    cause = (
        secret.cause
        if secret is not None and isinstance(secret.cause, SettingLine)
        else SettingLine("passwd", "not set", found.origin)
    )
    if not found.has("ssl"):
        yield Door(SecurityType(_KINDS[asks, Seal.CLEAR], Seal.CLEAR, asks), cause)
        return
    named = found.of("ssl")
    lacking: Cause | None = None
    gap: Gap | None = None
    if named.value.startswith("/"):
        lacking = readable.opened(snapshot, named.value, account)
        gap = (
            None
            if lacking is not None or readable.looked_at(snapshot, named.value)
            else Gap("VNC server", f"{named.value} was not looked at", named.origin)
        )
    line = SettingLine("ssl", named.value or "a certificate of its own", named.origin)
    if found.of("vencrypt").value != "never":
        yield Door(SecurityType(_KINDS[asks, Seal.TLS], Seal.TLS, asks), line, lacking, gap)
    if found.of("anontls").value != "never":
        name = "TLSNone" if asks is Asks.NOTHING else "TLSVnc"
        because = "whether the guest's OpenSSL takes a handshake without a certificate is not known"
        kind = SecurityType(name, Seal.TLS_WITHOUT_CERTIFICATE, asks)
        yield Door(kind, line, lacking, gap or Gap("VNC server", because, named.origin))


def _callers(found: Options) -> Addresses:
    """The callers that a list leaves: whole addresses of IPv4, and beginnings of them that end with a dot. It is asked once a
    connection stands; the loopback address of IPv6 counts as that of IPv4."""
    if found.has("localhost"):  # it counts before a list, wherever both stand
        return exactly(ITSELF)
    if not found.has("allow"):
        return exactly(EVERY_ADDRESS)
    if found.has("ssl"):
        because = "with -ssl a helper calls in place of its callers, so the addresses that the list refuses are not known"
        return Bounds(NO_ADDRESS, EVERY_ADDRESS, (Gap("VNC server", because, found.of("allow").origin),))
    stated = found.of("allow")
    taken: list[AddressSet] = []
    for word in filter(None, stated.value.split(",")):
        prefix = PREFIX.fullmatch(word)
        if prefix is not None:
            parts = word.rstrip(".").split(".")
            word = f"{'.'.join([*parts, *['0'] * (4 - len(parts))])}/{8 * len(parts)}"
        try:
            taken.append(parse_network(word))
        except AddressError:
            because = f'the addresses of "{word[:60]}" are not known'
            return Bounds(NO_ADDRESS, EVERY_ADDRESS, (Gap("VNC server", because, stated.origin),))
    four = union(taken)
    return exactly(four | (ITSELF & EVERY_V6) if ITSELF & EVERY_V4 & four else four)
