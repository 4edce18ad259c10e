"""What is shown to get in: secrets, and needs, which are secrets that must all be shown."""

from __future__ import annotations

from dataclasses import dataclass

from nightlatch.origin import Origin


@dataclass(frozen=True, slots=True)
class Key:
    """The private half of a key, by its SHA256 fingerprint."""

    fingerprint: str


@dataclass(frozen=True, slots=True)
class Certificate:
    """A certificate that an authority (by fingerprint) signed for a principal; None is one that names no principal."""

    authority: str
    principal: str | None


@dataclass(frozen=True, slots=True)
class Password:
    """The password of an account, where `realm` is the guest or the directory that knows it."""

    realm: str
    account: str


@dataclass(frozen=True, slots=True)
class Unknown:
    """Something that has to be shown and can't be read from files."""

    why: str
    origin: Origin


Secret = Key | Certificate | Password | Unknown
Need = frozenset[Secret]
