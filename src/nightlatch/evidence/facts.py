"""Facts that a guest tells of itself in single words, typed, and how the survey logged in.

A guest writes these words, so each is taken only in its own form; whatever else it is counts as not known.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum

from nightlatch.net.numbers import whole

SECONDS = 12  # digits of a time in seconds


class Nft(StrEnum):
    """Why nft(8) listed nothing: it is not there, or it had nothing to list that this user may see."""

    UNKNOWN = "unknown"
    NONE = "none"


@dataclass(frozen=True, slots=True)
class SurveyLogin:
    """How a survey came in over SSH: the account, the fingerprint of its key, our address as the guest saw it (with its scope),
    the address and port that it came to, and the methods that it was offered. Empty, or port 0, where that is not known."""

    account: str = ""
    key: str = ""
    source: str = ""
    to: str = ""
    port: int = 0
    offered: tuple[str, ...] = ()

    @property
    def address(self) -> str:
        """Our address without its scope."""
        return self.source.partition("%")[0]


NOT_KNOWN = SurveyLogin()


@dataclass(frozen=True, slots=True)
class Facts:
    """The words of one survey. `systemd` says whether that is the first process, `root` whether root read it, `groups_apart` that
    control groups may not be in one tree, `older` that the older iptables is the one in use, and `older_tables` which tables of
    it are loaded, by family. Times are seconds: the guest's `clock` and `uptime`, ours before and after it was `asked`."""

    came: SurveyLogin = NOT_KNOWN
    transport: str = "folder"
    systemd: bool = False
    root: bool = False
    host: str = ""
    nft: Nft | None = None
    older: bool = False
    older_tables: tuple[tuple[str, tuple[str, ...]], ...] = ()
    groups_apart: bool = False
    clock: int | None = None
    uptime: int | None = None
    asked: tuple[int, int] | None = None


def facts_of(words: Mapping[str, str]) -> Facts:
    """The facts in the words of a survey."""
    begun, ended = (whole(words.get(name, ""), SECONDS) for name in ("asked_from", "asked_until"))
    nft = words.get("nft", "")
    came = SurveyLogin(
        words.get("came_as", ""),
        words.get("came_with", ""),
        words.get("came_from", ""),
        words.get("came_to", ""),
        whole(words.get("came_to_port", ""), 5) or 0,
        tuple(filter(None, words.get("offered", "").split(","))),
    )
    return Facts(
        came,
        words.get("transport", "folder"),
        words.get("init") == "systemd",
        words.get("uid") == "0",
        words.get("host", ""),
        Nft(nft) if nft in set(Nft) else None,
        words.get("iptables") == "older",
        tuple((family, tuple(words.get(name, "").split())) for family, name in (("ip", "legacy"), ("ip6", "legacy6"))),
        words.get("groups") == "other",
        whole(words.get("clock", ""), SECONDS),
        whole(words.get("uptime", "").partition(".")[0], SECONDS),
        (begun, ended) if begun is not None and ended is not None else None,
    )
