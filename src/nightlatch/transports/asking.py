"""Ask a server whether it would take a key, by its public half alone: the query without a signature (RFC 4252, 7).

No private half is here, so nobody logs in. The server's answer says nothing of what comes after the proof: account, session.
"""

from __future__ import annotations

import contextlib
import re
import secrets
from collections.abc import Iterable
from pathlib import Path

from nightlatch.faults import UnreachableError
from nightlatch.formats.keys import PublicKey
from nightlatch.transports import bounded, client_files, client_options
from nightlatch.transports.bounded import Bounds
from nightlatch.transports.ssh import Ssh

ASKING = Bounds(20, 20, 1 << 20)
MOST_KEYS = 3  # in one connection: a server ends it after six tries (sshd_config(5), MaxAuthTries), or fewer
TAKEN = re.compile(r"(?m)^debug1: Server accepts key: .* (SHA256:[A-Za-z0-9+/]{43})(?: |$)")
ASKED = re.compile(r"(?m)^debug1: (?:Offering public key: |Server accepts key: |Authentications that can continue: )")
OPTIONS = (
    ("BatchMode", "yes"),
    ("StrictHostKeyChecking", "yes"),
    ("UpdateHostKeys", "no"),
    ("FingerprintHash", "sha256"),
    ("PreferredAuthentications", "publickey"),
    ("PubkeyAuthentication", "yes"),
    ("IdentitiesOnly", "yes"),
    ("IdentityAgent", "none"),
    ("ConnectTimeout", "15"),
    ("ClearAllForwardings", "yes"),
)


def can_be_asked(shell: Ssh) -> bool:
    """Whether the guest is reached straight from here: a client that goes through another host is not asked again and again."""
    return not shell.wire()[2]


def accepted(shell: Ssh, account: str, keys: Iterable[PublicKey]) -> frozenset[str]:
    """The fingerprints of those keys that the server takes for an account, from this machine's address.

    One connection, for MOST_KEYS at most; a server that counts failures counts it as one. Raises UnreachableError where the
    server was not asked.
    """
    mark = secrets.token_hex(8)
    host, port, _ = shell.wire()
    files = []
    for number, key in enumerate([*keys][:MOST_KEYS]):
        files.append(shell.client.folder() / f"ask-{mark}-{number}.pub")
        files[-1].write_text(key.line + "\n")
    log = shell.client.folder() / f"log-{mark}"
    words = [shell.client.program, "-F", "none"]
    options = [*OPTIONS, *(("IdentityFile", f'"{client_files.escaped(file)}"') for file in files)]
    for name, value in (*client_options.for_pinned(shell.known_by()), *options) if shell.pins else options:
        words += ["-o", f"{name}={value}"]
    try:
        bounded.run(
            [*words, "-l", account, "-p", str(port), "-v", "-E", str(log), "--", host, "true"], b"", ASKING, shell.client.stop
        )
        told = _read(log)
    except FileNotFoundError:
        raise UnreachableError(shell.guest, "client", "there is no ssh program", "install the OpenSSH client") from None
    finally:
        for file in (*files, log):
            with contextlib.suppress(OSError):
                file.unlink()
    if not ASKED.search(told):
        raise UnreachableError(shell.guest, "connect", f"{host}: it could not be asked about keys of {account}")
    return frozenset(TAKEN.findall(told))


def _read(log: Path) -> str:
    with log.open("rb") as stream:
        return stream.read(ASKING.most).decode("utf-8", "replace").replace("\r", "")
