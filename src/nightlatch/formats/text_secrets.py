"""Secrets in text that is read for something else: options of commands, variables, comments, told by the shape of their keys.

A value stays when its key does not sound like a secret, or when it is plainly none (`yes`, a variable, a short number).
secrets.awk does the same on a live guest; a test holds them together. The number of lines stays.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from nightlatch.formats import lines as text_lines

HIDDEN = b"{secret}"
NOT_CARRIED = b"{not carried}"
TOKEN = re.compile(rb"[A-Za-z0-9_.-]+[\"']?[ \t]*[:=]")
SECRET = re.compile(
    rb"passw|passphrase|pwd|secret|token|cookie|credential|bearer|authorization|psk|bindpw"
    rb"|(api|access|private|auth|session|encryption|shared)[_.-]?key"
)
HARMLESS = re.compile(
    rb"(file|files|path|dir|directory|command|cmd|prompt|tries|timeout|flag|flags|mgmt|management|type|types|authentication"
    rb"|message|length|len|min|max|age|days|format|scheme|alg|algorithm|algorithms|usage|name|url|uri|expired|reuse|policy"
    rb"|service)$|^(old)?pwd$|^loadcredential"
)
SOUNDS = re.compile(rb"pass|pwd|secret|token|cookie|credential|bearer|authorization|psk|bindpw|key|eyj|://")
TAGS = (b"passwd", b"nopasswd")  # with a colon: a database in nsswitch.conf(5), a tag in sudoers(5)
PLAIN = re.compile(rb"(yes|no|true|false|on|off|none|null|auto|always|never|required|default|ask|[0-9]?[0-9]?[0-9])")
URL = re.compile(rb"://[^/@: \t\"'<>]*:[^/@ \t\"'<>]+@")
LITERALS = (
    re.compile(rb"AGE-SECRET-KEY-1[A-Za-z0-9]+"),
    re.compile(rb"eyJ[A-Za-z0-9_-]+\.[A-Za-z0-9_-]+\.[A-Za-z0-9_-]+"),
)
BEARER = re.compile(rb"(Bearer|BEARER)[ \t]+[A-Za-z0-9._~+/=-]+")
SSHPASS = re.compile(rb"sshpass[ \t]+-p[ \t]*")
OPTION = re.compile(rb"--?[A-Za-z][A-Za-z0-9_.-]*[ \t]+")
TIGHT = re.compile(rb"(\\[^\"']|[^ \t\"';|&<>()\\])*")
ENDS = {b'"': b'"', b"'": b"'", b"[": b"]"}
KEY = re.compile(rb"(ssh-|ecdsa-|sk-)[A-Za-z0-9@.-]+[ \t]+AAAA")


def is_secret(name: bytes, mark: bytes = b"=") -> bool:
    """Whether a key of this name holds a secret; `mark` is what stands behind it, a dash for an option's."""
    small = name.lower()
    if HARMLESS.search(small) or (mark == b":" and small in TAGS):
        return False
    return SECRET.search(small) is not None


def reduce(raw: bytes) -> bytes:
    """The text without its secrets; the very same bytes where it holds none."""
    return b"".join(_reduced(raw))


def reduce_keys(raw: bytes) -> bytes:
    """A file of public keys, one on a line: what is neither a key nor a remark is left out, for sshd(8) skips it, too."""
    out = []
    for line in text_lines.split(reduce(raw)):
        body = line.rstrip(b"\r\n")
        bare = body.strip(b" \t")
        keeps = not bare or bare.startswith(b"#") or bare == NOT_CARRIED or KEY.search(body)
        out.append(line if keeps else NOT_CARRIED + line[len(body) :])
    return b"".join(out)


def _reduced(raw: bytes) -> Iterator[bytes]:
    goes_on = False
    for line in text_lines.split(raw):
        body = line.rstrip(b"\r\n")
        end = line[len(body) :]
        if goes_on:
            goes_on = body.endswith(b"\\")
            yield HIDDEN + (b"\\" if goes_on else b"") + end
            continue
        made = taken(body)
        # A value that reaches the end of a line which goes on is not over there (sudoers(5), systemd.syntax(7), sh).
        goes_on = made != body and made.endswith(HIDDEN + b"\\")
        yield made + end


