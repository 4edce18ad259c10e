"""Runs in a guest of the lab: starts real servers of VNC one after another, and tells where each listens, which security types it
offers, and which of several logins it lets in.

Standard input has a case on each line, as JSON: {"words": [...], "uid": N, "home": FOLDER, "files": {path: [mode, uid, base64]},
"logins": [[type, proof, ...]]}. For each one line goes out: {"alive": ..., "sockets": [[family, address, port]], "types": [...],
"let_in": [true or false]}. A line with a "batch" of cases asks the wrapper what it would start, in homes of their own;
one with cases that are "staying" which of them still serve a while after their start.
"""

from __future__ import annotations

import base64
import contextlib
import glob
import json
import os
import signal
import socket
import ssl
import struct
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from typing import Any

FAMILIES = {"inet": socket.AF_INET, "inet6": socket.AF_INET6}
ALL = {"0.0.0.0": "127.0.0.1", "::": "::1"}
NAMES = {1: "None", 2: "VncAuth", 5: "RA2", 6: "RA2ne", 256: "Plain", 257: "TLSNone", 258: "TLSVnc", 259: "TLSPlain"}
NAMES |= {260: "X509None", 261: "X509Vnc", 262: "X509Plain", 18: "TLS"}
NUMBERS = {name: number for number, name in NAMES.items()}
VENCRYPT, SSH = 19, 22
KEPT = "X60"  # the display that is mirrored


def sockets() -> list[list[Any]]:
    """All that listens in this guest (proc(5))."""
    out = []
    for name, family in (("tcp", "inet"), ("tcp6", "inet6")):
        with open(f"/proc/net/{name}") as stream:
            rows = [line.split() for line in stream][1:]
        for row in rows:
            host, port = row[1].split(":")
            raw = bytes.fromhex(host)
            whole = b"".join(raw[at : at + 4][::-1] for at in range(0, len(raw), 4))
            if row[3] == "0A" and int(port, 16) != SSH:
                out.append([family, socket.inet_ntop(FAMILIES[family], whole), int(port, 16)])
    return sorted(out)


class Link:
    """One connection, from an address of its own: a server counts failures by address."""

    last, source = 1, ""

    def __init__(self, family: str, address: str, port: int) -> None:
        self.link = socket.socket(FAMILIES[family])
        self.link.settimeout(3)
        if family == "inet":
            Link.last = Link.last % 250 + 1
            self.link.bind((Link.source or f"127.0.1.{Link.last}", 0))
        self.link.connect((ALL.get(address, address), port))

    def take(self, count: int) -> bytes:
        got = b""
        while len(got) < count:
            more = self.link.recv(count - len(got))
            if not more:
                raise OSError("closed")
            got += more
        return got

    def number(self) -> int:
        found: int = struct.unpack(">I", self.take(4))[0]
        return found

    def types(self) -> tuple[list[int], list[int]]:
        """The types, and VeNCrypt's subtypes."""
        self.take(12)
        self.link.sendall(b"RFB 003.008\n")
        kinds = list(self.take(self.take(1)[0]))
        if VENCRYPT not in kinds:
            return kinds, []
        self.link.sendall(bytes([VENCRYPT]))
        self.take(2)
        self.link.sendall(b"\0\2")
        self.take(1)
        return kinds, [self.number() for _ in range(self.take(1)[0])]


def opened(place: list[Any]) -> tuple[list[str], Link]:
    """The names of all types that one server offers."""
    link = Link(*place)
    kinds, more = link.types()
    return [NAMES.get(each, str(each)) for each in [*(k for k in kinds if k != VENCRYPT), *more]], link


