"""Rules of a packet filter that ifupdown loads as an interface comes up: lines of its files, and scripts beside them
(interfaces(5), IFACE OPTIONS; ifup(8)).

A command that loads one file is followed. A script is when it does nothing else; any other that speaks of filters is a gap.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import rule_loads
from nightlatch.formats.rule_loads import RuleFile
from nightlatch.model.gaps import Gap
from nightlatch.origin import Origin
from nightlatch.readings.filters.rules import Rules
from nightlatch.readings.network import ifupdown

AREA = "packet filter"
RUN_PARTS = re.compile(r"[A-Za-z0-9_-]+")


@dataclass(frozen=True, slots=True)
class RuleLoad:
    """What one command loads, where it stands, and whether an interface that comes up by itself runs it."""

    rules: Rules
    origin: Origin
    started: bool


def read(snapshot: Snapshot) -> list[RuleLoad]:
    """Every set of rules that is loaded, each once; what is not followed is a gap of its own."""
    found: dict[RuleFile | Origin, RuleLoad] = {}
    for origin, command, started in _commands(snapshot):
        load = rule_loads.load(command)
        if load is None:
            gap = Gap(AREA, "this line speaks of a packet filter, and only a command that loads one file is followed", origin)
            found[origin] = RuleLoad(Rules(gaps=(gap,)), origin, started)
        elif load not in found or (started and not found[load].started):
            found[load] = RuleLoad(_rules(snapshot, load, origin), origin, started)
    return list(found.values())


def _rules(snapshot: Snapshot, load: RuleFile, origin: Origin) -> Rules:
    if snapshot.content(load.path) is None:
        because = f"this line loads {load.path}, which was not collected, or is not there"
        return Rules(gaps=(Gap(AREA, because, origin),))
    from nightlatch.readings.filters import iptables, nftables  # of a kind that most guests do without

    if load.family:
        return iptables.stored(snapshot, ((load.path, load.family),))
    return nftables.stored(snapshot, load.path)


def _commands(snapshot: Snapshot) -> Iterator[tuple[Origin, str, bool]]:
    """What speaks of filters: place, command, and whether it is run as a boot brings its interface up."""
    found = ifupdown.files(snapshot)
    by_itself = {
        word.text
        for _, document in found
        for line in document.named("auto", "allow-auto", "allow-hotplug")
        for word in line.words[1:]
    }
    for folder in rule_loads.FOLDERS:
        for name in snapshot.children(snapshot.resolve(folder).path):
            yield from ((at, text, bool(by_itself)) for at, text in _script(snapshot, f"{folder}/{name}"))
    for path, document in found:
        for stanza in document.stanzas():
            for line in stanza.options:
                text = line.rest.strip()
                if line.keyword in rule_loads.UP and rule_loads.is_about_filters(text):
                    yield Origin(path, line.number, 1), text, stanza.name in by_itself


def _script(snapshot: Snapshot, path: str) -> Iterator[tuple[Origin, str]]:
    """The commands of a script that run-parts runs: each that loads a file where it does nothing else, or the first that
    speaks of filters as something that is not followed."""
    place = snapshot.resolve(path)
    runs = RUN_PARTS.fullmatch(path.rpartition("/")[2]) is not None
    if place.entry is None or place.entry.kind is not EntryKind.FILE or not place.entry.mode & 0o111 or not runs:
        return
    content = snapshot.content(path) or b""
    if not rule_loads.is_about_filters(content.decode("latin-1")):
        return
    commands = list(rule_loads.script(content))
    about = [(number, text) for number, text in commands if rule_loads.is_about_filters(text)]
    plain = all(rule_loads.load(text) for _, text in commands)
    for number, text in about if plain else about[:1]:
        yield Origin(place.path, number, 1), text if plain else "a script that does more"
