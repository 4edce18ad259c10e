"""Suppositions: sentences about something that is not so yet, worked into the estate and into what was read of its guests.

Nothing is touched: an estate and evidence go in, others come out, as if files had been changed that way.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import TypeVar

from nightlatch.access.layers import Behind
from nightlatch.estate.model import Emergency, Estate, GrantSpec, NetworkSpec, Perimeter, PlaceRef, Principal, Via, Waiver
from nightlatch.evidence.snapshot import Entry, Snapshot
from nightlatch.faults import NightlatchError, nearest
from nightlatch.formats import authorized_keys, lines
from nightlatch.formats.authorized_keys import KeyEntry
from nightlatch.net.addresses import NO_ADDRESS
from nightlatch.origin import Kind, Origin
from nightlatch.readings import guest as readings
from nightlatch.readings.filters.places import NFT_LISTED
from nightlatch.readings.filters.rules import Rule, Rules
from nightlatch.readings.guest import GuestReading

Named = TypeVar("Named")
SENTENCES = (
    "person NAME leaves",
    "key SHA256:... is gone",
    "line PATH:LINE of GUEST is gone",
    "rule TEXT of GUEST is gone",
    "rule TEXT is gone",
    "place NAME is lost",
    "guest NAME is down",
)


@dataclass(frozen=True, slots=True)
class PersonLeaves:
    """A person or robot is no longer among those of the estate: no sentence names them, and nobody holds their keys."""

    name: str


@dataclass(frozen=True, slots=True)
class KeyGone:
    """A key is held by nobody any more, and no guest lists it."""

    fingerprint: str


@dataclass(frozen=True, slots=True)
class LineGone:
    """A line of a guest's file is not there; `guest` is empty for the only one."""

    path: str
    line: int
    guest: str = ""


@dataclass(frozen=True, slots=True)
class RuleGone:
    """A rule of a packet filter is not there, on one guest, or wherever it stands (`guest` empty); rows of perimeters, too."""

    text: str
    guest: str = ""


@dataclass(frozen=True, slots=True)
class PlaceLost:
    """Nobody calls from a place any more, and no sentence names it."""

    name: str


@dataclass(frozen=True, slots=True)
class GuestDown:
    """A guest is not there: nothing leads to it, nor to others through it."""

    name: str


Supposition = PersonLeaves | KeyGone | LineGone | RuleGone | PlaceLost | GuestDown


def parse(sentence: str, estate: Estate | None = None) -> Supposition:
    """A sentence as a supposition; without an estate, only those about a key, a line and a rule. Raises NightlatchError that
    lists all sentences, or the names that are meant."""
    text = _plain(sentence)
    for pattern, make in _FORMS:
        found = pattern.fullmatch(text)
        if found is not None:
            return make(found, estate)
    takes = "\n".join(f"      {each}" for each in SENTENCES)
    raise NightlatchError(f'"{sentence[:100]}" can\'t be supposed. The sentences are:\n{takes}')


def _person(found: re.Match[str], estate: Estate | None) -> Supposition:
    return PersonLeaves(_known(found[1], "person or robot", estate.principals if estate is not None else (), estate))


def _line(found: re.Match[str], estate: Estate | None) -> Supposition:
    guest = found[3] or ""
    if estate is None:
        return LineGone(found[1], int(found[2]))
    if not guest:
        raise NightlatchError(f'"{found[0][:100]}": of which guest? Write line {found[1]}:{found[2]} of GUEST is gone')
    return LineGone(found[1], int(found[2]), _known(guest, "guest", estate.guests, estate))


def _rule(found: re.Match[str], estate: Estate | None) -> Supposition:
    text, of, guest = found[1].rpartition(" of ")
    if estate is not None and of and guest in estate.guests:
        return RuleGone(text, guest)
    return RuleGone(found[1])


def _place(found: re.Match[str], estate: Estate | None) -> Supposition:
    return PlaceLost(_known(found[1], "place", estate.places if estate is not None else (), estate))


def _guest(found: re.Match[str], estate: Estate | None) -> Supposition:
    return GuestDown(_known(found[1], "guest", estate.guests if estate is not None else (), estate))


_FORMS: tuple[tuple[re.Pattern[str], Callable[[re.Match[str], Estate | None], Supposition]], ...] = (
    (re.compile(r"(?:person|robot) (\S+) leaves"), _person),
    (re.compile(r"key (SHA256:[A-Za-z0-9+/]{43}) is gone"), lambda found, _: KeyGone(found[1])),
    (re.compile(r"line (/.*):([0-9]{1,7})(?: of (\S+))? is gone"), _line),
    (re.compile(r"rule (.+) is gone"), _rule),
    (re.compile(r"place (\S+) is lost"), _place),
    (re.compile(r"guest (\S+) is down"), _guest),
)


def _known(name: str, what: str, names: Iterable[str], estate: Estate | None) -> str:
    if estate is None:
        raise NightlatchError(f'there is no {what} "{name[:60]}" without an estate file')
    listed = list(names)
    if name not in listed:
        near = nearest(name, listed)
        meant = f'; did you mean "{near}"?' if near else f" ({', '.join(listed[:20])})"
        raise NightlatchError(f'there is no {what} "{name[:60]}" in {estate.path}{meant}')
    return name


