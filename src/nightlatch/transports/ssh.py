"""A guest over SSH: the system's own client, run as a program (ssh(1)), so that what it can do works here, too.

User configuration, agents, tokens and jump hosts are the client's. Host keys are strict, always: pinned fingerprints
are held against the key that the exchange has proved (ssh_config(5), KnownHostsCommand); where nothing is pinned, the
user's own known_hosts decides. Connections are never shared, so each one proves that the door opens now.
"""

from __future__ import annotations

import contextlib
import re
import secrets
import shutil
import threading
import zlib
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Self

from nightlatch.faults import NightlatchError, UnreachableError
from nightlatch.net.numbers import whole
from nightlatch.transports import bounded, client_files, client_options
from nightlatch.transports.bounded import Bounds, Follow, ProgramResult, StopSignal
from nightlatch.transports.shell import Answer, ShellLogin

LARGEST_LOG = 256 << 10
PINNED = """#!/bin/sh
# The key that the exchange has proved counts as known when its fingerprint is pinned.
while read -r pin; do
    [ "$pin" = "$4" ] && printf '%s %s %s\\n' "$1" "$2" "$3"
done <"$0.pins"
exit 0
"""
MOST_TRIES = 4  # without a password, and three with one
# Run by the account's own login shell, whatever that is; becomes root, then skips its input up to the mark, so that a
# password that sudo did not want is never taken for a command.
BOOTSTRAP = (
    'exec sh -c \'LC_ALL=C; export LC_ALL; if [ "$(id -u)" = 0 ]; then set --; '
    "elif ! command -v sudo >/dev/null 2>&1; then echo nightlatch:no-sudo >&2; exit 77; "
    'elif [ "$0" = ask ]; then set -- sudo -S -p ""; else set -- sudo -n; fi; '
    'exec "$@" sh -c "echo nightlatch:root >&2; '
    'while IFS= read -r l && [ \\"\\$l\\" != MARK ]; do :; done; exec sh -s -- \\"\\$0\\"" '
    '"${SSH_CONNECTION:-none}"\' MODE'
)


@dataclass(frozen=True, slots=True)
class Address:
    """Where a guest is: a name or address the client knows, and optionally a port and an account."""

    host: str
    account: str = ""
    port: int = 0

    @property
    def text(self) -> str:
        """As a person would write it."""
        return (f"{self.account}@" if self.account else "") + self.place

    @property
    def place(self) -> str:
        """The target without the account."""
        return self.host + (f":{self.port}" if self.port else "")


