"""Whether sshd accepts a file that an account brings along: owner and mode of it and of every folder above it.

sshd_config(5), StrictModes; misc.c, safe_path; Debian's patch for private groups (a group that holds nobody else may
write). Whether the account itself can read the file counts too: sshd opens it with the account's rights.
"""

from __future__ import annotations

from dataclasses import dataclass

from nightlatch.evidence.snapshot import Entry, EntryKind, ResolvedPath, Snapshot
from nightlatch.origin import Origin
from nightlatch.readings.accounts import Account, Accounts
from nightlatch.services.posix import readable


@dataclass(frozen=True, slots=True)
class FileRefusal:
    """Why sshd does not use a file; `absent` when it simply isn't there. `mend` is the mode or owner that would do."""

    because: str
    origin: Origin
    absent: bool = False
    path: str = ""


@dataclass(frozen=True, slots=True)
class Judge:
    """The rules of one guest for files of accounts."""

    snapshot: Snapshot
    accounts: Accounts
    strict: bool
    private_groups: bool

    def accepts(self, path: str, account: Account) -> tuple[ResolvedPath, FileRefusal | None]:
        """Where `path` leads, and why sshd would not use it (None when it would)."""
        found = self.snapshot.resolve(path)
        entry = found.entry
        if found.problem:
            return found, FileRefusal(found.problem, Origin(found.path), path=found.path)
        if entry is None or entry.kind is EntryKind.ABSENT:
            return found, FileRefusal("there is no such file", Origin(found.path), absent=True, path=found.path)
        if entry.kind is not EntryKind.FILE:
            return found, FileRefusal("it is no regular file", Origin(found.path), path=found.path)
        unreadable = self._unreadable(found, account)
        if unreadable:
            return found, unreadable
        return found, self._unsafe(found, entry, account) if self.strict else None

    def _unreadable(self, found: ResolvedPath, account: Account) -> FileRefusal | None:
        why = readable.unreadable(self.snapshot, found, account)
        return FileRefusal(why.because, why.origin, path=why.path) if why is not None else None

    def _unsafe(self, found: ResolvedPath, entry: Entry, account: Account) -> FileRefusal | None:
        problem = self._loose(entry, account)
        if problem:
            return FileRefusal(f"{problem}: sshd refuses the file (StrictModes)", Origin(found.path), path=found.path)
        home = self.snapshot.resolve(account.home).path
        folder = found.path.rpartition("/")[0] or "/"
        while True:
            above = self.snapshot.entries.get(folder)
            problem = self._loose(above, account) if above is not None else ""
            if problem:
                because = f"{problem}: sshd refuses every key file below it (StrictModes)"
                return FileRefusal(because, Origin(folder), path=folder)
            if folder in (home, "/"):
                return None
            folder = folder.rpartition("/")[0] or "/"

    def _loose(self, entry: Entry, account: Account) -> str:
        if entry.uid not in (0, account.uid):
            owner = next((a.name for a in self.accounts.by_name.values() if a.uid == entry.uid), f"user {entry.uid}")
            return f"owned by {owner}, who is neither root nor {account.name}"
        if entry.mode & 0o002:
            return f"mode {entry.mode:04o}, anyone may write it"
        if entry.mode & 0o020 and not self._trusted_group(entry, account):
            group = next((g.name for g in self.accounts.groups if g.gid == entry.gid), str(entry.gid))
            return f"mode {entry.mode:04o}, group {group} may write it"
        return ""

    def _trusted_group(self, entry: Entry, account: Account) -> bool:
        return self.private_groups and self.accounts.private_group_of(entry.gid, account.uid)


@dataclass(frozen=True, slots=True)
class ChrootProblem:
    """Why sshd would not change root to a folder, or (`unknown`) why that can't be said."""

    because: str
    origin: Origin
    unknown: bool = False


def chroot_problem(snapshot: Snapshot, path: str) -> ChrootProblem | None:
    """The fault of a ChrootDirectory: every part must be root's and not writable by others (session.c)."""
    if not path.startswith("/"):
        return ChrootProblem("the path does not begin at /", Origin(path))
    at = ""
    for part in ["", *[p for p in path.split("/") if p]]:
        at = f"{at}/{part}" if part else "/"
        entry = snapshot.resolve(at).entry
        if entry is None:
            return ChrootProblem("this folder was not looked at", Origin(at), unknown=True)
        if entry.kind is not EntryKind.FOLDER:
            return ChrootProblem("there is no such folder", Origin(at))
        if entry.uid != 0 or entry.mode & 0o022:
            because = f"mode {entry.mode:04o}, owner {entry.uid}: it must be root's, and nobody else may write it"
            return ChrootProblem(because, Origin(at))
        at = "" if at == "/" else at
    return None
