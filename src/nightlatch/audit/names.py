"""How sources, secrets and people are named in sentences."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace

from nightlatch.access.arrivals import subnets
from nightlatch.access.grants import sources_of
from nightlatch.access.paths import GuestAccess
from nightlatch.estate.model import Estate
from nightlatch.formats import authorized_keys, krl
from nightlatch.formats.authorized_keys import KeyEntry
from nightlatch.model.paths import AccessPath
from nightlatch.model.powers import Power, PowerKind
from nightlatch.model.secrets import (
    Certificate,
    ClientCertificate,
    Code,
    Key,
    Need,
    Password,
    ScreenPassword,
    Secret,
    UnknownSecret,
)
from nightlatch.model.services import SSH
from nightlatch.model.sockets import CONSOLE
from nightlatch.model.sources import COMMON, Sources, common_to, joined, without
from nightlatch.net.addresses import (
    ALL_V4,
    ALL_V6,
    EVERY_ADDRESS,
    LOOPBACK,
    NO_ADDRESS,
    AddressSet,
    single,
    span,
    union,
)
from nightlatch.net.literal import address_or_none, parse_network
from nightlatch.readings.latch import OnLatch

MOST_PREFIXES, MOST_LEFT_OUT = 4, 2


@dataclass(frozen=True)
class Names:
    """Names of places, keys, authorities and private networks, all addresses that the estate speaks of, and the fingerprints of
    keys that it revokes; empty without one."""

    places: Mapping[str, Sources] = field(default_factory=dict)
    owners: Mapping[str, str] = field(default_factory=dict)
    comments: Mapping[str, str] = field(default_factory=dict)
    authorities: Mapping[str, str] = field(default_factory=dict)
    networks: Mapping[str, Sources] = field(default_factory=dict)
    known: AddressSet = NO_ADDRESS
    revoked: frozenset[str] = frozenset()
    _told: dict[tuple[object, ...], str] = field(default_factory=dict, compare=False, repr=False)

    def also(self, comments: Mapping[str, str]) -> Names:
        """These names and the comments of keys that one guest holds; the estate's own name for a key comes first."""
        return replace(self, comments={**comments, **self.comments})

    @property
    def everywhere(self) -> Sources:
        """All addresses in all address spaces."""
        return joined([{COMMON: EVERY_ADDRESS}, *self.places.values()])

    def where(self, sources: Sources) -> str:
        """A source set in words: place names where they fit, prefixes for the rest, or what is left out of everything."""
        key = tuple(sorted(sources.items(), key=lambda item: item[0]))
        if key not in self._told:
            self._told[key] = self._where(sources)
        return self._told[key]

    def _where(self, sources: Sources) -> str:
        # What a guest calls itself by is told only where there is nothing else.
        sources = without(sources, {COMMON: LOOPBACK}) or sources
        outside = without(self.everywhere, joined([sources, {COMMON: LOOPBACK}]))
        if not outside:
            return "anywhere"
        in_one = self._in_one_family(sources)
        if in_one:
            return in_one
        inside = self._words(sources)
        left_out = self._words(outside)
        if len(left_out) <= MOST_PREFIXES and (len(left_out) < len(inside) or not inside):
            return f"anywhere but {_and(left_out)}"
        return _and(inside) if inside else "nowhere"

    def _in_one_family(self, sources: Sources) -> str:
        """Sources of one family that leave out less of it than they hold; empty where that is not so."""
        for family, part in (("IPv4", ALL_V4), ("IPv6", ALL_V6)):
            if without(sources, dict.fromkeys(sources, part)):
                continue
            everywhere = common_to(self.everywhere, dict.fromkeys(self.everywhere, part))
            outside = without(everywhere, joined([sources, {COMMON: LOOPBACK}]))
            left_out = self._words(outside) if outside else []
            if _size(outside) < _size(sources) and len(left_out) <= MOST_PREFIXES:
                return f"anywhere but {_and(left_out)} ({family})" if left_out else f"anywhere ({family})"
        return ""

    def _words(self, sources: Sources) -> list[str]:
        names: list[str] = []
        rest = sources
        for name, place in self._parts():
            if place and not without(place, sources) and common_to(place, rest):
                names.append(name)
                rest = without(rest, place)
        for name, place in self.places.items():
            left_out = without(place, sources)
            inside = common_to(place, rest)
            if inside and left_out and len(place) == 1 and _is_little(left_out, inside):
                names.append(f"{name} except {_and(_spans(left_out))}")
                rest = without(rest, place)
        return names + _spans(rest)

    def _parts(self) -> Iterator[tuple[str, Sources]]:
        """Every place, whole first, then by family of addresses."""
        for name, place in (*self.places.items(), *self.networks.items()):
            yield name, place
        for name, place in self.places.items():
            for family, part in (("IPv4", ALL_V4), ("IPv6", ALL_V6)):
                yield f"{name} ({family})", common_to(place, dict.fromkeys(place, part))

    def inside(self, sources: Sources) -> tuple[str, ...]:
        """The names of places and private networks that lie wholly inside."""
        named = (*self.places.items(), *self.networks.items())
        return tuple(name for name, place in named if place and not without(place, sources))

    def need(self, need: Need) -> str:
        """The proofs of a need, in words."""
        if not need:
            return "nothing at all"
        return " and ".join(sorted(self.secret(secret) for secret in need))

    def secret(self, secret: Secret) -> str:
        """One secret in words, without anything secret in it."""
        match secret:
            case Key(fingerprint):
                return f"the key {self.key(fingerprint)}"
            case Certificate(authority, principal):
                of = self.authorities.get(authority, self.comments.get(authority, authority))
                return f"a certificate of {of} for {principal}" if principal else f"a certificate of {of} that names nobody"
            case Password(_, account):
                return f"the password of {account}"
            case ScreenPassword(_, screen, look):
                whose = "the console" if screen == CONSOLE else screen
                return f"the password for a look at the screen of {whose}" if look else f"the screen password of {whose}"
            case Code(_, account):
                return f"a one-time code of {account}"
            case ClientCertificate(authority, name):
                return f"a certificate of {self.authorities.get(authority, authority)} for {name}"
            case UnknownSecret(why):
                return f"something unknown ({why})"
        raise AssertionError(secret)

    def key(self, fingerprint: str) -> str:
        """A key by its comment or fingerprint, with its owner."""
        name = self.comments.get(fingerprint) or fingerprint
        owner = self.owners.get(fingerprint)
        told = [*([f"{owner}'s"] if owner else []), *(["revoked"] if fingerprint in self.revoked else [])]
        return f"{name} ({', '.join(told)})" if told else name


