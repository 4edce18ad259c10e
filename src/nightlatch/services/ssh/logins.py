"""Logins to one account over SSH: the keys, certificates and passwords that open it, and what shuts it.

auth.c, auth2-pubkey.c, auth2-pubkeyfile.c, auth-passwd.c, auth-pam.c of OpenSSH 9.2. Each offer carries the sources it
is limited to and the lines it follows from; each refusal says why somebody who holds the secret still isn't let in.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from nightlatch.evidence.snapshot import EntryKind
from nightlatch.formats import authorized_keys, krl, sshd_tokens
from nightlatch.formats.authorized_keys import KeyEntry, Options, SkippedLine
from nightlatch.formats.keys import PublicKey
from nightlatch.formats.krl import RevocationList
from nightlatch.model.bounds import EVERYBODY, only_perhaps
from nightlatch.model.causes import (
    AccountState,
    Cause,
    Condition,
    KeyLine,
    NoLogin,
    PamEnd,
    PamSays,
    PrincipalLine,
    RefusedKey,
    SettingLine,
)
from nightlatch.model.gaps import Gap
from nightlatch.model.secrets import Certificate, Key, Secret, Unknown, UnknownSecret
from nightlatch.net.addresses import EVERY_ADDRESS, NO_ADDRESS, AddressSet
from nightlatch.origin import Origin
from nightlatch.readings import address_lists
from nightlatch.readings.accounts import Account
from nightlatch.readings.guest import GuestReading
from nightlatch.services.posix.login_stack import PASSWORD, Asked, LoginStack
from nightlatch.services.posix.pam import PamOutcome
from nightlatch.services.ssh.files import FileRefusal, Judge
from nightlatch.services.ssh.settings import Settings

NOT_SHELLS = ("nologin", "false")
SHELLS = ("sh", "bash", "dash", "zsh", "ksh", "mksh", "ash", "fish", "tcsh", "csh", "rbash", "busybox", "pwsh", "xonsh")


@dataclass(frozen=True, slots=True)
class Offer:
    """One key or certificate that is accepted: from `surely` for certain, from `perhaps` maybe."""

    secret: Secret
    options: Options
    surely: AddressSet
    perhaps: AddressSet
    causes: tuple[Cause, ...]
    gaps: tuple[Gap, ...] = ()


@dataclass(frozen=True, slots=True)
class RejectedKey:
    """A key that stands in a file and isn't accepted, and why."""

    account: str
    fingerprint: str
    because: str
    origin: Origin
    path: str = ""

    @property
    def cause(self) -> RefusedKey:
        """Why, as a cause of its own."""
        return RefusedKey(self.because, self.origin)


@dataclass(frozen=True, slots=True)
class AccountKeys:
    """All keys of one account under one set of settings."""

    offers: tuple[Offer, ...] = ()
    rejected: tuple[RejectedKey, ...] = ()
    gaps: tuple[Gap, ...] = ()


@dataclass(frozen=True, slots=True)
class LoginState:
    """Whether an account may log in at all: `shut` says why not; `must_change` that only a new password may be set
    by who gets in, or would."""

    shut: Cause | None = None
    must_change: bool = False
    gaps: tuple[Gap, ...] = ()


