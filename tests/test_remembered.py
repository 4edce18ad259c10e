"""Readings that guests share: a guest that differs in anything that was read for one gets its own."""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from nightlatch import load_estate
from nightlatch.demo.build import build
from nightlatch.evidence.remembered import LARGEST, Asked, forget_all, remembered
from nightlatch.evidence.snapshot import ABSENT, Entry, EntryKind, Snapshot, from_files
from nightlatch.ops.audit import Auditor
from nightlatch.ops.survey import survey_target
from nightlatch.readings.filters import managers
from tests.budget import cases

AT = datetime(2026, 11, 25, tzinfo=UTC)
LISTED = {
    "links": b"1: lo: <LOOPBACK,UP,LOWER_UP> mtu 65536 state UNKNOWN\n",
    "rules": b"table inet f {\n\tchain i {\n\t\ttype filter hook input priority filter; policy drop;\n\t}\n}\n",
    "units": b"ssh.service loaded active running\n",
}


def _changed(entry: Entry, how: random.Random) -> Entry:
    """Something else at the same place."""
    content = entry.content
    if entry.kind is EntryKind.LINK:
        return replace(entry, target=entry.target + "x")
    if content is None or how.random() < 0.2:
        return how.choice([ABSENT, replace(entry, mode=entry.mode ^ 0o022), replace(entry, uid=entry.uid + 1)])
    lines = content.split(b"\n")
    at = how.randrange(len(lines))
    lines[at : at + 1] = how.choice([[], [lines[at], lines[at]], [b"#" + lines[at]], [lines[at] + b" x"]])
    return replace(entry, content=b"\n".join(lines))


def _variants(snapshot: Snapshot, how: random.Random) -> Iterator[Snapshot]:
    """The guest with one path or listing after the other changed."""
    for path in sorted(snapshot.entries):
        if path not in ("/", "/etc"):
            entry = snapshot.entries[path]
            yield snapshot.with_files({path: _changed(entry, how)})
            folder, _, name = path.rpartition("/")
            if entry.content is not None:  # the same again beside it, read before and after it
                yield snapshot.with_files({f"{folder}/{how.choice(['00-', 'zz-'])}{name}": entry})
    for name in snapshot.listings:
        yield replace(snapshot, listings={**snapshot.listings, name: snapshot.listings[name] + b"x 1 2\n"})
        yield replace(snapshot, listings={each: raw for each, raw in snapshot.listings.items() if each != name})
    for name in snapshot.facts:
        yield replace(snapshot, facts={each: text for each, text in snapshot.facts.items() if each != name})


def test_what_is_remembered_is_what_a_fresh_audit_says(tmp_path: Path) -> None:
    """One path of a guest is changed, and all that was read of others is remembered."""
    estate = load_estate(build(tmp_path / "skerry"))
    audit, how = Auditor(estate, AT), random.Random(17)
    guests = [survey_target(tmp_path / f"skerry/images/{name}", name) for name in ("gauge", "gate", "plotter", "chartbox")]
    running = replace(guests[0], listings=LISTED, facts={"transport": "ssh", "uid": "0", "init": "systemd", "nft": "yes"})
    variants = [each for guest in guests for each in _variants(guest, how)]
    alive = list(_variants(running, how))
    picked = how.sample(variants, min(len(variants), cases(160, 2000))) + how.sample(alive, min(len(alive), cases(80, 2000)))
    usual = {guest.guest: audit.result(guest)[0] for guest in guests}
    forget_all()
    warm = [audit.result(replace(each)) for each in picked]
    others = 0
    for each, found in zip(picked, warm, strict=True):
        forget_all()
        fresh = audit.result(replace(each))
        assert fresh == found
        others += fresh[0] != usual[each.guest]
    assert others > len(picked) / 8  # the changes were such that they matter


def test_guests_that_differ_in_nothing_that_is_read_share_one_reading() -> None:
    rules = b"table inet f { chain i { type filter hook input priority 0; policy drop; } }\n"
    one, other = (from_files(name, {"/etc/nftables.conf": rules, "/etc/hostname": name.encode()}) for name in ("a", "b"))
    assert managers.at_boot(one) is managers.at_boot(other)
    assert managers.at_boot(one) is not managers.at_boot(from_files("c", {"/etc/nftables.conf": rules + b"#"}))


def test_large_files_are_not_kept() -> None:
    large = from_files("a", {"/etc/nftables.conf": b"#" * LARGEST + b"\ntable inet f { chain i { policy drop; } }\n"})
    assert managers.at_boot(large) == managers.at_boot(replace(large))
    assert managers.at_boot(large) is not managers.at_boot(replace(large))


def test_no_more_is_kept_than_is_said() -> None:
    asked = []

    @remembered(2)
    def read(snapshot: Snapshot, more: int = 0) -> list[Any]:
        asked.append(snapshot.content("/a"))
        return [asked[-1], more]

    guests = [from_files("g", {"/a": str(number).encode()}) for number in range(3)]
    assert [read(each) for each in (*guests[:2], *guests[:2])] == [[b"0", 0], [b"1", 0]] * 2
    assert asked == [b"0", b"1"]
    assert read(guests[0], more=1) == [b"0", 1]
    assert read(guests[2]) == [b"2", 0]
    assert asked == [b"0", b"1", b"0", b"2"]


@pytest.mark.parametrize("name", ["guest", "entries", "listed", "notes", "facts"])
def test_what_is_not_noted_can_not_be_asked(name: str) -> None:
    with pytest.raises(TypeError, match="would not be known by it"):
        getattr(Asked(from_files("g", {"/a": b""})), name)


def test_listings_can_not_be_gone_through() -> None:
    asked = Asked(replace(from_files("g", {"/a": b""}), listings=LISTED))
    assert ("links" in asked.listings, "none" in asked.listings) == (True, False)
    for act in (len, list):
        with pytest.raises(TypeError, match="would not be known by it"):
            act(asked.listings)
    assert asked.is_live
    assert asked.told.systemd is False
    assert asked.answers == {
        ("listing", "links"): LISTED["links"],
        ("listing", "none"): None,
        ("is live", ""): True,
        ("told", "systemd"): False,
    }
