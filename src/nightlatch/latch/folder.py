"""Enact and undo on a folder guest.

Order: lock, compare every path with what the draft was proved on, keep copies, stage everything beside its target, then
rename. Whatever breaks before the end, or Ctrl-C, puts back what was done; afterwards `undo` gives every byte, mode,
owner, time and extended attribute back. No daemon checks the result: there is none in a folder.
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import os
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from nightlatch.draft.plan import ProvedDraft
from nightlatch.evidence.snapshot import ABSENT, Entry, EntryKind
from nightlatch.faults import PutBackError, RefusedError, UnreadableError
from nightlatch.latch import folder_accounts
from nightlatch.latch.records import CHANGES, HOME, LOCK, MOST_KEPT, PathState, Record, TouchedPath, parse
from nightlatch.model import account_steps
from nightlatch.transports.folder import Folder

LARGEST_RECORD = 4 << 20
ABSENT_SIDE = PathState(kind="absent", mode=0, uid=0, gid=0, sha256="")


@dataclass(frozen=True, slots=True)
class FolderChange:
    """What enact or undo did on one guest, and no more than that. `skipped` are paths that somebody else changed since, left as
    they are; `acts` what was done beside paths, in words; `merged` paths that somebody had touched, of which our lines went
    back and theirs stay; `whole` such that sshd refused like that, so that they are as they were and theirs is laid by; `removed`
    those of `paths` that were not there before."""

    guest: str
    change: str
    paths: tuple[str, ...]
    skipped: tuple[str, ...] = ()
    acts: tuple[str, ...] = ()
    merged: tuple[str, ...] = ()
    whole: tuple[str, ...] = ()
    removed: tuple[str, ...] = ()


def enact(
    proved: ProvedDraft, root: Path, at: datetime, tool: str, change: str, passwords: Mapping[str, str] | None = None
) -> FolderChange:
    """Apply a proved draft to the folder it was proved on. `passwords` are those that it gives, by account.

    Raises RefusedError when something differs from the evidence or another change is under way, PutBackError when
    a write failed and everything was put back.
    """
    if proved.draft.acts:
        raise RefusedError(f"{proved.draft.acts[0]}: only a running guest can do that", guest=proved.draft.guest)
    if not proved.does:
        return FolderChange(proved.draft.guest, "", ())
    with Folder(root) as folder:
        _compare(folder, proved)
        if proved.accounts:
            folder_accounts.compare(folder, proved)
        hashes = folder_accounts.hashes_of(folder, passwords or {})
        made = _make_folders(folder, [HOME, CHANGES])
        with _locked(folder):
            made += _make_folders(folder, [f"{CHANGES}/{change}"])
            return _apply(folder, proved, at, tool, change, made, hashes)


def new_change_id(at: datetime) -> str:
    """A change's name: its time to the microsecond, so that names sort by age."""
    return f"{at:%Y%m%d-%H%M%S-%f}"


def _compare(folder: Folder, proved: ProvedDraft) -> None:
    for path in proved.changed:
        seen = proved.before.entries.get(path, ABSENT)
        live = _live(folder, path)
        owners = folder.owners_lost or (live.uid, live.gid) == (seen.uid, seen.gid)
        if not owners or (live.kind, live.mode, live.digest) != (seen.kind, seen.mode, seen.digest):
            raise RefusedError(
                f"{path} was changed since it was read; survey again. Nothing was written",
                guest=proved.draft.guest,
            )


def _live(folder: Folder, path: str) -> Entry:
    entry = folder.look(path)
    return folder.read(path, 64 << 20) if entry.kind is EntryKind.FILE else entry


def _make_folders(folder: Folder, paths: list[str]) -> list[str]:
    made: list[str] = []
    for above in ("/var", "/var/lib"):
        if folder.look(above).kind is EntryKind.ABSENT:
            paths = [above, *[p for p in paths if p != above]]
    for path in sorted(paths, key=len):
        with folder.parent(path) as (above_fd, name), contextlib.suppress(FileExistsError):
            os.mkdir(name, 0o755 if path in ("/var", "/var/lib") else 0o700, dir_fd=above_fd)
            made.append(path)
    return made


