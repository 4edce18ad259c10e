"""Words of the scripts that are sent to a guest, or printed for its console: exact for the shell, harmless for a screen.

A guest's file names may hold anything; in a printed script they must not move the cursor of its reader.
"""

from __future__ import annotations

import re
import shlex

VISIBLE = re.compile(r"[\n -~]*")


def quoted(text: str) -> str:
    """`text` as one word of POSIX sh, in printable ASCII and line ends only; other bytes as octal escapes (printf(1), %b).

    Bytes that are no UTF-8 are surrogates in `text`. A line end at its end is lost where there is something to escape.
    """
    if VISIBLE.fullmatch(text):
        return shlex.quote(text)
    raw = text.encode("utf-8", "surrogateescape")
    return f'"$(printf %b {shlex.quote("".join(_escaped(byte) for byte in raw))})"'


def _escaped(byte: int) -> str:
    if byte == 0x5C:
        return "\\\\"
    return chr(byte) if byte == 0x0A or 0x20 <= byte < 0x7F else f"\\0{byte:03o}"
