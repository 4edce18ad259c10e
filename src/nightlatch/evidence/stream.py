"""The collector's output, read strictly: a stream that does not fit is refused, and every size is bounded.

Text comes in sections, a heading `@...` and lines that begin with a space; then the files as tar(1) writes them
(POSIX.1-1988 ustar and GNU's long names); then a second look at the same files, to tell what changed meanwhile; and a
last line with the run's mark.
"""

from __future__ import annotations

import stat
import tarfile
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from functools import cached_property

from nightlatch.evidence.members import BLOCK, Member, MemberFault, members
from nightlatch.evidence.selection import NO_TEXT, Purpose
from nightlatch.evidence.snapshot import ABSENT, Entry, EntryKind
from nightlatch.faults import UnreadableError
from nightlatch.formats import keys

AFTER = b"\n@after\n"
MOST_PATHS = 200_000
LISTINGS = tuple(
    """
    sockets holders owners programs clock addresses links routes routes6 neighbours units daemons rules
    rules-refused tables tables6 older older6 sets lockouts directory lastlog
""".split()
)


@dataclass(frozen=True, slots=True)
class Status:
    """One path as stat(1) told it: the raw mode, owner, size, and times in seconds since 1970."""

    mode: int
    uid: int
    gid: int
    size: int
    mtime: int
    ctime: int


@dataclass
class Stream:
    """All that one run carried. `asked` are the paths the collector looked for."""

    facts: dict[str, str] = field(default_factory=dict)
    states: dict[str, Status] = field(default_factory=dict)
    absent: set[str] = field(default_factory=set)
    folders: set[str] = field(default_factory=set)
    skipped: int = 0
    reduced: dict[str, bytes] = field(default_factory=dict)
    listings: dict[str, bytes] = field(default_factory=dict)
    contents: dict[str, bytes] = field(default_factory=dict)
    targets: dict[str, str] = field(default_factory=dict)
    changed: set[str] = field(default_factory=set)
    withheld: set[str] = field(default_factory=set)
    unfit: set[str] = field(default_factory=set)
    public: dict[str, bytes] = field(default_factory=dict)

    @property
    def notes(self) -> tuple[str, ...]:
        """What the collector left out, in words."""
        told = f"{self.skipped} names with a line break or a backslash were left out"
        return (told,) if self.skipped else ()


def parse(raw: bytes, nonce: str, guest: str) -> Stream:
    """The stream in what a guest sent. Raises UnreadableError when it is cut short or is no such stream."""
    start = raw.find(b"@nightlatch/stream/1 " + nonce.encode() + b"\n")
    if start < 0:
        raise UnreadableError(f"the collector did not start; {_seen(raw)}", guest=guest)
    text, mark, rest = raw[start:].partition(b"\n@files\n")
    if not mark:
        raise UnreadableError(
            "what was read ends before its files; the connection was cut, or a limit reached",
            guest=guest,
        )
    stream = Stream()
    for heading, lines in _sections(text):
        _section(stream, heading, lines, guest)
    after = _files(stream, rest, guest)
    _second_look(stream, after, nonce, guest)
    return stream


def _seen(raw: bytes) -> str:
    first = raw.strip()[:120].decode("utf-8", "replace")
    return f"instead came: {first}" if first else "nothing came"


def _sections(text: bytes) -> Iterator[tuple[str, list[bytes]]]:
    heading = ""
    lines: list[bytes] = []
    for line in text.split(b"\n"):
        if line.startswith(b"@"):
            if heading:
                yield heading, lines
            heading, lines = line[1:].decode("utf-8", "surrogateescape"), []
        elif line.startswith(b" "):
            lines.append(line[1:])
    if heading:
        yield heading, lines


def _section(stream: Stream, heading: str, lines: list[bytes], guest: str) -> None:
    name, _, about = heading.partition(" ")
    words = [line.decode("utf-8", "surrogateescape") for line in lines]
    if len(words) > MOST_PATHS:
        raise UnreadableError(f"more than {MOST_PATHS} lines about {name}", guest=guest)
    if name == "facts":
        stream.facts = {key: value for key, _, value in (w.partition(" ") for w in words)}
    elif name == "absent":
        stream.absent.update(words)
    elif name == "folders":
        stream.folders.update(words)
    elif name == "withheld":
        stream.withheld.update(words)
    elif name == "unfit":
        stream.unfit.update(words)
    elif name == "public":
        stream.public[about] = b"".join(lines[:1])
    elif name == "skipped":
        stream.skipped = len(words)
    elif name == "paths":
        stream.states = dict(_states(words))
    elif name == "reduced":
        stream.reduced[about] = b"".join(line + b"\n" for line in lines)
    elif name == "listing" and about in LISTINGS:
        stream.listings[about] = b"".join(line + b"\n" for line in lines)
    elif name != "nightlatch/stream/1":
        raise UnreadableError(f"the collector's output has a part that is not known: {heading[:60]}", guest=guest)


def _states(words: list[str]) -> Iterator[tuple[str, Status]]:
    for word in words:
        parts = word.split(" ", 6)
        try:
            mode, numbers = int(parts[0], 16), [int(p) for p in parts[1:6]]
        except (ValueError, IndexError):
            continue
        if len(parts) == 7 and parts[6].startswith("/") and min(numbers[:3]) >= 0:
            yield parts[6], Status(mode, *numbers)


