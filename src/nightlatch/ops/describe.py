"""`new --from`: read guests, describe what they grant today as an estate file, and hold that file against them."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path

from nightlatch.access.paths import GuestAccess, guest_access
from nightlatch.audit.findings import Group
from nightlatch.describe import holders as holding
from nightlatch.describe import sentences, text
from nightlatch.estate.load import load as load_estate
from nightlatch.estate.model import Estate
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import NightlatchError, OwnFaultError, RefusedError, UnreadableError, words_of, work_on
from nightlatch.ops.audit import Auditor
from nightlatch.ops.survey import client_for, survey_target
from nightlatch.readings import guest as readings
from nightlatch.transports import by_hand, targets
from nightlatch.transports.ssh import Client

__all__ = ["Description", "describe"]

HOLES = (Group.HOLE, Group.SHUT_OUT)


@dataclass(frozen=True, slots=True)
class Description:
    """What was written: the files, the guests in it and those not read, what no sentence can say.

    `left` are findings (holes, and people shut out) of an audit of the new file against the same evidence.
    """

    path: Path
    keys: tuple[Path, ...]
    guests: tuple[str, ...]
    grants: int
    people: int
    unread: tuple[tuple[str, str], ...]
    unsaid: tuple[str, ...]
    left: tuple[str, ...]


def describe(
    path: Path, names: Sequence[str], at: datetime, *, client: Client | None = None, pins: tuple[str, ...] = ()
) -> Description:
    """Write an estate file at `path`, with public keys in a folder beside it. Nothing that is there is overwritten.

    `names` are folders, archives, texts carried over by hand, and live targets. Raises RefusedError when a file is there
    already, NightlatchError for a word that names no target, UnreadableError when nothing could be read.
    """
    _free(path)
    found: dict[str, Snapshot | str] = {}
    with client_for(client) as using:
        for name in filter(targets.is_live, names):
            targets.of_target(
                name, using, pins
            )  # a word that names no target is a slip of the hand, not a guest that could not be read
        for name in names:
            try:
                with work_on(name):
                    found[name] = survey_target(name, client=using, pins=pins)
            except (NightlatchError, OSError) as error:
                found[name] = words_of(error)
    unique = holding.Unique()
    read = []
    for name, snapshot in found.items():
        if isinstance(snapshot, str):
            continue
        label = unique(holding.name_from(snapshot.guest, "guest"))
        try:
            with work_on(name):
                access = guest_access(readings.read(replace(snapshot, guest=label)), at)
                read.append((access, guest_line(name, label, access, path.parent)))
        except OwnFaultError as error:
            found[name] = error.words
    unread = tuple((name, each) for name, each in found.items() if isinstance(each, str))
    if not read:
        raise UnreadableError("\n".join(f"{name}: {problem}" for name, problem in unread) or "no guest was named")
    return replace(written(path, read, at), unread=unread)


def written(path: Path, read: Sequence[tuple[GuestAccess, text.GuestLine]], at: datetime) -> Description:
    """Write the estate file of guests whose access is known, and hold it against that access."""
    guests = [access for access, _ in read]
    holders = holding.found_in(guests)
    said = sentences.of(guests, holders)
    document = text.render(path.name, "My estate", at.date().isoformat(), [line for _, line in read], holders, said)
    keys = _write(path, document, {name: key.line + "\n" for name, key in text.key_files(holders).items()})
    unsaid = tuple(dict.fromkeys(f"{each.guest}: {each.text} ({each.origin})" for each in said.unsaid))
    used = {sentence.who for sentence in said.sentences}
    return Description(
        path,
        keys,
        tuple(line.name for _, line in read),
        len(said.sentences),
        len(used),
        (),
        unsaid,
        left_of(load_estate(path), guests, at),
    )


def _free(path: Path) -> None:
    if path.exists():
        raise RefusedError(f"{path} is there already; nothing was read or written")


def guest_line(name: str, label: str, access: GuestAccess, folder: Path) -> text.GuestLine:
    """The line of a guest under `guests`, with how it was got at now (`name`)."""
    reading = access.reading
    system = f"{reading.system}-{reading.release}" if reading.system and reading.release else ""
    system = system if re.fullmatch(r"[a-z0-9.-]{1,40}", system) else ""
    pins = tuple(dict.fromkeys(key.fingerprint for key in reading.host_keys if key.fingerprint.startswith("SHA256:")))
    service = f"openssh-server {reading.version}" if reading.version else ""
    return text.GuestLine(label, _via(name, folder), system, pins, service)


def _via(name: str, folder: Path) -> str:
    """How the estate gets at the guest: as it was got at now. Its account is what a live survey came in by."""
    if name == "here":
        return "here"
    if targets.is_live(name):
        found = targets.TARGET.fullmatch(name)
        assert found is not None
        host = found["alias"] or found["six"] or found["host"]
        parts = [f"ssh: {text.quoted(host)}"]
        parts += [f"port: {found['port']}"] if found["port"] else []
        parts += [f"as: {text.quoted(found['account'])}"] if found["account"] else []
        return "{" + ", ".join(parts) + "}"
    path = Path(name)
    kind = "folder" if path.is_dir() else "by_hand" if by_hand.is_output(path) else "evidence"
    relative = os.path.relpath(path.resolve(), folder.resolve())
    return f"{{{kind}: {text.quoted(relative)}}}"


def _write(path: Path, written: str, keys: dict[str, str]) -> tuple[Path, ...]:
    """The estate file and its keys; all names are looked at before the first byte is written."""
    files = put_keys(path.parent, keys)
    try:
        with path.open("x", encoding="utf-8") as stream:
            stream.write(written)
    except OSError as error:
        raise UnreadableError(f"{error.filename or path} can't be written: {error.strerror}") from None
    return files


def put_keys(folder: Path, keys: dict[str, str]) -> tuple[Path, ...]:
    """Write public keys by their names below a folder, those that are not there. Raises RefusedError where another key is."""
    files = {folder / name: content for name, content in keys.items()}
    for each, content in files.items():
        if each.exists() and each.read_text() != content:
            raise RefusedError(f"{each} is there already, with another key; nothing was written")
    try:
        for each, content in files.items():
            each.parent.mkdir(exist_ok=True)
            if not each.exists():
                each.write_text(content)
    except OSError as error:
        raise UnreadableError(f"{error.filename or folder} can't be written: {error.strerror}") from None
    return tuple(files)


def left_of(estate: Estate, guests: Sequence[GuestAccess], at: datetime) -> tuple[str, ...]:
    """The holes and shut-outs that an audit of the finished file finds on the evidence it was made from."""
    auditor = Auditor(estate, at)
    out = []
    for access in guests:
        found, _ = auditor.judged(access.reading.snapshot)
        out += [f"{found.guest}: {f.text}" for f in found.findings if f.group in HOLES and not f.waived]
    return tuple(out)
