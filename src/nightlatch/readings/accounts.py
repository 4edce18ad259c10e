"""Accounts and groups of a guest, as its own files list them (passwd(5), group(5), shadow(5))."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace

from nightlatch.evidence.remembered import remembered
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.formats import accounts as formats
from nightlatch.formats import directory_listing
from nightlatch.formats.accounts import GroupRecord, Passwd, Shadow
from nightlatch.formats.directory_listing import DirectoryListing
from nightlatch.model.gaps import Gap
from nightlatch.origin import Kind, Origin


@dataclass(frozen=True, slots=True)
class Account:
    """One account. `groups` are names, the primary one first; `password` is the reduced field of shadow(5).

    `expires` and `changed` are days since 1970; `elsewhere` says that the guest has it from another source than its files, and
    `in_shadow` whether anything tells of its password. `origin` is the line of passwd, `password_origin` that of shadow.
    """

    name: str
    uid: int
    gid: int
    home: str
    shell: str
    groups: tuple[str, ...]
    password: str
    origin: Origin
    password_origin: Origin
    expires: int | None = None
    changed: int | None = None
    longest: int | None = None
    inactive: int | None = None
    gids: frozenset[int] = frozenset()
    in_shadow: bool = True
    elsewhere: bool = False

    @property
    def hash_method(self) -> str:
        """The method of a password hash that can open, empty where none can."""
        return formats.method(self.password)

    @property
    def has_empty_password(self) -> bool:
        """Whether no password at all is asked of this account."""
        return self.password == ""


@dataclass(frozen=True, slots=True)
class Accounts:
    """All accounts by name (the first line of a name counts, as for getpwnam(3)), and all groups. `elsewhere` says that there are
    other sources than files, of which those `asked` are known."""

    by_name: dict[str, Account] = field(default_factory=dict)
    groups: tuple[GroupRecord, ...] = ()
    gaps: tuple[Gap, ...] = ()
    elsewhere: bool = False
    asked: frozenset[str] = frozenset()

    def may_have(self, name: str) -> bool:
        """Whether an account that is not listed may be there all the same: from elsewhere than files, where it was not asked for,
        or because these were not read."""
        return name not in self.by_name and name not in self.asked and bool(self.gaps)

    def private_group_of(self, gid: int, uid: int) -> bool:
        """Whether no other account than those of `uid` is in the group `gid`: Debian's sshd trusts such groups."""
        group = next((g for g in self.groups if g.gid == gid), None)
        if group is None:
            return False
        primary = [a for a in self.by_name.values() if a.gid == gid]
        if any(account.uid != uid for account in primary):
            return False
        own = {a.name for a in self.by_name.values() if a.uid == uid}
        if group.members and (group.members[0] not in own or len(group.members) > 1):
            return False
        return bool(primary or group.members)


@remembered(256)
def read(snapshot: Snapshot) -> Accounts:
    """The accounts of the snapshot; what can't be read becomes a gap."""
    gaps: list[Gap] = []
    users = _of(snapshot, "/etc/passwd", formats.passwd, gaps)
    groups = tuple(g for g in _of(snapshot, "/etc/group", formats.group, gaps) if isinstance(g, GroupRecord))
    shadows = {s.name: s for s in _of(snapshot, "/etc/shadow", formats.shadow, gaps) if isinstance(s, Shadow)}
    by_gid: dict[int, str] = {}
    for group in groups:
        by_gid.setdefault(group.gid, group.name)
    member_of: dict[str, list[GroupRecord]] = {}
    for group in groups:
        for member in group.members:
            member_of.setdefault(member, []).append(group)
    out: dict[str, Account] = {}
    for record in users:
        if isinstance(record, Passwd) and record.name not in out:
            primary = by_gid.get(record.gid)
            others = member_of.get(record.name, [])
            names = dict.fromkeys([*([primary] if primary else []), *(group.name for group in others)])
            account = _account(record, shadows.get(record.name), tuple(names))
            gids = frozenset([record.gid, *(group.gid for group in others)])
            out[record.name] = replace(account, gids=gids)
    listing = directory_listing.parse(snapshot.listings.get("directory", b""))
    for each in _from_elsewhere(listing, by_gid):
        out.setdefault(each.name, each)
    beside = tuple(_directories(snapshot, listing))
    return Accounts(out, groups, (*gaps, *(() if listing.whole else beside)), bool(beside), listing.asked)


def _from_elsewhere(listing: DirectoryListing, by_gid: Mapping[int, str]) -> Iterator[Account]:
    """Accounts that the guest's own programs told. What their password is, only their source knows."""
    for record in listing.accounts:
        gids = dict.fromkeys([record.gid, *listing.gids.get(record.name, ())])
        names = (by_gid.get(gid) or listing.groups.get(gid) for gid in gids)
        where = Origin(f"getent passwd {record.name}", kind=Kind.LISTING)
        shadow = listing.shadows.get(record.name)
        # `*` comes as it is: pam_unix asks nothing of shadow then, and no password opens.
        field = "*" if record.password == "*" else "x"
        account = _account(replace(record, password=field), shadow, tuple(name for name in names if name))
        at = replace(where, path=f"getent shadow {record.name}") if shadow is not None else where
        yield replace(account, gids=frozenset(gids), elsewhere=True, origin=where, password_origin=at)


def _account(record: Passwd, shadow: Shadow | None, groups: tuple[str, ...]) -> Account:
    origin = Origin("/etc/passwd", record.line)
    common = (record.name, record.uid, record.gid, record.home, record.shell, groups)
    if record.password != "x":
        return Account(*common, record.password, origin, origin)
    if shadow is None:
        return Account(*common, "*", origin, Origin("/etc/shadow"), in_shadow=False)
    at = Origin("/etc/shadow", shadow.line)
    return Account(*common, shadow.password, origin, at, shadow.expires, shadow.changed, shadow.longest, shadow.inactive)


def _of(snapshot: Snapshot, path: str, parse: Callable[[bytes], formats.Records], gaps: list[Gap]) -> formats.Records:
    found = snapshot.resolve(path)
    if found.entry is None or found.entry.content is None:
        why = found.entry.note if found.entry and found.entry.note else "is not there"
        gaps.append(Gap("accounts", f"this file {why}", Origin(path)))
        return ()
    return parse(found.entry.content)


def _directories(snapshot: Snapshot, listing: DirectoryListing) -> Iterator[Gap]:
    """Other sources of accounts than files (nsswitch.conf(5))."""
    content = snapshot.content("/etc/nsswitch.conf") or b""
    for number, line in enumerate(content.split(b"\n"), 1):
        found = re.match(rb"passwd:\s*([^#]*)", line)
        if found:
            words = re.sub(rb"\[[^\]]*\]", b"", found[1]).decode("utf-8", "replace").split()
            others = [word for word in words if word not in ("files", "compat", "systemd", "altfiles")]
            if others:
                asked = f"; {len(listing.asked)} were asked for" if listing.asked else ""
                because = f"accounts also come from {', '.join(others)}, which no file here lists{asked}"
                yield Gap("accounts", because, Origin("/etc/nsswitch.conf", number))