def taken(body: bytes) -> bytes:
    """One line without its secrets."""
    if not SOUNDS.search(body.lower()):
        return body
    body = _urls(body)
    for shape in LITERALS:
        body = shape.sub(HIDDEN, body)
    body = _bearers(body)
    body = _sshpass(body)
    return _options(_named(body))


def _urls(body: bytes) -> bytes:
    def hidden(found: re.Match[bytes]) -> bytes:
        return found[0][: found[0].index(b":", 3) + 1] + HIDDEN + b"@"

    return URL.sub(hidden, body)


def _bearers(body: bytes) -> bytes:
    def hidden(found: re.Match[bytes]) -> bytes:
        word = re.split(rb"[ \t]+", found[0])[1]
        return found[0] if len(word) < 8 else found[0][: -len(word)] + HIDDEN

    return BEARER.sub(hidden, body)


def _sshpass(body: bytes) -> bytes:
    out, rest = b"", body
    while found := SSHPASS.search(rest):
        out += rest[: found.end()]
        rest = rest[found.end() :]
        out, rest = _without(out, rest, *_value(rest, goes_far=False))
    return out + rest


def _named(body: bytes) -> bytes:
    """NAME=VALUE, NAME = VALUE, NAME: VALUE."""
    out, rest = b"", body
    while found := TOKEN.search(rest):
        out += rest[: found.start()]
        before, token, rest = out[-2:], found[0], rest[found.end() :]
        out += token
        name = token[:-1].rstrip(b" \t")
        bare = name.rstrip(b"\"'")
        if not is_secret(bare, token[-1:]):
            continue
        if bare == name and before[-1:] in ENDS:  # what opened before the name ends behind the value
            value = rest[: _end(rest, ENDS[before[-1:]], escaped=before[:-1] == b"\\")]
            lead = b""
        else:
            lead, value = _value(rest, goes_far=token[-1:] == b":" or token[-2:-1] in (b" ", b"\t"))
        out, rest = _without(out, rest, lead, value)
    return out + rest


def _options(body: bytes) -> bytes:
    """--name VALUE."""
    out, rest = b"", body
    while found := OPTION.search(rest):
        before = (out + rest[: found.start()])[-1:]
        out += rest[: found.end()]
        rest = rest[found.end() :]
        if (not before or before in b" \t\"'=([") and is_secret(found[0].strip(b"- \t"), b"-"):
            lead, value = _value(rest, goes_far=False)
            out, rest = _without(out, rest, lead, value if not value.startswith(b"-") else b"")
    return out + rest


def _without(out: bytes, rest: bytes, lead: bytes, value: bytes) -> tuple[bytes, bytes]:
    """What is done with, and what is still to be looked at, the value hidden where it is one."""
    value = value.rstrip(b" \t\\")
    if not value or _is_plain(value):
        return out, rest
    return out + lead + HIDDEN, rest[len(lead) + len(value) :]


def _value(rest: bytes, *, goes_far: bool) -> tuple[bytes, bytes]:
    """What stands before the value, and the value; `goes_far`: behind blanks it goes to the end of the line, or of a quote."""
    bare = rest.lstrip(b" \t")
    lead = rest[: len(rest) - len(bare)]
    escaped = bare[:1] == b"\\"
    quote = bare[escaped : escaped + 1]
    if quote in (b'"', b"'"):
        opened = bare[: escaped + 1]
        inner = bare[len(opened) :]
        return lead + opened, inner[: _end(inner, quote, escaped=escaped)]
    if lead and goes_far:
        return lead, bare.partition(b'"')[0]
    if lead:
        return lead, b""
    found = TIGHT.match(bare)
    return lead, found[0] if found else b""


def _end(text: bytes, quote: bytes, *, escaped: bool) -> int:
    """Where a quoted text ends; `escaped`: within another quote, where a backslash stands before both marks."""
    at = 0
    while at < len(text) and text[at : at + 1] != quote:
        at += 2 if text[at : at + 1] == b"\\" and not escaped else 1
    return min(at, len(text))


def _is_plain(value: bytes) -> bool:
    return value[:1] in (b"$", b"%") or value.startswith(HIDDEN) or PLAIN.fullmatch(value.lower()) is not None