def comments_of(access: GuestAccess) -> dict[str, str]:
    """The comments of all keys that open the guest, by fingerprint."""
    out: dict[str, str] = {}
    files = dict.fromkeys(cause.origin.path for path in access.paths for cause in path.causes)
    for file in files:
        content = access.reading.snapshot.content(file)
        if content is not None and b" AAAA" in content:
            for line in authorized_keys.parse(content):
                if isinstance(line, KeyEntry) and line.key.comment:
                    out.setdefault(line.key.fingerprint, line.key.comment)
    return out


def spoken_of(estate: Estate) -> AddressSet:
    """Every address that the estate speaks of: places, networks, guests, and what grants and doors write out."""
    found = [place.seen for place in estate.places.values()]
    found += [subnets(each) for each in estate.networks.values()]
    placed = [*(spec.places for spec in estate.grants), *(kept.places for kept in estate.emergency)]
    placed += [guest.via.places for guest in estate.guests.values()]
    refs = [ref for places in placed for ref in places if not ref.is_anywhere]
    found += [sources_of(estate, [ref]).get(COMMON, NO_ADDRESS) for ref in refs]
    for guest in estate.guests.values():
        found += [parse_network(str(each.address.ip)) for each in guest.addresses]
        hosts = (address_or_none(text) for text in (guest.via.host, guest.dial))
        found += [single(each) for each in hosts if each is not None]
    return union(found)


