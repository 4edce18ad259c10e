"""Checks of VNC servers: what they ask for, how they seal a connection, what starts them, and the files of their passwords."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from nightlatch.audit import cause_words
from nightlatch.audit.checks.registry import CheckResult, Context, check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.audit.names import listed
from nightlatch.evidence.snapshot import EntryKind
from nightlatch.evidence.vnc_files import FOR_EVERYBODY, SERVICES
from nightlatch.formats.lines import split, text_of
from nightlatch.model.paths import AccessPath
from nightlatch.model.routes import Seal
from nightlatch.model.secrets import ScreenPassword
from nightlatch.model.services import VNC
from nightlatch.model.sockets import CONSOLE
from nightlatch.model.sources import Sources, joined
from nightlatch.net.addresses import LOOPBACK
from nightlatch.origin import Origin
from nightlatch.services.base import ServerState
from nightlatch.services.vnc.entries import VncAccess
from nightlatch.services.vnc.serving import Serving
from nightlatch.services.vnc.starts import NAMES, Program, Start

CRITICAL, HIGH, MEDIUM, LOW = Severity.CRITICAL, Severity.HIGH, Severity.MEDIUM, Severity.LOW
STARTS = re.compile(r"(?:^|[\s=/\"'`(;&|])(?P<name>" + "|".join(map(re.escape, NAMES)) + r")(?:$|[\s\"';&|)])")
ANNOUNCED = re.compile(rb"<type>\s*_rfb\._tcp\s*</type>")


@dataclass(frozen=True)
class _Vnc:
    """One VNC server with what is read of it, and its ways in from elsewhere than the guest itself."""

    access: VncAccess
    start: Start
    serving: Serving
    paths: tuple[AccessPath, ...]

    @property
    def name(self) -> str:
        """The server in words."""
        screen = "the console" if self.serving.screen == CONSOLE else f"the screen of {self.serving.screen}"
        port = next((f" (port {each.port})" for each in self.access.listeners or self.serving.listeners), "")
        return f"{screen}{port}"

    @property
    def line(self) -> Proof:
        """The line that starts it."""
        return Proof(f"starts {self.start.program.value}", self.start.origin)

    @property
    def subjects(self) -> tuple[str, ...]:
        """What tells its findings from those of the others."""
        return (self.serving.screen, *(str(each.port) for each in self.serving.listeners[:1]))


def _outside(path: AccessPath) -> Sources:
    """The callers of a path, the guest itself left out."""
    return {space: inside for space, own in path.callers.perhaps.items() if (inside := own - LOOPBACK)}


def _found(context: Context) -> Iterator[_Vnc]:
    for each in context.access.of(VNC.name):
        if isinstance(each, VncAccess) and each.start is not None and each.serving is not None:
            ports = {socket.port for socket in each.listeners}
            direct = (path for path in context.access.paths if path.service == VNC.name and not path.shape)
            mine = (path for path in direct if path.account == each.screen and path.route.port in ports)
            paths = tuple(path for path in mine if _outside(path))
            yield _Vnc(each, each.start, each.serving, paths)


def _where(context: Context, paths: tuple[AccessPath, ...]) -> str:
    return context.names.where(joined(_outside(path) for path in paths))


@check("vnc.not-started", HIGH, source="tigervncserver(1); Xvnc(1); vncserver.users")
def not_started(context: Context) -> Iterator[CheckResult]:
    """A VNC server is to be started, and does not start; the service manager may say that it did."""
    for each in _found(context):
        if each.access.state is ServerState.BROKEN and each.start.at_boot is not False:
            yield CheckResult(
                f"The VNC server for {each.name} does not start: {each.serving.fault}.", (each.line,), each.subjects
            )


@check("vnc.no-session", MEDIUM, source="tigervncserver(1); Xsession(5)")
def no_session(context: Context) -> Iterator[CheckResult]:
    """A VNC server ends as soon as it is started, for its session does."""
    for each in _found(context):
        cause = each.serving.ends
        if cause is not None and each.access.state is ServerState.STOPPED and each.start.at_boot is not False:
            text = (
                f"The session of the VNC server for {each.name} ends at once, and the server with it: {cause_words.words(cause)}."
            )
            yield CheckResult(text, (cause_words.proof(cause), each.line), each.subjects)


@check("vnc.asks-nothing", CRITICAL, source="RFC 6143, 7.2.1; x11vnc(1)")
def asks_nothing(context: Context) -> Iterator[CheckResult]:
    """A screen is served to callers from elsewhere without asking for anything."""
    for each in _found(context):
        free = tuple(path for path in each.paths if not path.need)
        if free:
            text = f"Nothing is asked for {each.name}, from {_where(context, free)}."
            yield CheckResult(text, (*cause_words.proofs(free[0].causes), each.line), each.subjects)


@check("vnc.open-on-guest", MEDIUM, source="RFC 6143, 7.2.1; design: a screen that any account of the guest can take")
def open_on_guest(context: Context) -> Iterator[CheckResult]:
    """A screen is served on the loopback address without asking for anything: each account of the guest can take it."""
    for each in _found(context):
        free = [door for door in each.serving.doors if door.type.asks == "nothing" and door.lacking is None]
        if each.access.listeners and free and not any(not path.need for path in each.paths):
            text = f"Each account of the guest can take {each.name}: nothing is asked on the loopback address."
            yield CheckResult(
                text, (Proof(f"{free[0].cause.keyword} {free[0].cause.value}", free[0].cause.origin), each.line), each.subjects
            )


@check("vnc.clear", HIGH, source="RFC 6143, 7.2.2: the rest of a connection is not encrypted")
def clear(context: Context) -> Iterator[CheckResult]:
    """A screen is served without TLS: anyone on the network between sees it, and what is typed."""
    for each in _found(context):
        plain = tuple(path for path in each.paths if path.seal is Seal.CLEAR)
        if plain:
            better = "" if all(path.seal is Seal.CLEAR for path in each.paths) else ", to callers who don't ask for TLS"
            text = f"A connection to {each.name} is not encrypted, from {_where(context, plain)}{better}."
            yield CheckResult(text, (*cause_words.proofs(plain[0].causes), each.line), each.subjects)


@check("vnc.no-certificate", MEDIUM, source="RFC 5246, F.1.1.1: anonymous key exchange is open to man-in-the-middle attacks")
def no_certificate(context: Context) -> Iterator[CheckResult]:
    """TLS is served without a certificate: who answers may be anyone on the network between."""
    for each in _found(context):
        anonymous = tuple(path for path in each.paths if path.seal is Seal.TLS_WITHOUT_CERTIFICATE)
        if anonymous and not any(path.seal is Seal.TLS for path in each.paths):
            text = f"TLS to {each.name} has no certificate, so nothing tells who answers, from {_where(context, anonymous)}."
            yield CheckResult(text, cause_words.proofs(anonymous[0].causes), each.subjects)


@check("vnc.no-tls", HIGH, source="Xvnc(1), X509Cert, X509Key")
def no_tls(context: Context) -> Iterator[CheckResult]:
    """TLS with a certificate is offered and can't be had: every login by it fails, and clients take another."""
    for each in _found(context):
        lacking = [(door, door.lacking) for door in each.serving.doors if door.lacking is not None]
        if lacking and each.access.state is ServerState.SERVES:
            names = listed(door.type.name for door, _ in lacking)
            text = f"{names} can't be used for {each.name}: {cause_words.words(lacking[0][1])}."
            yield CheckResult(text, (cause_words.proof(lacking[0][1]), each.line), each.subjects)