# The estate.


def of_estate(estate: Estate, supposed: Sequence[Supposition]) -> Estate:
    """The estate as it would be."""
    for each in supposed:
        match each:
            case PersonLeaves(name):
                estate = _without_person(estate, name)
            case KeyGone(fingerprint):
                estate = _without_key(estate, fingerprint)
            case PlaceLost(name):
                estate = _without_place(estate, name)
            case GuestDown(name):
                estate = _without_guest(estate, name)
            case RuleGone(text, ""):
                estate = _without_row(estate, text)
    return estate


def _without_person(estate: Estate, name: str) -> Estate:
    grants = (replace(each, who=tuple(who for who in each.who if who != name)) for each in estate.grants)
    teams = {key: replace(team, members=tuple(m for m in team.members if m != name)) for key, team in estate.teams.items()}
    return replace(
        estate,
        principals={key: person for key, person in estate.principals.items() if key != name},
        teams=teams,
        grants=tuple(each for each in grants if each.who),
        waivers=tuple(each for each in estate.waivers if each.person != name),
    )


def _without_key(estate: Estate, fingerprint: str) -> Estate:
    def fewer(of: Principal | Emergency) -> Principal | Emergency:
        return replace(of, keys=tuple(key for key in of.keys if key.fingerprint != fingerprint))

    def via(own: Via) -> Via:
        mine = own.key is not None and own.key.fingerprint == fingerprint
        return replace(own, key=None, key_path=None) if mine else own

    return replace(
        estate,
        principals={name: fewer(person) for name, person in estate.principals.items()},  # type: ignore[misc]
        emergency=tuple(fewer(each) for each in estate.emergency),  # type: ignore[misc]
        guests={name: replace(spec, via=via(spec.via)) for name, spec in estate.guests.items()},
    )


def _without_place(estate: Estate, name: str) -> Estate:
    def fewer(places: tuple[PlaceRef, ...]) -> tuple[PlaceRef, ...]:
        return tuple(ref for ref in places if ref.place != name)

    def placed(each: Named, places: tuple[PlaceRef, ...]) -> list[Named]:
        """The sentence with the places that are left; nothing where there were others and none is."""
        left = fewer(places)
        return [replace(each, places=left)] if left or not places else []  # type: ignore[type-var]

    def via(own: Via) -> Via:
        # Where nothing is left it can't be entered from anywhere, which is not the same as saying nothing of it.
        nowhere = (PlaceRef("nowhere", addresses=NO_ADDRESS),) if own.places and not fewer(own.places) else ()
        return replace(own, places=fewer(own.places) or nowhere)

    grants: list[GrantSpec] = [left for each in estate.grants for left in placed(each, each.places)]
    waivers: list[Waiver] = [left for each in estate.waivers for left in placed(each, each.places)]
    emergency = (replace(each, places=fewer(each.places)) for each in estate.emergency)
    return replace(
        estate,
        places={key: place for key, place in estate.places.items() if key != name},
        grants=tuple(grants),
        waivers=tuple(waivers),
        emergency=tuple(replace(each, proofs=each.proofs if each.places else ()) for each in emergency),
        guests={key: replace(spec, via=via(spec.via)) for key, spec in estate.guests.items()},
    )


def _without_guest(estate: Estate, name: str) -> Estate:
    def fewer(sentences: Iterable[Named]) -> tuple[Named, ...]:
        told = (replace(each, guests=tuple(g for g in each.guests if g != name)) for each in sentences)  # type: ignore[type-var,attr-defined]
        return tuple(each for each in told if each.guests)  # type: ignore[attr-defined]

    def network(of: NetworkSpec) -> NetworkSpec:
        return replace(of, forwards=tuple(each for each in of.forwards if each.guest != name))

    return replace(
        estate,
        guests={key: spec for key, spec in estate.guests.items() if key != name},
        grants=fewer(estate.grants),
        emergency=fewer(estate.emergency),
        waivers=fewer(estate.waivers),
        services=fewer(estate.services),
        networks={key: network(each) for key, each in estate.networks.items()},
    )


def _without_row(estate: Estate, text: str) -> Estate:
    """Rows of perimeters that say this are left out; whether there is one is asked where guests are looked through, too."""

    def fewer(of: Perimeter) -> Perimeter:
        return replace(of, rows=tuple(row for row in of.rows if not _says(row.text, row.origin, text)))

    def network(of: NetworkSpec) -> NetworkSpec:
        return replace(of, perimeters=tuple(map(fewer, of.perimeters)))

    return replace(estate, networks={name: network(each) for name, each in estate.networks.items()})


# A guest.


