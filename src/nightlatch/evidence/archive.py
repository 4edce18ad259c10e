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
import tarfile
import tempfile
import zlib
from datetime import datetime
from hashlib import sha256
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from nightlatch.evidence.snapshot import Entry, Kind, Snapshot
from nightlatch.faults import UnreadableError

FORMAT = "nightlatch/evidence/1"
LARGEST_META = 32 << 20
LARGEST_FILE = 4 << 20
LARGEST_TOTAL = 128 << 20
SUFFIX = ".evidence.tar.gz"
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
        "format": FORMAT, "tool": tool, "guest": snapshot.guest,
        "taken": taken.isoformat(timespec="seconds"), "transport": transport,
        "listed": sorted(snapshot.listed), "notes": list(snapshot.notes),
        "entries": {path: _meta_entry(entry) for path, entry in entries.items()},
        "facts": {name: text for name, text in snapshot.facts.items() if name not in OWN_FACTS},
        "listings": {name: sha256(raw).hexdigest() for name, raw in sorted(snapshot.listings.items())},
    }  # fmt: skip
    buffer = io.BytesIO()
    with (
        gzip.GzipFile(fileobj=buffer, mode="wb", mtime=0, compresslevel=6) as packed,
        tarfile.open(fileobj=packed, mode="w", format=tarfile.PAX_FORMAT, errors="surrogateescape") as tar,
    ):
        text = json.dumps(meta, indent=1, sort_keys=False).encode()
        _add(tar, "meta.json", 0o600, 0, 0, text)
        for path, entry in entries.items():
            name = "root" + path.rstrip("/")
            if entry.kind is Kind.FILE and entry.content is not None:
                _add(tar, name, entry.mode & 0o777, entry.uid, entry.gid, entry.content)
        for name, raw in sorted(snapshot.listings.items()):
            _add(tar, f"listings/{name}", 0o600, 0, 0, raw)
    return buffer.getvalue()


def _add(tar: tarfile.TarFile, name: str, mode: int, uid: int, gid: int, content: bytes) -> None:
    info = tarfile.TarInfo(name)
    info.mode, info.uid, info.gid, info.size = mode, uid, gid, len(content)
    tar.addfile(info, io.BytesIO(content))


def _meta_entry(entry: Entry) -> dict[str, object]:
    out: dict[str, object] = {"kind": entry.kind.value}
    if entry.kind is Kind.ABSENT:
        return out
    out.update(mode=f"{entry.mode:04o}", uid=entry.uid, gid=entry.gid)
    if entry.kind is Kind.FILE:
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
        with tarfile.open(path, mode="r|gz", errors="surrogateescape") as tar:
            return _read(tar, path)
    except FileNotFoundError:
        raise UnreadableError(f"{path}: there is no such archive") from None
    except (tarfile.TarError, OSError, EOFError, zlib.error, UnicodeError) as error:
        raise UnreadableError(f"{path} is no evidence archive, or it is damaged: {error}") from None


def _read(tar: tarfile.TarFile, path: Path) -> Snapshot:
    meta: Meta | None = None
    contents: dict[str, bytes] = {}
    listings: dict[str, bytes] = {}
    total = 0
    for member in tar:
        limit = LARGEST_META if meta is None else LARGEST_FILE
        total += max(0, member.size)
        if not 0 <= member.size <= limit or total > LARGEST_TOTAL:
            raise UnreadableError(f"{path} holds more than is read: {member.size} bytes in one file")
        stream = tar.extractfile(member) if member.isreg() else None
        raw = stream.read() if stream else b""
        if meta is None:
            meta = _meta(member.name, raw, path)
        elif stream and member.name.startswith("root/"):
            contents[member.name[4:]] = raw
        elif stream and member.name.startswith("listings/"):
            listings[member.name[9:]] = raw
    if meta is None:
        raise UnreadableError(f"{path} is no evidence archive: it is empty")
    entries = {name: _entry(name, each, contents, path) for name, each in meta.entries.items()}
    facts = {**meta.facts, "tool": meta.tool, "taken": meta.taken, "transport": meta.transport}
    for name, digest in meta.listings.items():
        if sha256(listings.get(name, b"")).hexdigest() != digest:
            raise UnreadableError(f"{path} was changed after it was made: listing {name} differs from its digest")
    told = {name: listings[name] for name in meta.listings if name in listings}
    return Snapshot(meta.guest, entries, frozenset(meta.listed), tuple(meta.notes), facts, told)


def _meta(name: str, raw: bytes, path: Path) -> Meta:
    if name != "meta.json":
        raise UnreadableError(f"{path} is no evidence archive: it does not begin with meta.json")
    try:
        return Meta.model_validate_json(raw)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        raise UnreadableError(f"{path} has a meta.json that can't be read: {where}: {first['msg']}") from None


def _entry(name: str, meta: MetaEntry, contents: dict[str, bytes], path: Path) -> Entry:
    if not name.startswith("/") or "//" in name or any(part in (".", "..") for part in name.split("/")):
        raise UnreadableError(f"{path} names a path that is none: {name!r}")
    content = contents.get(name) if meta.kind == "file" and meta.sha256 else None
    entry = Entry(
        Kind(meta.kind), int(meta.mode, 8), meta.uid, meta.gid, meta.size, content, meta.target, meta.note, meta.reduced,
        meta.changed,
    )  # fmt: skip
    if meta.sha256 and entry.digest != meta.sha256:
        raise UnreadableError(f"{path} was changed after it was made: {name} differs from its digest")
    return entry
