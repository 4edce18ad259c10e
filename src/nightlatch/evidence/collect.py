"""What is collected from a guest about SSH and its network, and how secrets are reduced on the way in.

Nothing is run and nothing is followed out of the guest: links are resolved here, step by step, as the guest's own
kernel would, and the source only ever sees real paths.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import replace

from nightlatch.evidence import account_files, screen_files, vnc_files
from nightlatch.evidence.always import CHANGES, FILES, FOLDERS, LOOKED_AT, MOST_CHANGES, UNIT_TOPS
from nightlatch.evidence.extra_paths import NO_MORE, ExtraPaths
from nightlatch.evidence.selection import NOT_CARRIED, Purpose, in_account, in_folder, reduced
from nightlatch.evidence.snapshot import ABSENT, MOST_LINKS, Entry, EntryKind, Snapshot
from nightlatch.evidence.source import Source
from nightlatch.faults import UnreadableError
from nightlatch.formats import accounts, directory_listing, interfaces, paths, rule_loads, sshd_config
from nightlatch.formats.sshd_values import ValueRefusal, expand_home

LARGEST = 1 << 20
LARGEST_STATUS = 64 << 20
MOST_BYTES = 64 << 20
MOST_NAMES = 4096
MOST_CONFIG_FILES = 500

NETPLAN = "/usr/lib/netplan"  # its program lies there, too
NETWORK_UNITS = ("/etc/systemd/network", "/run/systemd/network")
PATH_KEYWORDS = {
    "trustedusercakeys": Purpose.KEYS,
    "revokedkeys": Purpose.TEXT,
    "hostcertificate": Purpose.KEYS,
    "hostkey": Purpose.FACTS,
    "banner": Purpose.NAME,
}
ACCOUNT_PATHS = {
    "authorizedkeysfile": Purpose.KEYS,
    "authorizedprincipalsfile": Purpose.TEXT,
    "chrootdirectory": Purpose.NAME,
}


def collect(source: Source, guest: str, more: ExtraPaths = NO_MORE, mains: Iterable[str] = (), others: bytes = b"") -> Snapshot:
    """Read one guest, and `more` of it than always; `mains` are configurations of running daemons of SSH, `others` lists accounts
    that its files don't.

    Raises UnreadableError when even its root can't be read; all else becomes a note.
    """
    collector = _Collector(source, directory_listing.parse(others).accounts)
    collector.look("/")
    if collector.entries["/"].kind is not EntryKind.FOLDER:
        raise UnreadableError("there is no folder to read", guest=guest)
    if collector.look("/etc").kind is EntryKind.ABSENT:
        raise UnreadableError("this folder holds no system, for there is no /etc in it; name a guest's root", guest=guest)
    per_account = collector.everything(mains)
    collector.beside(more)
    collector.accounts(per_account)
    for path, use in tuple(vnc_files.named(collector.entries)):
        collector.visit(path, Purpose.NAME if collector.is_roots_alone(path) else use)
    if source.owners_lost:
        collector.guess_owners()
    return Snapshot(guest, collector.entries, frozenset(collector.listed), tuple(collector.notes))


class _Collector:
    def __init__(self, source: Source, others: tuple[accounts.Passwd, ...]) -> None:
        self.source, self.others = source, others
        self.entries: dict[str, Entry] = {}
        self.listed: dict[str, list[str]] = {}
        self.notes: list[str] = []
        self.bytes = 0
        self.plain: dict[str, bool] = {"": True}  # folders that no link leads to, and those that are not there

    def everything(self, mains: Iterable[str]) -> list[tuple[Purpose, str]]:
        """All that is always read, apart from accounts' own files; returns what settings name for each account."""
        for path in LOOKED_AT:
            self.visit(path, Purpose.NAME)
        for path in FILES:
            self.visit(path)
        for folder in FOLDERS:
            self.folder(folder)
        for folder in NETWORK_UNITS:
            for name in self.names(folder):
                if name.endswith(".network.d"):
                    self.folder(f"{folder}/{name}")
        for name in sorted(self.names(CHANGES))[-MOST_CHANGES:]:
            self.visit(f"{CHANGES}/{name}/record.json")
        for path in (*self._sourced(), *self._loaded()):
            self.visit(path)
        self._slices()
        wanted = self._configuration(["/etc/ssh/sshd_config", *self._named_by_units(), *mains])
        for keyword, text in wanted:
            if keyword in PATH_KEYWORDS and text.startswith("/"):
                self.visit(text, PATH_KEYWORDS[keyword])
        return [(ACCOUNT_PATHS[keyword], text) for keyword, text in wanted if keyword in ACCOUNT_PATHS]

    def beside(self, more: ExtraPaths) -> None:
        """What is read in addition, and what it names."""
        for path in more.files:
            self.visit(path)
        for path in more.looked:
            self.visit(path, Purpose.NAME)
        for path in more.folders:
            self.folder(path)
        for path, use in tuple(screen_files.named(self.entries)):
            self.visit(path, use)
        for path in tuple(vnc_files.drop_ins(self.entries)):
            self.folder(path)

    def guess_owners(self) -> None:
        """Take what lies in a home for its account's, and all else for root's."""
        homes: dict[str, tuple[int, int]] = {}
        content = self.entries.get("/etc/passwd", ABSENT).content or b""
        for record in account_files.first(accounts.passwd(content)):
            if record.uid >= 1000 and record.home.count("/") > 1:
                homes.setdefault(record.home.rstrip("/"), (record.uid, record.gid))
        for path, entry in self.entries.items():
            owner = next((homes[p] for p in _above(path) if p in homes), (0, 0))
            self.entries[path] = replace(entry, uid=owner[0], gid=owner[1])
        self.notes.append(
            "owners are lost in this folder (an ordinary user unpacked it): what lies in a home is taken to be its "
            "account's, all else root's"
        )

    def look(self, path: str) -> Entry:
        found = self.entries.get(path)
        if found is None:
            try:
                found = self.source.look(path)
            except OSError as error:
                found = self._unread(path, error)
            self.entries[path] = found
        return found

    def _unread(self, path: str, error: OSError) -> Entry:
        note = f"could not be read: {error.strerror or error}"
        self.notes.append(f"{path} {note}")
        return Entry(EntryKind.OTHER, note=note)

    def visit(self, path: str, use: Purpose = Purpose.TEXT) -> str | None:
        """Walk to `path`, noting every part of the way; returns the real path, or None when it leads nowhere."""
        real = self._real(path)
        if real is not None and use is not Purpose.NAME and self.entries[real].kind is EntryKind.FILE:
            self._content(real, use)
        return real

    def is_roots_alone(self, path: str) -> bool:
        """Whether a path leads to a file that only root may read: an account that names it must not have it carried."""
        real = self._real(path)
        entry = self.entries[real] if real is not None else ABSENT
        return entry.kind is EntryKind.FILE and entry.uid == 0 and not entry.mode & 0o004

    def _real(self, path: str) -> str | None:
        above, _, last = path.rpartition("/")
        there = self.plain.get(above) if last not in ("", ".", "..") else None
        if there is False:
            return None
        if there:  # most paths lie in a folder that is known
            kind = self.look(path).kind
            if kind is not EntryKind.LINK:
                if kind is EntryKind.FOLDER or kind is EntryKind.ABSENT:
                    self.plain[path] = kind is EntryKind.FOLDER
                return None if kind is EntryKind.ABSENT else path
        return self._walk(path)

    def _walk(self, path: str) -> str | None:
        real, parts = "", [p for p in path.split("/") if p]
        links, straight = 0, True
        while parts:
            part = parts.pop(0)
            if part in (".", ".."):
                real, straight = real.rpartition("/")[0] if part == ".." else real, False
                continue
            here = f"{real}/{part}"
            entry = self.look(here)
            if entry.kind is EntryKind.LINK:
                links, straight = links + 1, False
                if links > MOST_LINKS:
                    self.notes.append(f"{path} is a loop of links")
                    return None
                real = "" if entry.target.startswith("/") else real
                parts = [p for p in entry.target.split("/") if p] + parts
                continue
            if entry.kind is EntryKind.ABSENT or (parts and entry.kind is not EntryKind.FOLDER):
                if straight:
                    self.plain["/".join([here, *parts[:-1]])] = False
                return None
            if straight and entry.kind is EntryKind.FOLDER:
                self.plain[here] = True
            real = here
        return real or "/"

    def _content(self, path: str, use: Purpose) -> None:
        before = self.entries[path]
        if before.content is not None or before.note not in ("", NOT_CARRIED):
            return
        limit = LARGEST_STATUS if path == "/var/lib/dpkg/status" else LARGEST
        if self.bytes > MOST_BYTES:
            entry = Entry(EntryKind.FILE, before.mode, before.uid, before.gid, before.size, note="is beyond the total limit")
        else:
            try:
                entry = self.source.read(path, limit, use)
            except OSError as error:
                entry = self._unread(path, error)
        if entry.content is not None:
            entry = reduced(path, entry, use)
            self.bytes += len(entry.content or b"")
        elif use is Purpose.FACTS:
            entry = replace(entry, note=NOT_CARRIED)
        if entry.content is None and entry.note not in ("", NOT_CARRIED):
            self.notes.append(f"{path} {entry.note}")
        self.entries[path] = entry

    def folder(self, path: str) -> None:
        """List a folder of the system's and read its files."""
        for name in self.names(path):
            if path in vnc_files.LINKED and self.entries[f"{path}/{name}"].kind is EntryKind.LINK:
                continue  # another unit's second name, or a mask
            if path != NETPLAN or name.endswith(".yaml"):
                self.visit(f"{path}/{name}", in_folder(path, name))

    def names(self, path: str) -> list[str]:
        real = self.visit(path, Purpose.NAME)
        if real is None or self.entries[real].kind is not EntryKind.FOLDER:
            return []
        if real not in self.listed:
            try:
                found = self.source.names(real, MOST_NAMES)
            except (OSError, UnreadableError) as error:
                self.notes.append(f"{real} could not be listed: {error}")
                return []
            self.listed[real] = found
            for name in found:
                self.look(f"{real.rstrip('/')}/{name}")
        return self.listed[real]

    def _named_by_units(self) -> list[str]:
        """Configurations that a unit starts sshd with (-f)."""
        out: list[str] = []
        for path, entry in self.entries.items():
            if path.endswith((".service", ".conf")) and "/systemd/" in path and entry.content:
                named = re.findall(rb"(?m)^ExecStart=.*\s-f\s*(/\S+)", entry.content)
                out += [each.decode("utf-8", "surrogateescape") for each in named]
        return out

    def _slices(self) -> None:
        """The slices that a unit's files name, and those above them."""
        for path, entry in list(self.entries.items()):
            if path.endswith((".service", ".socket", ".conf")) and "/systemd/" in path and entry.content:
                for each in re.findall(rb"(?m)^Slice=\s*([A-Za-z0-9_.-]{1,200})\.slice\s*$", entry.content)[:8]:
                    parts = each.decode().split("-")[:8]
                    named = ("-".join(parts[:length]) for length in range(1, len(parts) + 1))
                    for place in (f"{top}/{name}.slice" for name in named for top in UNIT_TOPS):
                        self.visit(place)
                        self.folder(f"{place}.d")

    def _configuration(self, mains: list[str]) -> list[tuple[str, str]]:
        """Follow every Include, whatever condition it stands under; the paths that any line names."""
        out: list[tuple[str, str]] = []
        waiting, seen = list(mains), set(mains)
        while waiting and len(seen) <= MOST_CONFIG_FILES:
            real = self.visit(waiting.pop(0))
            content = self.entries[real].content if real else None
            if content is None:
                continue
            for line in sshd_config.parse(content).lines:
                words = [word.text for word in line.words]
                if line.keyword == "include":
                    fresh = [path for word in words for path in self._expand(word) if path not in seen]
                    seen.update(fresh)
                    waiting.extend(fresh)
                elif line.keyword in PATH_KEYWORDS or line.keyword in ACCOUNT_PATHS:
                    out.extend((line.keyword, _homed(word)) for word in words)
        return out

    def _sourced(self) -> list[str]:
        """Files that the main file of ifupdown sources from elsewhere than its own folder."""
        out: list[str] = []
        content = self.entries.get("/etc/network/interfaces", ABSENT).content or b""
        for line in interfaces.parse(content).named("source"):
            for word in line.words[1:]:
                pattern = word.text if word.text.startswith("/") else f"/etc/network/{word.text}"
                out += paths.expand(pattern, self.names, lambda path: self.visit(path, Purpose.NAME) is not None)
        return out[:MOST_CONFIG_FILES]

    def _loaded(self) -> list[str]:
        """Files of rules under /etc that ifupdown's lines and scripts load; what lies elsewhere may be anything."""
        out: list[str] = []
        for path, entry in self.entries.items():
            if path.startswith("/etc/network/") and entry.content:
                texts = [text for _, text in rule_loads.script(entry.content)]
                plain = [text.partition(" ")[2] if text.split()[0] in rule_loads.UP else text for text in texts]
                out += [found.path for text in plain if (found := rule_loads.load(text)) is not None]
        return [path for path in out if path.startswith("/etc/") and ".." not in path][:MOST_CONFIG_FILES]

    def _expand(self, pattern: str) -> list[str]:
        if not pattern.startswith("/"):
            pattern = f"/etc/ssh/{pattern}"
        return paths.expand(pattern, self.names, lambda path: self.visit(path, Purpose.NAME) is not None)

    def accounts(self, per_account: list[tuple[Purpose, str]]) -> None:
        """The files of each account; `per_account` are values of settings with tokens in them."""
        content = self.entries.get("/etc/passwd", ABSENT).content
        if content is None:
            return
        records = (*account_files.first(accounts.passwd(content)), *self.others)
        for path, use in account_files.wanted(records, per_account, self.entries):
            if path.startswith("/"):
                # Settings are read where an account's own file holds them, not where a link of its leads to root's.
                leads_away = use is Purpose.TEXT and self._real(path) not in (path, None)
                self.visit(path, Purpose.NAME if leads_away and self.is_roots_alone(path) else use)
        for record in records:
            if record.home.startswith("/") and self.visit(f"{record.home}/.ssh", Purpose.NAME):
                for name in self.names(f"{record.home}/.ssh"):
                    self.visit(f"{record.home}/.ssh/{name}", in_account(name))


def _above(path: str) -> Iterator[str]:
    while path:
        yield path
        path = path.rpartition("/")[0]


def _homed(word: str) -> str:
    try:
        return expand_home(word)
    except ValueRefusal:
        return word