@dataclass
class Client:
    """Settings that all connections of one run share: configuration, bounds, and how to ask a person for a sudo password.

    `ask` gets a question and returns the answer, or is None where nobody can be asked. An answer is kept in memory only.
    """

    config: Path | None = None
    ask: Callable[[str], str] | None = None
    bounds: Bounds = field(default_factory=Bounds)
    stop: StopSignal = field(default_factory=StopSignal)
    may_prompt: bool = False
    program: str = "ssh"
    _lock: threading.Lock = field(default_factory=threading.Lock)
    _passwords: dict[tuple[str, str], str] = field(default_factory=dict, repr=False)
    _latest: dict[str, str] = field(default_factory=dict)
    _folder: Path | None = None
    _files: Path | None = None

    def folder(self) -> Path:
        """A private folder for the client's configuration, host key pins and logs. Raises NightlatchError."""
        with self._lock:
            if self._folder is None:
                self._folder = client_files.private_folder()
            return self._folder

    def files(self) -> Path:
        """The configuration that the client is given. Raises NightlatchError, and FileNotFoundError without a client."""
        folder = self.folder()
        with self._lock:
            if self._files is None:
                self._files = client_files.write(folder, self.config, self._known(), batch=not self.may_prompt)
            return self._files

    def _known(self) -> frozenset[str]:
        """The options that the client names when it is asked for its configuration (ssh(1), -G)."""
        told = bounded.run([self.program, "-F", "none", "-G", "--", "localhost"], b"", Bounds(10, 10, 1 << 20))
        names = frozenset(line.split(b" ", 1)[0].decode("ascii", "replace") for line in told.out.splitlines())
        if "stricthostkeychecking" not in names:  # then nobody could say what else it would do
            said = (told.err.decode("utf-8", "replace").strip().splitlines() or ["it said nothing"])[-1]
            raise NightlatchError(f"{self.program} -G does not tell the SSH client's options: {said}; take OpenSSH's client")
        return names

    def password(self, account: str, guest: str, *, again: bool) -> str:
        """The sudo password of an account on one guest. Raises UnreachableError where nobody can be asked.

        Each guest is asked about by its name: what was given for another goes nowhere else, unless the person says so.
        """
        with self._lock:
            if (account, guest) not in self._passwords or again:
                whose = account or "the account"
                if self.ask is None:
                    raise UnreachableError(
                        guest,
                        "sudo",
                        f"sudo asks for the password of {whose}, and nobody is there to give it",
                        "run it at a terminal, or come in as root or as an account whose sudo asks nothing",
                    )
                before = self._latest.get(account, "") if not again else ""
                same = f" (Enter: the same as on {before})" if before else ""
                answer = self.ask(f"sudo password of {whose} on {guest}{same}: ")
                self._passwords[account, guest] = answer or self._passwords.get((account, before), "")
                self._latest[account] = guest
            return self._passwords[account, guest]

    def knows_password(self, account: str, guest: str) -> bool:
        """Whether that guest's sudo asked for it, and it was given."""
        return (account, guest) in self._passwords

    def close(self) -> None:
        """Forget passwords and remove the private folder."""
        self._passwords.clear()
        self._latest.clear()
        if self._folder is not None:
            shutil.rmtree(self._folder, ignore_errors=True)
            self._folder = self._files = None

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


