"""Checks of xrdp: its seal and key, the accounts it lets in, the sessions that start, and the hosts it dials."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise

from nightlatch.audit import cause_words
from nightlatch.audit.checks.registry import CheckResult, Context, Fleet, check, fleet_check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.audit.names import listed
from nightlatch.evidence.screen_files import LIBRARY_FOLDERS, MAIN, SESMAN
from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import xrdp_ini
from nightlatch.formats.xrdp_ini import Line
from nightlatch.model.causes import Cause, SettingLine, UnusableFile
from nightlatch.model.powers import DESKTOP
from nightlatch.model.services import RDP
from nightlatch.model.sources import Sources, joined
from nightlatch.net.addresses import LOOPBACK
from nightlatch.origin import Origin
from nightlatch.services.base import ServerState
from nightlatch.services.rdp import seal
from nightlatch.services.rdp.entries import ASKED, OWN, RdpAccess
from nightlatch.services.rdp.manager import ALWAYS, GROUPS
from nightlatch.services.rdp.settings import UNIT, RdpSettings

CRITICAL, HIGH, MEDIUM, LOW = Severity.CRITICAL, Severity.HIGH, Severity.MEDIUM, Severity.LOW
STOCK_KEYS = ("/etc/ssl/private/ssl-cert-snakeoil.key",)
LIMITS = ("KillDisconnected", "DisconnectedTimeLimit", "IdleTimeLimit")


@dataclass(frozen=True)
class _Rdp:
    """A guest's RDP server with its settings."""

    access: RdpAccess
    settings: RdpSettings

    @property
    def serves(self) -> bool:
        """Whether it takes callers, or would once it runs."""
        return self.access.seals is not None and bool(self.access.listeners)


def _found(context: Context) -> Iterator[_Rdp]:
    for each in context.access.of(RDP.name):
        if isinstance(each, RdpAccess) and each.settings is not None:
            yield _Rdp(each, each.settings)


def _proof(setting: SettingLine, missing: str = "not set") -> Proof:
    return Proof(f"{setting.keyword} {setting.value or missing}", setting.origin)


def _callers(context: Context) -> Sources:
    """All who get a desktop, the guest itself left out."""
    paths = [path for path in context.access.paths if path.service == RDP.name and path.power == DESKTOP]
    found = joined(path.callers.perhaps for path in paths)
    return {space: inside for space, own in found.items() if (inside := own - LOOPBACK)}


@check("rdp.not-started", HIGH, source="xrdp.ini(5); xrdp.log")
def not_started(context: Context) -> Iterator[CheckResult]:
    """xrdp is installed and does not start, or it runs and listens nowhere, and says so only in its log."""
    for each in _found(context):
        ports = each.settings.ports
        if each.access.state is ServerState.BROKEN:
            yield CheckResult(f"xrdp does not start: {each.access.fault}.", (Proof(each.access.fault, Origin(MAIN)),))
        elif each.access.seals is not None and not each.access.listeners and each.access.gap is None:
            said = f'of its port, "{ports.value}", no number can be read' if ports.value else "no port is set"
            yield CheckResult(f"xrdp runs and listens nowhere: {said}.", (_proof(ports),))


@check("rdp.clear", HIGH, source="[MS-RDPBCGR] 5.3; xrdp.ini(5) security_layer")
def clear(context: Context) -> Iterator[CheckResult]:
    """Connections are not sealed by TLS: anyone on the network between can read and change them, passwords included."""
    for each in _found(context):
        seals, callers = each.access.seals, _callers(context)
        if seals is None or seals.tls or not seals.clear or not callers:
            continue
        level = each.settings.of_main("crypt_level")
        open_text = not level.origin.line or level.value.lower() == "none"
        how = "in clear text" if open_text else "by a key that nothing vouches for"
        where = context.names.where(callers)
        proofs = dict.fromkeys((*cause_words.proofs((*seals.lacking, *seals.causes)), _proof(level, "not set: none")))
        yield CheckResult(f"The remote desktop is served without TLS, {how}, to {where}.", tuple(proofs))


@check("rdp.falls-back", MEDIUM, source="xrdp.ini(5) security_layer; [MS-RDPBCGR] 2.2.1.1.1")
def falls_back(context: Context) -> Iterator[CheckResult]:
    """Clients that ask for TLS get it, and the others are served without: anyone on the network between can make one not ask."""
    for each in _found(context):
        seals, callers = each.access.seals, _callers(context)
        if seals is not None and seals.falls_back and callers:
            text = "The remote desktop is served over TLS, and without it to a client that does not ask: tls is what closes that."
            yield CheckResult(text, (_proof(seals.layer),))


