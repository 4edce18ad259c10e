"""A stand-in for the filter outside of the guests: it keeps tables of rules and gives them out, over HTTP on loopback alone.

    GET  /tables/NAME                {"version": 3, "rows": [...], "by": "..."}
    GET  /tables/NAME/versions/2     the same of an earlier version
    PUT  /tables/NAME                {"version": 3, "rows": [...], "by": "..."}: 200 with version 4, or 409 where 3 is over

It filters nothing; it is for trying out how outer changes are drafted, enacted, read back and undone. Tables live in one JSON
file."""

from __future__ import annotations

import json
import re
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

PORT = 8056
LARGEST = 16 << 20
MOST_VERSIONS = 100
ADDRESS = re.compile(r"/tables/([a-z][a-z0-9-]{0,63})(?:/versions/([1-9][0-9]{0,8}))?")


class Tables:
    """All tables with their versions, the newest last; kept in a file."""

    def __init__(self, path: Path, first: dict[str, list[dict[str, Any]]]) -> None:
        self.path, self.lock = path, threading.Lock()
        made = {name: [{"version": 1, "rows": rows, "by": "the station"}] for name, rows in first.items()}
        self.held: dict[str, list[dict[str, Any]]] = json.loads(path.read_text()) if path.exists() else made

    def get(self, name: str, version: int = 0) -> dict[str, Any] | None:
        """A table, the newest version of it unless another is named."""
        with self.lock:
            versions = self.held.get(name, [])
            found = [each for each in versions if version in (0, each["version"])]
            return found[-1] if found else None

    def put(self, name: str, made: dict[str, Any]) -> dict[str, Any] | None:
        """A new version in place of the one that it names; None where that is over."""
        with self.lock:
            versions = self.held[name]
            if made.get("version") != versions[-1]["version"]:
                return None
            fresh = {"version": versions[-1]["version"] + 1, "rows": made["rows"], "by": str(made.get("by", ""))[:200]}
            self.held[name] = [*versions[-MOST_VERSIONS:], fresh]
            staged = self.path.with_suffix(".part")
            staged.write_text(json.dumps(self.held))
            staged.replace(self.path)
            return fresh


def server(tables: Tables, port: int = 0) -> ThreadingHTTPServer:
    """A server on loopback; `port` 0 takes a free one. The caller runs it and ends it."""

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            self._answer(lambda name, version, body: tables.get(name, version))

        def do_PUT(self) -> None:
            self._answer(self._put)

        def _put(self, name: str, version: int, body: bytes) -> dict[str, Any] | int | None:
            if version or tables.get(name) is None:
                return None
            try:
                made = json.loads(body)
                good = isinstance(made["rows"], list) and all(isinstance(each, dict) for each in made["rows"])
            except (ValueError, KeyError, TypeError):
                good = False
            return (tables.put(name, made) or 409) if good else 400

        def _answer(self, work: Any) -> None:
            found, size = ADDRESS.fullmatch(self.path), self.headers.get("Content-Length", "0")
            body = self.rfile.read(min(int(size), LARGEST)) if size.isdigit() else b""
            made = work(found[1], int(found[2] or 0), body) if found else None
            code = made if isinstance(made, int) else 404 if made is None else 200
            raw = json.dumps(made if code == 200 else {"error": code}).encode()
            self.send_response(code)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(raw)))
            self.end_headers()
            self.wfile.write(raw)

        def log_message(self, format: str, *args: object) -> None:
            """No line for each request: its output is part of a story."""

    return ThreadingHTTPServer(("127.0.0.1", port), Handler)


@contextmanager
def running(folder: Path) -> Iterator[int]:
    """Serve the tables of a folder on a free port while the block runs; nothing of it is kept."""
    first = {path.stem: json.loads(path.read_text()) for path in sorted(folder.glob("*.json"))}
    with TemporaryDirectory() as kept, server(Tables(Path(kept) / "state", first)) as made:
        thread = threading.Thread(target=made.serve_forever, daemon=True)
        thread.start()
        try:
            yield made.server_address[1]
        finally:
            made.shutdown()
            thread.join(5)


def serve(folder: Path, port: int) -> None:
    """Serve every *.json table of a folder until Ctrl-C; what is put there is kept in its tables.state."""
    first = {path.stem: json.loads(path.read_text()) for path in sorted(folder.glob("*.json"))}
    with server(Tables(folder / "tables.state", first), port) as running:
        running.serve_forever()
