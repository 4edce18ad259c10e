"""How TigerVNC's servers serve, by their parameters (Xvnc(1), x0vncserver(1); measured: 1.12, 1.15).

Not covered: a caller's list of hosts (HostsFile), and a person who is asked at each connection (QueryConnect).
"""

from __future__ import annotations

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.model.causes import Cause, SettingLine, UnusableFile
from nightlatch.model.gaps import Gap
from nightlatch.model.sockets import Listener
from nightlatch.net.literal import address_or_none
from nightlatch.net.numbers import whole
from nightlatch.origin import Kind, Origin
from nightlatch.readings.accounts import Account
from nightlatch.services.posix import readable
from nightlatch.services.vnc.parameters import Parameters
from nightlatch.services.vnc.security import NEWER, Asks, Needs, SecurityType, offered
from nightlatch.services.vnc.serving import BASE, Door, ScreenSecret, Serving

BUILT_IN = "TLSVnc,VncAuth"  # of the server itself, where nothing is set
HALF = 8  # bytes of a password in its file; a second one is for a look only
STACK = "vnc"


def serving(
    snapshot: Snapshot, account: Account, parameters: Parameters, screen: str, version: tuple[int, ...], display: int | None
) -> Serving:
    """A server that an account starts with these parameters, and that shows the `screen` of an account."""
    fault, gaps = parameters.fault, []
    listeners: tuple[Listener, ...] = ()
    if parameters.by_socket:
        gaps.append(Gap("VNC server", "a socket unit hands it each connection", Origin("-inetd")))
    elif not fault:
        listeners, fault = _listeners(parameters, display)
    for name in ("HostsFile", "QueryConnect"):
        setting = parameters.of(name)
        if setting.value and setting.value.lower() not in ("0", "off", "false", "no"):
            gaps.append(Gap("VNC server", f"the callers that {name} lets in are not read", setting.origin))
    touches = parameters.switch("AcceptPointerEvents", True) or parameters.switch("AcceptKeyEvents", True)
    types = parameters.of("SecurityTypes")
    doors = [
        _door(snapshot, account, parameters, version, each, SettingLine(types.keyword, types.value or BUILT_IN, types.origin))
        for each in offered(types.value if parameters.is_set("SecurityTypes") else BUILT_IN, version)
    ]
    return Serving(
        account.name,
        screen,
        display,
        listeners,
        tuple(doors),
        _secret(snapshot, account, parameters),
        touches,
        fault,
        tuple(gaps),
        lockout=_lockout(parameters),
    )


def _lockout(parameters: Parameters) -> Cause | None:
    """Why it turns nobody away; a threshold that is no positive number counts as one."""
    if not parameters.switch("UseBlacklist", True):
        return parameters.of("UseBlacklist")
    timeout = parameters.of("BlacklistTimeout")
    return timeout if timeout.value == "0" else None


def _listeners(parameters: Parameters, display: int | None) -> tuple[tuple[Listener, ...], str]:
    """The sockets, or why it does not start."""
    stated = parameters.of("rfbport")
    port = whole(stated.value.removeprefix("-"), 9) if stated.value else None
    if port is not None and stated.value.startswith("-"):
        return (), "" if parameters.of("rfbunixpath").value else "it has no port and no socket"
    if not port:
        if display is None:
            return (), ""
        port = BASE + display
    kept = parameters.of("localhost")
    origin = kept.origin if kept.origin.kind is Kind.FILE else stated.origin if stated.value else kept.origin
    six, four = parameters.switch("UseIPv6", True), parameters.switch("UseIPv4", True)
    if not six and not four:
        return (), "neither IPv4 nor IPv6 is to be used"
    if parameters.switch("localhost", False):
        local = parameters.of("localhost").origin
        found = [("127.0.0.1", "inet", four), ("::1", "inet6", six)]
        return tuple(Listener(address, port, family, local) for address, family, takes in found if takes), ""
    named = parameters.of("interface")
    if named.value and named.value.lower() != "all":
        address = address_or_none(named.value)
        if address is None:
            return (), f'"{named.value}" is no address'
        if not (six if address.version == 6 else four):
            return (), f"{named.value} is of a family that is not to be used"
        return (Listener(named.value, port, "inet6" if address.version == 6 else "inet", named.origin),), ""
    if four and six:
        return (Listener("", port, "any", origin),), ""
    return ((Listener("0.0.0.0", port, "inet", origin),) if four else (Listener("::", port, "inet6", origin),)), ""


