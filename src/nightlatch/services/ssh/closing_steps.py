"""Steps that close holes: settings at the place that wins, key lines taken away or narrowed."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.formats import authorized_keys, sshd_config
from nightlatch.formats import lines as text_lines
from nightlatch.formats.authorized_keys import KeyEntry
from nightlatch.formats.sshd_keywords import spelled
from nightlatch.model.account_steps import AccountStep
from nightlatch.model.candidates import Candidate
from nightlatch.model.causes import SettingLine
from nightlatch.model.grants import seen_by_guest
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import PowerKind
from nightlatch.model.secrets import Certificate, Key, Need, Password, UnknownSecret
from nightlatch.model.steps import AppendBlock, FileStep, InsertAbove, InsertSetting, ReplaceLine
from nightlatch.net.addresses import EVERY_ADDRESS
from nightlatch.origin import Kind, Origin
from nightlatch.readings.accounts import Account
from nightlatch.services.base import ServiceCase
from nightlatch.services.posix import code_lines, privilege_steps
from nightlatch.services.ssh import blocks, wanted
from nightlatch.services.ssh.entries import SshAccess

ASKING = ("passwordauthentication", "kbdinteractiveauthentication")  # settings that have a password asked for


class ClosingSteps:
    """A guest's SSH server as it stands, its grants, and the ways to close or open something."""

    def __init__(self, case: ServiceCase) -> None:
        assert isinstance(case.access, SshAccess)
        self.access, self.reading = case.access, case.reading
        self.paths, self.grants, self.estate = case.paths, case.grants, case.estate
        self.main = case.reading.main_path

    def setting(self, keyword: str, value: str, origin: Origin, why: str, *, opens: bool = False) -> Candidate:
        """Set a keyword where its value comes from: that very line, or the top of the main file for a default."""
        if origin.kind is not Kind.FILE:
            return (InsertSetting(self.main, why, opens, f"{spelled(keyword)} {value}"),)
        content = self.reading.snapshot.content(origin.path)
        if content is None or origin.path not in self.reading.sshd.files:
            return ()
        document = sshd_config.parse(content)
        line = document.lines[origin.line - 1]
        before = text_lines.text_of(line.raw).rstrip("\r\n")
        after = sshd_config.rewritten(line, value)
        return (ReplaceLine(origin.path, why, opens, before, after, _nth(content, origin.line, before)),)

    def close(self, path: AccessPath, why: str) -> Iterator[Candidate]:
        """Candidates that may close one way in, the best first."""
        kinds = {type(secret) for secret in path.need}
        if UnknownSecret in kinds:
            return
        if not path.need:
            for cause in _settings(path, "permitemptypasswords"):
                yield self.setting(cause.keyword, "no", cause.origin, why)
        if kinds == {Password}:
            yield from self._password(path, why)
        yield from privilege_steps.takes(self.reading, path, why)
        yield from self._together(path, why)
        for secret in path.need:
            if isinstance(secret, Key):
                yield from self._line(secret, path, why)
            elif isinstance(secret, Certificate):
                yield from self._line(secret, path, why)
                yield from self._authority(path, why)

    def _together(self, path: AccessPath, why: str) -> Iterator[Candidate]:
        """Ask for everything a grant names, where the path asks for a part of it."""
        for grant in self.grants:
            if grant.place == path.place and any(grant.callers.surely.values()):
                for need in grant.proofs:
                    if path.need < need:
                        block = AppendBlock(self.main, why, False, blocks.for_need(grant, need))
                        yield from ((line, block) for line in self.asking(self.reading.accounts.by_name[path.account], need, why))
                        yield (block,)

    def asking(self, account: Account, need: Need, why: str) -> Iterator[InsertAbove]:
        """Lines of PAM that may have the code of a need asked, where sshd asks PAM."""
        if self.access.effective.top["usepam"].word == "yes":
            yield from code_lines.asking(self.reading, account, need, self.grants, why)

    def _password(self, path: AccessPath, why: str) -> Iterator[Candidate]:
        methods = list(_settings(path, *ASKING))
        off: list[FileStep | AccountStep] = []
        for method in methods:
            off += self.setting(method.keyword, "no", method.origin, why)
        if off:
            yield tuple(off)
        if path.account == "root":
            setting = self.access.effective.top["permitrootlogin"]
            yield self.setting("permitrootlogin", "prohibit-password", setting.origin, why)
        if path.power.gives is PowerKind.ADMINISTER:
            return
        block = (f"Match User {path.account}", *(f"    {spelled(each.keyword)} no" for each in methods))
        if methods:
            yield (AppendBlock(self.main, why, False, block),)

    def _line(self, secret: Key | Certificate, path: AccessPath, why: str) -> Iterator[Candidate]:
        """Take away every line of a key, or narrow the first and take the others away."""
        account = path.account
        want = self._want(secret, account)
        found = list(self._lines_of(secret, account))
        if not found:
            return
        # From the last line up, so that a step never moves the lines that later steps name.
        gone = [ReplaceLine(path, why, False, before, "", nth) for path, before, nth, _ in reversed(found)]
        if want is None:
            yield tuple(gone)
            return
        yield from self._narrow_by_service(path, want, why)
        changes = wanted.options(want)
        if isinstance(secret, Certificate):
            changes["principals"] = ",".join(self._principals(secret.authority, account))
        where, before, nth, entry = found[0]
        after = authorized_keys.with_options(before, entry, changes)
        if after != before:
            yield (ReplaceLine(where, why, False, before, after, nth),)
            yield (*gone[:-1], ReplaceLine(where, why, False, before, after, nth))
        if want.files and not want.shell:
            yield (AppendBlock(self.main, why, False, blocks.for_files(account, want.files)),)

    def _lines_of(self, secret: Key | Certificate, account: str) -> Iterator[tuple[str, str, int, KeyEntry]]:
        """Every line that holds the key, or the authority, in the files that sshd looks at for the account."""
        fingerprint = secret.fingerprint if isinstance(secret, Key) else secret.authority
        paths = dict.fromkeys(c.origin.path for a in self.paths if a.account == account for c in a.causes)
        for path in paths:
            content = self.reading.snapshot.content(path)
            if content is None or path in self.reading.sshd.files or path.startswith("/etc/sudoers"):
                continue
            for entry in authorized_keys.parse(content):
                authority = isinstance(secret, Certificate)
                if isinstance(entry, KeyEntry) and entry.key.fingerprint == fingerprint and entry.options.authority is authority:
                    before = text_lines.text_of(text_lines.split(content)[entry.number - 1]).rstrip("\r\n")
                    yield path, before, _nth(content, entry.number, before), entry

    def _narrow_by_service(self, path: AccessPath, want: wanted.WantedSecret, why: str) -> Iterator[Candidate]:
        if self.estate.narrow_at[:1] != ("service",) or want.sources == EVERY_ADDRESS:
            return
        everyone = seen_by_guest(g for g in self.grants if g.account == path.account)
        if everyone == want.sources:
            others = ",".join(["*", *(f"!{text}" for text in want.sources.prefixes())])
            block = (f"Match User {path.account} Address {others}", "    PubkeyAuthentication no")
            yield (AppendBlock(self.main, why, False, block),)

    def _want(self, secret: Key | Certificate, account: str) -> wanted.WantedSecret | None:
        if isinstance(secret, Key):
            return wanted.of_secret(secret, account, self.grants)
        found = [
            wanted.of_secret(Certificate(secret.authority, name), account, self.grants)
            for name in self._principals(secret.authority, account)
        ]
        return next((each for each in found if each is not None), None)

    def _principals(self, authority: str, account: str) -> list[str]:
        out: dict[str, None] = {}
        for grant in self.grants:
            if grant.account == account and any(grant.callers.surely.values()):
                for need in grant.proofs:
                    out.update(
                        dict.fromkeys(
                            s.principal for s in need if isinstance(s, Certificate) and s.authority == authority and s.principal
                        )
                    )
        return list(out)

    def _authority(self, path: AccessPath, why: str) -> Iterator[Candidate]:
        for cause in _settings(path, "trustedusercakeys"):
            yield self.setting(cause.keyword, "none", cause.origin, why)


def _settings(path: AccessPath, *keywords: str) -> Iterator[SettingLine]:
    """The settings among what a path is owed to."""
    return (cause for cause in path.causes if isinstance(cause, SettingLine) and cause.keyword in keywords)


def _nth(content: bytes, number: int, text: str) -> int:
    lines = text_lines.split(content)[: number - 1]
    return sum(text_lines.text_of(line).rstrip("\r\n") == text for line in lines)