def names_of(estate: Estate | None) -> Names:
    """The names that an estate gives; made once for all its guests."""
    if estate is None:
        return Names()
    places: dict[str, Sources] = {}
    for place in estate.places.values():
        sources: dict[str, object] = {COMMON: place.seen}
        if place.inside is not None:
            sources[place.name] = place.inside
        places[place.name] = sources  # type: ignore[assignment]
    owners: dict[str, str] = {}
    known: dict[str, str] = {}
    for person in estate.principals.values():
        for key in person.keys:
            owners[key.fingerprint] = person.name
            if key.comment:
                known[key.fingerprint] = key.comment
    for kept in estate.emergency:
        owners.update({key.fingerprint: kept.account for key in kept.keys})
    for guest in estate.guests.values():
        if guest.via.key is not None:
            owners.setdefault(guest.via.key.fingerprint, "Nightlatch")
    authorities = {key.fingerprint: name for name, key in estate.authorities.items()}
    own = {each.name: {each.name: subnets(each)} for each in estate.networks.values() if each.private}
    listed_keys = estate.revoked.listed if estate.revoked is not None else krl.EMPTY
    revoked = {key.fingerprint for person in estate.principals.values() for key in person.keys if listed_keys.has_key(key)}
    return Names(places, owners, known, authorities, own, spoken_of(estate), frozenset(revoked | listed_keys.fingerprints))


def listed(names: Iterable[str], most: int = 6) -> str:
    """Names joined for a sentence, shortened when there are many."""
    unique = list(dict.fromkeys(names))
    if len(unique) > most:
        return ", ".join(unique[: most - 1]) + f" and {len(unique) - most + 1} more"
    return _and(unique)


def pending(found: OnLatch) -> str:
    """A change that is not kept yet, and when it goes back: `on the latch, goes back in 4 min 10 s unless it is kept`."""
    if found.left is None:
        return "on the latch, and goes back unless it is kept"
    if found.left <= 0:
        return "on the latch, and its time is over: the guest is taking it back"
    minutes, seconds = divmod(found.left, 60)
    return f"on the latch, goes back in {f'{minutes} min ' if minutes else ''}{seconds} s unless it is kept"


def by(service: str) -> str:
    """The service in a sentence about what somebody gets; SSH is what is meant where none is named."""
    return "" if service == SSH.name else f" by {service}"


def powers(paths: Iterable[AccessPath]) -> str:
    """The powers of several paths in words, the strongest alone where it holds the rest."""
    return power_words(path.power for path in paths)


def power_words(powers: Iterable[Power]) -> str:
    """Powers in words, the strongest alone where it holds the rest."""
    found = set(powers)
    kinds = {power.gives for power in found}
    if PowerKind.ADMINISTER in kinds:
        return "a root shell" if PowerKind.SHELL in kinds else "root's rights"
    if PowerKind.DESKTOP in kinds:
        return "a desktop"
    if kinds == {PowerKind.VIEW}:
        return "a look at the screen"
    if PowerKind.SHELL in kinds:
        return "a shell"
    shown = sorted(str(power) for power in found)
    return _and(shown[:3]) if len(shown) <= 3 else f"{shown[0]}, {shown[1]} and more"


def _and(names: list[str]) -> str:
    return names[0] if len(names) == 1 else ", ".join(names[:-1]) + f" and {names[-1]}"


def _is_little(left_out: Sources, inside: Sources) -> bool:
    """Whether a place is better said with what is left out of it: a part or two, smaller than the rest."""
    parts = [span for addresses in left_out.values() for span in (*addresses.v4, *addresses.v6)]
    return len(parts) <= MOST_LEFT_OUT and _size(left_out) < _size(inside)


def _size(sources: Sources) -> int:
    return sum(high - low + 1 for addresses in sources.values() for low, high in (*addresses.v4, *addresses.v6))


def _spans(sources: Sources) -> list[str]:
    """Prefixes, and ranges where these are no prefix: the largest first, with the number of the rest."""
    found: list[tuple[int, str]] = []
    for space, addresses in sources.items():
        behind = f" behind {space}" if space else ""
        for version, spans in ((4, addresses.v4), (6, addresses.v6)):
            # A /24 counts for as much as a /120: else no network of IPv4 would ever be told before one of IPv6.
            found += [(high - low + 1 << (96 if version == 4 else 0), span(version, low, high) + behind) for low, high in spans]
    found.sort(key=lambda each: -each[0])
    out = [text for _, text in found[:MOST_PREFIXES]]
    rest = len(found) - len(out)
    return [*out, f"{rest} more"] if rest > 1 else [text for _, text in found[: MOST_PREFIXES + 1]]
