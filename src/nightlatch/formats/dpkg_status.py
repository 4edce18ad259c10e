"""dpkg's status file, as far as needed: the paragraph of one package (dpkg(1), FILES)."""

from __future__ import annotations

import re
from functools import lru_cache

PACKAGES = ("openssh-server", "sudo", "xrdp", "tigervnc-standalone-server", "tigervnc-scraping-server", "x11vnc")


def only(raw: bytes, names: tuple[str, ...] = PACKAGES) -> bytes:
    """The paragraphs of some packages, byte for byte, in the order of the file."""
    out: list[tuple[int, bytes]] = []
    for name in names:
        start = raw.find(f"Package: {name}\n".encode())
        while start > 0 and raw[start - 1 : start] != b"\n":
            start = raw.find(f"Package: {name}\n".encode(), start + 1)
        if start >= 0:
            end = raw.find(b"\n\n", start)
            out.append((start, raw[start : end + 1 if end >= 0 else len(raw)]))
    return b"\n".join(text for _, text in sorted(out))


@lru_cache(maxsize=256)
def version(raw: bytes, name: str) -> str:
    """The version of an installed package, empty when it is not installed."""
    for paragraph in raw.split(b"\n\n"):
        if paragraph.lstrip(b"\n").startswith(f"Package: {name}\n".encode()):
            installed = re.search(rb"^Status: .* installed$", paragraph, re.MULTILINE)
            found = re.search(rb"^Version: (\S{1,80})$", paragraph, re.MULTILINE)
            return found[1].decode("ascii", "replace") if installed and found else ""
    return ""
