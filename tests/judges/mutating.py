"""Text that a guest may hold: seeds that are changed at random, and seeds that are drawn out to a length."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator, Sequence
from functools import partial

# What has meaning to some format, and what none expects.
ODD = (
    *(
        b"\x00",
        b"\xff",
        b"\xc3",
        b"\xe2\x80\xae",
        b"\r",
        b"\r\n",
        b"\n",
        b"\n\n",
        b"\x0b",
        b"\x0c",
        b"\x1b[2J",
        b"\x85",
        b"\xc2\xa0",
        b"\xef\xbb\xbf",
    ),
    *(
        b" ",
        b"\t",
        b"\\",
        b"\\\n",
        b"'",
        b'"',
        b"`",
        b"#",
        b";",
        b",",
        b":",
        b"=",
        b"!",
        b"!!",
        b"%",
        b"&",
        b"*",
        b"?",
        b"@",
        b"|",
        b"~",
        b"^",
        b"+",
        b"-",
    ),
    *(
        b"(",
        b")",
        b"[",
        b"]",
        b"{",
        b"}",
        b"<",
        b">",
        b"[z-a]",
        b"[!",
        b"[[:",
        b"$",
        b"${",
        b"$(",
        b"%h",
        b"%%",
        b"{{",
        b"}}",
        b"/*",
        b"..",
        b"/",
        b"//",
    ),
    *(
        b"0",
        b"-1",
        b"1e9",
        b"0x10",
        b"007",
        b"65536",
        b"4294967296",
        b"\xc2\xb2",
        b"\xd9\xa3",
        b"9" * 25,
        b"9" * 5000,
        b"1/0",
        b"/33",
        b"/129",
        b"/-1",
    ),
    *(
        b"0.0.0.0/0",
        b"::/0",
        b"::1%eth0",
        b"1.2.3",
        b"256.1.1.1",
        b"192.168.40.9-192.168.40.1",
        b"ffff::ffff::",
        b"localhost",
        b"none",
        b"any",
        b"all",
        b"ALL",
    ),
    *(
        b"yes",
        b"no",
        b"true",
        b"null",
        b"nan",
        b"<<: ",
        b"&a ",
        b"*a",
        b"- ",
        b"? ",
        b"!!python ",
        b"%YAML 1.1\n---\n",
        b"&#0;",
        b"<!ENTITY a 'b'>",
        b"]]>",
    ),
    *(b"\xed\xa0\x80", "ﬀ".encode(), "İ".encode(), b"A" * 300, b"(" * 60, b"{" * 60, b"[" * 60, b"<a>" * 60),
)


def mutated(r: random.Random, seed: bytes, others: Sequence[bytes]) -> bytes:
    """The seed with some bytes, words or lines changed, moved, drawn out or taken from another seed."""
    out = bytearray(seed if r.random() < 0.95 else r.choice(others))
    for _ in range(r.choice((1, 1, 1, 2, 3, 6))):
        kind, at = r.randrange(10), r.randint(0, len(out))
        if kind < 4:
            out[at : at + r.choice((0, 0, 1, 2, 9))] = r.choice(ODD)
        elif kind == 4:
            out[at : at + r.choice((1, 1, 4, 40))] = b""
        elif kind == 5 and out:
            out[at % len(out)] = r.randrange(256)
        elif kind == 6:  # one word for another
            words = _words(out)
            if len(words) > 1:
                (a, b), (c, d) = r.choice(words), r.choice(words)
                out[a:b] = out[c:d]
        elif kind == 7:  # one line again, elsewhere, or not at all
            lines = bytes(out).split(b"\n")
            line = lines.pop(r.randrange(len(lines)))
            lines[(place := r.randint(0, len(lines))) : place] = [line] * r.choice((0, 1, 2))
            out = bytearray(b"\n".join(lines))
        elif kind == 8:  # a word or an odd piece instead of a word
            words = _words(out)
            if words:
                a, b = r.choice(words)
                out[a:b] = r.choice(ODD)
        else:  # a piece of another seed
            other = r.choice(others)
            start = r.randint(0, len(other))
            out[at:at] = other[start : start + r.choice((3, 20, 80))]
    return bytes(out)


def _words(text: bytes | bytearray) -> list[tuple[int, int]]:
    out, start = [], -1
    for at, byte in enumerate(text):
        if byte in b" \t\n,=":
            if start >= 0:
                out.append((start, at))
            start = -1
        elif start < 0:
            start = at
    return out


def drawn_out(seed: bytes, size: int) -> Iterator[tuple[str, Callable[[], bytes]]]:
    """The seed with one part of it again and again, up to `size` bytes: each line, each word of a line, each mark.

    Each comes plainly and numbered, so that what is counted by name grows as well. The texts are made when they are asked for.
    """
    lines = seed.split(b"\n")
    for number, line in enumerate(lines):
        if not line.strip():
            continue
        before, after = b"\n".join(lines[: number + 1]) + b"\n", b"\n" + b"\n".join(lines[number + 1 :])
        name = f"line {number + 1}"
        yield name, partial(_around, before, _many, (line + b"\n", size), after)
        yield f"{name}, numbered", partial(_around, before, _numbered, (line, b"\n", size), after)
        if number + 1 < len(lines):
            pair = line + b"\n" + lines[number + 1] + b"\n"
            yield f"{name} and the next", partial(_around, before, _many, (pair, size), after)
        words = line.split(b" ")
        for place, word in enumerate(words):
            if not word:
                continue
            left, right = b" ".join(words[:place]) + (b" " if place else b""), b" ".join(words[place:])
            head, tail = b"\n".join([*lines[:number], left]), right + after
            for mark in (b" ", b",", b""):
                yield f"{name}, word {place + 1}, {mark!r}", partial(_around, head, _many, (word + mark, size), tail)
            yield f"{name}, word {place + 1}, numbered", partial(_around, head, _numbered, (word, b",", size), tail)
    for mark in MARKS:
        for where, place in (("at the start", 0), ("inside", len(seed) // 2), ("at the end", len(seed))):
            yield f"{mark!r} {where}", partial(_around, seed[:place], _many, (mark, size), seed[place:])


MARKS = (
    *(
        b" ",
        b"\t",
        b"\\",
        b"\\\n",
        b'"',
        b"'",
        b"{",
        b"(",
        b"[",
        b"<",
        b"#",
        b",",
        b"=",
        b":",
        b"\x00",
        b"\xff",
        b"a",
        b"9",
        b"*",
        b"!",
    ),
    *(b"\n", b"\r", b"/", b".", b"-", b"%", b"$"),
)


def _around(before: bytes, make: Callable[..., bytes], of: tuple[object, ...], after: bytes) -> bytes:
    return before + make(*of) + after


def _many(piece: bytes, size: int) -> bytes:
    return piece * max(1, size // len(piece))


def _numbered(piece: bytes, end: bytes, size: int) -> bytes:
    """Many of the piece, a number set behind its last word each time."""
    count = max(1, size // (len(piece) + len(end) + 5))
    at = max(piece.rstrip().rfind(b" "), 0)
    head, tail = piece[:at], piece[at:]
    return b"".join(b"%s%s%d%s" % (head, tail, n, end) if n % 2 else b"%s%d%s%s" % (head, n, tail, end) for n in range(count))
