"""Secrets in text that is read for something else: options of commands, variables, comments, told by the shape of their keys.

A value stays when its key does not sound like a secret, or when it is plainly none (`yes`, a variable, a short number).
secrets.awk does the same on a live guest; a test holds them together. The number of lines stays. The writer of such a file
may write anything: each line is gone through mark by mark, names have an end, and so has the number of marks.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from nightlatch.formats import lines as text_lines

HIDDEN = b"{secret}"
NOT_CARRIED = b"{not carried}"
LONGEST_NAME = 128
MOST_MARKS = 500  # of one kind in one line
NAME = re.compile(rb"([A-Za-z0-9_.-]+)([\"']?)[ \t]*\Z")
MARK, BLANK, BLANKS = re.compile(rb"[:=]"), re.compile(rb"[ \t]"), re.compile(rb"[ \t]*")
SOUNDS = re.compile(rb"pass|pwd|secret|token|cookie|credential|bearer|authorization|psk|bindpw|default_authtok|key|://")
SECRET = re.compile(
    rb"passw|passphrase|pwd|secret|token|cookie|credential|bearer|authorization|psk|bindpw|default_authtok"
    rb"|(api|access|private|auth|session|encryption|shared)[_.-]?key"
)
HARMLESS = re.compile(
    rb"(file|files|path|dir|directory|command|cmd|prompt|tries|timeout|flag|flags|mgmt|management|type|types|authentication"
    rb"|message|length|len|min|max|age|days|format|scheme|alg|algorithm|algorithms|usage|name|url|uri|expired|reuse|policy"
    rb"|service)\Z|^(old)?pwd\Z|^loadcredential"
)
TAGS = (b"passwd", b"nopasswd")  # with a colon: a database in nsswitch.conf(5), a tag in sudoers(5)
PLAIN = re.compile(rb"(yes|no|true|false|on|off|none|null|auto|always|never|required|default|ask|[0-9]?[0-9]?[0-9])")
URL = re.compile(rb"://[^/@: \t\"'<>]*:[^/@ \t\"'<>]+@")
AGE = re.compile(rb"AGE-SECRET-KEY-1[A-Za-z0-9]+")
BEARER = re.compile(rb"(Bearer|BEARER)[ \t]+[A-Za-z0-9._~+/=-]+")
SSHPASS = re.compile(rb"sshpass[ \t]+-p[ \t]*")
OPTION = re.compile(rb"(^|[\"'=([])--?([A-Za-z][A-Za-z0-9_.-]*)\Z")
TIGHT = re.compile(rb"(\\[^\"']|[^ \t\"';|&<>()\\])*")
ENDS = {b'"': b'"', b"'": b"'", b"[": b"]"}

BINARY = re.compile(rb"[^\t\n\x0b-\r\x1b\x20-\xff]")
CLOSES = re.compile(rb"---- END |-----END |(^|\r)Private-(MAC|Hash): ")
OTHERS = re.compile(rb"^[^ \t]+\Z|\"kty\"")  # what may hold nothing but a secret: one word, a JSON Web Key
BLOB = re.compile(rb"[ \t](AAAA[A-Za-z0-9+/]*)")
TYPE = re.compile(rb"((ssh-|ecdsa-|sk-)[A-Za-z0-9@.-]+)[ \t]*\Z")
AT_BOOT = re.compile(rb"[ \t]*@[Rr][Ee][Bb][Oo][Oo][Tt][ \t]")
PART = re.compile(rb"[A-Za-z0-9+/]+=*")
MOST_BLOBS = 20


def is_secret(name: bytes, mark: bytes = b"=") -> bool:
    """Whether a key of this name holds a secret; `mark` is what stands behind it, a dash for an option's."""
    small = name.lower()
    if HARMLESS.search(small) or (mark == b":" and small in TAGS):
        return False
    return SECRET.search(small) is not None


def reduce(raw: bytes) -> bytes:
    """The text without its secrets; the very same bytes where it holds none."""
    return b"".join(_reduced(raw)) if SOUNDS.search(raw.lower()) else raw


def reduce_keys(raw: bytes, *, only_keys: bool = False) -> bytes:
    """A file of public keys, one on a line: private keys in it are left out, and lines of one word, which may be a secret.

    A key that was torn over several lines stays. With `only_keys`, or where it is no text, everything is left out that is
    no key: sshd(8) skips it, too, and bytes of a private key may look like a remark.
    """
    out = []
    only_keys = only_keys or BINARY.search(raw) is not None
    inside = torn = False
    for line in text_lines.split(reduce(raw)):
        body = line.rstrip(b"\r\n")
        bare = body.strip(b" \t")
        inside = inside or (b"BEGIN " in body and b"PRIVATE KEY" in body) or b"PuTTY-User-Key-File-" in body
        key = _key(body)
        torn = len(key[1]) < _whole(key[0]) if key else torn and not only_keys and PART.fullmatch(bare) is not None
        goes_on = torn or key is not None or bare in (b"", NOT_CARRIED)
        out_it = inside or not (goes_on or (not only_keys and (bare.startswith(b"#") or not OTHERS.search(bare))))
        inside = inside and CLOSES.search(body) is None
        out.append(NOT_CARRIED + line[len(body) :] if out_it and bare != NOT_CARRIED else line)
    return b"".join(out)