@contextmanager
def _locked(folder: Folder) -> Iterator[None]:
    with folder.parent(LOCK) as (above, name):
        try:
            os.mkdir(name, 0o700, dir_fd=above)
        except FileExistsError:
            raise RefusedError(
                f"another change is under way in {folder.root} ({LOCK} is there); if none is, one was cut off: "
                "remove that folder, then nightlatch undo takes back what was done of it"
            ) from None
        try:
            yield
        finally:
            # Whatever was done is whole by now; a lock that stays is told, with its remedy, by the next run.
            with contextlib.suppress(OSError):
                os.rmdir(name, dir_fd=above)


def _apply(
    folder: Folder,
    proved: ProvedDraft,
    at: datetime,
    tool: str,
    change: str,
    made: list[str],
    hashes: Mapping[str, bytes],
) -> FolderChange:
    undo: list[Callable[[], object]] = []
    touched: list[TouchedPath] = []
    try:
        for number, path in enumerate(proved.changed):
            touched.append(_keep(folder, proved, path, number, change))
        record = Record(
            format="nightlatch/change/1",
            id=change,
            tool=tool,
            time=at.isoformat(timespec="seconds"),
            guest=proved.draft.guest,
            steps=[str(step) for step in proved.draft.steps],
            touched=touched,
            folders=[path for path in made if not path.endswith(change)],
            acts=[list(account_steps.words(step)) for step in proved.accounts],
        )
        databases = folder_accounts.worked_out(folder, proved.accounts, at.date(), proved.draft.guest, hashes)
        _write_record(folder, change, record.model_dump_json(indent=1).encode())
        for each in touched:
            entry = proved.after.entries[each.path]
            undo.append(lambda each=each: _restore(folder, each, change))  # type: ignore[misc]
            _put(folder, each.path, entry, each.before, change)
        if databases:
            undo.append(lambda: _accounts_back(folder, record))
            folder_accounts.write(folder, databases, staged_name(change))
    except BaseException as error:
        for each in touched:
            _drop_staged(folder, each.path, change)
        _put_back(folder, undo, change, made)
        if isinstance(error, OSError):
            raise PutBackError(
                f"{error.filename or 'a write'} failed: {error.strerror}. Everything was put back",
                guest=proved.draft.guest,
            ) from error
        raise
    _prune(folder)
    return FolderChange(proved.draft.guest, change, tuple(t.path for t in touched), acts=tuple(map(str, proved.accounts)))


def _accounts_back(folder: Folder, record: Record) -> tuple[str, ...]:
    """Take back what a change did with accounts, as far as it was done; in words."""
    if not record.acts:
        return ()
    _drop_staged(folder, account_steps.PASSWD, record.id)
    made, told = folder_accounts.taken_back(folder, record.acts, record.guest)
    folder_accounts.write(folder, made, staged_name(record.id))
    return told


def _put_back(folder: Folder, undo: list[Callable[[], object]], change: str, made: list[str]) -> None:
    for act in reversed(undo):
        act()
    _forget(folder, change, made)


def _keep(folder: Folder, proved: ProvedDraft, path: str, number: int, change: str) -> TouchedPath:
    live = _live(folder, path)
    copy_name = ""
    if live.kind is EntryKind.FILE:
        copy_name = f"{number}.before"
        _write_new(folder, f"{CHANGES}/{change}/{copy_name}", live.content or b"", 0o600)
    after = proved.after.entries[path]
    side = PathState(kind=after.kind.value, mode=after.mode, uid=after.uid, gid=after.gid, sha256=after.digest)  # type: ignore[arg-type]
    return TouchedPath(path=path, before=_side(folder, path, live), after=side, copy_name=copy_name)


def _side(folder: Folder, path: str, live: Entry) -> PathState:
    if live.kind is EntryKind.ABSENT:
        return ABSENT_SIDE
    with folder.parent(path) as (above, name):
        status = os.stat(name, dir_fd=above, follow_symlinks=False)
        attributes = _attributes(above, name)
    return PathState(
        kind=live.kind.value,  # type: ignore[arg-type]
        mode=live.mode,
        uid=live.uid,
        gid=live.gid,
        sha256=live.digest,
        mtime=status.st_mtime_ns,
        attributes=attributes,
    )


def _attributes(above: int, name: str) -> dict[str, str]:
    descriptor = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK, dir_fd=above)
    try:
        return {each: os.getxattr(descriptor, each).hex() for each in os.listxattr(descriptor)}
    except OSError as error:
        if error.errno == errno.ENOTSUP:
            return {}
        raise
    finally:
        os.close(descriptor)