@check("rdp.no-tls", HIGH, source="xrdp.ini(5) certificate, key_file; access(2)")
def no_tls(context: Context) -> Iterator[CheckResult]:
    """TLS is wanted and can't be had: a file can't be read by the account that xrdp runs as, or does not hold what it should."""
    for each in _found(context):
        seals = each.access.seals
        if seals is not None and seals.lacking and seal.layer_of(each.settings)[0] != "rdp":
            files = [cause.path for cause in seals.lacking if isinstance(cause, UnusableFile)]
            why = f"the account {each.settings.account} can't use {listed(files)}" if files else "a setting leaves none"
            instead = "every connection goes without" if seals.clear else "nobody gets in"
            yield CheckResult(f"There is no TLS for the remote desktop: {why}, and {instead}.", cause_words.proofs(seals.lacking))


@check("rdp.key-readable", HIGH, source="xrdp.ini(5) key_file")
def key_readable(context: Context) -> Iterator[CheckResult]:
    """Every account of the guest can read the server's private key, and pass for the server with it."""
    snapshot = context.access.reading.snapshot
    for each in _found(context):
        path, _ = seal.files(each.settings)["key_file"]
        entry = snapshot.resolve(path).entry
        if entry is not None and entry.kind is EntryKind.FILE and entry.mode & 0o004:
            real = snapshot.resolve(path).path
            yield CheckResult(
                f"Everybody on the guest can read the private key of the remote desktop, {path}.",
                (Proof(f"mode {entry.mode:04o}", Origin(real)),),
            )


@check("rdp.stock-certificate", MEDIUM, source="make-ssl-cert(8)")
def stock_certificate(context: Context) -> Iterator[CheckResult]:
    """The certificate is the one that the system made for itself: it names no service, and clones share it."""
    for each in _found(context):
        path, found = seal.files(each.settings)["key_file"]
        real = context.access.reading.snapshot.resolve(path).path
        if each.access.seals is not None and real in STOCK_KEYS and seal.layer_of(each.settings)[0] != "rdp":
            text = f"The remote desktop shows the certificate that the system made at its installation ({real})."
            yield CheckResult(text, (Proof(f"key_file {found.value or path}", found.origin if found.value else Origin(path)),))


@check("rdp.root-login", HIGH, source="sesman.ini(5) AllowRootLogin")
def root_login(context: Context) -> Iterator[CheckResult]:
    """Root gets a desktop by its password, so the log does not say who it was."""
    by_name = context.access.reading.accounts.by_name
    paths = [path for path in context.access.paths if path.service == RDP.name and path.power == DESKTOP]
    roots = [path for path in paths if by_name[path.account].uid == 0 and any(path.callers.perhaps.values())]
    for each in _found(context) if roots else ():
        setting = each.settings.of_sesman("Security", "AllowRootLogin")
        where = context.names.where(joined(path.callers.perhaps for path in roots))
        yield CheckResult(
            f"{listed(path.account for path in roots)} gets a desktop with a password, from {where}.",
            (_proof(setting),),
            ("root",),
        )


@check("rdp.group-not-enforced", MEDIUM, source="sesman.ini(5) TerminalServerUsers, AlwaysGroupCheck")
def group_not_enforced(context: Context) -> Iterator[CheckResult]:
    """The settings name the group that may log in, the guest has no such group, and so every account is let in."""
    known = {each.name for each in context.access.reading.accounts.groups}
    for each in _found(context):
        group, always = each.settings.of_sesman("Security", GROUPS), each.settings.of_sesman("Security", ALWAYS)
        if each.serves and group.value and group.value not in known and not xrdp_ini.is_true(always.value):
            several = " It is one name, and no list." if "," in group.value else ""
            text = f'There is no group "{group.value}", so the session manager lets in every account.{several}'
            yield CheckResult(text, (_proof(group), _proof(always, "not set: false")))


@check("rdp.no-limits", LOW, source="sesman.ini(5) KillDisconnected, DisconnectedTimeLimit, IdleTimeLimit")
def no_limits(context: Context) -> Iterator[CheckResult]:
    """Sessions that nobody is connected to, or sits at, stay for ever, with all that is open in them."""
    for each in _found(context):
        kills, after, idle = (each.settings.of_sesman("Sessions", key) for key in LIMITS)
        ends = xrdp_ini.is_true(kills.value) and each.settings.number(after, 0) > 0
        if each.serves and not ends and each.settings.number(idle, 0) <= 0:
            proofs = tuple(_proof(setting, "not set: no limit") for setting in (kills, after, idle))
            yield CheckResult("Sessions of the remote desktop end by no limit, left or idle.", proofs)


@check("rdp.relay", HIGH, source="xrdp.ini(5), SESSION TYPES")
def relay(context: Context) -> Iterator[CheckResult]:
    """A section dials another host for any caller, without a login: that host sees the caller come from inside."""
    snapshot = context.access.reading.snapshot
    for each in _found(context):
        for heading in each.settings.sessions if each.serves else ():
            host, port, library = (each.settings.main.last(heading.section, key) for key in ("ip", "port", "lib"))
            if host is None or library is None or (port.value if port is not None else "") in OWN or _lacks(snapshot, library):
                continue
            asks = host.value.lower().startswith(ASKED)
            to = "any host that the caller names" if asks else f"{host.value}"
            text = f"The section {heading.section} of xrdp dials {to} for any caller, without a login."
            yield CheckResult(text, (_line(host), _line(library)), (heading.section,))


