"""Guest text made harmless before it is shown: no terminal escape, direction override or broken character gets through."""

from __future__ import annotations

import unicodedata

LONGEST = 400
_HIDDEN = {"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"}


def shown(text: object, longest: int = LONGEST) -> str:
    """The text with everything that is not plainly visible written as an escape, shortened when it is very long."""
    raw = str(text)
    if raw.isascii() and raw.isprintable() and len(raw) <= longest:
        return raw
    out = "".join(
        char if char.isprintable() and unicodedata.category(char) not in _HIDDEN else _escape(char) for char in raw[: longest + 1]
    )
    return out if len(raw) <= longest else out[:longest] + "..."


def in_one_line(text: object, longest: int = 2000) -> str:
    """A message of our own that has several lines, as one; what a guest wrote in it is made harmless as ever."""
    parts = (part.strip() for part in str(text).split("\n"))
    return shown("; ".join(part for part in parts if part), longest)


def _escape(char: str) -> str:
    code = ord(char)
    if char == "\t":
        return " "
    if 0xDC80 <= code <= 0xDCFF:
        return f"\\x{code - 0xDC00:02x}"
    return f"\\x{code:02x}" if code < 256 else f"\\u{{{code:x}}}"
