"""The evidence archive: one gzipped tar a guest, which a person can open.

`meta.json` comes first: tool version, time, transport, and a line for every path with mode, owner, digest and notes.
The files themselves follow under `root/` as they were, with their modes and owners; secrets are already reduced. What
programs on a live guest printed follows under `listings/`.
The same evidence gives the same bytes. Reading never unpacks anything to disk, and every digest is checked.
"""

from __future__ import annotations

import gzip
import io
import json
import os
import re
import tarfile
import tempfile
import zlib
from collections.abc import Callable
from datetime import datetime
from functools import lru_cache
from hashlib import sha256
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from nightlatch import versions
from nightlatch.evidence.members import Member, MemberFault, members
from nightlatch.evidence.snapshot import ABSENT, Entry, EntryKind, Snapshot
from nightlatch.faults import UnreadableError

META = "meta.json"
LARGEST_META = 32 << 20
LARGEST_FILE = 4 << 20
LARGEST_TOTAL = 128 << 20
AT_ONCE = 64 << 10
MOST_PATHS = 200_000
MOST_LISTINGS = 200
KINDS = {each.value: each for each in EntryKind}
NO_PATH = re.compile(r"//|/\.\.?(?:/|\Z)")
BYTE, WRITTEN = re.compile("[\udc80-\udcff]"), re.compile("\0([89a-f][0-9a-f])")
OWN_FACTS = ("tool", "taken", "transport")  # stand in meta.json by themselves


class MetaEntry(BaseModel):
    """One path in meta.json."""

    model_config = ConfigDict(extra="forbid", strict=True)
    kind: Literal["file", "folder", "link", "other", "absent"]
    mode: str = Field("0000", pattern=r"^[0-7]{4}$")
    uid: int = Field(0, ge=0)
    gid: int = Field(0, ge=0)
    size: int = Field(0, ge=0)
    sha256: str = Field("", pattern=r"^([0-9a-f]{64})?$")
    target: str = ""
    note: str = ""
    reduced: bool = False
    changed: int = Field(0, ge=0)


class Meta(BaseModel):
    """The whole of meta.json."""

    model_config = ConfigDict(extra="forbid", strict=True)
    format: Literal["nightlatch/evidence/1"]
    tool: str
    guest: str
    taken: str
    transport: str
    listed: list[str]
    notes: list[str]
    entries: dict[str, MetaEntry]
    facts: dict[str, str] = Field(default_factory=dict)
    listings: dict[str, str] = Field(default_factory=dict)


def write(snapshot: Snapshot, path: Path, *, tool: str, taken: datetime, transport: str) -> None:
    """Write the archive in one go: the file is there whole, or not at all. `taken` is aware. Raises OSError."""
    raw = pack(snapshot, tool=tool, taken=taken, transport=transport)
    descriptor, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
    try:
        with os.fdopen(descriptor, "wb") as stream:
            stream.write(raw)
            stream.flush()
            os.fsync(stream.fileno())
        os.replace(name, path)
    except BaseException:
        os.unlink(name)
        raise


def pack(snapshot: Snapshot, *, tool: str, taken: datetime, transport: str) -> bytes:
    """The bytes of the archive."""
    entries = {path: snapshot.entries[path] for path in sorted(snapshot.entries)}
    meta = {
        "format": versions.name("evidence"),
        "tool": tool,
        "guest": snapshot.guest,
        "taken": taken.isoformat(timespec="seconds"),
        "transport": transport,
        "listed": sorted(snapshot.listed),
        "notes": list(snapshot.notes),
        "entries": {path: _meta_entry(entry) for path, entry in entries.items()},
        "facts": {name: text for name, text in snapshot.facts.items() if name not in OWN_FACTS},
        "listings": {name: sha256(raw).hexdigest() for name, raw in sorted(snapshot.listings.items())},
    }
    buffer = io.BytesIO()
    text = json.dumps(_written(meta), indent=1, sort_keys=False).encode()
    with (
        gzip.GzipFile(fileobj=buffer, mode="wb", mtime=0, compresslevel=6) as packed,
        tarfile.open(fileobj=packed, mode="w", format=tarfile.GNU_FORMAT, encoding="utf-8", errors="surrogateescape") as tar,
    ):
        _add(tar, META, 0o600, 0, 0, text)
        for path, entry in entries.items():
            name = "root" + path.rstrip("/")
            if entry.kind is EntryKind.FILE and entry.content is not None:
                _add(tar, name, entry.mode & 0o777, entry.uid, entry.gid, entry.content)
        for name, raw in sorted(snapshot.listings.items()):
            _add(tar, f"listings/{name}", 0o600, 0, 0, raw)
    return buffer.getvalue()


def _written(value: Any) -> Any:
    """The value with bytes of names that are no UTF-8, surrogates here, as NUL and two digits: JSON can't hold them otherwise."""
    if isinstance(value, str):
        return BYTE.sub(lambda found: f"\0{ord(found[0]) - 0xDC00:02x}", value)
    if isinstance(value, dict):
        return {_written(name): _written(each) for name, each in value.items()}
    return [_written(each) for each in value] if isinstance(value, list) else value


def _name(text: str) -> str:
    """A text as `_written` had it."""
    return WRITTEN.sub(lambda found: chr(0xDC00 + int(found[1], 16)), text) if "\0" in text else text


def _add(tar: tarfile.TarFile, name: str, mode: int, uid: int, gid: int, content: bytes) -> None:
    info = tarfile.TarInfo(name)
    info.mode, info.uid, info.gid, info.size = mode, uid, gid, len(content)
    tar.addfile(info, io.BytesIO(content))