def _files(stream: Stream, raw: bytes, guest: str) -> bytes:
    """The members of one or more archives, one behind the other; returns what follows them."""
    at = 0

    def read(count: int) -> bytes:
        nonlocal at
        at += count
        return raw[at - count : at]

    def allowed(_: str, size: int) -> None:
        if size > len(raw) - at:
            raise UnreadableError("what was read ends in the middle of a file", guest=guest)

    try:
        for member in members(read, allowed, AFTER):
            _member(stream, member)
    except MemberFault as error:
        raise UnreadableError(f"the files in the collector's output can't be read: {error}", guest=guest) from None
    if not raw.startswith(AFTER, at - BLOCK):
        raise UnreadableError(
            "what was read ends before its last line; the connection was cut, or a limit reached",
            guest=guest,
        )
    return raw[at - BLOCK :]


def _member(stream: Stream, member: Member) -> None:
    path = "/" + member.name.strip("/")
    if member.type == tarfile.SYMTYPE:
        stream.targets[path] = member.target
    elif member.type == tarfile.LNKTYPE:  # the same file under another name
        first = "/" + member.target.strip("/")
        if first in stream.contents:
            stream.contents[path] = stream.contents[first]
    elif member.is_file:
        stream.contents[path] = member.body


def _second_look(stream: Stream, raw: bytes, nonce: str, guest: str) -> None:
    text, mark, _ = raw.partition(b"\n@end " + nonce.encode() + b"\n")
    if not mark:
        raise UnreadableError("what was read ends before its last line", guest=guest)
    words = [line[1:].decode("utf-8", "surrogateescape") for line in text.split(b"\n") if line.startswith(b" ")]
    for path, status in _states(words):
        before = stream.states.get(path)
        if before is not None and (before.ctime, before.size) != (status.ctime, status.size):
            stream.changed.add(path)


KINDS = {stat.S_IFREG: EntryKind.FILE, stat.S_IFDIR: EntryKind.FOLDER, stat.S_IFLNK: EntryKind.LINK}


class StreamSource:
    """A parsed stream as a source for `collect`. What it was asked for and does not have is remembered in `missed`."""

    kind = "stream"
    owners_lost = False

    def __init__(self, stream: Stream) -> None:
        self.stream = stream
        self.missed: dict[str, set[str]] = {"contents": set(), "looked": set(), "folders": set(), "keys": set()}

    def look(self, path: str) -> Entry:
        """The entry at `path`."""
        status = self.stream.states.get(path)
        if status is not None:
            return self._entry(path, status)
        if path in self.stream.absent or self._above(path) in self.stream.folders:
            return ABSENT
        above = self._above(path)
        if above in self.stream.absent or (above in self.stream.states and not stat.S_ISDIR(self.stream.states[above].mode)):
            return ABSENT
        self.missed["looked"].add(path)
        raise OSError("the collector did not look there")

    def read(self, path: str, limit: int, use: Purpose) -> Entry:
        """A file with its content, reduced where it holds secrets."""
        status = self.stream.states[path]
        entry = self._entry(path, status)
        if path in self.stream.changed:
            return _noted(entry, "changed while it was read")
        if path in self.stream.reduced:
            content = self.stream.reduced[path] + keys.PUBLIC_HALF + self.stream.public.get(path, b"")
            return replace(entry, content=content.removesuffix(keys.PUBLIC_HALF), reduced=True)
        content_or_none = self.stream.contents.get(path)
        if content_or_none is not None:
            if len(content_or_none) != status.size:
                return _noted(entry, "changed while it was read")
            return replace(entry, content=content_or_none)
        if path in self.stream.withheld:
            return _noted(entry, "is for root only, and a link of a user's leads there: not read")
        if path in self.stream.unfit:
            return _noted(entry, NO_TEXT)
        if status.size > limit:
            return _noted(entry, f"is too large: {status.size} bytes, at most {limit} are read")
        if use is not Purpose.FACTS:
            self.missed["keys" if use is Purpose.KEYS else "contents"].add(path)
        return _noted(entry, "could not be read")

    def names(self, folder: str, limit: int) -> list[str]:
        """The names in a folder that was listed."""
        if folder not in self.stream.folders:
            self.missed["folders"].add(folder)
            raise OSError("the collector did not list it")
        names = self._inside.get(folder, [])
        if len(names) >= limit:
            raise UnreadableError(f"{limit} names or more")
        return sorted(names)

    @cached_property
    def _inside(self) -> dict[str, list[str]]:
        out: dict[str, list[str]] = {}
        for path in self.stream.states:
            above, _, name = path.rpartition("/")
            if name:
                out.setdefault(above or "/", []).append(name)
        return out

    @staticmethod
    def _above(path: str) -> str:
        return path.rpartition("/")[0] or "/"

    def _entry(self, path: str, status: Status) -> Entry:
        kind = KINDS.get(stat.S_IFMT(status.mode), EntryKind.OTHER)
        if kind is EntryKind.LINK and path not in self.stream.targets:
            self.missed["looked"].add(path)
            raise OSError("the target of this link was not carried")
        note = "is a device, socket or pipe" if kind is EntryKind.OTHER else ""
        size = status.size if kind is EntryKind.FILE else 0
        target = self.stream.targets.get(path, "") if kind is EntryKind.LINK else ""
        mode = stat.S_IMODE(status.mode)
        return Entry(kind, mode, status.uid, status.gid, size, None, target, note, changed=status.ctime)


def _noted(entry: Entry, note: str) -> Entry:
    return replace(entry, note=note)