@check("vnc.password-file", HIGH, source="vncpasswd(1): the file is obfuscated, not encrypted")
def password_file(context: Context) -> Iterator[CheckResult]:
    """Others than its account can read the file of a screen's password; what is in it can be turned back into the password."""
    snapshot = context.access.reading.snapshot
    for each in _found(context):
        path = each.serving.secret.file if each.serving.secret is not None else ""
        found = snapshot.resolve(path) if path else None
        if found is None or found.entry is None or found.entry.kind is not EntryKind.FILE or not found.entry.mode & 0o044:
            continue
        text = f"Others can read the password of {each.name}, in {path}."
        yield CheckResult(text, (Proof(f"mode {found.entry.mode:04o}", Origin(found.path)),), each.subjects)


@check("vnc.password-on-line", HIGH, source="proc(5), cmdline; x11vnc(1), -passwd")
def password_on_line(context: Context) -> Iterator[CheckResult]:
    """A screen's password stands in the line that starts its server: every account sees it among the processes."""
    for each in _found(context):
        secret = each.serving.secret
        if secret is not None and not secret.file and secret.cause is not None and secret.whole:
            text = f"The password of {each.name} stands on the command line of its server."
            yield CheckResult(text, (cause_words.proof(secret.cause),), each.subjects)


@check("vnc.short-password", MEDIUM, source="RFC 6143, 7.2.2: the password is cut at eight bytes")
def short_password(context: Context) -> Iterator[CheckResult]:
    """A screen is open from elsewhere to a password of eight letters at most, however long it was when it was set."""
    for each in _found(context):
        by_secret = tuple(path for path in each.paths if any(isinstance(secret, ScreenPassword) for secret in path.need))
        if by_secret:
            text = f"A password of eight letters at most is all that guards {each.name}, from {_where(context, by_secret)}."
            yield CheckResult(text, cause_words.proofs(by_secret[0].causes), each.subjects)


