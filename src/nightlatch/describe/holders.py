"""Who holds what opens guests today: people guessed from keys that recur, authorities, and accounts with passwords.

The guess: a key that opens one account only, whatever the guest, belongs to the person of that account's name; a key
that opens several belongs to the one of them that is not root, or to a person of its own, named by its comment.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from nightlatch.access.paths import GuestAccess
from nightlatch.formats import authorized_keys
from nightlatch.formats.authorized_keys import KeyEntry
from nightlatch.formats.keys import KeyFault, PublicKey, decode
from nightlatch.model.secrets import Certificate, Code, Key, Password, ScreenPassword

RESERVED = frozenset(["anywhere"])


def name_from(text: str, fallback: str) -> str:
    """A name for the estate file: small letters, digits and dashes, a letter first."""
    made = re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")
    made = re.sub(r"^[^a-z]+", "", made)[:40].strip("-")
    return made if made and made not in RESERVED else fallback


class Unique:
    """Gives each name once."""

    def __init__(self) -> None:
        self.taken: set[str] = set()

    def __call__(self, wanted: str) -> str:
        made, number = wanted, 1
        while made in self.taken:
            number += 1
            made = f"{wanted}-{number}"
        self.taken.add(made)
        return made


@dataclass
class Holder:
    """One person of the estate to be: keys, and for certificates the authority and the principals."""

    name: str
    keys: dict[str, PublicKey] = field(default_factory=dict)
    authority: str = ""
    principals: list[str] = field(default_factory=list)
    why: str = ""


@dataclass
class Holders:
    """All of them, and how to find the holder of a secret."""

    people: list[Holder]
    authorities: dict[str, tuple[str, PublicKey]]
    by_key: dict[str, Holder]
    by_certificate: dict[tuple[str, str], Holder]
    by_account: dict[str, Holder]


def public_keys(access: GuestAccess) -> dict[str, PublicKey]:
    """Every public key in the files to which the guest's access paths are owed, by fingerprint."""
    out: dict[str, PublicKey] = {}
    for path in dict.fromkeys(cause.origin.path for each in access.paths for cause in each.causes):
        content = access.reading.snapshot.content(path)
        if content is not None and b" AAAA" in content:
            for key in _keys(content):
                out.setdefault(key.fingerprint, key)
    for word in _trusted(access):
        for key in _keys(access.reading.snapshot.content(word) or b""):
            out.setdefault(key.fingerprint, key)
    return out


def _trusted(access: GuestAccess) -> Iterator[str]:
    """Files of authorities that a setting names, in whatever Match block."""
    for directive in access.reading.sshd.directives:
        if directive.keyword == "trustedusercakeys" and directive.value[0].startswith("/"):
            yield directive.value[0]


def _keys(content: bytes) -> Iterator[PublicKey]:
    for entry in authorized_keys.parse(content):
        if isinstance(entry, KeyEntry):
            yield entry.key
    for line in content.decode("utf-8", "replace").splitlines():
        words = line.split(None, 2)
        if len(words) > 1 and not line.startswith("#"):
            try:
                key = decode(words[0], words[1])
            except KeyFault:
                continue
            yield PublicKey(key.algorithm, key.blob, words[2] if len(words) > 2 else "")


def found_in(guests: Iterable[GuestAccess], known: Holders | None = None) -> Holders:
    """The holders of all secrets that open any of the guests; those that are `known` come first."""
    guests = list(guests)
    keys: dict[str, PublicKey] = {}
    for access in guests:
        for fingerprint, key in public_keys(access).items():
            first = keys.setdefault(fingerprint, key)
            if key.comment and not first.comment:
                keys[fingerprint] = key
    opens: dict[str, dict[str, None]] = {}
    rights: dict[tuple[str, str], None] = {}
    accounts: dict[str, None] = {}
    for access in guests:
        for path in access.paths:
            for secret in path.need:
                match secret:
                    case Key(fingerprint):
                        opens.setdefault(fingerprint, {})[path.account] = None
                    case Certificate(authority, principal) if principal:
                        rights[(authority, principal)] = None
                    case Password(_, account) | Code(_, account) | ScreenPassword(_, account):
                        accounts[account] = None
    opened = {fingerprint: list(names) for fingerprint, names in opens.items()}
    return _made(keys, opened, list(rights), list(accounts), known or Holders([], {}, {}, {}, {}))


def _made(
    keys: dict[str, PublicKey], opens: dict[str, list[str]], rights: list[tuple[str, str]], accounts: list[str], out: Holders
) -> Holders:
    unique, labels = Unique(), Unique()
    unique.taken |= {each.name for each in out.people}
    labels.taken |= {label for label, _ in out.authorities.values()}
    for fingerprint, names in opens.items():
        if fingerprint not in keys or fingerprint in out.by_key:
            continue
        own = [name for name in names if name != "root"] or names
        if len(own) == 1:
            holder = _of_account(out, own[0], unique)
        else:
            wanted = name_from(keys[fingerprint].comment, "somebody")
            holder = Holder(unique(wanted), why=f"one key opens {', '.join(names)}")
            out.people.append(holder)
        holder.keys[fingerprint] = keys[fingerprint]
        out.by_key[fingerprint] = holder
    for authority, principal in rights:
        if authority not in keys or (authority, principal) in out.by_certificate:
            continue
        if authority not in out.authorities:
            label = labels(name_from(keys[authority].comment, "authority"))
            out.authorities[authority] = (label, keys[authority])
        holder = Holder(unique(name_from(principal, "holder")), authority=authority, principals=[principal])
        out.people.append(holder)
        out.by_certificate[(authority, principal)] = holder
    for account in accounts:
        _of_account(out, account, unique)
    return out


def _of_account(out: Holders, account: str, unique: Unique) -> Holder:
    if account not in out.by_account:
        holder = Holder(unique(name_from(account, "account")))
        out.by_account[account] = holder
        out.people.append(holder)
    return out.by_account[account]