def _door(
    snapshot: Snapshot, account: Account, parameters: Parameters, version: tuple[int, ...], kind: SecurityType, cause: SettingLine
) -> Door:
    lacking: Cause | None = None
    gap: Gap | None = None
    if kind.needs is Needs.CERTIFICATE:
        lacking, gap = _certificate(snapshot, account, parameters)
    elif kind.needs is Needs.RSA_KEY:
        key = parameters.of("RSAKey")
        why = readable.opened(snapshot, key.value, account) if key.value.startswith("/") else None
        lacking = why if key.value else SettingLine("RSAKey", "not set", key.origin)
        gap = Gap("VNC server", "whether it holds an RSA key was not looked at", key.origin) if lacking is None else None
    asks_names = kind.asks is Asks.ACCOUNT or (kind.needs is Needs.RSA_KEY and parameters.switch("RequireUsername", False))
    if not asks_names:
        return Door(kind, cause, lacking, gap)
    users, service = parameters.of("PlainUsers"), parameters.of("PAMService")
    names = None if "*" in users.value.split(",") else tuple(name for name in users.value.split(",") if name)
    if names is not None and "%u" in names and version >= NEWER:
        names = tuple(account.name if name == "%u" else name for name in names)
    return Door(kind, cause, lacking, gap, names, service.value or STACK)


def _certificate(snapshot: Snapshot, account: Account, parameters: Parameters) -> tuple[Cause | None, Gap | None]:
    """Why there is no TLS with a certificate, or why that is not known."""
    for name in ("X509Cert", "X509Key"):
        setting = parameters.of(name)
        if not setting.value:
            if parameters.wrapped and not parameters.of("X509Cert").value and not parameters.of("X509Key").value:
                return None, None
            return SettingLine(name, "not set", setting.origin), None
        why = readable.opened(snapshot, setting.value, account)
        if why is not None:
            return why, None
        if not readable.looked_at(snapshot, setting.value):
            return None, Gap("VNC server", f"{setting.value} was not looked at", setting.origin)
        found = snapshot.resolve(setting.value)
        if name == "X509Cert" and found.entry is not None and b"-----BEGIN" not in (found.entry.content or b"-----BEGIN"):
            return UnusableFile(setting.value, "it holds no certificate in PEM", Origin(found.path)), None
    return None, None


def _secret(snapshot: Snapshot, account: Account, parameters: Parameters) -> ScreenSecret:
    """The password of the screen: in a file, as the server's account reads it, or in a setting."""
    inline, named = parameters.of("Password"), parameters.of("PasswordFile")
    if not named.value:
        if inline.value:
            return ScreenSecret("", whole=True, view=None, cause=SettingLine("Password", "(not shown)", inline.origin))
        return ScreenSecret("", whole=False, lacking=SettingLine("PasswordFile", "not set", named.origin))
    path = named.value
    cause = SettingLine("PasswordFile", path, named.origin)
    why = readable.opened(snapshot, path, account)
    if why is not None:
        return ScreenSecret(path, whole=False, cause=cause, lacking=why)
    entry = snapshot.resolve(path).entry
    if entry is None:
        return ScreenSecret(path, whole=None, view=None, cause=cause)
    if entry.kind is not EntryKind.FILE or entry.size < HALF:
        because = "it holds no password" if entry.kind is EntryKind.FILE else "it is no regular file"
        return ScreenSecret(path, whole=False, cause=cause, lacking=UnusableFile(path, because, Origin(path)))
    return ScreenSecret(path, whole=True, view=entry.size >= 2 * HALF, cause=cause)