@check("vnc.root", HIGH, source="Xvnc(1): the session is that of the account that starts it")
def root(context: Context) -> Iterator[CheckResult]:
    """A VNC server serves a session of root's: each caller who is let in acts as root, and the log names nobody."""
    by_name = context.access.reading.accounts.by_name
    for each in _found(context):
        account = by_name.get(each.serving.screen)
        if account is not None and account.uid == 0 and each.access.listeners:
            yield CheckResult(f"The session at port {each.access.listeners[0].port} is root's.", (each.line,), each.subjects)


@check("vnc.mirrors", MEDIUM, source="x11vnc(1); x0vncserver(1)")
def mirrors(context: Context) -> Iterator[CheckResult]:
    """The screen at the guest itself is served to callers from elsewhere: they act as the person logged in there."""
    for each in _found(context):
        if each.serving.mirrors and each.paths:
            text = f"Callers from {_where(context, each.paths)} get the session of the person logged in at the console."
            yield CheckResult(text, (each.line,), each.subjects)


@check("vnc.same-port", MEDIUM, source="socket(7); Xvnc(1)")
def same_port(context: Context) -> Iterator[CheckResult]:
    """Two VNC servers want the same port or display: the second one does not start."""
    held: dict[int, _Vnc] = {}
    for each in _found(context):
        for port in sorted({socket.port for socket in each.serving.listeners}):
            other = held.setdefault(port, each)
            if other is not each and each.start.at_boot is not False and other.start.at_boot is not False:
                text = f"Two VNC servers want port {port}: that of {other.serving.screen} and that of {each.serving.screen}."
                yield CheckResult(text, (other.line, each.line), (str(port),))


@check("vnc.no-lockout", MEDIUM, source="Xvnc(1), UseBlacklist, BlacklistThreshold, BlacklistTimeout; x11vnc(1)")
def no_lockout(context: Context) -> Iterator[CheckResult]:
    """A server turns nobody away after wrong passwords, so eight letters can be tried one after the other."""
    for each in _found(context):
        guarded = tuple(path for path in each.paths if path.need)
        if not guarded or each.serving.lockout is None:
            continue
        text = f"Wrong passwords for {each.name} have no end: its server turns nobody away."
        proof = cause_words.proof(each.serving.lockout)
        yield CheckResult(text, (proof, each.line), each.subjects)


