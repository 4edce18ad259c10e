"""Checks of sshd's settings."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.audit import cause_words
from nightlatch.audit.checks.registry import CheckResult, Context, check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.audit.names import listed
from nightlatch.formats import sshd_config
from nightlatch.formats.sshd_keywords import ALIASES, KEYWORDS, spelled
from nightlatch.model.causes import SettingLine
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import PowerKind
from nightlatch.model.secrets import Password
from nightlatch.model.services import SSH
from nightlatch.model.sources import joined
from nightlatch.origin import Origin

HIGH, MEDIUM, LOW, NOTE = Severity.HIGH, Severity.MEDIUM, Severity.LOW, Severity.NOTE

# Keywords that a client's file may hold too (ssh_config(5)); all others of the server's are out of place there.
CLIENT_TOO = frozenset(
    (
        "addressfamily casignaturealgorithms channeltimeout ciphers compression fingerprinthash forwardagent gatewayports "
        "gssapiauthentication gssapikexalgorithms gssapikeyexchange hostbasedacceptedalgorithms hostbasedauthentication "
        "hostkeyalgorithms ipqos kbdinteractiveauthentication kexalgorithms loglevel logverbose macs "
        "passwordauthentication port pubkeyacceptedalgorithms pubkeyauthentication rekeylimit requiredrsasize "
        "revokedhostkeys securitykeyprovider setenv streamlocalbindmask streamlocalbindunlink syslogfacility "
        "tcpkeepalive xauthlocation include match"
    ).split()
)


def _only_password(path: AccessPath) -> bool:
    return bool(path.need) and all(isinstance(secret, Password) for secret in path.need)


def _logins(context: Context) -> list[AccessPath]:
    strong = (PowerKind.SHELL, PowerKind.COMMAND, PowerKind.FILES, PowerKind.CHANGE_PASSWORD)
    return [p for p in context.access.paths if p.power.gives in strong]


@check("ssh.root-login", HIGH, source="sshd_config(5) PermitRootLogin")
def root_login(context: Context) -> Iterator[CheckResult]:
    """Root logs in by name, so the log does not say who it was."""
    by_name = context.access.reading.accounts.by_name
    roots = [p for p in _logins(context) if by_name[p.account].uid == 0]
    if not roots:
        return
    setting = context.access.ssh.effective.top["permitrootlogin"]
    proofs = (Proof(f"PermitRootLogin {setting.word}", setting.origin), *cause_words.proofs(roots[0].causes))
    password = any(_only_password(p) for p in roots)
    where = context.names.where(joined(p.callers.perhaps for p in roots))
    how = "with a password" if password else "with a key"
    text = f"{listed(p.account for p in roots)} can log in by name {how}, from {where}."
    yield CheckResult(text, tuple(dict.fromkeys(proofs)), ("root",), HIGH if password else MEDIUM)


@check("ssh.password-login", HIGH, source="sshd_config(5) PasswordAuthentication; RFC 4252, 8")
def password_login(context: Context) -> Iterator[CheckResult]:
    """A password alone opens this guest, and no grant asks for one."""
    asked = {g.account for g in context.grants if any(isinstance(s, Password) for n in g.proofs for s in n)}
    found = [p for p in _logins(context) if _only_password(p) and p.account not in asked]
    if found:
        accounts = listed(p.account for p in found)
        where = context.names.where(joined(p.callers.perhaps for p in found))
        text = f"A password alone opens {accounts}, from {where}."
        yield CheckResult(text, cause_words.proofs(p.causes[0] for p in found), tuple({p.account: None for p in found}))


@check("ssh.empty-password", Severity.CRITICAL, source="sshd_config(5) PermitEmptyPasswords; shadow(5)")
def empty_password(context: Context) -> Iterator[CheckResult]:
    """An account opens without anything being asked."""
    found = [p for p in context.access.paths if not p.need and p.service == SSH.name]
    if found:
        accounts = listed(p.account for p in found)
        where = context.names.where(joined(p.callers.perhaps for p in found))
        yield CheckResult(
            f"{accounts} opens with an empty password, from {where}.",
            cause_words.proofs(found[0].causes),
            (found[0].account,),
        )


@check("ssh.empty-password-set", MEDIUM, source="shadow(5)")
def empty_password_set(context: Context) -> Iterator[CheckResult]:
    """An account has no password at all; only sshd's own setting keeps it shut."""
    open_already = {p.account for p in context.access.paths if not p.need and p.service == SSH.name}
    for account in context.access.reading.accounts.by_name.values():
        if account.has_empty_password and account.name not in open_already:
            proof = Proof("the password field is empty", account.password_origin)
            yield CheckResult(f"{account.name} has an empty password; anyone at the console gets in.", (proof,), (account.name,))


