"""Evidence without a connection: a script to run at a guest's console, and its output read back, however it was carried.

The output is text: a line that begins it, the collector's stream packed by gzip(1) and written in base64 (RFC 4648, 4),
a line that ends it. What a terminal, a mail or a hand does to lines (wraps, indents, other line ends) is undone; what it
does to letters is found out by gzip's own check sum (RFC 1952, 2.3.1).
"""

from __future__ import annotations

import base64
import binascii
import re
import zlib

from nightlatch import versions
from nightlatch.evidence.script import CollectorRequest, collector
from nightlatch.faults import UnreadableError

BEGINS, ENDS = "== nightlatch survey begins", "== nightlatch survey ends"
LARGEST_TEXT = 160 << 20
LARGEST_STREAM = 96 << 20
HEAD = """\
# Nightlatch: prints what this guest holds about remote access, and changes nothing. Secrets are reduced here.
# Run it as root:  sh FILE >gauge.txt     then elsewhere:  nightlatch survey gauge.txt
"""
CALL = f"""\
nightlatch_by_hand() {{
    [ "$(id -u)" = 0 ] || {{ echo "run it as root: what only root can read decides who gets in" >&2; exit 1; }}
    for program in gzip base64; do
        command -v "$program" >/dev/null || {{ echo "this guest has no $program, which carries the result as text" >&2; exit 1; }}
    done
    echo '{BEGINS}'
    nightlatch none </dev/null | gzip -9 | base64
    echo '{ENDS}'
}}
nightlatch_by_hand
"""


def script(wanted: CollectorRequest, nonce: str) -> bytes:
    """The script to run by hand. POSIX sh; needs gzip and base64 beside what every collector needs."""
    return HEAD.encode() + collector(wanted, nonce, CALL)


def short(wanted: CollectorRequest, nonce: str) -> bytes:
    """The same, packed, to paste at a root shell: in lines, for a terminal takes at most 4095 letters in one (termios(3))."""
    packer = zlib.compressobj(9, zlib.DEFLATED, 31)  # 31: in gzip's own frame
    packed = packer.compress(collector(wanted, nonce, CALL)) + packer.flush()
    return b"base64 -d <<'E' | gzip -d | sh\n" + base64.encodebytes(packed) + b"E\n"


def is_output(head: bytes) -> bool:
    """Whether a text's first bytes look like the script's output, whatever stands before it."""
    return BEGINS.encode() in head


def stream_of(raw: bytes, name: str) -> tuple[bytes, str]:
    """The collector's stream and its mark from the text of `name`. Raises UnreadableError, which says what is wrong with it."""
    if len(raw) > LARGEST_TEXT:
        raise UnreadableError(f"{name}: more than {LARGEST_TEXT >> 20} MiB of text")
    before, begins, rest = raw.rpartition(BEGINS.encode())
    if not begins:
        raise UnreadableError(f'{name}: no line says "{BEGINS}": this is not what the script printed')
    body, ends, _ = rest.partition(ENDS.encode())
    if not ends:
        raise UnreadableError(f'{name}: it stops before "{ENDS}": the end was not carried over')
    body = body.lstrip(b" =")
    letters = b"".join(body.split())
    wrong = re.search(rb"[^A-Za-z0-9+/=]", letters)
    if wrong:
        line = before.count(b"\n") + 1 + next(n for n, text in enumerate(body.split(b"\n")) if wrong[0] in text)
        raise UnreadableError(f"{name}:{line}: {wrong[0].decode('latin-1')!r} is no letter of base64; carry it over again")
    stream = _unpacked(letters, name)
    mark = re.search(rb"@(nightlatch/stream/[0-9]{1,6}) ([0-9a-f]{8,64})\n", stream[:256])
    if mark is None:
        raise UnreadableError(f"{name}: it holds no survey")
    other = versions.unread("stream", mark[1].decode())
    if other:
        raise UnreadableError(f"{name}: {other}")
    return stream, mark[2].decode()


def _unpacked(letters: bytes, name: str) -> bytes:
    try:
        packed = base64.b64decode(letters, validate=True)
    except binascii.Error:
        raise UnreadableError(f"{name}: letters are missing or doubled; carry it over again") from None
    worker = zlib.decompressobj(31)
    try:
        stream = worker.decompress(packed, LARGEST_STREAM)
    except zlib.error:
        raise UnreadableError(f"{name}: a letter is wrong, for the check sum does not fit; carry it over again") from None
    if not worker.eof:
        more = "more than is read" if worker.unconsumed_tail else "cut short"
        raise UnreadableError(f"{name}: what the script printed is {more}")
    return stream
