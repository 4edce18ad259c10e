"""Accounts that a running guest has from elsewhere than its files, as its own getent(1) and id(1) told the collector.

A line each: `asked NAME`, `account` and a record of passwd(5), `shadow` and one of shadow(5) without its hash, `gids NAME
NUMBER...`, `group` and a record of group(5); `whole` where every account was asked for that can come from there.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field

from nightlatch.formats import accounts
from nightlatch.formats.accounts import GroupRecord, Passwd, Shadow

MOST = 1000


@dataclass(frozen=True, slots=True)
class DirectoryListing:
    """The names that were `asked` for, the accounts that are there, their records of shadow(5) where there are any, the group
    numbers of each, and these groups' names."""

    asked: frozenset[str] = frozenset()
    accounts: tuple[Passwd, ...] = ()
    shadows: Mapping[str, Shadow] = field(default_factory=dict)
    gids: Mapping[str, tuple[int, ...]] = field(default_factory=dict)
    groups: Mapping[int, str] = field(default_factory=dict)
    whole: bool = False


def parse(raw: bytes) -> DirectoryListing:
    """The listing; lines of no such kind are left out, for a guest may print anything."""
    told: dict[str, list[str]] = {"asked": [], "account": [], "shadow": [], "gids": [], "group": []}
    for line in raw.decode("utf-8", "surrogateescape").split("\n")[: 8 * MOST]:
        kind, _, rest = line.partition(" ")
        if kind in told and rest:
            told[kind].append(rest)
    records = accounts.passwd("\n".join(told["account"][:MOST]).encode("utf-8", "surrogateescape"))
    shadows = accounts.shadow("\n".join(told["shadow"][:MOST]).encode("utf-8", "surrogateescape"))
    groups = accounts.group("\n".join(told["group"]).encode("utf-8", "surrogateescape"))
    gids: dict[str, tuple[int, ...]] = {}
    for text in told["gids"]:
        name, *numbers = text.split(" ")
        gids[name] = tuple(int(each) for each in numbers if re.fullmatch(r"[0-9]{1,10}", each))
    return DirectoryListing(
        frozenset(told["asked"]),
        tuple(each for each in records if isinstance(each, Passwd)),
        {each.name: each for each in shadows if isinstance(each, Shadow)},
        gids,
        {each.gid: each.name for each in groups if isinstance(each, GroupRecord)},
        raw.startswith(b"whole\n"),
    )
