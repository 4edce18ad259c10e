"""Checks of files: key files that sshd refuses, or that others may write."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.audit.checks.registry import CheckResult, Context, check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.audit.names import listed
from nightlatch.evidence.snapshot import EntryKind
from nightlatch.formats import krl
from nightlatch.model.causes import KeyLine
from nightlatch.origin import Origin


@check("ssh.key-file-refused", Severity.MEDIUM, source="sshd_config(5) StrictModes; sshd(8) FILES")
def key_file_refused(context: Context) -> Iterator[CheckResult]:
    """sshd refuses a key file because of its owner or mode, or that of a folder above it."""
    by_place: dict[tuple[str, str], list[str]] = {}
    for rejected in context.access.ssh.rejected:
        if rejected.path:
            by_place.setdefault((rejected.path, rejected.because), []).append(rejected.account)
    for (path, because), accounts in by_place.items():
        text = f"The keys of {listed(accounts)} are not used: {because}."
        yield CheckResult(text, (Proof(because, Origin(path)),), tuple(dict.fromkeys(accounts)))


@check("ssh.key-line-skipped", Severity.LOW, source="sshd(8), AUTHORIZED_KEYS FILE FORMAT")
def key_line_skipped(context: Context) -> Iterator[CheckResult]:
    """A line in a key file is skipped by sshd, so the key on it opens nothing."""
    for rejected in context.access.ssh.rejected:
        if not rejected.path:
            text = f"A key line for {rejected.account} is not used: {rejected.because}."
            yield CheckResult(text, (Proof(rejected.because, rejected.origin),), (rejected.account,))


@check("ssh.key-file-writable", Severity.HIGH, source="sshd_config(5) StrictModes")
def key_file_writable(context: Context) -> Iterator[CheckResult]:
    """Others may write a key file that sshd uses: they can let themselves in."""
    snapshot, seen = context.access.reading.snapshot, set()
    for path in context.access.paths:
        for cause in path.causes:
            place = cause.origin.path
            if not isinstance(cause, KeyLine) or place in seen:
                continue
            seen.add(place)
            found = snapshot.resolve(place)
            account = context.access.reading.accounts.by_name[path.account]
            for name in (found.path, *reversed(found.folders)):
                entry = snapshot.entries.get(name)
                loose = entry is not None and (entry.mode & 0o002 or entry.uid not in (0, account.uid))
                if entry is not None and loose and not (entry.kind is EntryKind.FOLDER and entry.mode & 0o1000):
                    text = f"Others may write {name}, and with it who gets in as {path.account}."
                    yield CheckResult(text, (Proof(f"mode {entry.mode:04o}, owner {entry.uid}", Origin(name)),), (path.account,))
                    break


@check("file.not-utf8", Severity.NOTE, source="sshd_config(5); passwd(5)")
def not_utf8(context: Context) -> Iterator[CheckResult]:
    """A file holds bytes that are no UTF-8; they are kept as they are, and shown as escapes."""
    for path, entry in context.access.reading.snapshot.entries.items():
        if entry.kind is not EntryKind.FILE or not entry.content or entry.content.isascii():
            continue
        if entry.content.startswith(krl.MAGIC):  # a list of revoked keys is no text, and need not be
            continue
        try:
            entry.content.decode("utf-8")
        except UnicodeDecodeError as error:
            line = entry.content[: error.start].count(b"\n") + 1
            yield CheckResult(f"{path} is not UTF-8.", (Proof(f"byte 0x{entry.content[error.start]:02x}", Origin(path, line)),))
