"""The members of a tar file, one after the other, each size judged before anything is read or set aside for it.

POSIX.1-1988 ustar headers and GNU's long names (tar(5)); other kinds of headers are refused, for they may hold anything.
"""

from __future__ import annotations

import tarfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass

BLOCK = 512
LARGEST_NAME = 8192
LONG_NAMES = (tarfile.GNUTYPE_LONGNAME, tarfile.GNUTYPE_LONGLINK)
HEADERS = (*LONG_NAMES, tarfile.XHDTYPE, tarfile.XGLTYPE, tarfile.SOLARIS_XHDTYPE, tarfile.GNUTYPE_SPARSE)


class MemberFault(ValueError):
    """What is read is no such tar file; the message says why."""


@dataclass(frozen=True, slots=True)
class Member:
    """One member: its name as written, whether it is a regular file, a link or a hard link, its target and its bytes."""

    name: str
    type: bytes
    target: str
    body: bytes

    @property
    def is_file(self) -> bool:
        """Whether it is a regular file."""
        return self.type in (tarfile.REGTYPE, tarfile.AREGTYPE)


def members(read: Callable[[int], bytes], allowed: Callable[[str, int], None], stop: bytes = b"") -> Iterator[Member]:
    """The members, up to the end of what `read` gives, or to a block that begins with `stop`.

    `allowed` is asked about each name and size (bytes) before the body is read, and raises what it likes. Raises MemberFault.
    """
    long = dict.fromkeys(LONG_NAMES, "")
    while block := read(BLOCK):
        if stop and block.startswith(stop):
            return
        if not block.strip(b"\0"):
            continue
        header = _header(block)
        links = header.type in (tarfile.SYMTYPE, tarfile.LNKTYPE)
        size = 0 if links else header.size
        if header.type in HEADERS and header.type not in LONG_NAMES:
            raise MemberFault(f"a header of a kind that is not read ({header.type!r})")
        if size < 0 or (header.type in LONG_NAMES and size > LARGEST_NAME):
            raise MemberFault(f"a size that can't be: {size} bytes")
        name = long[tarfile.GNUTYPE_LONGNAME] or header.name
        if header.type not in LONG_NAMES:
            allowed(name, size)
        body = _body(read, size)
        if header.type in LONG_NAMES:
            long[header.type] = body.rstrip(b"\0").decode("utf-8", "surrogateescape")
            continue
        target = (long[tarfile.GNUTYPE_LONGLINK] or header.linkname) if links else ""
        long = dict.fromkeys(LONG_NAMES, "")
        yield Member(name, header.type, target, body)


def _header(block: bytes) -> tarfile.TarInfo:
    try:
        return tarfile.TarInfo.frombuf(block, "utf-8", "surrogateescape")
    except (tarfile.HeaderError, ValueError) as error:
        raise MemberFault(str(error)) from None


def _body(read: Callable[[int], bytes], size: int) -> bytes:
    body = read(size) if size else b""
    rest = -size % BLOCK
    if len(body) != size or (rest and len(read(rest)) != rest):
        raise MemberFault("it ends in the middle of a file")
    return body
