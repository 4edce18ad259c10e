"""Listeners that misbehave, one on each port from 1001 on, for tests: `python -m tests.live.liars ADDRESS`."""

from __future__ import annotations

import socket
import sys
import threading
import time
from collections.abc import Callable


def says_nothing(peer: socket.socket) -> None:
    time.sleep(60)


def closes(peer: socket.socket) -> None:
    peer.close()


def dribbles(peer: socket.socket) -> None:
    for _ in range(600):
        peer.sendall(b"x")
        time.sleep(0.1)


def floods(peer: socket.socket) -> None:
    while True:
        peer.sendall(b"z" * 65536)


def floods_lines(peer: socket.socket) -> None:
    while True:
        peer.sendall(b"welcome to the station\r\n" * 1000)


def answers_http(peer: socket.socket) -> None:
    peer.recv(100)
    peer.sendall(b"HTTP/1.1 400 Bad Request\r\nConnection: close\r\n\r\n")
    peer.close()


def is_old(peer: socket.socket) -> None:
    peer.sendall(b"SSH-1.5-old\r\n")
    time.sleep(60)


def escapes(peer: socket.socket) -> None:
    peer.sendall(b"SSH-2.0-\x1b[2J\x1b[31mroot\xe2\x80\xae[bold]\r\n")
    peer.sendall(b"\xff" * 64)
    time.sleep(60)


LIARS: tuple[Callable[[socket.socket], None], ...] = (
    says_nothing,
    closes,
    dribbles,
    floods,
    floods_lines,
    answers_http,
    is_old,
    escapes,
)
FIRST = 1001


def serve(address: str, port: int, act: Callable[[socket.socket], None]) -> None:
    listener = socket.create_server((address, port))
    while True:
        peer, _ = listener.accept()
        threading.Thread(target=quietly, args=(act, peer), daemon=True).start()


def quietly(act: Callable[[socket.socket], None], peer: socket.socket) -> None:
    try:
        act(peer)
    except OSError:
        pass
    finally:
        peer.close()


if __name__ == "__main__":
    for number, each in enumerate(LIARS):
        threading.Thread(target=serve, args=(sys.argv[1], FIRST + number, each), daemon=True).start()
    print("ready", flush=True)
    time.sleep(600)
