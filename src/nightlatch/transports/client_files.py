"""The configuration that the SSH client is given: what is set, then the user's own files, then what is taken back.

As one file (ssh(1), -F), so that the client of a jump host, which gets the same file, keeps the same rules.
"""

from __future__ import annotations

import os
import pwd
import re
import stat
import tempfile
from pathlib import Path

from nightlatch.faults import NightlatchError
from nightlatch.transports import client_options

SYSTEM = Path("/etc/ssh/ssh_config")
SYSTEM_MORE = Path("/etc/ssh/ssh_config.d")
# What is written into the client's files and options as it is: no blank, quote, % or $ that it would read otherwise.
PLAIN = re.compile(r"[A-Za-z0-9/._+-]+")
RELATIVE = re.compile(r"^[ \t]*include[ \t=]+[\"']?(?![/\"'])", re.IGNORECASE | re.MULTILINE)
HEAD = "# What every connection of Nightlatch sets comes first, for the first value counts (ssh_config(5)).\n"


def private_folder() -> Path:
    """A new folder that only this user can open, with a path that the client takes as it stands. Raises NightlatchError."""
    for place in dict.fromkeys((tempfile.gettempdir(), "/tmp", "/var/tmp")):
        if PLAIN.fullmatch(place) and os.access(place, os.W_OK | os.X_OK):
            return Path(tempfile.mkdtemp(prefix="nightlatch-", dir=place))
    raise NightlatchError(
        f"{tempfile.gettempdir()}: the SSH client can't be given a path with blanks or signs in it, and neither /tmp nor "
        "/var/tmp can be written; set TMPDIR to a folder with a plain name"
    )


def write(folder: Path, own: Path | None, known: frozenset[str], *, batch: bool) -> Path:
    """The configuration as a file in `folder`; `own` is the file that the user named instead of the usual ones.

    Raises NightlatchError where a file of the user's is one that the client would refuse, or could not be read as it would.
    """
    lines = [f"{name} {value}" for name, value in client_options.first(known, batch=batch)]
    for number, path in enumerate(_named(own) if own is not None else [*_users(), *_systems()]):
        link = folder / f"files-{number}"
        link.symlink_to(path.absolute())
        lines += ["Host *", f"Include {link}"]
    lines += ["Host *", *(f"{name} {value}" for name, value in client_options.last())]
    made = folder / "config"
    made.write_text(HEAD + "\n".join(lines) + "\n")
    return made


def _named(own: Path) -> list[Path]:
    """The file that the user named; /dev/null stands for none."""
    return _unless_others_write(own) if own != Path("/dev/null") else []


def _users() -> list[Path]:
    path = Path(pwd.getpwuid(os.getuid()).pw_dir, ".ssh/config")
    return _unless_others_write(path) if path.exists() else []


def _unless_others_write(path: Path) -> list[Path]:
    """The client refuses a file that others may write, and would name our link to it (ssh(1), FILES)."""
    try:
        status = path.stat()
    except OSError as error:
        raise NightlatchError(f"{path} can't be read: {error.strerror}") from None
    if status.st_uid not in (0, os.getuid()) or stat.S_IMODE(status.st_mode) & 0o022:
        raise NightlatchError(f"{path}: others may write this file, so the SSH client refuses it; chmod 600 {path}")
    return [path]


def _systems() -> list[Path]:
    if not SYSTEM.exists():
        return []
    more = sorted(SYSTEM_MORE.glob("*.conf")) if SYSTEM_MORE.is_dir() else []
    for path in (SYSTEM, *more):
        # From a file of the user's the client looks for such names in ~/.ssh, not in /etc/ssh.
        if RELATIVE.search(path.read_text("utf-8", "replace")):
            raise NightlatchError(
                f"{path}: an Include without a whole path can't be read as the SSH client reads it; write its whole path, "
                "or name a configuration of your own: --ssh-config FILE"
            )
    return [SYSTEM]


def escaped(path: Path) -> str:
    """A path for IdentityFile, where the client reads % as a mark. Raises NightlatchError for one that it can't be given."""
    text = str(path)
    if re.search(r"\$\{|[\n\"\\]", text):
        raise NightlatchError(
            f"{path}: the SSH client reads ${{, quotes and backslashes in the path of a key otherwise; rename it"
        )
    return text.replace("%", "%%")
