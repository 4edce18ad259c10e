"""The tide line's server, for tests on the wire: it asks for a password, but lets in whoever it is told to let in.

usage: python -m tests.live.tided ADDRESS PORT [ACCOUNT...]
"""

from __future__ import annotations

import socketserver
import sys


class Talk(socketserver.StreamRequestHandler):
    def handle(self) -> None:
        self.wfile.write(b"tide 1 gauge\n")
        account = self.rfile.readline(200).decode("ascii", "replace").removeprefix("who ").strip()
        self.wfile.write(b"welcome\n" if account in sys.argv[3:] else b"password\n")


if __name__ == "__main__":
    with socketserver.ThreadingTCPServer((sys.argv[1], int(sys.argv[2])), Talk) as server:
        print("ready", flush=True)
        server.serve_forever()
