"""The sshd configuration tree: every file in the order sshd reads it, with the conditions each line stands under.

sshd_config(5), Include and Match. Nothing is evaluated here: a Match line becomes a value, and every directive carries
the Match lines that must hold for it. `Refusal` says that sshd would not start with this tree.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from nightlatch.evidence.remembered import remembered
from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import paths, sshd_config
from nightlatch.formats import sshd_values as values
from nightlatch.formats.sshd_config import Document, Line
from nightlatch.formats.sshd_keywords import ALIASES, IGNORED, KEYWORDS, NEWER, TOP_ONLY_ALIASES, Precedence
from nightlatch.model.gaps import Gap
from nightlatch.origin import Kind as OriginKind
from nightlatch.origin import Origin
from nightlatch.readings import address_lists

MAIN = "/etc/ssh/sshd_config"
MOST_PORTS = 256  # servconf.c, MAX_PORTS (measured: sshd -t, 9.2)
DEEPEST = 16  # servconf.c, SERVCONF_MAX_DEPTH
MOST_DIRECTIVES = 20_000
MOST_MATCHES = 1000
CRITERIA = ("user", "group", "host", "address", "localaddress", "localport", "rdomain")


@dataclass(frozen=True, slots=True)
class Criterion:
    """One part of a Match line: a name from CRITERIA, or "all", and its pattern list."""

    name: str
    pattern: str


@dataclass(frozen=True, slots=True)
class Match:
    """One Match line: all criteria must hold."""

    criteria: tuple[Criterion, ...]
    origin: Origin

    @property
    def is_all(self) -> bool:
        """Whether the line is `Match all`."""
        return self.criteria[0].name == "all"


@dataclass(frozen=True, slots=True)
class Directive:
    """One line that sets something. `blocks` are indices into `SshdReading.matches`, outermost first.

    `block` counts the Match lines of the same file up to here, 0 before the first.
    """

    keyword: str
    value: tuple[str, ...]
    origin: Origin
    blocks: tuple[int, ...] = ()
    block: int = 0


@dataclass(frozen=True, slots=True)
class Refusal:
    """Why sshd does not start."""

    because: str
    origin: Origin


@dataclass(frozen=True, slots=True, eq=False)
class SshdReading:
    """The whole tree; equal to itself only, so that what is worked out of it can be kept. `files` are the real paths read, in
    order, each once."""

    directives: tuple[Directive, ...] = ()
    matches: tuple[Match, ...] = ()
    files: tuple[str, ...] = ()
    refusal: Refusal | None = None
    gaps: tuple[Gap, ...] = ()


class _Stop(Exception):
    def __init__(self, because: str, origin: Origin) -> None:
        self.refusal = Refusal(because, origin)


@remembered(64)
def read(snapshot: Snapshot, main: str = MAIN, options: tuple[tuple[str, Origin], ...] = ()) -> SshdReading:
    """The tree that begins at `main`; `options` are what the daemon is started with behind -o, first value first."""
    reader = _Reader(snapshot)
    try:
        for text, origin in options:
            reader.option(text, origin)
        reader.file(main, (), 0, None)
        if reader.too_much:
            reader.gaps.append(Gap("SSH server", "more lines than are read", Origin(main)))
    except _Stop as stop:
        return SshdReading((), (), tuple(reader.files), stop.refusal, tuple(reader.gaps))
    return SshdReading(tuple(reader.directives), tuple(reader.matches), tuple(reader.files), None, tuple(reader.gaps))


class _Reader:
    def __init__(self, snapshot: Snapshot) -> None:
        self.snapshot = snapshot
        self.directives: list[Directive] = []
        self.matches: list[Match] = []
        self.files: dict[str, None] = {}
        self.gaps: list[Gap] = []
        self.subsystems: dict[str, Origin] = {}
        self.ports = 0
        self.has_methods = False
        self.count = 0
        self.too_much = False

    def option(self, text: str, origin: Origin) -> None:
        line = sshd_config.parse(text.encode("utf-8", "surrogateescape")).lines
        if line and line[0].keyword and not line[0].fault:
            self.directive(line[0], origin, (), 0)

    def file(self, path: str, blocks: tuple[int, ...], depth: int, included_at: Origin | None) -> None:
        document = self._document(path, included_at)
        if document is None:
            return
        real, parsed = document
        self.files[real] = None
        current: tuple[int, ...] = ()
        block = 0
        for line in parsed.lines:
            if not line.keyword:
                continue
            self.count += 1
            if self.count > MOST_DIRECTIVES or len(self.matches) > MOST_MATCHES:
                self.too_much = True
                return
            origin = Origin(real, line.number, line.column)
            if line.fault:
                raise _Stop(line.fault, origin)
            if line.keyword == "match":
                block += 1
                current = (self._match(line, origin),)
            elif line.keyword == "include":
                self._include(line, origin, blocks + current, depth)
            else:
                self.directive(line, origin, blocks + current, block)

    def _document(self, path: str, included_at: Origin | None) -> tuple[str, Document] | None:
        found = self.snapshot.resolve(path)
        entry = found.entry
        if found.problem:
            raise _Stop(f"{path} can't be opened: {found.problem}", included_at or Origin(path))
        if entry is None or (entry.kind is not EntryKind.ABSENT and entry.kind is EntryKind.FILE and entry.content is None):
            note = entry.note if entry and entry.note else "was not collected"
            self.gaps.append(Gap("SSH server", f"this file {note}", Origin(found.path)))
            return None
        if entry.kind is EntryKind.ABSENT:
            raise _Stop("there is no such file", included_at or Origin(path, kind=OriginKind.ABSENT))
        if entry.kind is not EntryKind.FILE or entry.content is None:
            if entry.kind is EntryKind.FOLDER:
                # fopen succeeds and nothing can be read: sshd goes on with an empty file (measured: sshd -T, 9.2).
                return None
            raise _Stop(f"{found.path} is no regular file", included_at or Origin(path))
        if b"\0" in entry.content:
            self.gaps.append(Gap("SSH server", "this file holds a NUL byte", Origin(found.path)))
            return None
        return found.path, sshd_config.parse(entry.content)

    def _include(self, line: Line, origin: Origin, blocks: tuple[int, ...], depth: int) -> None:
        if not line.words or any(not word.text for word in line.words):
            raise _Stop("Include without a file", origin)
        for word in line.words:
            if depth + 1 > DEEPEST and self._expand(word.text):
                raise _Stop("too many nested Include lines, or a file that includes itself", origin)
            for path in self._expand(word.text):
                at = Origin(origin.path, line.number, word.column)
                self.file(path, blocks, depth + 1, at)

    def _expand(self, pattern: str) -> list[str]:
        if not pattern.startswith(("/", "~")):
            pattern = f"/etc/ssh/{pattern}"
        return paths.expand(pattern, self._names_in, self._exists)

    def _names_in(self, folder: str) -> list[str]:
        found = self.snapshot.resolve(folder)
        return self.snapshot.children(found.path) if found.entry and found.entry.kind is EntryKind.FOLDER else []

    def _exists(self, path: str) -> bool:
        entry = self.snapshot.resolve(path, follow_last=False).entry
        return entry is not None and entry.kind is not EntryKind.ABSENT

    def _match(self, line: Line, origin: Origin) -> int:
        words = sshd_config.match_words(line)
        if words is None:
            raise _Stop("invalid quotes", origin)
        criteria = tuple(_criteria([word.text for word in words], origin))
        self.matches.append(Match(criteria, origin))
        return len(self.matches) - 1

    def directive(self, line: Line, origin: Origin, blocks: tuple[int, ...], block: int) -> None:
        name = ALIASES.get(line.keyword, line.keyword)
        conditional = any(not self.matches[b].is_all for b in blocks)
        if line.keyword in IGNORED:
            if conditional and not IGNORED[line.keyword]:
                raise _Stop(f"{line.keyword} is not allowed within a Match block", origin)
            return
        keyword = KEYWORDS.get(name)
        if keyword is None:
            since = f" (it came with OpenSSH {NEWER[name]})" if name in NEWER else ""
            raise _Stop(f'"{line.keyword}" is no keyword of this sshd{since}', origin)
        if conditional and (not keyword.anywhere or line.keyword in TOP_ONLY_ALIASES):
            raise _Stop(f"{line.keyword} is not allowed within a Match block", origin)
        try:
            value = keyword.read([w.text for w in line.words], line.rest)
            _check_patterns(name, value)
        except values.ValueRefusal as error:
            raise _Stop(f"{line.keyword}: {error}", origin) from None
        if name == "authenticationmethods":
            if value == ("any",) and self.has_methods:
                raise _Stop('"AuthenticationMethods any" after a line that sets methods already', origin)
            self.has_methods = self.has_methods or not conditional
        if name == "port":
            self.ports += 1
            if self.ports > MOST_PORTS:
                raise _Stop("too many ports", origin)
        if keyword.wins is Precedence.NAMED:
            if value[0] in self.subsystems:
                raise _Stop(f"subsystem {value[0]} is defined twice", origin)
            self.subsystems[value[0]] = origin
        self.directives.append(Directive(name, value, origin, blocks, block))


def _criteria(words: list[str], origin: Origin) -> Iterator[Criterion]:
    at = 0
    while at < len(words) and words[at] and not words[at].startswith("#"):
        name = words[at].lower()
        if name == "all":
            following = words[at + 1] if at + 1 < len(words) else ""
            if at or (following and not following.startswith("#")):
                raise _Stop("'all' can't be combined with other Match criteria", origin)
            yield Criterion("all", "")
            return
        argument = words[at + 1] if at + 1 < len(words) else ""
        if not argument or argument.startswith("#"):
            raise _Stop(f"Match {name} lacks its value", origin)
        if name not in CRITERIA:
            raise _Stop(f'"{name}" is no Match criterion', origin)
        if name in ("address", "localaddress") and not address_lists.valid(argument):
            raise _Stop(f'"{argument}" is no list of addresses', origin)
        if name == "localport" and not re.fullmatch(r"[0-9]{1,5}|ssh", argument):
            raise _Stop(f'"{argument}" is no port', origin)
        yield Criterion(name, argument)
        at += 2
    if not at:
        raise _Stop("Match needs at least one criterion", origin)


def _check_patterns(name: str, value: tuple[str, ...]) -> None:
    if name in ("allowusers", "denyusers"):
        for pattern in value:
            _, at, host = pattern.rpartition("@")
            if at and not address_lists.valid(host):
                raise values.ValueRefusal(f'"{pattern}" has no valid host pattern behind the @')