def _write_new(folder: Folder, path: str, content: bytes, mode: int) -> None:
    with folder.parent(path) as (above, name):
        descriptor = os.open(name, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, mode, dir_fd=above)
        with os.fdopen(descriptor, "wb") as stream:
            stream.write(content)
            stream.flush()
            os.fsync(stream.fileno())


def _write_record(folder: Folder, change: str, raw: bytes) -> None:
    """The record appears whole: a change without one has touched nothing yet."""
    _write_new(folder, f"{CHANGES}/{change}/record.part", raw, 0o600)
    with folder.parent(f"{CHANGES}/{change}/record.part") as (above, name):
        os.rename(name, "record.json", src_dir_fd=above, dst_dir_fd=above)


def _put(folder: Folder, path: str, entry: Entry, like: PathState, change: str) -> None:
    """Make `path` what `entry` says: staged beside it under a name no include pattern takes, then renamed."""
    with folder.parent(path) as (above, name):
        if entry.kind is EntryKind.FOLDER:
            made = staged_name(change) if like.kind == "absent" else name
            if made != name:
                os.mkdir(made, 0o700, dir_fd=above)
            _own(above, made, entry.uid, entry.gid, entry.mode)
            if made != name:
                os.rename(made, name, src_dir_fd=above, dst_dir_fd=above)
            return
        if like.kind == "file" and like.sha256 == entry.digest:
            _own(above, name, entry.uid, entry.gid, entry.mode)
            return
        _replace(above, name, entry.content or b"", entry.uid, entry.gid, entry.mode, like.attributes, change)


def _own(above: int, name: str, uid: int, gid: int, mode: int) -> None:
    if os.geteuid() == 0:  # an ordinary user keeps what it owns: there are no other owners in its folder
        os.chown(name, uid, gid, dir_fd=above, follow_symlinks=False)
    os.chmod(name, mode, dir_fd=above)


def staged_name(change: str) -> str:
    """The name of a file while it is staged beside its target: none that an Include or includedir pattern takes."""
    return f".nightlatch-{change}~"


def _replace(
    above: int,
    name: str,
    content: bytes,
    uid: int,
    gid: int,
    mode: int,
    attributes: dict[str, str],
    change: str,
    mtime: int = 0,
) -> None:
    staged = staged_name(change)
    try:
        descriptor = os.open(staged, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600, dir_fd=above)
        with os.fdopen(descriptor, "wb") as stream:
            stream.write(content)
            stream.flush()
            if os.geteuid() == 0:
                os.fchown(stream.fileno(), uid, gid)
            os.fchmod(stream.fileno(), mode)
            for key, value in attributes.items():
                os.setxattr(stream.fileno(), key, bytes.fromhex(value))
            if mtime:
                os.utime(stream.fileno(), ns=(mtime, mtime))
            os.fsync(stream.fileno())
        os.rename(staged, name, src_dir_fd=above, dst_dir_fd=above)
    except BaseException:
        with contextlib.suppress(FileNotFoundError):
            os.unlink(staged, dir_fd=above)
        raise


def _restore(folder: Folder, each: TouchedPath, change: str) -> None:
    """Give one path back what it had."""
    before = each.before
    with folder.parent(each.path) as (above, name):
        if before.kind == "absent":
            with contextlib.suppress(FileNotFoundError, OSError):
                if each.after.kind == "folder":
                    os.rmdir(name, dir_fd=above)
                else:
                    os.unlink(name, dir_fd=above)
            return
        if before.kind == "folder":
            _own(above, name, before.uid, before.gid, before.mode)
            return
        content = folder.read(f"{CHANGES}/{change}/{each.copy_name}", 64 << 20).content or b""
        if hashlib.sha256(content).hexdigest() != before.sha256:
            raise UnreadableError(f"the copy of {each.path} kept for change {change} is damaged; it was not put back")
        _replace(above, name, content, before.uid, before.gid, before.mode, before.attributes, change, before.mtime)


def changes(root: Path) -> list[Record]:
    """The changes kept in a folder guest, oldest first."""
    with Folder(root) as folder:
        return [_record(folder, name) for name in _names(folder)]