class Ssh:
    """One guest over SSH."""

    kind = "ssh"

    def __init__(
        self, guest: str, address: Address, client: Client, *, pins: tuple[str, ...] = (), key: Path | None = None
    ) -> None:
        self.guest, self.address, self.client, self.pins, self.key = guest, address, client, pins, key

    def run(self, script: bytes, bounds: Bounds | None = None, follow: Follow | None = None) -> Answer:
        """Run `script` as root over a fresh connection. Raises UnreachableError."""
        account, guest = self.address.account, self._named
        asking = self.client.knows_password(account, guest)
        for left in reversed(range(MOST_TRIES)):
            ended, log = self._once(script, bounds or self.client.bounds, asking, follow)
            if not (_wrong_password(ended) if asking else _asks(ended)):
                break
            if not left:
                break
            self._is_known(log)
            self.client.password(account, guest, again=asking)
            asking = True
        return self._answer(ended, log)

    @property
    def _named(self) -> str:
        """The guest as a question names it: by the estate's name, or by where it is dialled."""
        return self.address.place if self.guest == self.address.host else self.guest

    def _is_known(self, log: str) -> None:
        """Before a password is asked for: the client itself says that it knows the host key."""
        if not re.search(r"^debug1: Host '.{1,300}' is known and matches the ", log, re.MULTILINE):
            raise UnreachableError(
                self.guest,
                "sudo",
                "sudo asks for a password, and the client does not say that it knows this host key",
                "pin it under host_keys, or give it as --host-key; a password is sent to no other guest",
            )

    def _once(self, script: bytes, bounds: Bounds, asking: bool, follow: Follow | None) -> tuple[ProgramResult, str]:
        mark = "nightlatch-" + secrets.token_hex(8)
        log = self.client.folder() / f"log-{secrets.token_hex(8)}"
        command = BOOTSTRAP.replace("MARK", mark).replace("MODE", "ask" if asking else "never")
        secret = self.client.password(self.address.account, self._named, again=False).encode() + b"\n" if asking else b""
        try:
            ended = bounded.run(
                [*self.words(), "-v", "-E", str(log), "--", self.address.host, command],
                secret + mark.encode() + b"\n" + script,
                bounds,
                self.client.stop,
                own_group=not self.client.may_prompt,
                follow=follow,
            )
            return ended, _read(log)
        except FileNotFoundError:
            raise UnreachableError(self.guest, "client", "there is no ssh program", "install the OpenSSH client") from None
        finally:
            with contextlib.suppress(OSError):
                log.unlink()

    def words(self) -> list[str]:
        """The client's command line up to the host. Raises NightlatchError, and FileNotFoundError without a client."""
        out = [self.client.program, "-F", str(self.client.files())]
        options = client_options.for_pinned(self.known_by()) if self.pins else []
        if self.key is not None:
            options += [("IdentitiesOnly", "yes"), ("IdentityFile", f'"{client_files.escaped(self.key)}"')]
        for name, value in options:
            out += ["-o", f"{name}={value}"]
        if self.address.account:
            out += ["-l", self.address.account]
        if self.address.port:
            out += ["-p", str(self.address.port)]
        return out

    def known_by(self) -> str:
        """The command that tells the client whether the key that an exchange has proved is pinned."""
        return f"/bin/sh {self._pins()} %H %t %K %f"

    def through(self) -> list[str]:
        """The hosts that the client goes through to this guest, by its own configuration (ssh -G). Connects to nothing."""
        return _jumps(self._configured())

    def wire(self) -> tuple[str, int, str]:
        """Name or address and port that the client connects to, and what it goes through ("" when straight there)."""
        found = self._configured()
        port = found.get("port", "")
        command = found.get("proxycommand", "none")
        way = ", ".join(_jumps(found)) or ("a command of its configuration" if command != "none" else "")
        return found.get("hostname", self.address.host), whole(port, 5) or 22, way

    def _configured(self) -> dict[str, str]:
        try:
            ended = bounded.run([*self.words(), "-G", "--", self.address.host], b"", Bounds(10, 10, 1 << 20))
        except FileNotFoundError:
            return {}
        lines = ended.out.decode("utf-8", "replace").splitlines()
        return {name: value for name, _, value in (line.partition(" ") for line in reversed(lines))}

    def _pins(self) -> Path:
        which = zlib.crc32(" ".join(self.pins).encode())  # one guest may be known by others from one connection to the next
        script = self.client.folder() / f"known-{_plain(self.guest)}-{which:08x}"
        if not script.exists():
            Path(f"{script}.pins").write_text("".join(f"{pin}\n" for pin in self.pins))
            script.write_text(PINNED)
        return script

    def _answer(self, ended: ProgramResult, log: str) -> Answer:
        if ended.broken:
            stage = "read" if "Authenticated to" in log else "connect"
            raise UnreachableError(self.guest, stage, ended.broken)
        if b"nightlatch:no-sudo" in ended.err:
            raise UnreachableError(
                self.guest,
                "sudo",
                f"{self.address.account or 'the account'} is not root, and there is no sudo",
                "come in as root, or install sudo",
            )
        door = ShellLogin(self.address.account or _account(log), "", _key(log), _offered(log))
        if ended.code == 255 and "Authenticated to" in log:
            raise UnreachableError(self.guest, "read", "the connection broke while the guest was answering")
        if ended.code == 255:
            raise _failure(self.guest, self.address, log, ended, bool(self.pins))
        if ended.code and not ended.out.strip():
            said = ended.err.decode("utf-8", "replace").replace("nightlatch:root\n", "").strip().splitlines()
            raise UnreachableError(self.guest, "sudo", said[-1] if said else f"the guest's shell ended with {ended.code}")
        return Answer(ended.out, ended.code, door)


def _jumps(configured: dict[str, str]) -> list[str]:
    jumps = configured.get("proxyjump", "none").split(",")
    return [re.sub(r"^(?:ssh://)?(?:[^@]*@)?\[?([^\]]*?)\]?(?::\d+)?$", r"\1", jump) for jump in jumps if jump != "none"]


def _plain(name: str) -> str:
    return re.sub(r"[^a-z0-9-]", "-", name.lower())[:60] or "guest"


def _read(log: Path) -> str:
    try:
        with log.open("rb") as stream:
            return stream.read(LARGEST_LOG).decode("utf-8", "replace")
    except OSError:
        return ""


def _asks(ended: ProgramResult) -> bool:
    """Whether sudo would not make us root without a password (sudo(8), -n)."""
    return b"nightlatch:root" not in ended.err and re.search(rb"(?m)^sudo[a-z-]*: ", ended.err) is not None


