"""Tables of cron(8): those that name an account on each line (/etc/crontab, the files of /etc/cron.d), and the accounts' own
(crontab(5)).

Read only: which lines run something, as what account. Not covered: what a schedule means.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from nightlatch.formats.lines import split, text_of

MOST_LINES = 10_000
REBOOT = "@reboot"
# Names of files that Debian's cron runs in /etc/cron.d; others take more of them (cron(8), DEBIAN SPECIFIC).
NAME = re.compile(r"[A-Za-z0-9_-]+")
_SETTING = re.compile(r"""[ \t]*(?:"[^"]*"|'[^']*'|[^\s=]+)[ \t]*=""")
_WHEN = r"[ \t]*(?P<when>@[A-Za-z]+|[^\s#]\S*(?:[ \t]+\S+){4})[ \t]+"
_JOB = re.compile(_WHEN + r"(?P<account>[^\s:]+)[ \t]+(?P<command>\S.*)")
_OWN = re.compile(_WHEN + r"(?P<command>\S.*)")


@dataclass(frozen=True, slots=True)
class Job:
    """One line that runs something. Lines count from 1."""

    line: int
    when: str
    account: str
    command: str


def parse(raw: bytes, owner: str = "") -> Iterator[Job]:
    """The jobs of a table in order; settings of the environment, remarks and what is neither are passed over. `owner` is the
    account of a table of its own, whose lines name none."""
    for number, piece in enumerate(split(raw)[:MOST_LINES], 1):
        text = text_of(piece).rstrip("\n")
        if _SETTING.match(text):
            continue
        found = (_OWN if owner else _JOB).fullmatch(text)
        if found is not None:
            yield Job(number, found["when"], owner or found["account"], found["command"])
