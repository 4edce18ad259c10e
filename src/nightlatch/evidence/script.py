"""The collector as text: one POSIX sh script for one guest, with what it is to look at written into it.

Its whole body is functions, called on the last line, so that a script whose transfer was cut runs nothing.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import lru_cache
from importlib.resources import files

from nightlatch.evidence.always import FILES, FOLDERS, LOOKED_AT
from nightlatch.evidence.collect import LARGEST

PROPERTIES = tuple(
    """
    Id LoadState ActiveState SubState UnitFileState MainPID ControlGroup Triggers TriggeredBy NeedDaemonReload
    FragmentPath DropInPaths Listen Accept ExecMainStartTimestamp ActiveEnterTimestamp ExecReload Names Slice
    IPAddressAllow IPAddressDeny
""".split()
)

NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_.@\\-]{0,63}")  # of an account that a directory may have
UNIT_FILE = re.compile(r"/etc/systemd/system/([A-Za-z0-9:_.@-]{1,200}\.(?:service|socket|timer))")


@dataclass(frozen=True, slots=True)
class CollectorRequest:
    """What one run of the collector is asked for besides every account's own: paths to read, to look at, to list, and `keys`,
    files of public keys; and accounts to ask for where they don't come from files alone, which are `every` that can."""

    contents: frozenset[str] = frozenset(FILES)
    looked: frozenset[str] = frozenset(LOOKED_AT)
    folders: frozenset[str] = frozenset(FOLDERS)
    keys: frozenset[str] = frozenset()
    accounts: frozenset[str] = frozenset()
    every: bool = False

    @property
    def units(self) -> list[str]:
        """The units that the service manager is asked about besides its usual ones: those whose own file is looked at."""
        found = (UNIT_FILE.fullmatch(path) for path in self.looked)
        return sorted(each[1] for each in found if each)

    def more(
        self,
        contents: Iterable[str],
        looked: Iterable[str],
        folders: Iterable[str],
        keys: Iterable[str] = (),
        accounts: Iterable[str] = (),
        *,
        every: bool = False,
    ) -> CollectorRequest:
        """The same and these; a path with a line break or a backslash can't be asked for and is left out."""
        return replace(
            self,
            contents=self.contents | _asked(contents),
            looked=self.looked | _asked(looked),
            folders=self.folders | _asked(folders),
            keys=self.keys | _asked(keys),
            accounts=self.accounts | frozenset(filter(NAME.fullmatch, accounts)),
            every=self.every or every,
        )


def _asked(paths: Iterable[str]) -> frozenset[str]:
    return frozenset(path for path in paths if path.startswith("/") and not set(path) & {"\n", "\\", "\0"})


@lru_cache(maxsize=1)
def trust() -> str:
    """The shell functions that tell a daemon from a process with its name; for the collector, the latch and questions."""
    return files("nightlatch.evidence").joinpath("trust.sh").read_text()


@lru_cache(maxsize=1)
def _parts() -> tuple[str, str, str, str]:
    here = files("nightlatch.evidence")
    body, *programs = (here.joinpath(name).read_text() for name in ("collector.sh", "reduce.awk", "private.awk", "secrets.awk"))
    reduce, private, secrets = (_without_comments(text) for text in programs)
    return trust() + body, reduce, private, secrets


def secrets() -> str:
    """The awk program that takes secrets out of text; for the collector and questions."""
    return _parts()[3]


def _without_comments(text: str) -> str:
    return "\n".join(line for line in text.splitlines() if not line.startswith("#"))


def collector(wanted: CollectorRequest, nonce: str, call: str = 'nightlatch "$@" </dev/null\n') -> bytes:
    """The script; `nonce` marks where its output begins and ends, and is made anew for each run.

    `call` is its last part, which runs the function `nightlatch`; its first argument is the connection, or none.
    """
    body, reduce, private, secrets = _parts()
    values = {
        "nonce": nonce,
        "most": str(LARGEST),
        "properties": ",".join(PROPERTIES),
        "contents": "\n".join(sorted(wanted.contents)),
        "looked": "\n".join(sorted(wanted.looked)),
        "folders": "\n".join(sorted(wanted.folders)),
        "stated": "\n".join(wanted.units),
        "keyed": "\n".join(sorted(wanted.keys)),
        "named": "\n".join(sorted(wanted.accounts)),
        "every": "yes" if wanted.every else "",
        "reduce": reduce,
        "private": private,
        "secrets": secrets,
    }
    head = "".join(f"{name}={shlex.quote(text)}\n" for name, text in values.items())
    main = "nightlatch() {\nconnection=$1\n" + head + body + "nightlatch_collect\n}\n" + call
    return main.encode("utf-8", "surrogateescape")
