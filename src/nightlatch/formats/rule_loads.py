"""Commands by which scripts load the rules of a packet filter from a file (iptables-restore(8), nft(8)).

Knows single commands only: `iptables-restore < FILE`, `ip6tables-restore FILE`, `nft -f FILE`, with `|| true` or without. What
else a line that speaks of filters does is for a person.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

# Where ifupdown has commands (interfaces(5), IFACE OPTIONS; ifup(8)): options of an interface, and folders of scripts.
UP = ("pre-up", "up", "post-up")
FOLDERS = ("/etc/network/if-pre-up.d", "/etc/network/if-up.d")
_FILTERS = re.compile(r"\b(?:ip6?tables|ebtables|arptables|nft|ufw|ipset|firewall-cmd)\b")
_WORDS = r"(?:(?:/usr)?/s?bin/)?(?:(ip6?)tables(?:-nft|-legacy)?-restore(?:\s+-w)?\s*<?|nft\s+-f)\s*(/[\w./+@%:,-]+)"
_LOAD = re.compile(rf"{_WORDS}(?:\s*\|\|\s*(?:true|:|exit 0))?;?")
_HARMLESS = re.compile(r"(?:set\s+-[eu]+|exit(?:\s+0)?|export\s+\w+=\S*|:|true)?")


@dataclass(frozen=True, slots=True)
class RuleFile:
    """A file that is loaded: `family` is ip or ip6 for those of iptables-restore, empty for one of nft."""

    path: str
    family: str = ""


def load(command: str) -> RuleFile | None:
    """The file that a command loads; None for any other command."""
    found = _LOAD.fullmatch(command.strip())
    return RuleFile(found[2], found[1] or "") if found else None


def is_about_filters(command: str) -> bool:
    """Whether a command speaks of a packet filter's programs."""
    return _FILTERS.search(command) is not None


def script(raw: bytes) -> Iterator[tuple[int, str]]:
    """The commands of a shell script with their lines; comments and what changes nothing are left out."""
    for number, line in enumerate(raw.decode("utf-8", "replace").split("\n"), 1):
        text = line.strip()
        if text and not text.startswith("#") and not _HARMLESS.fullmatch(text):
            yield number, text
