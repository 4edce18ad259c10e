"""Secrets in network settings, taken out line by line: keys of radio networks, passwords of tunnels, private keys, cookies.

A line whose key sounds like a secret keeps what stands before its value; lines that go on with it (indented deeper, as in
YAML) become blank, so that line numbers stay. secrets.awk does the same on a live guest; a test holds them together.
Too much is taken rather than too little: the file then can't be edited by Nightlatch, and says so.
"""

from __future__ import annotations

import re

from nightlatch.formats import lines as text_lines
from nightlatch.formats.text_secrets import HIDDEN, taken

FOLDERS = ("/netplan/", "/NetworkManager/", "/systemd/network/", "/etc/network/", "/etc/sysconfig/network")
TOKEN = re.compile(rb"[A-Za-z0-9_.-]+[\"']?[ \t]*[:=]")
WORD = re.compile(rb"[A-Za-z0-9_.-]+[ \t]+")
# A key of YAML with escapes may spell anything; an anchor carries its value elsewhere.
HIDES = (re.compile(rb"\"[^\"]*\\[^\"]*\"[ \t]*:"), re.compile(rb"[ \t]&[A-Za-z0-9_-]+[ \t]"))
SECRET = re.compile(
    rb"psk|pass|secret|private.?key|shared.?key|wep|cak|cookie|token|bearer|credential|authorization|^key[0-9]*$|^keys$"
    rb"|[-_]pin$|^pin$"
)
HARMLESS = re.compile(rb"^key[-_]?mgmt$|^key[-_]management$|-flags$")


def applies(path: str) -> bool:
    """Whether a file may hold such secrets."""
    return any(part in path for part in FOLDERS)


def is_secret(name: bytes) -> bool:
    """Whether a key of this name holds a secret."""
    small = name.lower()
    return bool(SECRET.search(small)) and not HARMLESS.search(small)


def reduce(raw: bytes) -> bytes:
    """The file without its secrets; the very same bytes where it holds none."""
    out: list[bytes] = []
    depth = -1  # how deep the line of a secret stands; deeper lines go on with it
    asked = False  # that line is a key of YAML by itself (? key), so that its value stands below, behind a colon
    inside = False  # a section that holds nothing but secrets
    for line in text_lines.split(raw):
        body = line.rstrip(b"\r\n")
        end = line[len(body) :]
        indent = len(body) - len(body.lstrip(b" \t"))
        if depth >= 0 and (indent > depth or indent == len(body) or (asked and body[indent : indent + 1] == b":")):
            out.append(end)
            continue
        depth, asked = -1, False
        if body[indent : indent + 1] == b"[":
            inside = b"secret" in body.lower()
        made = _reduced(body, indent, inside=inside)
        if made is not None:
            depth, asked = indent, body[indent : indent + 1] == b"?"
        out.append(taken(body if made is None else made) + end)
    return b"".join(out)


def _reduced(body: bytes, indent: int, *, inside: bool) -> bytes | None:
    """The line up to its first secret, or None where it holds none."""
    for found in TOKEN.finditer(body):
        name = found[0].rstrip(b":= \t").rstrip(b"\"'")
        if is_secret(name) or (inside and found.start() == indent):
            space = b' "{secret}"' if found[0].endswith(b":") else HIDDEN
            # With nothing behind it the value may stand in the lines below (YAML).
            return body[: found.end()] + space if body[found.end() :].strip() else body
    if body[indent : indent + 1] == b"?":
        name = body[indent + 1 :].strip(b" \t\"'")
        return body if is_secret(name) or b"\\" in name else None
    for shape in HIDES:
        hides = shape.search(body)
        if hides:
            return body if not body[hides.end() :].strip(b" \t") else body[: hides.end()] + b' "{secret}"'
    for word in WORD.finditer(body):
        if is_secret(word[0].rstrip(b" \t")) and body[word.end() :]:
            return body[: word.end()] + HIDDEN
    return None