@check("ssh.challenge-path", HIGH, source="sshd_config(5) KbdInteractiveAuthentication, UsePAM; RFC 4256")
def challenge_path(context: Context) -> Iterator[CheckResult]:
    """Passwords are switched off, yet the challenge path still takes them."""
    for path in _logins(context):
        asking = path.causes[0]
        by_challenge = isinstance(asking, SettingLine) and asking.keyword == "kbdinteractiveauthentication"
        if not _only_password(path) or not by_challenge:
            continue
        off = context.access.ssh.effective.top["passwordauthentication"]
        if off.word == "no":
            text = "PasswordAuthentication is off, but keyboard-interactive asks for the same password."
            proofs = (Proof("PasswordAuthentication no", off.origin), cause_words.proof(asking))
            yield CheckResult(text, proofs, (path.account,))
            return


@check("ssh.drop-in-overrides", MEDIUM, source="sshd_config(5): the first obtained value is used")
def drop_in_overrides(context: Context) -> Iterator[CheckResult]:
    """A line in the main file has no effect, because a file read before it says otherwise."""
    main = context.access.reading.main_path
    for name, setting in context.access.ssh.effective.top.items():
        if setting.directive is None or setting.origin.path == main:
            continue
        for beaten in setting.lost:
            if beaten.origin.path == main and beaten.value != setting.value and not beaten.blocks:
                wins, loses = " ".join(setting.value), " ".join(beaten.value)
                text = f"{spelled(name)} {loses} in the main file has no effect: an earlier file says {wins}."
                proofs = (
                    Proof(f"{spelled(name)} {wins}, read first", setting.origin),
                    Proof(f"{spelled(name)} {loses}, too late", beaten.origin),
                )
                yield CheckResult(text, proofs, (name,))


@check("ssh.below-match", MEDIUM, source="sshd_config(5) Match: up to another Match line or the end of the file")
def below_match(context: Context) -> Iterator[CheckResult]:
    """A line that looks general stands below a Match block, so it holds only for that block."""
    reading = context.access.reading.sshd
    for path in reading.files:
        content = context.access.reading.snapshot.content(path)
        if content is None:
            continue
        block: sshd_config.Line | None = None
        indented = False
        for line in sshd_config.parse(content).lines:
            if line.keyword == "match":
                block, indented = (None if line.rest.lower() == "all" else line), False
            elif block is not None and line.keyword and line.column > block.column:
                indented = True
            elif block is not None and line.keyword and indented and line.keyword in KEYWORDS:
                name = spelled(line.keyword)
                text = f"{name} looks general, but stands below a Match block: it holds only for {block.rest}."
                proofs = (
                    Proof(f"{spelled(line.keyword)} {line.rest}", Origin(path, line.number, line.column)),
                    Proof(f"Match {block.rest}", Origin(path, block.number)),
                )
                yield CheckResult(text, proofs, (line.keyword,))


@check("ssh.setting-in-client-file", MEDIUM, source="ssh_config(5); sshd_config(5)")
def setting_in_client_file(context: Context) -> Iterator[CheckResult]:
    """A setting of the server is written in the client's file, where it does nothing for the server."""
    snapshot = context.access.reading.snapshot
    files = ["/etc/ssh/ssh_config", *(f"/etc/ssh/ssh_config.d/{n}" for n in snapshot.children("/etc/ssh/ssh_config.d"))]
    for path in files:
        content = snapshot.content(path)
        for line in sshd_config.parse(content).lines if content else ():
            name = ALIASES.get(line.keyword, line.keyword)
            if name in KEYWORDS and name not in CLIENT_TOO:
                text = f"{spelled(line.keyword)} is a setting of the server; in the client's file it lets nobody in or out."
                yield CheckResult(
                    text,
                    (Proof(f"{spelled(line.keyword)} {line.rest}", Origin(path, line.number, line.column)),),
                    (name,),
                )


@check("ssh.does-not-start", HIGH, source="sshd(8): sshd -t")
def does_not_start(context: Context) -> Iterator[CheckResult]:
    """sshd refuses its configuration: after the next restart nobody gets in."""
    refusal = context.access.ssh.effective.refusal
    if refusal is not None and context.access.reading.installed:
        text = f"sshd does not start with this configuration: {refusal.because}."
        yield CheckResult(text, (Proof(refusal.because, refusal.origin),), ("sshd",))
