"""Files on the administrator's machine that are edited: the new content takes the old one's place at once, or not at all."""

from __future__ import annotations

import contextlib
import os
import secrets
from pathlib import Path

from nightlatch.faults import RefusedError, UnreadableError


def text_of(path: Path) -> str:
    """The file's text as it stands now, with its own line ends. Raises UnreadableError."""
    try:
        return path.read_bytes().decode()
    except (OSError, UnicodeDecodeError) as error:
        raise UnreadableError(f"{path} can't be read: {error}") from None


def rewrite(path: Path, before: bytes, after: bytes) -> None:
    """Put the new content in place of the old; its mode stays. Raises RefusedError when somebody else changed the file,
    UnreadableError where it can't be written."""
    target = path.resolve()
    staged = target.with_name(f".{target.name}.{secrets.token_hex(4)}")
    try:
        if target.read_bytes() != before:
            raise RefusedError(f"{path} was changed meanwhile; nothing was written")
        with staged.open("xb") as stream:
            os.fchmod(stream.fileno(), target.stat().st_mode & 0o7777)
            stream.write(after)
            stream.flush()
            os.fsync(stream.fileno())
        staged.replace(target)
    except OSError as error:
        with contextlib.suppress(OSError):
            staged.unlink()
        raise UnreadableError(f"{path} can't be written: {error.strerror}") from None