def _lacks(snapshot: Snapshot, library: Line) -> bool:
    """Whether a section's library is not there, so that the section does nothing."""
    found = [snapshot.resolve(f"{folder}/{library.value}").entry for folder in LIBRARY_FOLDERS]
    return all(entry is not None and entry.kind is EntryKind.ABSENT for entry in found)


def _line(line: Line) -> Proof:
    return Proof(f"{line.key} {line.value}", Origin(MAIN, line.number, line.column))


@check("rdp.preset-login", CRITICAL, source="xrdp.ini(5) username, password")
def preset_login(context: Context) -> Iterator[CheckResult]:
    """A section holds an account's name and password: every caller gets that account's session, whatever they type."""
    for each in _found(context):
        for heading in each.settings.sessions if each.serves else ():
            name, word = (each.settings.main.last(heading.section, key) for key in ("username", "password"))
            if word is None or not word.value or word.value.lower().startswith(ASKED):
                continue
            who = (
                f"as {name.value}"
                if name is not None and not name.value.lower().startswith(ASKED)
                else "as the account that they name"
            )
            text = f"The section {heading.section} of xrdp holds a password: every caller is logged in {who}."
            yield CheckResult(text, (Proof("password (not shown)", Origin(MAIN, word.number)),), (heading.section,))


@check("rdp.no-session", MEDIUM, source="sesman.ini(5); Xsession(5); Xwrapper.config(5)")
def no_session(context: Context) -> Iterator[CheckResult]:
    """Accounts are let in, and their session ends at once: the window closes right after the login."""
    for each in _found(context):
        told: dict[Cause, list[str]] = {}
        by_name = context.access.reading.accounts.by_name
        for account, cause in each.access.without:
            if by_name[account].hash_method:
                told.setdefault(cause, []).append(account)
        for cause, accounts in told.items():
            text = f"A login to the remote desktop as {listed(accounts)} ends at once: {cause_words.words(cause)}."
            yield CheckResult(text, (cause_words.proof(cause),), tuple(accounts))


@check("rdp.session-ports", HIGH, source="sesman.ini(5); Xserver(1) -listen; Xvnc(1) -localhost")
def session_ports(context: Context) -> Iterator[CheckResult]:
    """The X servers of sessions listen for the network, each on a port of its own beside xrdp's."""
    for each in _found(context):
        vnc, xorg = ([line.value for line in each.settings.sesman.every(name, "param")] for name in ("xvnc", "xorg"))
        if not each.serves:
            continue
        if vnc and "-localhost" not in vnc:
            text = "Sessions by Xvnc listen on all addresses, on port 5900 and the number of their display."
            yield CheckResult(text, (Proof("param without -localhost", _section(each, "xvnc")),), ("xvnc",))
        if any(pair == ("-listen", "tcp") for pair in pairwise(xorg)):
            text = "Sessions by Xorg listen on all addresses, on port 6000 and the number of their display."
            yield CheckResult(text, (Proof("param -listen tcp", _section(each, "xorg")),), ("xorg",))


def _section(each: _Rdp, name: str) -> Origin:
    heading = each.settings.sesman.heading(name)
    return Origin(SESMAN, heading.number if heading is not None else 0)


@check("rdp.not-at-boot", MEDIUM, source="systemctl(1), enable")
def not_at_boot(context: Context) -> Iterator[CheckResult]:
    """The remote desktop is granted to somebody, and is not started at a boot."""
    granted = any(grant.service == RDP.name for grant in context.grants)
    for each in _found(context) if granted else ():
        unit = context.access.reading.unit(UNIT)
        if each.serves and unit.at_boot is False:
            yield CheckResult(
                "xrdp is not started at a boot, and a grant needs it.", (Proof(f"{UNIT} is not enabled", unit.origin),)
            )


@fleet_check("rdp.shared-certificate", HIGH, source="RFC 5280, 4.1: a certificate is bound to one key")
def shared_certificate(fleet: Fleet) -> Iterator[tuple[str, CheckResult]]:
    """Two guests show the same certificate for their remote desktops, as clones of one image do: each can pose as the other."""
    holders: dict[str, list[tuple[str, str]]] = {}
    for guest in fleet.guests:
        for path, fingerprint in guest.certificates:
            holders.setdefault(fingerprint, []).append((guest.guest, path))
    for fingerprint, found in holders.items():
        names = tuple(sorted({name for name, _ in found}))
        if len(names) > 1:
            text = f"{listed(names)} show the same certificate for their remote desktops: each can pose as the other."
            yield names[0], CheckResult(text, (Proof(f"SHA256 {fingerprint}", Origin(found[0][1])),), names)
