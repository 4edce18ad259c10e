"""One field of one record of passwd, group, shadow or gshadow changed, every other byte left as it is (passwd(5), group(5)).

Each function takes the bytes of a database and gives them back changed, or raises FieldFault where the record is not as it must
be. They work alike on reduced evidence and on the real files, whose secrets they move along and never look at.
"""

from __future__ import annotations

from collections.abc import Callable

from nightlatch.formats import lines as text_lines

Fields = list[bytes]


class FieldFault(ValueError):
    """A record is not as the change needs it; the message says why."""


def added(raw: bytes, fields: tuple[str, ...]) -> bytes:
    """A database with one more record at its end. Raises FieldFault where there is one of that name."""
    name = fields[0].encode()
    if _number(raw, name) is not None:
        raise FieldFault(f"there is a record of {fields[0]} already")
    end = b"" if not raw or raw.endswith(b"\n") else b"\n"
    return raw + end + ":".join(fields).encode() + b"\n"


def dropped(raw: bytes, fields: tuple[str, ...]) -> bytes:
    """A database without a record that must have just these fields; an empty one of `fields` may hold anything."""
    lines = text_lines.split(raw)
    number = _number(raw, fields[0].encode())
    if number is None:
        raise FieldFault(f"there is no record of {fields[0]}")
    found = _fields(lines[number])
    for wanted, held in zip(fields, found, strict=False):
        if wanted and wanted.encode() != held:
            raise FieldFault(f"the record of {fields[0]} was changed since it was made")
    return b"".join([*lines[:number], *lines[number + 1 :]])


def with_member(raw: bytes, group: str, account: str) -> bytes:
    """A list of groups with an account as the last member of one (the fourth field, in group and gshadow alike)."""

    def put(fields: Fields) -> None:
        members = [each for each in fields[3].split(b",") if each]
        if account.encode() in members:
            raise FieldFault(f"{account} is in the group {group} already")
        fields[3] = b",".join([*members, account.encode()])

    return _changed(raw, group, 4, put)


def without_member(raw: bytes, group: str, account: str) -> bytes:
    """A list of groups with an account taken out of one."""

    def take(fields: Fields) -> None:
        members = [each for each in fields[3].split(b",") if each]
        if account.encode() not in members:
            raise FieldFault(f"{account} is no member of the group {group}")
        fields[3] = b",".join(each for each in members if each != account.encode())

    return _changed(raw, group, 4, take)


def locked(raw: bytes, account: str) -> bytes:
    """shadow(5) with ! before a password field."""

    def lock(fields: Fields) -> None:
        if fields[1].startswith(b"!"):
            raise FieldFault(f"the password of {account} is locked already")
        fields[1] = b"!" + fields[1]

    return _changed(raw, account, 9, lock)


def unlocked(raw: bytes, account: str) -> bytes:
    """shadow(5) without the ! before a password field, where something is behind it."""

    def unlock(fields: Fields) -> None:
        if not fields[1].startswith(b"!"):
            raise FieldFault(f"the password of {account} is not locked")
        if fields[1] == b"!":
            raise FieldFault(f"{account} would need no password at all")
        fields[1] = fields[1][1:]

    return _changed(raw, account, 9, unlock)


def expiring(raw: bytes, account: str, day: int | None, was: int | None) -> bytes:
    """shadow(5) with another day of expiry; `was` is what it must be."""

    def set_day(fields: Fields) -> None:
        if fields[7] != _day(was):
            raise FieldFault(f"the day on which {account} expires was changed since it was read")
        fields[7] = _day(day)

    return _changed(raw, account, 9, set_day)


def given(raw: bytes, account: str, marker: str, hashed: bytes) -> bytes:
    """shadow(5) with the hash of a new password, which has to be changed at the first login, where there was only a `marker`."""

    def give(fields: Fields) -> None:
        if fields[1] != marker.encode():
            raise FieldFault(f"the password of {account} was changed since it was read")
        fields[1], fields[2] = hashed, b"0"

    return _changed(raw, account, 9, give)


def taken(raw: bytes, account: str, marker: str, was: int | None) -> bytes:
    """shadow(5) without a password that was given and not changed yet; `was` is the day of the last change before it."""

    def take(fields: Fields) -> None:
        if fields[1].strip(b"!*") == b"":
            raise FieldFault(f"{account} has no password")
        if fields[2] != b"0":
            raise FieldFault(f"{account} has changed the password since it was given; lock it instead of taking it away")
        fields[1], fields[2] = marker.encode(), _day(was)

    return _changed(raw, account, 9, take)


def _day(day: int | None) -> bytes:
    return b"" if day is None else str(day).encode()


def _changed(raw: bytes, name: str, many: int, change: Callable[[Fields], None]) -> bytes:
    lines = text_lines.split(raw)
    number = _number(raw, name.encode())
    if number is None:
        raise FieldFault(f"there is no record of {name}")
    body = lines[number].rstrip(b"\n")
    fields = body.split(b":")
    if len(fields) < many:
        raise FieldFault(f"the record of {name} has fewer than {many} fields")
    change(fields)
    lines[number] = b":".join(fields) + lines[number][len(body) :]
    return b"".join(lines)


def _number(raw: bytes, name: bytes) -> int | None:
    """Where the first record of a name is: the one that counts."""
    return next((number for number, line in enumerate(text_lines.split(raw)) if _fields(line)[0] == name and b":" in line), None)


def _fields(line: bytes) -> Fields:
    return line.rstrip(b"\n").split(b":")