def _names(folder: Folder) -> list[str]:
    try:
        if folder.look(HOME).kind is not EntryKind.FOLDER or folder.look(CHANGES).kind is not EntryKind.FOLDER:
            return []
        names = folder.names(CHANGES, 1000)
        return [name for name in names if folder.look(f"{CHANGES}/{name}/record.json").kind is EntryKind.FILE]
    except OSError:
        return []


def _record(folder: Folder, name: str) -> Record:
    path = f"{CHANGES}/{name}/record.json"
    try:
        content = folder.read(path, LARGEST_RECORD).content
    except OSError as error:
        raise UnreadableError(f"{path} can't be read: {error.strerror}") from None
    record = parse(content or b"", path)
    if record.id != name:
        raise UnreadableError(f"{path} is the record of another change, {record.id}")
    return record


def undo(root: Path, guest: str, change: str = "") -> FolderChange:
    """Take a change back: the newest, or the one named.

    A path that somebody else changed since is left as it is and named. Raises RefusedError when there is no such change
    or a newer one touches the same paths.
    """
    with Folder(root) as folder:
        records = [_record(folder, name) for name in _names(folder)]
        record = next((r for r in reversed(records) if not change or r.id == change), None)
        if record is None:
            raise RefusedError(f"there is no change {change} to take back" if change else "no change is kept there", guest=guest)
        paths = {t.path for t in record.touched}
        for newer in records[records.index(record) + 1 :]:
            both = paths & {t.path for t in newer.touched}
            if both:
                raise RefusedError(
                    f"change {newer.id} is newer and touches {sorted(both)[0]} too; undo that one first",
                    guest=guest,
                )
        with _locked(folder):
            people = _accounts_back(folder, record)
            done, skipped = _take_back(folder, record)
        if not skipped:
            _forget(folder, record.id, record.folders)
        new = {each.path for each in record.touched if each.before.kind == "absent"}
        gone = tuple(path for path in done if path in new)
        return FolderChange(guest, record.id, tuple(done), tuple(skipped), people, removed=gone)


def _take_back(folder: Folder, record: Record) -> tuple[list[str], list[str]]:
    done: list[str] = []
    skipped: list[str] = []
    for each in reversed(record.touched):
        _drop_staged(folder, each.path, record.id)
        live = _live(folder, each.path)
        if _is(folder, live, each.after) or _halfway(live, each):
            _restore(folder, each, record.id)
            done.append(each.path)
        elif not _is(folder, live, each.before):  # as before: the change was cut off before it got there
            skipped.append(each.path)
    return done, skipped


def _is(folder: Folder, live: Entry, side: PathState) -> bool:
    owners = folder.owners_lost or live.kind is EntryKind.ABSENT or (live.uid, live.gid) == (side.uid, side.gid)
    return owners and (live.kind.value, live.mode, live.digest) == (side.kind, side.mode, side.sha256)


def _halfway(live: Entry, each: TouchedPath) -> bool:
    """Whether the change was cut off between the owner and the mode of a path."""
    sides = (each.before, each.after)
    if any(side.kind != live.kind.value for side in sides):
        return False
    seen = (live.uid, live.gid, live.mode, live.digest)
    known = ((s.uid, s.gid, s.mode, s.sha256) for s in sides)
    return all(value in values for value, values in zip(seen, zip(*known, strict=True), strict=True))


def _drop_staged(folder: Folder, path: str, change: str) -> None:
    """Remove what a change that was cut off left beside its target."""
    for drop in (os.unlink, os.rmdir):
        with contextlib.suppress(OSError), folder.parent(path) as (above, _):
            drop(staged_name(change), dir_fd=above)


def _forget(folder: Folder, change: str, made: list[str]) -> None:
    place = f"{CHANGES}/{change}"
    with contextlib.suppress(OSError, UnreadableError):
        for name in folder.names(place, 1000):
            with folder.parent(f"{place}/{name}") as (above, last):
                os.unlink(last, dir_fd=above)
    for path in [place, *sorted(made, key=len, reverse=True)]:
        with contextlib.suppress(OSError), folder.parent(path) as (above, last):
            os.rmdir(last, dir_fd=above)


def _prune(folder: Folder) -> None:
    for name in _names(folder)[:-MOST_KEPT]:
        _forget(folder, name, [])
