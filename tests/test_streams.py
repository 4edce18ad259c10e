"""What a live guest sends, and how a kept change is taken back: laws that hold for every input."""

from __future__ import annotations

import io
import tarfile

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nightlatch.draft.reversal import merged
from nightlatch.evidence.collect import collect
from nightlatch.evidence.stream import StreamSource, parse
from nightlatch.faults import UnreadableError

text_lines = bytes.splitlines
NONCE = "00112233445566778899aabb"


def archive(files: dict[str, bytes]) -> bytes:
    """As tar(1) writes it to a pipe."""
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.GNU_FORMAT) as tar:
        for path, content in files.items():
            member = tarfile.TarInfo(path.lstrip("/"))
            member.size = len(content)
            tar.addfile(member, io.BytesIO(content))
    return out.getvalue()


def stream(files: dict[str, bytes], after: dict[str, bytes] | None = None) -> bytes:
    """What the collector would print for a guest of these files."""
    folders = {path[:at] or "/" for path in files for at, letter in enumerate(path) if letter == "/"}
    lines = [f" 41ed 0 0 4096 1 1 {path}\n" for path in sorted(folders)]
    lines += [f" 81a4 0 0 {len(content)} 1 1 {path}\n" for path, content in files.items()]
    second = "".join(f" 81a4 0 0 {len(content)} 1 1 {path}\n" for path, content in (after or files).items())
    head = f"\n@nightlatch/stream/1 {NONCE}\n\n@facts\n uid 0\n\n@paths\n{''.join(lines)}\n@files\n"
    return head.encode() + archive(files) + f"\n@after\n{second}\n@end {NONCE}\n".encode()


FILES = {
    "/etc/passwd": b"root:x:0:0::/root:/bin/sh\n",
    "/etc/ssh/sshd_config": b"PermitRootLogin no\n\n@files\n\n@end x\n",
}
WHOLE = stream(FILES)


def test_a_whole_stream_is_read() -> None:
    found = parse(WHOLE, NONCE, "gauge")
    assert found.contents == FILES
    assert collect(StreamSource(found), "gauge").content("/etc/ssh/sshd_config") == FILES["/etc/ssh/sshd_config"]


@pytest.mark.parametrize("cut", range(0, len(WHOLE) - len("\n"), 61))
def test_a_stream_cut_anywhere_is_refused(cut: int) -> None:
    with pytest.raises(UnreadableError):
        parse(WHOLE[:cut], NONCE, "gauge")


@given(st.data())
def test_a_damaged_stream_is_read_or_refused_and_nothing_else(data: st.DataObject) -> None:
    raw = bytearray(WHOLE)
    for _ in range(data.draw(st.integers(1, 6))):
        at = data.draw(st.integers(0, len(raw) - 1))
        piece = data.draw(
            st.one_of(st.binary(max_size=8), st.sampled_from([b"\n@files\n", b"\n@after\n", b"\n@paths\n ", b"\n@end "]))
        )
        raw[at : at + data.draw(st.integers(0, 600))] = piece
    try:
        found = parse(bytes(raw), NONCE, "gauge")
        collect(StreamSource(found), "gauge")
    except UnreadableError:
        pass


@given(st.binary(max_size=400))
def test_any_bytes_are_read_or_refused(raw: bytes) -> None:
    with pytest.raises(UnreadableError):
        parse(raw, NONCE, "gauge")


def test_what_changed_between_the_two_looks_is_not_believed() -> None:
    found = parse(stream(FILES, {**FILES, "/etc/passwd": b"longer than it was before, by far\n"}), NONCE, "gauge")
    entry = collect(StreamSource(found), "gauge").entries["/etc/passwd"]
    assert entry.content is None
    assert entry.note == "changed while it was read"


LINES = st.lists(st.sampled_from([b"a\n", b"b\n", b"c\n", b"d\r\n", b"\n"]), max_size=7)


@given(LINES, LINES)
def test_what_nobody_touched_comes_back_whole(before: list[bytes], after: list[bytes]) -> None:
    one, two = b"".join(before), b"".join(after)
    assert merged(one, two, two) == one


@given(LINES, LINES, LINES, LINES)
def test_lines_added_around_stay_where_they_are(
    before: list[bytes], after: list[bytes], top: list[bytes], end: list[bytes]
) -> None:
    above, below = (b"".join(b"new " + line for line in lines) for lines in (top, end))
    one, two = b"".join(before), b"".join(after)
    if one != two:
        found = merged(one, two, above + two + below)
        # At the very edge the old lines may come before or after the new ones; none is lost, none is there twice.
        assert found is None or sorted(text_lines(found)) == sorted(text_lines(above + one + below))


@given(LINES, LINES, LINES)
def test_a_touched_line_is_never_overwritten(before: list[bytes], after: list[bytes], now: list[bytes]) -> None:
    one, two, three = (b"".join(lines) for lines in (before, after, now))
    found = merged(one, two, three)
    if found is not None and three != two:
        kept = sorted(three.splitlines(keepends=True))
        removed = list(after)
        lost = [line for line in kept if line not in found.splitlines(keepends=True)]
        assert all(line in removed for line in lost), "only what the change itself had written may go"


TABLE = [
    ("their line below stays", b"a\nb\n", b"a\nB\n", b"a\nB\nc\n", b"a\nb\nc\n"),
    ("their line above stays", b"a\nb\n", b"a\nB\n", b"x\na\nB\n", b"x\na\nb\n"),
    ("an added line goes, their edit elsewhere stays", b"a\nb\n", b"n\na\nb\n", b"n\na\nc\n", b"a\nc\n"),
    ("the same line was edited: refused", b"a\nb\n", b"a\nB\n", b"a\nC\n", None),
    ("between two added lines somebody wrote: refused", b"a\n", b"n\nm\na\n", b"n\nx\nm\na\n", None),
]


@pytest.mark.parametrize(("before", "after", "now", "expected"), [row[1:] for row in TABLE], ids=[row[0] for row in TABLE])
def test_taking_back(before: bytes, after: bytes, now: bytes, expected: bytes | None) -> None:
    assert merged(before, after, now) == expected
