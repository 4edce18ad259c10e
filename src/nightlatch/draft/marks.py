"""Marks of differences: equal differences have the same mark; another account, secret or address makes another mark."""

from __future__ import annotations

import re
from collections.abc import Iterable
from hashlib import sha256

from nightlatch.access.differences import Hole, ShutOut
from nightlatch.model.secrets import Need, UnknownSecret
from nightlatch.model.sources import Sources

MARK = re.compile(r"[0-9a-f]{64}")


def of(items: Iterable[Hole | ShutOut]) -> str:
    """The mark of differences that are told together, whatever their order."""
    whole = "\n".join(sorted(map(_one, items)))
    return sha256(whole.encode("utf-8", "surrogateescape")).hexdigest()


def _one(item: Hole | ShutOut) -> str:
    if isinstance(item, Hole):
        place, need, power = item.path.place, _need(item.path.need), item.path.power
        return f"hole {place!r} {need} {power!r} {_callers(item.certain)}"
    grant = item.grant
    proofs = sorted(map(_need, grant.asked(item.power)))
    return f"shut out {grant.place!r} {grant.who!r} {proofs!r} {item.power!r} {_callers(item.certain)}"


def _need(need: Need) -> str:
    """Lines move when a file is edited, so where something unknown stands is no part of it."""
    return ";".join(sorted(each.why if isinstance(each, UnknownSecret) else repr(each) for each in need))


def _callers(sources: Sources) -> str:
    return " ".join(f"{space!r}:{','.join(those.prefixes())}" for space, those in sorted(sources.items()) if those)
