"""Runs in a guest of the lab: starts the real xrdp on one file after another, and tells where it listens and what it answers.

Standard input has a case on each line, as JSON: {"ini": text in base64, "ask": [requested protocols]}. For each one line goes out:
{"alive": ..., "sockets": [[family, address, port]], "answers": {"1": [kind, value]}, "tls": version or fault}.
Arguments: the account's number, and its groups.
"""

from __future__ import annotations

import base64
import contextlib
import json
import os
import socket
import ssl
import struct
import subprocess
import sys
import time
from typing import Any

UID, GROUPS = int(sys.argv[1]), [int(each) for each in sys.argv[2:]]
FAMILIES = {"inet": socket.AF_INET, "inet6": socket.AF_INET6}
ALL = {"0.0.0.0": "127.0.0.1", "::": "::1"}
CONFIRM, TLS = 0xD0, 1


def sockets(pid: int) -> list[list[Any]]:
    """What a process listens on (proc(5))."""
    held = set()
    with contextlib.suppress(OSError):
        held = {os.readlink(f"/proc/{pid}/fd/{name}") for name in os.listdir(f"/proc/{pid}/fd")}
    out = []
    for name, family in (("tcp", "inet"), ("tcp6", "inet6")):
        with open(f"/proc/net/{name}") as stream:
            rows = [line.split() for line in stream][1:]
        for row in rows:
            if row[3] == "0A" and f"socket:[{row[9]}]" in held:
                host, port = row[1].split(":")
                raw = bytes.fromhex(host)
                whole = b"".join(raw[at : at + 4][::-1] for at in range(0, len(raw), 4))
                out.append([family, socket.inet_ntop(FAMILIES[family], whole), int(port, 16)])
    return sorted(out)


def asked(family: str, address: str, port: int, protocols: int) -> tuple[list[Any], str]:
    """The answer to a request for these protocols ([MS-RDPBCGR] 2.2.1.1, 2.2.1.2), and what becomes of TLS where it was selected."""
    with socket.socket(FAMILIES[family]) as link:
        link.settimeout(3)
        link.connect((ALL.get(address, address), port))
        body = struct.pack(">BBHHB", 14, 0xE0, 0, 0, 0) + struct.pack("<BBHI", 1, 0, 8, protocols)
        link.sendall(struct.pack(">BBH", 3, 0, 4 + len(body)) + body)
        got = b""
        with contextlib.suppress(OSError):
            while len(got) < 19 and (more := link.recv(4096)):
                got += more
        if len(got) < 19 or got[5] != CONFIRM:
            return ["short", got.hex()], ""
        answer = [got[11], struct.unpack("<I", got[15:19])[0]]
        return answer, shaken(link) if answer == [2, TLS] else ""


def shaken(link: socket.socket) -> str:
    """The version of TLS that is agreed on, or "fault"."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    try:
        with context.wrap_socket(link) as sealed:
            return sealed.version() or "fault"
    except OSError:
        return "fault"


def demote() -> None:
    """Take the account's rights."""
    os.setgroups(GROUPS)
    os.setgid(UID)
    os.setuid(UID)


def run(case: dict[str, Any]) -> dict[str, Any]:
    """One case: a process, its sockets, its answers, its end."""
    with open("/etc/xrdp/xrdp.ini", "wb") as stream:
        stream.write(base64.b64decode(case["ini"]))
    words = ["/usr/sbin/xrdp", "-n"]
    null = subprocess.DEVNULL
    started = subprocess.Popen(words, stdin=null, stdout=null, stderr=null, preexec_fn=demote if UID else None)
    end, found = time.monotonic() + 0.5, sockets(started.pid)
    while time.monotonic() < end and started.poll() is None:
        now = sockets(started.pid)
        if now and now == found:
            break
        found = now
        time.sleep(0.03)
    told: dict[str, Any] = {"alive": started.poll() is None, "sockets": found, "answers": {}, "tls": ""}
    for each in case["ask"] if found and told["alive"] else ():
        family, address, port = found[0]
        answer, tls = asked(family, address, port, each)
        told["answers"][str(each)] = answer
        told["tls"] = told["tls"] or tls
    started.kill()
    started.wait()
    with contextlib.suppress(OSError):
        os.unlink("/run/xrdp/xrdp.pid")
    return told


for line in sys.stdin:
    print(json.dumps(run(json.loads(line))), flush=True)