def _wrong_password(ended: ProgramResult) -> bool:
    return not ended.out and any(said in ended.err for said in (b"incorrect password", b"no password was provided"))


def _key(log: str) -> str:
    """The key that was accepted last before the login succeeded."""
    before = log.partition("Authenticated to ")[0]
    found = re.findall(r"^debug1: Server accepts key: .* (SHA256:[A-Za-z0-9+/]{43})(?: |$)", before, re.MULTILINE)
    return found[-1] if found and 'using "publickey"' in log else ""


def _account(log: str) -> str:
    found = re.search(r"^debug1: Authenticating to \S+ as '([^']{1,64})'$", log.replace("\r", ""), re.MULTILINE)
    return found[1] if found else ""


def _offered(log: str) -> tuple[str, ...]:
    found = re.findall(r"^debug1: Authentications that can continue: (\S+)", log, re.MULTILINE)
    return tuple(found[0].split(",")) if found else ()


FAILURES = (
    # what the client's log says, the stage, what it means, what to do
    (r"Could not resolve hostname", "name", "the name is not known here", "check the spelling, or use its address"),
    (
        r"Connection refused",
        "connect",
        "refused: nobody listens on that port, or a filter rejects it",
        "look at the guest's console whether sshd runs",
    ),
    (
        r"No route to host|Network is unreachable",
        "connect",
        "there is no way to that address from here",
        "check the address and this machine's routes",
    ),
    (
        r"(Connection|Operation) timed out",
        "connect",
        "no answer: a filter drops it, or nobody has that address",
        "check the address, then the filters on the way",
    ),
    (
        r"REMOTE HOST IDENTIFICATION HAS CHANGED",
        "host key",
        "the guest shows another host key than the one known here",
        "compare the fingerprint at the guest's console before anything else",
    ),
    (
        r"Host key verification failed|No \S+ host key is known|no host key is known",
        "host key",
        "the guest's host key is not known",
        "read its fingerprint at the console (ssh-keygen -l -f /etc/ssh/ssh_host_ed25519_key.pub) and write it under host_keys",
    ),
    (
        r"Bad configuration option: knownhostscommand",
        "client",
        "this ssh client is older than 8.5 and can't hold pinned keys",
        "take a newer client",
    ),
    (
        r"no matching host key type|no matching key exchange|no matching cipher|no matching MAC",
        "exchange",
        "the guest and this client have no algorithm in common",
        "see nightlatch audit for what the guest offers",
    ),
    (
        r"Too many authentication failures",
        "login",
        "too many keys were offered",
        "name the one under via as key, or set IdentitiesOnly",
    ),
    (r"Permission denied", "login", "no proof that this client has is accepted", "check account and key"),
    (
        r"kex_exchange_identification|Connection (closed|reset)|banner exchange",
        "exchange",
        "the guest ended the connection before it named itself",
        "a full or dying server does that; try again",
    ),
)


def _failure(guest: str, address: Address, log: str, ended: ProgramResult, pinned: bool) -> UnreachableError:
    """The failure, by the client's own log, then by the output of a jump host's client, which shares its stderr."""
    said = ended.err.decode("utf-8", "replace")
    for text, way in ((log, ""), (said, "on the way there, at a jump host: ")):
        for pattern, stage, what, hint in FAILURES[: None if way else -1]:
            if re.search(pattern, text):
                shown = re.search(r"Server host key: (\S+ SHA256:\S{43})", text)
                if stage == "host key" and shown:
                    what += f": it shows {shown[1]}"
                    what += ", which is not pinned in the estate file" if pinned and not way else ""
                return UnreachableError(guest, "jump" if way else stage, f"{address.text}: {way}{what}", hint)
    pattern, stage, what, hint = FAILURES[-1]
    if re.search(pattern, log):
        return UnreachableError(guest, stage, f"{address.text}: {what}", hint)
    last = [line for line in (log + said).splitlines() if line and not line.startswith("debug")]
    return UnreachableError(guest, "connect", f"{address.text}: {last[-1] if last else 'the client ended with 255'}")