def of_guest(snapshot: Snapshot, supposed: Sequence[Supposition]) -> Snapshot:
    """The evidence of a guest as it would be. Raises NightlatchError where a line that is meant is not there."""
    for each in supposed:
        match each:
            case KeyGone(fingerprint):
                snapshot = _without_key_lines(snapshot, fingerprint)
            case LineGone(path, line, guest) if guest in ("", snapshot.guest):
                snapshot = _without_lines(snapshot, path, {line})
            case RuleGone(text, guest) if guest in ("", snapshot.guest):
                snapshot = _without_rule(snapshot, text, named=bool(guest))
    return snapshot


def _without_key_lines(snapshot: Snapshot, fingerprint: str) -> Snapshot:
    for path, entry in snapshot.entries.items():
        if entry.content and b" AAAA" in entry.content and not path.endswith(".pub"):
            held = [each for each in authorized_keys.parse(entry.content) if isinstance(each, KeyEntry)]
            mine = {each.number for each in held if each.key.fingerprint == fingerprint}
            if mine:
                snapshot = _without_lines(snapshot, path, mine)
    return snapshot


def _without_lines(snapshot: Snapshot, path: str, numbers: set[int]) -> Snapshot:
    real = snapshot.resolve(path)
    entry = real.entry
    if entry is None or entry.content is None:
        raise NightlatchError(f"nothing was read of a file {path[:200]}, so no line of it can be gone", guest=snapshot.guest)
    held = lines.split(entry.content)
    for number in numbers:
        if not 0 < number <= len(held):
            raise NightlatchError(f"{path[:200]} has {len(held)} lines, and no line {number}", guest=snapshot.guest)
    left = b"".join(_emptied(line) if number in numbers else line for number, line in enumerate(held, 1))
    return snapshot.with_files({real.path: _holding(entry, left)})


def _emptied(line: bytes) -> bytes:
    """A line that says nothing any more; it stays, so that the places of all others stay true."""
    return line[len(line.rstrip(b"\r\n")) :]


def _holding(entry: Entry, content: bytes) -> Entry:
    return replace(entry, content=content, size=len(content))


def _without_rule(snapshot: Snapshot, text: str, *, named: bool) -> Snapshot:
    reading = readings.read(snapshot)
    found = [each for each in _rules(reading) if _says(each.text, each.origin, text)]
    if not found:
        if named:
            raise NightlatchError(
                f'no rule says "{text[:200]}"; nightlatch exposure and why print the rules that decide', guest=snapshot.guest
            )
        return snapshot
    before = Counter(each.text for each in _rules(reading))
    without = _taken(snapshot, found)
    after = Counter(each.text for each in _rules(readings.read(without)))
    if before - after != Counter(each.text for each in found) or after - before:
        because = f'more stands where the rule "{text[:200]}" does, so it can\'t be left out alone'
        raise NightlatchError(because, guest=snapshot.guest)
    return without


def _taken(snapshot: Snapshot, rules: Iterable[Rule]) -> Snapshot:
    """The evidence without the lines of some rules, in files and in what programs listed."""
    of_file: dict[str, set[int]] = {}
    for rule in rules:
        if rule.origin.kind is Kind.FILE:
            of_file.setdefault(rule.origin.path, set()).add(rule.origin.line)
    for path, numbers in of_file.items():
        snapshot = _without_lines(snapshot, path, numbers)
    listed = [rule for rule in rules if rule.origin.kind is Kind.LISTING]
    if not listed:
        return snapshot
    return replace(snapshot, listings={name: _unlisted(name, raw, listed) for name, raw in snapshot.listings.items()})


def _unlisted(name: str, raw: bytes, rules: list[Rule]) -> bytes:
    """A listing without the lines of these rules. What nft printed has them at their numbers; of others a line says the same."""
    nft = {rule.origin.line for rule in rules if rule.origin.path == NFT_LISTED} if name == "rules" else set()
    others = {(rule.origin.line, _plain(rule.text)) for rule in rules if rule.origin.path != NFT_LISTED}
    out = []
    for number, line in enumerate(lines.split(raw), 1):
        mine = number in nft or (number, _plain(lines.text_of(line))) in others
        out.append(_emptied(line) if mine else line)
    return b"".join(out)


def _rules(reading: GuestReading) -> Iterator[Rule]:
    """Every rule of a guest's filters, those that are stored and not loaded among them, each once."""
    found = reading.filter
    sets: Behind = [*([found.rules] if found.rules is not None else []), *(each.rules for each in found.stored), *found.behind]
    seen: set[tuple[str, Origin]] = set()
    for rule in (rule for rules in sets for rule in _of(rules)):
        if rule.origin.line and (rule.text, rule.origin) not in seen:
            seen.add((rule.text, rule.origin))
            yield rule


def _of(rules: Rules) -> Iterator[Rule]:
    for chain in rules.chains.values():
        yield from chain.rules


def _says(text: str, origin: Origin, wanted: str) -> bool:
    """Whether a rule is the one that is meant, by its words or its place."""
    at = (f"{origin.path}:{origin.line}", f"{origin.path}:{origin.line}:{origin.column}")
    return _plain(text) == wanted or wanted in at


def _plain(words: str) -> str:
    """Words with one space between each two."""
    return " ".join(words.split())
