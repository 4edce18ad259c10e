"""Secrets that a caller shows to get in, and needs: secrets that must all be shown."""

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
class UnknownSecret:
    """Something that has to be shown and can't be read from files."""

    why: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class ScreenPassword:
    """The password of a screen, which is no account's: that in a `file` of a guest."""

    guest: str
    file: str


@dataclass(frozen=True, slots=True)
class Code:
    """A one-time code of an account, where `realm` is the guest or the directory that checks it."""

    realm: str
    account: str


@dataclass(frozen=True, slots=True)
class ClientCertificate:
    """A TLS client's certificate: the authority that signed it, by fingerprint, and the name in it."""

    authority: str
    name: str


Secret = Key | Certificate | Password | ScreenPassword | Code | ClientCertificate | UnknownSecret
Need = frozenset[Secret]
