"""An audit as tables of pandas, for those who count and compare; needs the extra `tables`.

What can have several parts stands as a tuple in its cell; `explode` (pandas.DataFrame.explode) makes a row of each.
"""

from __future__ import annotations

from importlib.util import find_spec
from typing import TYPE_CHECKING, Any

from nightlatch.faults import NightlatchError

if TYPE_CHECKING:
    from collections.abc import Iterator

    from pandas import DataFrame

    from nightlatch.ops.audit import Audit

FINDINGS = ("guest", "id", "check", "severity", "group", "by", "text", "subjects", "place", "waived")
WAYS = tuple(
    """
    guest account held_by by port forward shown powers seal certain possible causes
""".split()
)
CALLERS = ("guest", "account", "by", "port", "shown", "inside", "prefix", "certain")
SERVICES = ("guest", "by", "program", "state", "address", "port")


def findings(audit: Audit) -> DataFrame:
    """One row a finding, the accepted ones too. `place` is the first place of its evidence. Raises NightlatchError without
    pandas."""
    return _table(FINDINGS, _findings(audit.to_dict()))


def ways(audit: Audit) -> DataFrame:
    """One row a way in: what is shown as words of `with:`, powers by name, callers as names of places or in words, causes by
    file and line. Raises NightlatchError without pandas."""
    return _table(WAYS, _ways(audit.to_dict()))


def callers(audit: Audit) -> DataFrame:
    """One row for each prefix from which a way in is open, certainly or possibly. Raises NightlatchError without pandas."""
    return _table(CALLERS, _callers(audit.to_dict()))


def services(audit: Audit) -> DataFrame:
    """One row for each socket of each server, or for a server that has none. Raises NightlatchError without pandas."""
    return _table(SERVICES, _services(audit.to_dict()))


def _table(columns: tuple[str, ...], rows: Iterator[tuple[Any, ...]]) -> DataFrame:
    if find_spec("pandas") is None:
        raise NightlatchError("tables need pandas: pip install 'nightlatch[tables]'")
    from pandas import DataFrame

    return DataFrame(list(rows), columns=list(columns))


def _findings(document: dict[str, Any]) -> Iterator[tuple[Any, ...]]:
    for guest in document["guests"]:
        for each in guest["findings"]:
            place = _place(each["evidence"][0]["origin"]) if each["evidence"] else ""
            yield (
                guest["guest"],
                each["id"],
                each["check"],
                each["severity"],
                each["group"],
                each["by"],
                each["text"],
                tuple(each["subjects"]),
                place,
                each.get("waived", ""),
            )


def _every_way(document: dict[str, Any]) -> Iterator[tuple[str, dict[str, Any], tuple[str, ...]]]:
    for guest in document["guests"]:
        for way in guest["ways_in"]:
            yield guest["guest"], way, tuple(secret["kind"] for secret in way["shown"]) or ("none",)


def _ways(document: dict[str, Any]) -> Iterator[tuple[Any, ...]]:
    for guest, way, shown in _every_way(document):
        forward = way["route"]["forward"]
        yield (
            guest,
            way["account"],
            tuple(way["held_by"]),
            way["by"],
            way["route"]["port"],
            forward["dialled"] if forward else "",
            shown,
            tuple(power["gives"] for power in way["powers"]),
            way["seal"],
            _told(way["certain"]),
            _told(way["possible"]),
            tuple(_place(cause["origin"]) for cause in way["causes"]),
        )


def _callers(document: dict[str, Any]) -> Iterator[tuple[Any, ...]]:
    for guest, way, shown in _every_way(document):
        for certain in (True, False):
            those = way["certain" if certain else "possible"]
            for space in those["addresses"] if those else ():
                for prefix in space["prefixes"]:
                    at = (guest, way["account"], way["by"], way["route"]["port"], shown)
                    yield (*at, space["inside"] or "", prefix, certain)


def _services(document: dict[str, Any]) -> Iterator[tuple[Any, ...]]:
    for guest in document["guests"]:
        for each in guest["services"]:
            for socket in each["sockets"] or ({"address": None, "port": None},):
                yield (
                    guest["guest"],
                    each["by"],
                    each["program"],
                    each["state"],
                    socket["address"] or "",
                    socket["port"],
                )


def _told(those: dict[str, Any] | None) -> str:
    return str(those["text"]) if those else ""


def _place(origin: dict[str, Any]) -> str:
    parts = (origin["path"], origin.get("line"), origin.get("column"))
    return ":".join(str(part) for part in parts if part is not None)


__all__ = ["callers", "findings", "services", "ways"]
