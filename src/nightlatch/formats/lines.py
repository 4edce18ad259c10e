"""Text files as tuples of lines that own all their bytes, and the three edits made to them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


def split(raw: bytes) -> list[bytes]:
    """The lines of `raw`, each with its line end; joined they give `raw` again. Only LF ends a line."""
    lines = raw.split(b"\n")
    out = [line + b"\n" for line in lines[:-1]]
    if lines[-1]:
        out.append(lines[-1])
    return out


def text_of(raw: bytes) -> str:
    """The line as text; bytes that are not UTF-8 become lone surrogates, so that nothing is lost."""
    return raw.decode("utf-8", "surrogateescape")


def bytes_of(text: str) -> bytes:
    """The bytes of a text made by `text_of`."""
    return text.encode("utf-8", "surrogateescape")


@dataclass(frozen=True, slots=True)
class LineEdit:
    """Replace line `at` (from 1) by `lines`; with `insert`, put them before it (at = last + 1 appends).

    An empty `lines` without `insert` removes the line. Texts carry no line end: the file's own is used.
    """

    at: int
    lines: tuple[str, ...]
    insert: bool = False


def line_end(raw_lines: Sequence[bytes]) -> bytes:
    """The line end that the file uses, judged by its first line."""
    return b"\r\n" if raw_lines and raw_lines[0].endswith(b"\r\n") else b"\n"


def apply(raw: bytes, edits: Sequence[LineEdit]) -> bytes:
    """`raw` with all edits made; line numbers are those of `raw`. Untouched lines keep every byte.

    Raises ValueError when two edits replace the same line or one lies outside the file.
    """
    lines = split(raw)
    end = line_end(lines)
    before: dict[int, list[str]] = {}
    instead: dict[int, tuple[str, ...]] = {}
    for edit in edits:
        last = len(lines) + 1 if edit.insert else len(lines)
        if not 1 <= edit.at <= last:
            raise ValueError(f"there is no line {edit.at}")
        if edit.insert:
            before.setdefault(edit.at, []).extend(edit.lines)
        elif edit.at in instead:
            raise ValueError(f"line {edit.at} is edited twice")
        else:
            instead[edit.at] = edit.lines
    out: list[bytes] = []
    for number, line in enumerate([*lines, b""], 1):
        for text in before.get(number, ()):
            if out and not out[-1].endswith(b"\n"):
                out[-1] += end
            out.append(bytes_of(text) + end)
        if number in instead:
            own = b"\r\n" if line.endswith(b"\r\n") else line[-1:] if line.endswith(b"\n") else b""
            texts = [bytes_of(text) for text in instead[number]]
            out.extend(text + (own or end) for text in texts[:-1])
            out.extend(text + own for text in texts[-1:])
        elif line:
            out.append(line)
    return b"".join(out)
