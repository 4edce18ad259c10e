"""Tables of cron(8) that name an account on each line: /etc/crontab and the files of /etc/cron.d (crontab(5)).

Read only: which lines run something, as what account. Not covered: what a schedule means, and tables without the field
of an account (those of /var/spool/cron), which are their owner's.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from nightlatch.formats.lines import split, text_of

MOST_LINES = 10_000
# Names of files that Debian's cron runs in /etc/cron.d; others take more of them (cron(8), DEBIAN SPECIFIC).
NAME = re.compile(r"[A-Za-z0-9_-]+")
_SETTING = re.compile(r"""[ \t]*(?:"[^"]*"|'[^']*'|[^\s=]+)[ \t]*=""")
_JOB = re.compile(r"[ \t]*(?P<when>@[A-Za-z]+|[^\s#]\S*(?:[ \t]+\S+){4})[ \t]+(?P<account>[^\s:]+)[ \t]+(?P<command>\S.*)")


@dataclass(frozen=True, slots=True)
class Job:
    """One line that runs something. Lines count from 1."""

    line: int
    when: str
    account: str
    command: str


def parse(raw: bytes) -> Iterator[Job]:
    """The jobs of a table in order; settings of the environment, remarks and what is neither are passed over."""
    for number, piece in enumerate(split(raw)[:MOST_LINES], 1):
        text = text_of(piece).rstrip("\n")
        if _SETTING.match(text):
            continue
        if (found := _JOB.fullmatch(text)) is not None:
            yield Job(number, found["when"], found["account"], found["command"])