@check("vnc.not-at-boot", MEDIUM, source="systemctl(1), enable; crontab(5), @reboot")
def not_at_boot(context: Context) -> Iterator[CheckResult]:
    """A screen is granted to somebody, and nothing starts its server at a boot."""
    granted = {grant.account for grant in context.grants if grant.service == VNC.name}
    for each in _found(context):
        if each.serving.screen in granted and each.start.at_boot is False:
            text = f"Nothing starts the server for {each.name} at a boot, and a grant needs it."
            yield CheckResult(text, (Proof(f"{each.start.unit or 'it'} is not enabled", each.start.origin),), each.subjects)


@check("vnc.ends-after-one", LOW, source="x11vnc(1), -forever")
def ends_after_one(context: Context) -> Iterator[CheckResult]:
    """A server ends when its first caller leaves, and the next one finds nothing."""
    for each in _found(context):
        if (
            each.serving.once
            and each.start.program is Program.X11VNC
            and each.access.listeners
            and not _restarts(context, each.start)
        ):
            text = f"x11vnc for {each.name} ends after its first caller: -forever is not set."
            yield CheckResult(text, (each.line,), each.subjects)


def _restarts(context: Context, start: Start) -> bool:
    """Whether the service manager starts it again."""
    content = context.access.reading.snapshot.content(start.origin.path) or b""
    return bool(start.unit) and re.search(rb"(?m)^Restart=(always|on-success)", content) is not None


@check("vnc.unknown-start", MEDIUM, source="design: what serves a screen is started by something that can be read")
def unknown_start(context: Context) -> Iterator[CheckResult]:
    """A VNC server listens, and no unit and no table of cron starts it: what it asks for can't be read."""
    for each in context.access.of(VNC.name):
        if isinstance(each, VncAccess) and each.start is None and each.serving is not None and each.listeners:
            socket = each.listeners[0]
            if all(one.admits() <= LOOPBACK for one in each.listeners):
                continue
            who = each.serving.account or "an account that is not known"
            text = f"A VNC server of {who} listens on port {socket.port}, and nothing that was read starts it."
            text += f" See what it asks for: nightlatch reach, or choose a type by hand at port {socket.port}."
            at = socket.origin or Origin("ss -ltunp")
            yield CheckResult(text, (Proof(f"port {socket.port}", at),), (str(socket.port),))


@check("vnc.starts-for-everybody", HIGH, source="Xsession(5); Desktop Application Autostart Specification")
def starts_for_everybody(context: Context) -> Iterator[CheckResult]:
    """Every session of every account starts a VNC server, whose settings are each account's own."""
    snapshot = context.access.reading.snapshot
    for folder in FOR_EVERYBODY:
        for name in snapshot.children(folder):
            path = f"{folder}/{name}"
            for number, piece in enumerate(split(snapshot.content(path) or b""), 1):
                line = text_of(piece).strip()
                found = (
                    STARTS.search(line) if not line.startswith("#") and ("Exec=" in line or "autostart" not in folder) else None
                )
                if found is not None:
                    text = f"Every session starts {found['name']}, by {path}."
                    yield CheckResult(text, (Proof(line[:100], Origin(path, number)),), (path,))
                    break


@check("vnc.announced", LOW, source="RFC 6763; avahi.service(5)")
def announced(context: Context) -> Iterator[CheckResult]:
    """A screen is announced to all machines of the network."""
    snapshot = context.access.reading.snapshot
    for name in snapshot.children(SERVICES):
        content = snapshot.content(f"{SERVICES}/{name}") or b""
        if name.endswith(".service") and ANNOUNCED.search(content):
            yield CheckResult(
                "A screen is announced to the network.", (Proof("_rfb._tcp", Origin(f"{SERVICES}/{name}")),), (name,)
            )
    for each in _found(context):
        if each.access.listeners and {"-avahi", "-mdns", "-zeroconf"} & set(each.start.words):
            yield CheckResult(f"x11vnc announces {each.name} to the network.", (each.line,), each.subjects)
