"""A guest as a folder: a mounted image or an unpacked root.

Every part of every path is opened without following links, starting at a descriptor of the root, so that nothing
outside the folder is ever touched, even while somebody changes it (open(2), O_NOFOLLOW; openat(2)).
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from pathlib import Path

from nightlatch.evidence.selection import Purpose
from nightlatch.evidence.snapshot import ABSENT, Entry, EntryKind
from nightlatch.faults import UnreadableError

MOST_HELD = 64  # folders that stay open while a guest is read


class Folder:
    """Read access to one folder guest; also what the enacting side uses to get at parents of files."""

    kind = "folder"

    def __init__(self, root: Path, *, hold: bool = False) -> None:
        """Open the root. Folders that were read stay open with `hold`, for the one who only reads. Raises UnreadableError
        when the root is no readable folder."""
        self.root, self._most = root, MOST_HELD if hold else 0
        try:
            self._fd = os.open(root, os.O_PATH | os.O_DIRECTORY)
        except FileNotFoundError:
            raise UnreadableError(f"{root}: there is no such folder") from None
        except NotADirectoryError:
            raise UnreadableError(f"{root} is no folder") from None
        except OSError as error:
            raise UnreadableError(f"{root} can't be opened: {error.strerror}") from None
        self._held: dict[str, int] = {}

    @property
    def owners_lost(self) -> bool:
        """Whether the folder was unpacked by an ordinary user, so that every file in it is that user's."""
        user = os.geteuid()
        return user != 0 and os.fstat(self._fd).st_uid == user

    def close(self) -> None:
        """Let go of the root and of the folders that were read."""
        while self._held:
            os.close(self._held.popitem()[1])
        os.close(self._fd)

    def __enter__(self) -> Folder:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    @contextmanager
    def parent(self, path: str) -> Iterator[tuple[int, str]]:
        """A descriptor of the folder above a real path, and the last name. Raises OSError when a part is a link."""
        *folders, name = [p for p in path.split("/") if p] or ["."]
        here = self._fd
        try:
            for part in folders:
                deeper = os.open(part, os.O_PATH | os.O_NOFOLLOW | os.O_DIRECTORY, dir_fd=here)
                if here != self._fd:
                    os.close(here)
                here = deeper
            yield here, name
        finally:
            if here != self._fd:
                os.close(here)

    def _above(self, path: str) -> tuple[int, str]:
        """`parent` for reading: many paths lie in one folder, so its descriptor stays open for a while."""
        above, _, name = path.rstrip("/").rpartition("/")
        if not above:
            return self._fd, name or "."
        if above not in self._held or not self._most:
            with self.parent(path) as (folder, _):
                while len(self._held) >= max(self._most, 1):
                    os.close(self._held.pop(next(iter(self._held))))
                self._held[above] = os.dup(folder)
        return self._held[above], name

    def look(self, path: str) -> Entry:
        """The entry at a real path."""
        try:
            folder, name = self._above(path)
            status = os.stat(name, dir_fd=folder, follow_symlinks=False)
            target = os.readlink(name, dir_fd=folder) if stat.S_ISLNK(status.st_mode) else ""
        except FileNotFoundError:
            return ABSENT
        except OSError as error:
            if error.errno in (errno.ENOTDIR, errno.ELOOP, errno.ENAMETOOLONG):
                return ABSENT
            raise
        return _entry(status, target)

    def read(self, path: str, limit: int, use: Purpose = Purpose.TEXT) -> Entry:
        """A regular file with its content, at most `limit` bytes of it, whatever it is read for."""
        folder, name = self._above(path)
        descriptor = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=folder)
        with os.fdopen(descriptor, "rb", buffering=0) as stream:
            status = os.fstat(stream.fileno())
            entry = _entry(status, "")
            if entry.kind is not EntryKind.FILE:
                return entry
            if status.st_size > limit:
                return _noted(entry, f"is too large: {status.st_size} bytes, at most {limit} are read")
            content = _exactly(stream.fileno(), status.st_size)
            if len(content) != status.st_size:
                return _noted(entry, "changed while it was read")
            return Entry(entry.kind, entry.mode, entry.uid, entry.gid, entry.size, content)

    def names(self, folder: str, limit: int) -> list[str]:
        """The names in a real folder, sorted."""
        above, name = self._above(folder)
        descriptor = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_DIRECTORY, dir_fd=above)
        try:
            out: list[str] = []
            with os.scandir(descriptor) as found:
                for each in found:
                    if len(out) == limit:
                        raise UnreadableError(f"more than {limit} names")
                    out.append(each.name)
        finally:
            os.close(descriptor)
        return sorted(out)


def _exactly(descriptor: int, size: int) -> bytes:
    parts: list[bytes] = []
    left = size
    while left:
        part = os.read(descriptor, min(left, 1 << 20))
        if not part:
            break
        parts.append(part)
        left -= len(part)
    return b"".join(parts)


KINDS = {stat.S_IFREG: EntryKind.FILE, stat.S_IFDIR: EntryKind.FOLDER, stat.S_IFLNK: EntryKind.LINK}


def _entry(status: os.stat_result, target: str) -> Entry:
    return _of(status.st_mode, status.st_uid, status.st_gid, status.st_size if stat.S_ISREG(status.st_mode) else 0, target)


@lru_cache(maxsize=8192)  # guests of one kind have the same files, and in one guest most of what has no content is alike
def _of(mode: int, uid: int, gid: int, size: int, target: str) -> Entry:
    kind = KINDS.get(stat.S_IFMT(mode), EntryKind.OTHER)
    note = "is a device, socket or pipe" if kind is EntryKind.OTHER else ""
    return Entry(kind, stat.S_IMODE(mode), uid, gid, size, None, target, note)


def _noted(entry: Entry, note: str) -> Entry:
    return Entry(entry.kind, entry.mode, entry.uid, entry.gid, entry.size, None, entry.target, note)
