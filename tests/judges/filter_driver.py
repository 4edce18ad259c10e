"""Real connections for the judge of packet filters: `serve` listens, `call` reads lines of JSON and tells how each try ended."""

from __future__ import annotations

import errno
import json
import selectors
import socket
import sys
import time

WAIT = 0.35


def serve(ports: list[int]) -> None:
    chosen = selectors.DefaultSelector()
    for port in ports:
        listening = socket.socket(socket.AF_INET6)
        listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        listening.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 0)
        listening.bind(("::", port))
        listening.listen(512)
        chosen.register(listening, selectors.EVENT_READ)
    print("ready", flush=True)
    while True:
        for key, _ in chosen.select():
            made = key.fileobj.accept()[0]  # type: ignore[union-attr]
            made.send(b"in")
            made.close()


def call(tries: list[list[object]]) -> list[str]:
    """How each [source, target, port] ended: in, refused, silent. In is who gets an answer that takes more than a first packet."""
    chosen = selectors.DefaultSelector()
    out = ["silent"] * len(tries)
    for number, (source, target, port) in enumerate(tries):
        made = socket.socket(socket.AF_INET6 if ":" in str(source) else socket.AF_INET)
        made.setblocking(False)
        made.bind((str(source), 0))
        code = made.connect_ex((str(target), int(str(port))))
        if code in (0, errno.EINPROGRESS):
            chosen.register(made, selectors.EVENT_READ, number)
        else:
            out[number] = "refused"
            made.close()
    end = time.monotonic() + WAIT
    while chosen.get_map() and time.monotonic() < end:
        for key, _ in chosen.select(max(0, end - time.monotonic())):
            made = key.fileobj  # type: ignore[assignment]
            try:
                out[key.data] = "in" if made.recv(2) == b"in" else "refused"
            except OSError:
                out[key.data] = "refused"
            chosen.unregister(made)
            made.close()
    for key in list(chosen.get_map().values()):
        key.fileobj.close()  # type: ignore[union-attr]
    return out


if __name__ == "__main__":
    if sys.argv[1] == "serve":
        serve([int(port) for port in sys.argv[2:]])
    for line in sys.stdin:
        print(json.dumps(call(json.loads(line))), flush=True)
