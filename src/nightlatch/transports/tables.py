"""The table of a filter outside of guests, at the service that keeps it: read whole, and put whole in place of what was read.

The service is docs/filters.md's: GET gives {"version": N, "rows": [...]}, PUT takes the same and answers 409 where the version is
not the one that it has. It is asked on this machine only; an answer is bounded in time and size.
"""

from __future__ import annotations

import json
import re
from dataclasses import dataclass

from nightlatch.faults import RefusedError, UnreadableError

SECONDS = 10.0
LARGEST = 16 << 20
Record = dict[str, object]


@dataclass(frozen=True, slots=True)
class Table:
    """The rows at a service, and the version that they are; `by` says who put them there."""

    rows: tuple[Record, ...]
    version: int
    by: str = ""


def read(url: str, version: int = 0) -> Table:
    """The table as it is, or as an earlier version was. Raises UnreadableError."""
    return _table(url, _asked("GET", f"{url}/versions/{version}" if version else url))


def put(url: str, rows: tuple[Record, ...], version: int, by: str) -> Table:
    """Put rows in place of those of a version. Raises RefusedError when the service has another by now."""
    body = json.dumps({"version": version, "rows": list(rows), "by": by}).encode()
    return _table(url, _asked("PUT", url, body))


def _asked(method: str, url: str, body: bytes | None = None) -> bytes:
    import httpx

    try:
        with (
            # No certificates are needed on this machine's own loopback, and reading them takes longer than all else.
            httpx.Client(timeout=SECONDS, follow_redirects=False, trust_env=False, verify=False) as client,
            client.stream(method, url, content=body, headers={"Accept": "application/json"}) as answer,
        ):
            out = b""
            for piece in answer.iter_bytes():
                out += piece
                if len(out) > LARGEST:
                    raise UnreadableError(f"{url}: the answer is larger than {LARGEST >> 20} MiB")
    except httpx.TransportError as error:
        because = re.sub(r"^\[Errno \d+\] ", "", str(error)) or type(error).__name__
        raise UnreadableError(
            f"{url}: no service answers there ({because}); start it, or the stand-in: nightlatch demo --outer FOLDER"
        ) from None
    if answer.status_code == 409:
        raise RefusedError(f"{url}: somebody else changed the table meanwhile; nightlatch perimeter --take reads it anew")
    if answer.status_code != 200:
        raise UnreadableError(f"{url} answered {answer.status_code}: {_first_line(out)}")
    return out


def _first_line(raw: bytes) -> str:
    text = raw[:200].decode("utf-8", "replace").strip().splitlines()
    return "".join(char if char.isprintable() else "?" for char in text[0]) if text else "nothing"


def _table(url: str, raw: bytes) -> Table:
    try:
        found = json.loads(raw)
        rows, version, by = found["rows"], found["version"], found.get("by", "")
        good = isinstance(rows, list) and all(isinstance(each, dict) for each in rows)
        if not good or not isinstance(version, int) or not isinstance(by, str):
            raise ValueError
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
        raise UnreadableError(f'{url}: expected {{"version": N, "rows": [...]}}, got {_first_line(raw)}') from None
    return Table(tuple(rows), version, "".join(char for char in by[:200] if char.isprintable()))