def _meta_entry(entry: Entry) -> dict[str, object]:
    out: dict[str, object] = {"kind": entry.kind.value}
    if entry.kind is EntryKind.ABSENT:
        return out
    out.update(mode=f"{entry.mode:04o}", uid=entry.uid, gid=entry.gid)
    if entry.kind is EntryKind.FILE:
        out.update(size=entry.size, sha256=entry.digest)
    if entry.changed:
        out["changed"] = entry.changed
    if entry.target:
        out["target"] = entry.target
    if entry.note:
        out["note"] = entry.note
    if entry.reduced:
        out["reduced"] = True
    return out


def read(path: Path) -> Snapshot:
    """The snapshot in an archive. Raises UnreadableError for anything that is no whole, honest archive."""
    try:
        if not path.is_file():
            raise UnreadableError(f"{path}: there is no such archive")
        if path.stat().st_size > LARGEST_TOTAL:
            raise UnreadableError(f"{path} is larger than any evidence archive that is read: {LARGEST_TOTAL >> 20} MiB")
        with gzip.open(path) as packed:
            return _read(io.BufferedReader(packed, AT_ONCE).read, path)
    except (MemberFault, OSError, EOFError, zlib.error, UnicodeError) as error:
        raise UnreadableError(f"{path} is no evidence archive, or it is damaged: {error}") from None


def _read(source: Callable[[int], bytes], path: Path) -> Snapshot:
    reading = _Reading(path)
    for member in members(source, reading.allowed):
        reading.take(member)
    meta = reading.meta
    if meta is None:
        raise UnreadableError(f"{path} is no evidence archive: it is empty")
    named = ((_name(name), each) for name, each in meta.entries.items())
    entries = {name: _entry(name, each, reading.bodies, path) for name, each in named}
    facts = {name: _name(text) for name, text in meta.facts.items()}
    facts |= {"tool": meta.tool, "taken": meta.taken, "transport": meta.transport}
    told = {name: reading.bodies.get(f"listings/{name}", b"") for name in meta.listings}
    for name, digest in meta.listings.items():
        if sha256(told[name]).hexdigest() != digest:
            raise UnreadableError(f"{path} was changed after it was made: listing {name} differs from its digest")
    listed, notes = frozenset(map(_name, meta.listed)), tuple(map(_name, meta.notes))
    return Snapshot(meta.guest, entries, listed, notes, facts, told)


class _Reading:
    """The members of one archive as they come: meta.json says which there are, and nothing else is read."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.meta: Meta | None = None
        self.awaited: set[str] = set()
        self.bodies: dict[str, bytes] = {}
        self.total = 0

    def allowed(self, name: str, size: int) -> None:
        """Before a member is read. Raises UnreadableError."""
        limit = LARGEST_META if self.meta is None else LARGEST_FILE
        self.total += size
        if size > limit or self.total > LARGEST_TOTAL:
            raise UnreadableError(f"{self.path} holds more than is read: {size} bytes in one file")
        if self.meta is None and name != META:
            raise UnreadableError(f"{self.path} is no evidence archive: it does not begin with {META}")
        if self.meta is not None and name not in self.awaited:
            raise UnreadableError(
                f"{self.path} was changed after it was made: {name[:200]!r} is not named in its {META}, or twice there"
            )
        self.awaited.discard(name)

    def take(self, member: Member) -> None:
        """A member that was read. Raises UnreadableError."""
        if not member.is_file:
            raise UnreadableError(f"{self.path} is no evidence archive: {member.name[:200]!r} is no regular file in it")
        if self.meta is not None:
            self.bodies[member.name] = member.body
            return
        self.meta = _meta(member.body, self.path)
        self.awaited = {
            f"root{_name(name)}" for name, entry in self.meta.entries.items() if entry.kind == "file" and entry.sha256
        }
        self.awaited |= {f"listings/{name}" for name in self.meta.listings}


def _meta(raw: bytes, path: Path) -> Meta:
    try:
        meta = Meta.model_validate_json(raw)
    except ValidationError as error:
        other = versions.unread("evidence", versions.of_json(raw) or versions.name("evidence"))
        if other:
            raise UnreadableError(f"{path}: {other}") from None
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        raise UnreadableError(f"{path} has a {META} that can't be read: {where}: {first['msg']}") from None
    if len(meta.entries) > MOST_PATHS or len(meta.listings) > MOST_LISTINGS:
        raise UnreadableError(f"{path} names more than is read: {len(meta.entries)} paths, {len(meta.listings)} listings")
    return meta


_alike = lru_cache(maxsize=8192)(Entry)  # most of what has no content is the same as something else


def _entry(name: str, meta: MetaEntry, bodies: dict[str, bytes], path: Path) -> Entry:
    if not name.startswith("/") or (("/." in name or "//" in name) and NO_PATH.search(name)):
        raise UnreadableError(f"{path} names something that is no path: {name!r}")
    if meta.kind == "absent" and meta.model_fields_set == {"kind"}:
        return ABSENT
    content = bodies.get(f"root{name}") if meta.kind == "file" and meta.sha256 else None
    entry = (Entry if content is not None else _alike)(
        KINDS[meta.kind],
        int(meta.mode, 8),
        meta.uid,
        meta.gid,
        meta.size,
        content,
        _name(meta.target),
        _name(meta.note),
        meta.reduced,
        meta.changed,
    )
    if meta.sha256 and entry.digest != meta.sha256:
        raise UnreadableError(f"{path} was changed after it was made: {name} differs from its digest")
    return entry
