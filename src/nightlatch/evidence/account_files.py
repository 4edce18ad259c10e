"""The files of each account that are looked at: keys, what lies beside them, secrets for codes, and the shells of all."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from nightlatch.evidence import screen_files, vnc_files
from nightlatch.evidence.selection import Purpose
from nightlatch.evidence.snapshot import Entry, EntryKind
from nightlatch.formats import accounts, pam, sshd_tokens

MOST_ACCOUNTS = 5000


def wanted(
    records: Iterable[accounts.Passwd], per_account: Iterable[tuple[Purpose, str]], entries: Mapping[str, Entry]
) -> Iterator[tuple[str, Purpose]]:
    """The paths, each for what it is read. `per_account` are values of settings with tokens in them; `entries` tells the stacks
    of PAM, which may ask for codes, and whether a module for them is installed."""
    files = [*per_account, *((Purpose.KEYS, f".ssh/authorized_keys{two}") for two in ("", "2")), *screen_files.in_homes(entries)]
    files += vnc_files.in_homes(entries)
    stacks = (entry.content for path, entry in entries.items() if path.startswith("/etc/pam.d/") and entry.content)
    installed = any(path.endswith(f"/{pam.CODES}") and entry.kind is EntryKind.FILE for path, entry in entries.items())
    if installed or any(map(pam.asks_codes, stacks)):
        files.append((Purpose.NAME, pam.CODE_FILE))
    shells: set[str] = {"/bin/sh"}
    for record in records:
        shells.add(record.shell or "/bin/sh")
        for use, text in files:
            path = sshd_tokens.file_for(text, user=record.name, uid=record.uid, home=record.home)
            yield path or "", use
    for shell in sorted(shells):
        yield shell, Purpose.NAME


def first(records: accounts.Records, most: int = MOST_ACCOUNTS) -> Iterator[accounts.Passwd]:
    """The first records of passwd(5), as many as are looked at."""
    count = 0
    for record in records:
        if isinstance(record, accounts.Passwd):
            count += 1
            if count > most:
                return
            yield record
