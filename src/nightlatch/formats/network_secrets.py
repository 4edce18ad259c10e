"""Secrets in network settings, taken out line by line: keys of radio networks, passwords of tunnels, private keys, cookies.

A line whose key sounds like a secret keeps what stands before its value; lines that go on with it (indented deeper, as in
YAML) become blank, so that line numbers stay. secrets.awk does the same on a live guest; a test holds them together.
Too much is taken rather than too little: the file then can't be edited by Nightlatch, and says so.
"""

from __future__ import annotations

import re

from nightlatch.formats import lines as text_lines
from nightlatch.formats.text_secrets import HIDDEN, LONGEST_NAME, MARK, MOST_MARKS, NAME, taken

FOLDERS = ("/netplan/", "/NetworkManager/", "/systemd/network/", "/etc/network/", "/etc/sysconfig/network")
WORD, BLANKS = re.compile(rb"[A-Za-z0-9_.-]+\Z"), re.compile(rb"[ \t]+")
# A key of YAML with escapes may spell anything; an anchor carries its value elsewhere.
HIDES = (re.compile(rb"\"[^\"\\]*\\[^\"]*\"[ \t]*:"), re.compile(rb"[ \t]&[A-Za-z0-9_-]+[ \t]"))
SECRET = re.compile(
    rb"psk|pass|secret|private.?key|shared.?key|wep|cak|cookie|token|bearer|credential|authorization|^key[0-9]*\Z|^keys\Z"
    rb"|[-_]pin\Z|^pin\Z"
)
HARMLESS = re.compile(rb"^key[-_]?mgmt\Z|^key[-_]management\Z|-flags\Z")


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
    """The line up to its first secret, or None where it holds none. Beyond so many marks everything counts as one."""
    for number, found in enumerate(MARK.finditer(body)):
        if number == MOST_MARKS:
            return body[: found.end()] + HIDDEN
        begins = _after_the_last(body, found.start())
        name = NAME.search(body[max(begins, found.start() - LONGEST_NAME) : found.start()])
        if name is None or not (is_secret(name[1]) or (inside and found.start() - len(name[0]) == indent)):
            continue
        # With nothing behind it the value may stand in the lines below (YAML).
        if not body[found.end() :].strip():
            return body
        return body[: found.end()] + (b' "{secret}"' if found[0] == b":" else HIDDEN)
    if body[indent : indent + 1] == b"?":
        name_only = body[indent + 1 :].strip(b" \t\"'")
        return body if is_secret(name_only) or b"\\" in name_only else None
    for shape in HIDES:
        hides = shape.search(body)
        if hides:
            return body if not body[hides.end() :].strip(b" \t") else body[: hides.end()] + b' "{secret}"'
    return _words(body)


def _words(body: bytes) -> bytes | None:
    """What stands behind a word that sounds like a secret goes: commands and settings have no mark between the two."""
    begins = 0
    for number, blanks in enumerate(BLANKS.finditer(body)):
        if blanks.end() == len(body):
            return None
        if number == MOST_MARKS:
            return body[: blanks.end()] + HIDDEN
        word = WORD.search(body[max(begins, blanks.start() - LONGEST_NAME) : blanks.start()])
        begins = blanks.end()
        if word and is_secret(word[0]):
            return body[: blanks.end()] + HIDDEN
    return None


def _after_the_last(body: bytes, at: int) -> int:
    """Where the text between the last mark and this one begins."""
    return max(body.rfind(b":", 0, at), body.rfind(b"=", 0, at)) + 1
