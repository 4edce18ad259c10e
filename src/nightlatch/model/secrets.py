"""Secrets that a caller shows to get in, and needs: secrets that must all be shown."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

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


class Unknown(StrEnum):
    """What a secret that can't be read from files may turn out to be."""

    KEY = "key"
    CERTIFICATE = "certificate"
    PASSWORD = "password"
    ANYTHING = "anything"
    ANOTHER = "none of these"


@dataclass(frozen=True, slots=True)
class UnknownSecret:
    """Something that has to be shown and can't be read from files; `may_be` says which of the others it may be."""

    why: str
    origin: Origin
    may_be: Unknown = Unknown.ANOTHER


@dataclass(frozen=True, slots=True)
class ScreenPassword:
    """The password of a screen, which opens no account: that of the server that shows an account's session (`screen`) on a guest;
    or the other one, that lets have a `look` at it only. Which file holds it is for the guest to say."""

    guest: str
    screen: str
    look: bool = False


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

_MAY_BE: dict[Unknown, tuple[type, ...]] = {
    Unknown.KEY: (Key,),
    Unknown.CERTIFICATE: (Certificate,),
    Unknown.PASSWORD: (Password, Code),  # whatever is typed
    Unknown.ANYTHING: (Key, Certificate, Password, ScreenPassword, Code, ClientCertificate),
    Unknown.ANOTHER: (),
}


def may_open(asked: Need, shown: Need) -> bool:
    """Whether what is shown may be enough where something is asked that can't be read from files; no where all of it can."""
    unknown = {each for each in asked if isinstance(each, UnknownSecret)}
    if not unknown or not asked - unknown <= shown:
        return False
    return all(any(isinstance(each, _MAY_BE[one.may_be]) for each in shown) for one in unknown)