@dataclass
class Logins:
    """The login rules of one guest at one moment (`at` is aware)."""

    reading: GuestReading
    at: datetime
    names_looked_up: bool
    uses_pam: bool
    judge: Judge
    _cache: dict[tuple[str, ...], AccountKeys] = field(default_factory=dict)
    _doors: dict[tuple[str, str], LoginState] = field(default_factory=dict)
    pam: LoginStack = field(init=False)

    def __post_init__(self) -> None:
        self.pam = LoginStack(self.reading, "sshd", self.today())

    def today(self) -> int:
        """Days since 1970, as shadow(5) counts."""
        return int(self.at.timestamp() // 86400)

    def door(self, account: Account, settings: Settings) -> LoginState:
        """Account, shell and expiry, before any proof is looked at (auth.c, allowed_user)."""
        key = (account.name, settings["chrootdirectory"].word)
        if key not in self._doors:
            self._doors[key] = self._door(account, settings)
        return self._doors[key]

    def _door(self, account: Account, settings: Settings) -> LoginState:
        if not self.uses_pam and account.password.startswith("!"):
            return LoginState(AccountState(Condition.LOCKED, account.password_origin))
        if settings["chrootdirectory"].word.lower() == "none":
            shell = self._shell_missing(account)
            if shell:
                return LoginState(shell)
        nologin = self.reading.snapshot.resolve("/etc/nologin").entry
        blocked = nologin is not None and nologin.kind is not EntryKind.ABSENT and account.uid != 0
        if self.uses_pam:
            return self._pam_door(account, blocked)
        if account.expires is not None and account.expires < self.today():
            return LoginState(AccountState(Condition.EXPIRED, account.password_origin))
        if blocked:
            return LoginState(NoLogin(Origin("/etc/nologin")), account.changed == 0)
        return LoginState(must_change=account.changed == 0)

    def _shell_missing(self, account: Account) -> AccountState | None:
        shell = account.shell or "/bin/sh"
        entry = self.reading.snapshot.resolve(shell).entry
        if entry is None:
            return None
        if entry.kind is EntryKind.ABSENT:
            return AccountState(Condition.NO_SHELL, account.origin, shell)
        if entry.kind is not EntryKind.FILE or not entry.mode & 0o111:
            return AccountState(Condition.SHELL_NOT_RUN, account.origin, shell)
        return None

    def _pam_door(self, account: Account, blocked: bool) -> LoginState:
        verdict = self.pam.account(account, blocked=blocked)
        gaps = (verdict.gap,) if verdict.gap else ()
        if verdict.outcome is PamOutcome.SHUT:
            if blocked:
                due = self.pam.account(account, blocked=False).outcome is PamOutcome.CHANGE
                return LoginState(NoLogin(Origin("/etc/nologin")), due)
            if self.pam.unix(account) != "success":
                return LoginState(AccountState(Condition.EXPIRED_OR_PASSWORD, account.password_origin))
            return LoginState(PamEnd(PamSays.REFUSED, verdict.origin or account.origin))
        return LoginState(None, verdict.outcome is PamOutcome.CHANGE, gaps)

    def asked(self, account: Account, *, empty_allowed: bool) -> Asked:
        """What an account is asked for besides keys: by PAM's stack, or by sshd itself."""
        if self.uses_pam:
            return self.pam.asked(account, empty_allowed=empty_allowed)
        if account.has_empty_password:
            return Asked((frozenset(),), empty=True) if empty_allowed else Asked()
        return Asked((frozenset([PASSWORD]),)) if account.hash_method else Asked()

    def password_opens(self, account: Account) -> bool:
        """Whether there is a password that would be accepted at all (no hash, or a locked one, accepts none)."""
        return bool(account.hash_method) or account.has_empty_password

    def offers(self, account: Account, settings: Settings) -> AccountKeys:
        """All keys and certificates that open the account under these settings."""
        names = (
            "authorizedkeysfile",
            "trustedusercakeys",
            "authorizedprincipalsfile",
            "authorizedkeyscommand",
            "authorizedprincipalscommand",
            "revokedkeys",
            "pubkeyacceptedalgorithms",
            "requiredrsasize",
            "casignaturealgorithms",
        )
        key = (account.name, *(" ".join(settings[name].value) for name in names))
        if key not in self._cache:
            self._cache[key] = self._offers(account, settings)
        return self._cache[key]

    def _offers(self, account: Account, settings: Settings) -> AccountKeys:
        offers: list[Offer] = []
        rejected: list[RejectedKey] = []
        gaps: list[Gap] = []
        revoked = self._revoked(settings, gaps)
        for name in settings["authorizedkeysfile"].value:
            if name.lower() == "none":
                continue
            path = sshd_tokens.file_for(name, user=account.name, uid=account.uid, home=account.home)
            if path is None:
                gaps.append(Gap("authorized keys", f'"{name}" has an unknown token', settings["authorizedkeysfile"].origin))
                continue
            self._file(path, account, settings, revoked, offers, rejected, gaps)
        offers.extend(self._authority(account, settings, revoked, gaps))
        for keyword, what, kind in (
            ("authorizedkeyscommand", "keys", Unknown.KEY),
            ("authorizedprincipalscommand", "principals", Unknown.CERTIFICATE),
        ):
            command = settings[keyword]
            if command.word.lower() != "none":
                gap = Gap("authorized keys", f"{command.word} would have to run to say which {what} count", command.origin)
                gaps.append(gap)
                unknown = UnknownSecret("a key that a program names", command.origin, kind)
                cause = SettingLine(keyword, command.word, command.origin)
                offers.append(Offer(unknown, Options(), NO_ADDRESS, EVERY_ADDRESS, (cause,), (gap,)))
        return AccountKeys(tuple(offers), tuple(rejected), tuple(gaps))

    def _file(
        self,
        path: str,
        account: Account,
        settings: Settings,
        revoked: RevocationList | None,
        offers: list[Offer],
        rejected: list[RejectedKey],
        gaps: list[Gap],
    ) -> None:
        found, refused = self.judge.accepts(path, account)
        entry = found.entry
        if entry is not None and entry.kind is EntryKind.FILE and entry.content is None:
            gaps.append(Gap("authorized keys", f"this file {entry.note or 'was not read'}", Origin(found.path)))
            return
        if entry is None and refused and refused.absent:
            gaps.append(Gap("authorized keys", "this file was not collected", Origin(found.path)))
            return
        if entry is None or entry.content is None:
            if refused and not refused.absent:
                rejected.append(RejectedKey(account.name, "", refused.because, refused.origin, refused.path))
            return
        for line in authorized_keys.parse(entry.content):
            origin = Origin(found.path, line.number)
            if isinstance(line, SkippedLine):
                rejected.append(RejectedKey(account.name, line.key.fingerprint if line.key else "", line.because, origin))
                continue
            because = self._why_rejected(line, settings, revoked, refused)
            if because:
                at = refused.origin if refused else origin
                rejected.append(RejectedKey(account.name, line.key.fingerprint, because, at, refused.path if refused else ""))
                continue
            offers.extend(self._line(line, account, origin))

    def _why_rejected(
        self, line: KeyEntry, settings: Settings, revoked: RevocationList | None, refused: FileRefusal | None
    ) -> str:
        if refused:
            return refused.because
        if revoked is None:
            return "RevokedKeys can't be read, so every key is refused"
        if revoked.has_key(line.key):
            return "the key is revoked (RevokedKeys)"
        if line.options.expires and self._expired(line.options.expires) is True:
            return f"its expiry-time {line.options.expires} has passed"
        if line.options.authority:
            return _no_certificates(settings)
        return self.too_weak(line.key, settings)

    def too_weak(self, key: PublicKey, settings: Settings) -> str:
        """Why a key of this kind is not accepted, or an empty text."""
        accepted = settings["pubkeyacceptedalgorithms"].word.split(",")
        signs = {key.algorithm}
        if key.kind == "RSA":
            signs = {"ssh-rsa", "rsa-sha2-256", "rsa-sha2-512"}
            least = int(settings["requiredrsasize"].word)
            if key.bits < least:
                return f"an RSA key of {key.bits} bits, at least {least} are required"
        if not signs & set(accepted):
            return f"keys of type {key.algorithm} are not accepted (PubkeyAcceptedAlgorithms)"
        return ""

    def _expired(self, text: str) -> bool | None:
        """Whether an expiry-time has passed; None when that hangs on the guest's time zone, which is not known.

        Without a final Z it is local time (sshd(8)), and zones lie between 12 hours behind UTC and 14 ahead.
        """
        try:
            when = datetime.strptime(text.rstrip("Z").ljust(14, "0"), "%Y%m%d%H%M%S").replace(tzinfo=UTC)
        except ValueError:
            return True
        if text.endswith("Z"):
            return self.at >= when
        if self.at >= when + timedelta(hours=12):
            return True
        return False if self.at < when - timedelta(hours=14) else None

    def _line(self, line: KeyEntry, account: Account, origin: Origin) -> Iterator[Offer]:
        sources = EVERYBODY
        gaps: tuple[Gap, ...] = ()
        if line.options.source is not None:
            matched = address_lists.host_list(line.options.source, names_looked_up=self.names_looked_up)
            sources = matched.bounds
            if matched.unsure:
                gaps = (Gap("authorized keys", "the host names in from= would have to be looked up", origin),)
        if line.options.expires and self._expired(line.options.expires) is None:
            sources = only_perhaps(sources)
            gaps += (Gap("authorized keys", "whether expiry-time has passed hangs on the guest's time zone", origin),)
        cause = KeyLine(line.key.fingerprint, line.key.kind, line.key.comment, line.options.authority, origin)
        if not line.options.authority:
            yield Offer(Key(line.key.fingerprint), line.options, sources.surely, sources.perhaps, (cause,), gaps)
            return
        if line.options.principals is None:
            principals: list[str | None] = [account.name, None]
        else:
            principals = [p for p in line.options.principals.split(",") if p]
        for principal in principals:
            secret = Certificate(line.key.fingerprint, principal)
            yield Offer(secret, line.options, sources.surely, sources.perhaps, (cause,), gaps)

    def _authority(
        self, account: Account, settings: Settings, revoked: RevocationList | None, gaps: list[Gap]
    ) -> Iterator[Offer]:
        trusted = settings["trustedusercakeys"]
        if trusted.word.lower() == "none" or _no_certificates(settings):
            return
        content = self._key_file(trusted.word, gaps)
        principals = self._principals(account, settings, gaps)
        for entry in authorized_keys.parse(content or b""):
            if isinstance(entry, KeyEntry) and revoked is not None and not revoked.has_key(entry.key):
                for principal, options, more in principals:
                    causes = (SettingLine("trustedusercakeys", trusted.word, trusted.origin), *more)
                    matched = address_lists.host_list(options.source) if options.source is not None else None
                    surely = matched.yes if matched else EVERY_ADDRESS
                    perhaps = matched.yes | matched.unsure if matched else EVERY_ADDRESS
                    yield Offer(Certificate(entry.key.fingerprint, principal), options, surely, perhaps, causes)

    def _principals(self, account: Account, settings: Settings, gaps: list[Gap]) -> list[tuple[str, Options, tuple[Cause, ...]]]:
        stated = settings["authorizedprincipalsfile"]
        by_command = settings["authorizedprincipalscommand"].word.lower() != "none"
        if stated.word.lower() == "none":
            return [] if by_command else [(account.name, Options(), ())]
        path = sshd_tokens.file_for(stated.word, user=account.name, uid=account.uid, home=account.home)
        found, refused = self.judge.accepts(path or "", account)
        if refused or found.entry is None or found.entry.content is None:
            if found.entry is None:
                gaps.append(Gap("authorized keys", "this file was not collected", Origin(found.path)))
            return []
        out: list[tuple[str, Options, tuple[Cause, ...]]] = []
        for number, raw in enumerate(found.entry.content.decode("utf-8", "surrogateescape").split("\n"), 1):
            text = raw.split("#")[0].strip()
            if not text:
                continue
            option_text, _, name = text.rpartition(" ")
            try:
                options = authorized_keys.parse_options(option_text.strip()) if option_text.strip() else Options()
            except authorized_keys.OptionFault:
                continue
            out.append((name, options, (PrincipalLine(name, Origin(found.path, number)),)))
        return out

    def _revoked(self, settings: Settings, gaps: list[Gap]) -> RevocationList | None:
        """What is revoked; None when the list can't be read, and sshd then refuses every key."""
        stated = settings["revokedkeys"]
        if stated.word.lower() == "none":
            return krl.EMPTY
        content = self._key_file(stated.word, gaps)
        if content is None:
            return None
        try:
            return krl.read(content)
        except krl.KrlFault:
            return None

    def _key_file(self, path: str, gaps: list[Gap]) -> bytes | None:
        found = self.reading.snapshot.resolve(path)
        if found.entry is None:
            gaps.append(Gap("authorized keys", "this file was not collected", Origin(path)))
        return found.entry.content if found.entry is not None else None


def _no_certificates(settings: Settings) -> str:
    """Why no certificate at all is accepted, or an empty text: none of their kinds is among the algorithms."""
    accepted = settings["pubkeyacceptedalgorithms"].word.split(",")
    return "" if any("-cert-v0" in each for each in accepted) else "no kind of certificate is accepted (PubkeyAcceptedAlgorithms)"
