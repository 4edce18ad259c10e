"""`new --into`: guests that an estate file lacks are read and added to it, with what they let in that it does not say.

Every byte that is there stays: entries are added behind the others of their section, and the result is loaded and held against
the same evidence before it takes the file's place.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from itertools import count
from pathlib import Path

from nightlatch.access.differences import find_holes
from nightlatch.access.grants import address_spaces, expand
from nightlatch.access.paths import GuestAccess, guest_access
from nightlatch.describe import holders as holding
from nightlatch.describe import sentences, text
from nightlatch.describe.holders import Holder, Holders
from nightlatch.describe.sentences import SentenceSet
from nightlatch.estate import editing
from nightlatch.estate.load import load as load_estate
from nightlatch.estate.model import Estate
from nightlatch.estate.whole_file import rewrite
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.faults import EstateError, NightlatchError, RefusedError, UnreadableError, words_of, work_on
from nightlatch.model.paths import AccessPath
from nightlatch.model.secrets import Key
from nightlatch.ops.describe import guest_line, left_of, put_keys
from nightlatch.ops.survey import client_for, survey_target
from nightlatch.readings import guest as readings
from nightlatch.transports import targets
from nightlatch.transports.ssh import Client

__all__ = ["Addition", "add_guests"]


@dataclass(frozen=True, slots=True)
class Known:
    """A guest that is in the file already, by its name there; `rebuilt` says that it has other host keys than the file has."""

    target: str
    guest: str
    rebuilt: bool = False


@dataclass(frozen=True, slots=True)
class Addition:
    """What was added to a file: guests, people and sentences, and files of keys; what no sentence can say, and what an audit of
    the new guests still finds. `known` are targets that are in it already, `unread` those of which nothing was read."""

    path: Path
    guests: tuple[str, ...] = ()
    people: tuple[str, ...] = ()
    grants: int = 0
    keys: tuple[Path, ...] = ()
    known: tuple[Known, ...] = ()
    unread: tuple[tuple[str, str], ...] = ()
    unsaid: tuple[str, ...] = ()
    left: tuple[str, ...] = ()


def add_guests(
    path: Path, names: Sequence[str], at: datetime, *, client: Client | None = None, pins: tuple[str, ...] = ()
) -> Addition:
    """Add guests to the estate file at `path`. Nothing is written where all of them are in it already.

    Raises EstateError for a file that can't be used, RefusedError where it can't be edited safely, UnreadableError when nothing
    could be read.
    """
    estate, before = load_estate(path), path.read_bytes().decode()
    unique = holding.Unique()
    unique.taken |= set(estate.guests)
    new: list[tuple[GuestAccess, text.GuestLine]] = []
    known, unread = [], []
    for name, snapshot in _surveyed(names, client, pins):
        if isinstance(snapshot, str):
            unread.append((name, snapshot))
            continue
        there = _in_there(estate, name, snapshot)
        if there is not None:
            known.append(there)
            continue
        label = unique(holding.name_from(snapshot.guest, "guest"))
        with work_on(name):
            access = guest_access(readings.read(replace(snapshot, guest=label)), at)
            new.append((access, _managed(estate, access, guest_line(name, label, access, path.parent))))
    if not new and not known:
        raise UnreadableError("\n".join(f"{name}: {problem}" for name, problem in unread) or "no guest was named")
    done = Addition(path, known=tuple(known), unread=tuple(unread))
    return _added(estate, before, new, at, done) if new else done


def _surveyed(names: Sequence[str], client: Client | None, pins: tuple[str, ...]) -> Iterator[tuple[str, Snapshot | str]]:
    with client_for(client) as using:
        for name in filter(targets.is_live, names):
            targets.of_target(name, using, pins)  # a slip of the hand is told before anything is read
        for name in names:
            try:
                with work_on(name):
                    yield name, survey_target(name, client=using, pins=pins)
            except (NightlatchError, OSError) as error:
                yield name, words_of(error)


def _in_there(estate: Estate, target: str, snapshot: Snapshot) -> Known | None:
    """The guest of the file that this one is: by its host keys, else by its name."""
    prints = {key.fingerprint for key in readings.read(snapshot).host_keys}
    label = holding.name_from(snapshot.guest, "guest")
    there = estate.guests.get(label)
    if there is not None:
        return Known(target, label, rebuilt=bool(prints and there.host_keys and not prints & set(there.host_keys)))
    return next((Known(target, name) for name, spec in estate.guests.items() if prints & set(spec.host_keys)), None)


def _added(
    estate: Estate, before: str, new: Sequence[tuple[GuestAccess, text.GuestLine]], at: datetime, done: Addition
) -> Addition:
    path = done.path
    made = before
    for _, line in new:
        made = editing.with_entry(made, "guests", line.name, text.guest_value(line), str(path))
    with_guests = _loaded(path, made)
    uncovered = [_uncovered(access, with_guests, at) for access, _ in new]
    holders = holding.found_in(uncovered, _held(estate))
    said = sentences.of(uncovered, holders)
    used = {sentence.who for sentence in said.sentences}
    people = [each for each in holders.people if each.name in used and each.name not in estate.principals]
    for label, _ in holders.authorities.values():
        if label not in estate.authorities and any(
            each.authority and holders.authorities[each.authority][0] == label for each in people
        ):
            made = editing.with_entry(made, "authorities", label, f"keys/authority-{label}.pub", str(path))
    for each in people:
        made = editing.with_entry(made, "people", each.name, text.person_value(each, holders), str(path))
    places = text.Places(said.sentences)
    for name, value in _named(places, said, estate):
        made = editing.with_entry(made, "places", name, value, str(path))
    for value in text.sentence_values(said, places):
        made = editing.with_sentence(made, "grants", value, str(path))
    files = {name: key.line + "\n" for name, key in text.key_files(_only(holders, people)).items()}
    there = {name for name in files if (path.parent / name).exists()}
    keys = put_keys(path.parent, files)
    try:
        after = _loaded(path, made)
        rewrite(path, before.encode(), made.encode())
    except NightlatchError:
        for name in files.keys() - there:  # nothing half done
            (path.parent / name).unlink(missing_ok=True)
        raise
    return replace(
        done,
        guests=tuple(line.name for _, line in new),
        people=tuple(each.name for each in people),
        grants=len(said.sentences),
        keys=keys,
        unsaid=tuple(_unsaid(said)),
        left=left_of(after, [access for access, _ in new], at),
    )


def _loaded(path: Path, made: str) -> Estate:
    """The estate that the new text says. Raises RefusedError where it says nothing that holds."""
    staged = path.with_name(f".{path.name}.adding")
    try:
        staged.write_text(made, encoding="utf-8")
        return replace(load_estate(staged), path=path)
    except EstateError as error:
        raise RefusedError(f"{path} can't be edited so that it still holds: {error.words}") from None
    finally:
        staged.unlink(missing_ok=True)


def _uncovered(access: GuestAccess, estate: Estate, at: datetime) -> GuestAccess:
    """The guest with the ways in that no grant of the file covers yet; what one login gives stays together."""
    spaces = address_spaces(estate)
    lifted = guest_access(access.reading, at, spaces)
    open_ = {_login(hole.path) for hole in find_holes(lifted.paths, expand(estate, access.guest, at))}
    return replace(access, paths=tuple(path for path in access.paths if _login(path) in open_))


def _named(places: text.Places, said: SentenceSet, estate: Estate) -> Iterator[tuple[str, str]]:
    """Places that the sentences need: those of the file where they are the same addresses, else new ones under free names."""
    own = {place.seen: name for name, place in estate.places.items() if place.inside is None}
    free = (f"place-{number}" for number in count(1) if f"place-{number}" not in {*estate.places, *estate.networks})
    for sources in dict.fromkeys(each.sources for each in said.sentences):
        if sources in own:
            places.named[sources] = own[sources]
        elif sources in places.named:
            places.named[sources] = next(free)
            yield places.named[sources], text.addresses(sources)


def _managed(estate: Estate, access: GuestAccess, line: text.GuestLine) -> text.GuestLine:
    """The line with management access as other guests of the file have it, where this guest takes that key, too."""
    opens = {(path.account, path.need) for path in access.paths}
    for spec in estate.guests.values():
        key, folder = spec.via.key, estate.path.parent.resolve()
        if key is None or spec.via.key_path is None or (spec.via.account, frozenset([Key(key.fingerprint)])) not in opens:
            continue
        if not line.via.startswith("{") or " as: " in line.via:
            return line
        parts = [
            f"as: {text.quoted(spec.via.account)}",
            f"key: {text.quoted(os.path.relpath(spec.via.key_path.resolve(), folder))}",
        ]
        parts += [f"from: [{', '.join(text.quoted(ref.text) for ref in spec.via.places)}]"] if spec.via.places else []
        return replace(line, via=f"{line.via[:-1]}, {', '.join(parts)}}}")
    return line


def _login(path: AccessPath) -> tuple[object, ...]:
    return (path.service, path.account, path.need)


def _held(estate: Estate) -> Holders:
    """The people of the file, as holders that are known already."""
    out = Holders([], {}, {}, {}, {})
    for label, key in estate.authorities.items():
        out.authorities[key.fingerprint] = (label, key)
    for name, person in estate.principals.items():
        holder = Holder(name, {key.fingerprint: key for key in person.keys})
        for key in person.keys:
            out.by_key.setdefault(key.fingerprint, holder)
        if person.certificate is not None:
            authority = estate.authorities[person.certificate.authority].fingerprint
            for principal in person.certificate.principals:
                out.by_certificate.setdefault((authority, principal), holder)
        out.by_account.setdefault(name, holder)
        out.people.append(holder)
    return out


def _only(holders: Holders, people: Sequence[Holder]) -> Holders:
    """The new people and authorities alone: their keys are written."""
    needed = {each.authority for each in people if each.authority}
    return replace(holders, people=list(people), authorities={p: each for p, each in holders.authorities.items() if p in needed})


def _unsaid(said: SentenceSet) -> Iterator[str]:
    yield from dict.fromkeys(f"{each.guest}: {each.text} ({each.origin})" for each in said.unsaid)
