"""Archives and formats of other makes: nothing large is set aside for them, and a newer format is told from a damaged one."""

from __future__ import annotations

import base64
import gzip
import json
import tarfile
import time
import tracemalloc
from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nightlatch import load_estate, versions
from nightlatch.evidence import byhand
from nightlatch.evidence.members import MemberFault, members
from nightlatch.evidence.snapshot import from_files
from nightlatch.faults import EstateError, NightlatchError, UnreadableError
from nightlatch.latch import records
from nightlatch.ops.evidence import read_evidence, write_evidence
from tests.guests import AT, Guest
from tests.test_evidence import collected

MOST_MEMORY = 48 << 20


def header(name: str, size: int, kind: bytes = tarfile.REGTYPE) -> bytes:
    info = tarfile.TarInfo(name)
    info.size, info.type = size, kind
    return info.tobuf(tarfile.GNU_FORMAT)


def meta_of(tmp_path: Path) -> bytes:
    path = tmp_path / "whole.evidence.tar.gz"
    write_evidence(collected(Guest().write(tmp_path / "g")), path, AT)
    with tarfile.open(path) as tar:
        stream = tar.extractfile("meta.json")
        assert stream
        return stream.read()


def packed(path: Path, head: bytes, zeros: int = 0, block: bytes = b"") -> Path:
    with gzip.open(path, "wb", compresslevel=1) as out:
        out.write(head)
        for _ in range(zeros >> 20):
            out.write(bytes(1 << 20))
        for _ in range(100 if block else 0):
            out.write(block)
    return path


@pytest.mark.parametrize(
    "kind",
    [
        tarfile.REGTYPE,
        tarfile.XHDTYPE,
        tarfile.XGLTYPE,
        tarfile.GNUTYPE_LONGNAME,
        tarfile.GNUTYPE_LONGLINK,
        tarfile.GNUTYPE_SPARSE,
        tarfile.SOLARIS_XHDTYPE,
    ],
)
@pytest.mark.parametrize("first", [True, False], ids=["first", "later"])
def test_a_header_of_three_gibibytes_takes_no_memory(kind: bytes, first: bool, tmp_path: Path) -> None:
    raw = meta_of(tmp_path)
    head = b"" if first else header("meta.json", len(raw)) + raw + bytes(-len(raw) % 512)
    path = packed(tmp_path / "x.evidence.tar.gz", head + header("meta.json", 3 << 30, kind), zeros=200 << 20)
    tracemalloc.start()
    began = time.process_time()
    with pytest.raises(UnreadableError):
        read_evidence(path)
    assert tracemalloc.get_traced_memory()[1] < MOST_MEMORY
    tracemalloc.stop()
    assert time.process_time() - began < 5


@pytest.mark.parametrize("name", ["root/none", "elsewhere", "meta.json"])
def test_half_a_million_members_are_not_read(name: str, tmp_path: Path) -> None:
    raw = meta_of(tmp_path)
    head = header("meta.json", len(raw)) + raw + bytes(-len(raw) % 512)
    path = packed(tmp_path / "x.evidence.tar.gz", head, block=header(name, 0) * 5000)
    began = time.process_time()
    with pytest.raises(UnreadableError, match="is not named in its meta"):
        read_evidence(path)
    assert time.process_time() - began < 2


def test_a_gzip_frame_around_itself_and_odd_files_are_refused(tmp_path: Path) -> None:
    for raw in (
        b"",
        gzip.compress(b""),
        gzip.compress(gzip.compress(b"x")),
        bytes(2048),
        b"\x1f\x8b\x08\x18" + b"n" * 4096,
    ):
        (tmp_path / "odd.tar.gz").write_bytes(raw)
        with pytest.raises(UnreadableError, match="no evidence archive"):
            read_evidence(tmp_path / "odd.tar.gz")
    with pytest.raises(UnreadableError, match="no such archive"):
        read_evidence(Path("/dev/zero"))


def test_names_of_any_length_and_bytes_come_back(tmp_path: Path) -> None:
    names = {
        "/etc/" + "d" * 90 + "/" + "f" * 90: b"long",
        "/etc/\udcff\udcfe": b"bytes",
        "/etc/ünï": b"letters",
        "/etc/a b\x1b[2J": b"signs",
    }
    snapshot = from_files("gauge", {"/etc/passwd": b"root:x:0:0::/root:/bin/sh\n", **names})
    write_evidence(snapshot, tmp_path / "x.evidence.tar.gz", AT)
    again = read_evidence(tmp_path / "x.evidence.tar.gz")
    assert {name: again.content(name) for name in names} == names


@settings(max_examples=300)
@given(st.binary(max_size=2048), st.integers(0, 2000), st.binary(min_size=1, max_size=4))
def test_bytes_are_members_or_a_fault(raw: bytes, at: int, other: bytes) -> None:
    whole = header("a/b", 700) + b"x" * 700 + bytes(324) + header("l" * 99, 0) + raw
    whole = whole[:at] + other + whole[at + len(other) :]
    place = 0

    def read(count: int) -> bytes:
        nonlocal place
        place += count
        return whole[place - count : place]

    def allowed(_: str, size: int) -> None:
        if size > 4096:
            raise MemberFault("large")

    with suppress(MemberFault):
        for member in members(read, allowed):
            assert len(member.body) <= 4096


NEWER = "made by a newer Nightlatch; this release reads 1: install the newer release"


def test_a_newer_format_is_told_from_a_damaged_one(tmp_path: Path) -> None:
    raw = json.loads(meta_of(tmp_path))
    raw.update(format="nightlatch/evidence/2", surprise={"a": 1})
    text = json.dumps(raw).encode()
    path = packed(tmp_path / "x.evidence.tar.gz", header("meta.json", len(text)) + text + bytes(-len(text) % 512))
    with pytest.raises(UnreadableError, match=f"x.evidence.tar.gz: it is version 2 of the evidence archive, {NEWER}"):
        read_evidence(path)
    with pytest.raises(UnreadableError, match=f"record.json: it is version 7 of the record of a change, {NEWER}"):
        records.parse(b'{"format": "nightlatch/change/7", "more": []}', "record.json")
    for damaged in (b"", b"[" * 100_000, b'{"format": 1}', b'{"format": "nightlatch/change/1"}'):
        with pytest.raises(UnreadableError, match="can't be read"):
            records.parse(damaged, "record.json")
    (tmp_path / "estate.yaml").write_text(
        "nightlatch: 2\nestate: Skerry Point\nmoorings: {}\nguests: {gauge: {via: {boat: here}}}\n"
    )
    with pytest.raises(EstateError) as caught:
        load_estate(tmp_path / "estate.yaml")
    assert NEWER in str(caught.value)
    assert "estate.yaml:1:13" in str(caught.value)
    assert len(caught.value.faults) == 1, "words of another version are not judged by this one"


@pytest.mark.parametrize(
    "text, told", [("0", "no version"), ("one", "no version"), ("3", "newer"), ("nightlatch/evidence/1", ""), ("1", "")]
)
def test_versions(text: str, told: str) -> None:
    found = versions.unread("evidence", text)
    assert told in found
    assert bool(told) == bool(found)


def test_a_survey_by_hand_of_a_newer_script_is_refused() -> None:
    stream = gzip.compress(b"\n@nightlatch/stream/2 0123456789abcdef\n")
    text = f"{byhand.BEGINS}\n".encode() + base64.encodebytes(stream) + f"{byhand.ENDS}\n".encode()
    with pytest.raises(NightlatchError, match=f"gauge.txt: it is version 2 of the survey by hand, {NEWER}"):
        byhand.stream_of(text, "gauge.txt")