def seal(link: Link, name: str) -> None:
    """TLS, with no certificate for the types that have none."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    if name.startswith("TLS"):
        context.maximum_version = ssl.TLSVersion.TLSv1_2
        context.minimum_version = ssl.TLSVersion.TLSv1
        context.set_ciphers("aNULL:@SECLEVEL=0")
    else:
        context.set_ciphers("ALL:@SECLEVEL=0")
    link.link = context.wrap_socket(link.link)


def answered(challenge: bytes, word: str) -> bytes:
    """A challenge under a password of eight bytes, each turned round (RFC 6143, 7.2.2)."""
    raw = word.encode()[:8].ljust(8, b"\0")
    key = bytes(int(f"{each:08b}"[::-1], 2) for each in raw).hex() * 3
    words = ["openssl", "enc", "-des-ede3-ecb", "-nopad", "-K", key]
    return subprocess.run(words, input=challenge, capture_output=True, check=True).stdout


def lets_in(place: list[Any], name: str, proof: list[str]) -> bool:
    """Whether a login by one type comes through."""
    try:
        link = Link(*place)
        kinds, _ = link.types()
        number = NUMBERS[name]
        if number > 255:
            link.link.sendall(struct.pack(">I", number))
            if name != "Plain":
                if link.take(1) != b"\1":
                    return False
                seal(link, name)
        else:
            if VENCRYPT in kinds:  # chosen by `types`: begin again
                link = Link(*place)
                link.take(12)
                link.link.sendall(b"RFB 003.008\n")
                link.take(link.take(1)[0])
            link.link.sendall(bytes([number]))
        if name.lower().endswith(("vnc", "vncauth")):
            link.link.sendall(answered(link.take(16), proof[0]))
        elif name.endswith("Plain"):
            user, word = proof[0].encode(), proof[1].encode()
            link.link.sendall(struct.pack(">II", len(user), len(word)) + user + word)
        if link.number() != 0:
            return False
        link.link.sendall(b"\1")
        link.take(24)
        return True
    except OSError as error:
        sys.stderr.write(f"{name} {error!r}\n")
        return False


def settle(started: subprocess.Popen[bytes], seconds: float, still: float) -> list[list[Any]]:
    """What listens once that stays the same for a while, or the process is over."""
    end, found, since = time.monotonic() + seconds, sockets(), time.monotonic()
    while time.monotonic() < end:
        now = sockets()
        if now != found:
            found, since = now, time.monotonic()
        if started.poll() not in (None, 0) or (found and time.monotonic() - since > still):
            break
        time.sleep(0.03)
    return found


def put(files: dict[str, Any]) -> None:
    """Write files with their modes and owners."""
    for path, (mode, uid, content) in files.items():
        os.makedirs(os.path.dirname(path), exist_ok=True)
        with open(path, "wb") as stream:
            stream.write(base64.b64decode(content))
        os.chown(path, uid, uid)
        os.chmod(path, mode)


def remove(paths: Any) -> None:
    """Take files away that are there."""
    for path in paths:
        with contextlib.suppress(OSError):
            os.unlink(path)


def batch(case: dict[str, Any]) -> list[dict[str, Any]]:
    """What the wrapper would start, by its own words, in several homes at once; it mostly waits."""
    put(case["files"])
    with ThreadPoolExecutor(12) as pool:
        found = list(pool.map(printed, case["batch"]))
    remove(case["files"])
    return found


def printed(case: dict[str, Any]) -> dict[str, Any]:
    """The same in one home."""
    uid, home = case["uid"], case["home"]
    os.makedirs(f"{home}/.vnc", exist_ok=True)
    put(case["files"])
    for path in (home, f"{home}/.vnc"):
        os.chown(path, uid, uid)
    words = ["setpriv", "--reuid", str(uid), "--regid", str(uid), "--clear-groups", *case["words"]]
    environment = {"HOME": home, "PATH": "/usr/bin:/bin:/usr/sbin", "USER": "pilot", "LANG": "C"}
    done = subprocess.run(words, stdin=subprocess.DEVNULL, capture_output=True, env=environment, cwd=home, timeout=60)
    said = (done.stdout + done.stderr).decode("utf-8", "replace")
    starts = [line for line in said.splitlines() if line.startswith("Starting ") and "Xtigervnc " in line]
    return {"starts": starts[0][9:] if starts else "", "said": said[-400:]}


def staying(cases: list[dict[str, Any]]) -> list[bool]:
    """Whether a server that the wrapper starts is still there a while later, of several at once."""
    for case in cases:
        put(case["files"])
        for path in (case["home"], f"{case['home']}/.vnc"):
            os.makedirs(path, exist_ok=True)
            os.chown(path, case["uid"], case["uid"])
    null = subprocess.DEVNULL
    for case in cases:
        uid = str(case["uid"])
        words = ["setpriv", "--reuid", uid, "--regid", uid, "--clear-groups", *case["words"]]
        environment = {"HOME": case["home"], "PATH": "/usr/bin:/bin:/usr/sbin", "USER": "pilot", "SHELL": "/bin/bash"}
        subprocess.Popen(words, stdin=null, stdout=null, stderr=null, env=environment, cwd=case["home"], start_new_session=True)
    end = time.monotonic() + 25
    found: list[bool] = []
    since = time.monotonic()
    while time.monotonic() < end and time.monotonic() - since < 6:
        taken = {port for _, _, port in sockets()}
        now = [case["port"] in taken for case in cases]
        if now != found:
            found, since = now, time.monotonic()
        time.sleep(0.1)
    for each in os.listdir("/proc"):
        with contextlib.suppress(OSError, ValueError):
            if os.stat(f"/proc/{int(each)}").st_uid == cases[0]["uid"]:
                os.kill(int(each), signal.SIGKILL)
    return found


def run(case: dict[str, Any]) -> dict[str, Any]:
    """One case: its files, a process, its sockets, its answers, its end."""
    put(case.get("files", {}))
    uid, null = case["uid"], subprocess.DEVNULL
    Link.source = case.get("source", "")

    def demote() -> None:
        os.setsid()
        os.setgroups([uid])
        os.setgid(uid)
        os.setuid(uid)

    environment = {"HOME": case["home"], "PATH": "/usr/bin:/bin:/usr/sbin", "USER": case["user"], **case.get("environment", {})}
    started = subprocess.Popen(
        case["words"], stdin=null, stdout=null, stderr=null, preexec_fn=demote, env=environment, cwd=case["home"]
    )
    found = settle(started, case.get("seconds", 1.5), case.get("still", 0.15))
    told: dict[str, Any] = {"alive": bool(found) or started.poll() is None, "sockets": found, "types": [], "let_in": []}
    if found and case.get("logins") is not None:
        with contextlib.suppress(OSError):
            told["types"] = opened(found[0])[0]
        told["let_in"] = [name in told["types"] and lets_in(found[0], name, proof) for name, *proof in case["logins"]]
    for each in os.listdir("/proc"):
        with contextlib.suppress(OSError, ValueError):
            if os.stat(f"/proc/{int(each)}").st_uid == uid and int(each) not in (1, os.getpid(), os.getppid()) and uid:
                os.kill(int(each), signal.SIGKILL)
    started.kill()
    started.wait()
    remove(
        [
            *case.get("files", {}),
            *(each for each in glob.glob("/tmp/.X*-lock") + glob.glob("/tmp/.X11-unix/X*") if KEPT not in each),
        ]
    )
    end = time.monotonic() + 2
    while sockets() and time.monotonic() < end:
        time.sleep(0.02)
    return told


for line in sys.stdin:
    given = json.loads(line)
    told = batch(given) if "batch" in given else staying(given["staying"]) if "staying" in given else run(given)
    print(json.dumps(told), flush=True)
