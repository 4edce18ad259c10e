"""One way in, in words: what is shown, from where, and the place of the line that lets in."""

from __future__ import annotations

from nightlatch.audit.answers import WayIn
from nightlatch.audit.names import Names
from nightlatch.model.causes import Cause, KeyLine, PrincipalLine
from nightlatch.model.secrets import Key, Password, Secret
from nightlatch.origin import Kind


def shown_by(way: WayIn, names: Names) -> str:
    """What has to be shown."""
    if not way.shown:
        return "nothing asked"
    words = [_secret(each, way, names) for each in sorted(way.shown, key=lambda each: not isinstance(each, Key))]
    return " and ".join(words)


def _secret(secret: Secret, way: WayIn, names: Names) -> str:
    """A secret in words. What a guest calls a key goes for its own lines only, and the estate's name for it comes first."""
    match secret:
        case Key(fingerprint):
            own = (each.comment for each in way.causes if isinstance(each, KeyLine) and each.fingerprint == fingerprint)
            return f"key {names.comments.get(fingerprint) or next(filter(None, own), '') or fingerprint}"
        case Password(_, account):
            return f"password of {account}"
    return names.secret(secret)


def where_from(way: WayIn) -> str:
    """From where it opens."""
    if not way.certain.prefixes:
        return f"{way.possible.text}, perhaps"
    return f"{way.certain.text}, perhaps also {way.possible.text}" if way.possible.prefixes else way.certain.text


def place_of(way: WayIn) -> str:
    """Where the proof stands, or the line that asks for it."""
    places = [_at(each) for each in sorted(way.causes, key=lambda cause: not isinstance(cause, (KeyLine, PrincipalLine)))]
    return next(filter(None, places), "")


def _at(cause: Cause) -> str:
    return str(cause.origin) if cause.origin.kind in (Kind.FILE, Kind.DEFAULT, Kind.LISTING) else ""