def reduce_jobs(raw: bytes) -> bytes:
    """An account's own table of cron(8): what runs at a boot stays, without its secrets; all else is left out line by line."""
    out = []
    for line in text_lines.split(raw):
        body = line.rstrip(b"\r\n")
        made = taken(body) if AT_BOOT.match(body) else body if not body.strip(b" \t") else NOT_CARRIED
        out.append(made + line[len(body) :])
    return b"".join(out)


def _key(body: bytes) -> tuple[bytes, bytes] | None:
    """The type and the base64 of a public key in the line."""
    for number, found in enumerate(BLOB.finditer(body)):
        before = TYPE.search(body[max(0, found.start() - LONGEST_NAME) : found.start()])
        if before:
            return before[1], found[1]
        if number == MOST_BLOBS:
            break
    return None


def _whole(kind: bytes) -> int:
    """How many letters of base64 a whole key of this type has at least."""
    return 68 if b"ed25519" in kind else 136 if b"ecdsa" in kind else 200


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
    body = URL.sub(_url, body, count=MOST_MARKS)
    body = AGE.sub(HIDDEN, body, count=MOST_MARKS)
    body = BEARER.sub(_bearer, body, count=MOST_MARKS)
    return _options(_named(_sshpass(body)))


def _url(found: re.Match[bytes]) -> bytes:
    return found[0][: found[0].index(b":", 3) + 1] + HIDDEN + b"@"


def _bearer(found: re.Match[bytes]) -> bytes:
    word = re.split(rb"[ \t]+", found[0], maxsplit=1)[1]
    return found[0] if len(word) < 8 else found[0][: -len(word)] + HIDDEN


def _sshpass(body: bytes) -> bytes:
    at, out = 0, b""
    for _ in range(MOST_MARKS):
        found = SSHPASS.search(body, at)
        if not found:
            break
        out += body[at : found.end()]
        made, at = _without(body, found.end(), *_value(body, found.end(), goes_far=False))
        out += made
    return out + body[at:]


def _named(body: bytes) -> bytes:
    """NAME=VALUE, NAME = VALUE, NAME: VALUE."""
    at, out = 0, b""
    for _ in range(MOST_MARKS):
        found = MARK.search(body, at)
        if not found:
            break
        head, mark = body[at : found.start()], found[0]
        out += head + mark
        at = found.end()
        name = NAME.search(head[-LONGEST_NAME:])
        if name is None or not is_secret(name[1], mark):
            continue
        before = out[: -len(name[0]) - 1][-2:]
        if not name[2] and before[-1:] in ENDS:  # what opened before the name ends behind the value
            end = _end(body, at, ENDS[before[-1:]], escaped=before[:-1] == b"\\")
            made, at = _without(body, at, at, end)
        else:
            made, at = _without(body, at, *_value(body, at, goes_far=mark == b":" or head[-1:] in (b" ", b"\t")))
        out += made
    return out + body[at:]


def _options(body: bytes) -> bytes:
    """--name VALUE."""
    at, out = 0, b""
    for _ in range(MOST_MARKS):
        found = BLANK.search(body, at)
        if not found:
            break
        head = body[at : found.start()]
        blanks = BLANKS.match(body, found.start())
        next_at = blanks.end() if blanks else found.end()
        out += body[at:next_at]
        at = next_at
        option = OPTION.search(head) if len(head) <= LONGEST_NAME else None
        if option and is_secret(option[2], b"-") and body[at : at + 1] != b"-":
            made, at = _without(body, at, *_value(body, at, goes_far=False))
            out += made
    return out + body[at:]


def _without(body: bytes, at: int, begins: int, ends: int) -> tuple[bytes, int]:
    """What takes the place of body[at:ends], where the value begins at `begins`; and where to go on."""
    value = body[begins:ends].rstrip(b" \t\\")
    if not value or value[:1] in (b"$", b"%") or value.startswith(HIDDEN) or PLAIN.fullmatch(value.lower()):
        return b"", at
    return body[at:begins] + HIDDEN, begins + len(value)


def _value(body: bytes, at: int, *, goes_far: bool) -> tuple[int, int]:
    """Where the value behind `at` begins and ends; `goes_far`: behind blanks it goes to the end of the line, or of a quote."""
    blanks = BLANKS.match(body, at)
    begins = blanks.end() if blanks else at
    escaped = body[begins : begins + 1] == b"\\"
    quote = body[begins + escaped : begins + escaped + 1]
    if quote in (b'"', b"'"):
        inner = begins + escaped + 1
        return inner, _end(body, inner, quote, escaped=escaped)
    if begins > at:
        stop = body.find(b'"', begins) if goes_far else begins
        return begins, len(body) if stop < 0 else stop
    found = TIGHT.match(body, begins)
    return begins, found.end() if found else begins


def _end(text: bytes, at: int, quote: bytes, *, escaped: bool) -> int:
    """Where a quoted text ends; `escaped`: within another quote, where a backslash stands before both marks."""
    if escaped:
        found = text.find(quote, at)
        return len(text) if found < 0 else found
    while at < len(text) and text[at : at + 1] != quote:
        at += 2 if text[at : at + 1] == b"\\" else 1
    return min(at, len(text))
