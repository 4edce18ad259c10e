"""Every key that sshd would take for an account, by the files that AuthorizedKeysFile names (sshd_config(5))."""

from __future__ import annotations

from nightlatch.formats import authorized_keys, sshd_tokens
from nightlatch.formats import lines as text_lines
from nightlatch.formats.authorized_keys import KeyEntry
from nightlatch.model.steps import FileStep, ReplaceLine
from nightlatch.readings.accounts import Account
from nightlatch.services.base import ServiceCase
from nightlatch.services.ssh.entries import SshAccess


def close_all(case: ServiceCase, account: Account, why: str) -> tuple[FileStep, ...]:
    """The steps that take every key line of an account away, the last line first, so that none moves another."""
    assert isinstance(case.access, SshAccess)
    out: list[FileStep] = []
    seen: set[str] = set()
    for name in case.access.effective.top["authorizedkeysfile"].value:
        wanted = sshd_tokens.file_for(name, user=account.name, uid=account.uid, home=account.home) if name != "none" else None
        found = case.reading.snapshot.resolve(wanted) if wanted else None
        own = (wanted is not None and wanted.startswith(f"{account.home}/")) or "%u" in name or "%U" in name
        if found is None or found.entry is None or found.path in seen or not own:
            continue
        seen.add(found.path)
        content = found.entry.content or b""
        lines = [text_lines.text_of(line).rstrip("\r\n") for line in text_lines.split(content)]
        held = [entry.number - 1 for entry in authorized_keys.parse(content) if isinstance(entry, KeyEntry)]
        for at in reversed(held):
            out.append(ReplaceLine(found.path, why, False, lines[at], "", lines[:at].count(lines[at])))
    return tuple(out)
