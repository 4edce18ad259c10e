"""A guest that no connection reaches: what a person carried over from its console, read as evidence."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from nightlatch.evidence import byhand
from nightlatch.evidence.collect import collect
from nightlatch.evidence.extra_paths import NO_MORE, ExtraPaths
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.evidence.stream import StreamSource, parse
from nightlatch.faults import UnreadableError

HEAD = 1 << 20  # how much may stand before the script's output: a terminal's scrollback


def is_output(path: Path) -> bool:
    """Whether a file is what the script printed."""
    try:
        with path.open("rb") as stream:
            return byhand.is_output(stream.read(HEAD))
    except OSError:
        return False


def read(path: Path, guest: str, more: ExtraPaths = NO_MORE) -> Snapshot:
    """The evidence in what the script printed. Raises UnreadableError.

    There is one look only: where the guest's files name others that the script did not know of, a note says so.
    """
    try:
        with path.open("rb") as stream:
            raw = stream.read(byhand.LARGEST_TEXT + 1)
    except OSError as error:
        raise UnreadableError(f"{path} can't be read: {error.strerror}") from None
    text, mark = byhand.stream_of(raw, str(path))
    parsed = parse(text, mark, guest)
    source = StreamSource(parsed)
    snapshot = collect(source, guest, more, others=parsed.listings.get("directory", b""))
    missed = sorted(set().union(*source.missed.values()))
    notes = snapshot.notes + parsed.notes
    if missed:
        notes = (*notes, f"the script did not look at {', '.join(missed[:5])}{' and more' if missed[5:] else ''}")
    facts = {**{n: t for n, t in parsed.facts.items() if n != "connection"}, "transport": "by hand"}
    return replace(snapshot, notes=notes, facts=facts, listings=parsed.listings)
