"""ifupdown's interfaces and what it sources, as profiles (interfaces(5)).

An interface may have several stanzas, of both families; they all count. What stands in `up` commands is not followed:
an address or route that a command sets is told as a gap.
"""

from __future__ import annotations

import re
from collections import deque

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import interfaces, paths
from nightlatch.formats.interfaces import Line, Stanza
from nightlatch.formats.leases import hardware
from nightlatch.model.gaps import Gap
from nightlatch.net.literal import AddressError, IPAddress, IPInterface, parse_address, parse_interface, parse_mask
from nightlatch.net.numbers import whole
from nightlatch.origin import Origin
from nightlatch.readings.network.profiles import (
    AREA,
    Gateway,
    Match,
    Method,
    MethodAt,
    PlacedValue,
    Profile,
    System,
    misread,
)

MAIN = "/etc/network/interfaces"
MOST_FILES = 200
MOST_INHERITED = 20_000  # options and stanzas, of one interface: a ring of templates multiplies them
FOLDER_NAME = re.compile(r"[a-zA-Z0-9_-]+")
METHODS = {
    ("inet", "static"): Method.STATIC,
    ("inet", "dhcp"): Method.LEASED,
    ("inet", "bootp"): Method.LEASED,
    ("inet6", "static"): Method.STATIC,
    ("inet6", "dhcp"): Method.LEASED,
    ("inet6", "auto"): Method.ANNOUNCED,
}
ACTS = re.compile(
    r"\b(?:ip\s+(?:-\S+\s+){0,8}(?:addr|address|a|route|r)\s+(?:add|replace|change)|route\s+add|ifconfig\s+\S+\s+[0-9a-f])"
)


def files(snapshot: Snapshot) -> list[tuple[str, interfaces.Document]]:
    """The main file and every file it sources, in the order in which they are read."""
    out: list[tuple[str, interfaces.Document]] = []
    _follow(snapshot, MAIN, out)
    return out


def _follow(snapshot: Snapshot, path: str, out: list[tuple[str, interfaces.Document]]) -> None:
    content = snapshot.content(path)
    if content is None or len(out) >= MOST_FILES or any(path == seen for seen, _ in out):
        return
    document = interfaces.parse(content)
    out.append((path, document))
    for line in document.named("source", "source-directory", "source-dir"):
        for word in line.words[1:]:
            for each in sourced(snapshot, path, line.keyword, word.text):
                _follow(snapshot, each, out)


def sourced(snapshot: Snapshot, path: str, keyword: str, pattern: str) -> list[str]:
    """The files that a source line names, counted from the folder of the file it stands in."""
    if not pattern.startswith("/"):
        pattern = f"{path.rpartition('/')[0]}/{pattern}"
    found = paths.expand(pattern, lambda f: snapshot.children(snapshot.resolve(f).path), lambda p: _is_there(snapshot, p))
    if keyword == "source":
        return [each for each in found if snapshot.resolve(each).is_file]
    inside = [f"{folder}/{name}" for folder in found for name in snapshot.children(snapshot.resolve(folder).path)]
    return [each for each in inside if FOLDER_NAME.fullmatch(each.rpartition("/")[2]) and snapshot.resolve(each).is_file]


def _is_there(snapshot: Snapshot, path: str) -> bool:
    entry = snapshot.resolve(path).entry
    return entry is not None and entry.kind is not EntryKind.ABSENT


def read(snapshot: Snapshot) -> tuple[tuple[Profile, ...], tuple[Gap, ...]]:
    """One profile for each interface; lines that ifup does not take are gaps."""
    found = files(snapshot)
    gaps = [
        Gap(AREA, f"ifup can't use this line: {line.fault}", Origin(path, line.number, 1))
        for path, document in found
        for line in document.lines
        if line.fault
    ]
    for path, document in found:
        unread = document.named("mapping", "template")
        gaps += [Gap(AREA, f"{line.keyword} stanzas are not read", Origin(path, line.number)) for line in unread]
    started = {word.text for _, d in found for line in d.named("auto", "allow-auto", "allow-hotplug") for word in line.words[1:]}
    stanzas: dict[str, list[tuple[str, Stanza]]] = {}
    for path, document in found:
        for stanza in document.stanzas():
            if stanza.name:
                stanzas.setdefault(stanza.name, []).append((path, stanza))
    made = []
    for name, parts in stanzas.items():
        if name != "lo" and not all(not stanza.family for _, stanza in parts):
            inherited, whole = _inherited(parts, stanzas)
            if not whole:
                place = Origin(parts[0][0], parts[0][1].head.number, 1)
                gaps.append(Gap(AREA, f"{name} inherits more options than are read, {MOST_INHERITED}", place))
            made.append(_profile(name, inherited, name in started))
    return tuple(made), tuple(gaps)


def _inherited(
    parts: list[tuple[str, Stanza]], stanzas: dict[str, list[tuple[str, Stanza]]]
) -> tuple[list[tuple[str, Stanza, tuple[tuple[str, Line], ...]]], bool]:
    """Each stanza with the options of the ones it inherits from, its own first; and whether all of them were read."""
    out, left = [], MOST_INHERITED
    for path, stanza in parts:
        options = [(path, line) for line in stanza.options]
        waiting, seen = deque(stanza.inherits), set()
        while waiting and left > 0:
            name = waiting.popleft()
            if name in seen:
                continue
            seen.add(name)
            for other_path, other in stanzas.get(name, []):
                left -= 1 + len(other.options)
                if not stanza.family or not other.family or other.family == stanza.family:
                    options += [(other_path, line) for line in other.options]
                    waiting += other.inherits
        out.append((path, stanza, tuple(options)))
    return out, left > 0


def _profile(name: str, parts: list[tuple[str, Stanza, tuple[tuple[str, Line], ...]]], started: bool) -> Profile:
    gaps: list[Gap] = []
    methods: list[MethodAt] = []
    addresses: list[PlacedValue[IPInterface]] = []
    gateways: list[Gateway] = []
    servers: list[PlacedValue[IPAddress]] = []
    search: list[str] = []
    mac: PlacedValue[str] | None = None
    for path, stanza, options in parts:
        version = 6 if stanza.family == "inet6" else 4
        known = METHODS.get((stanza.family, stanza.method))
        words = stanza.head.words
        at = Origin(path, stanza.head.number, words[3 if stanza.family else 1].column)
        if known is not None:
            methods.append(MethodAt(version, known, at))
        if version == 6:
            methods.append(MethodAt(6, Method.LINK_LOCAL, at))
            if known is Method.STATIC and _word(options, "autoconf") in ("1", "2"):
                methods.append(MethodAt(6, Method.ANNOUNCED, at))
        if known is Method.STATIC:
            _static(options, version, at, addresses, gateways, gaps)
        _servers(options, servers, search, gaps)
        line = _option(options, "hwaddress")
        if line is not None:
            mac = PlacedValue(hardware(line[1].words[-1].text), _at(line))
        for where, each in options:
            if each.keyword in interfaces.REPEATABLE and ACTS.search(each.rest):
                gaps.append(Gap(AREA, f"a command sets an address or a route: {each.rest[:80]}", Origin(where, each.number)))
    first = parts[0]
    return Profile(
        system=System.IFUPDOWN,
        interface=name,
        origin=Origin(first[0], first[1].head.number, first[1].head.words[1].column),
        match=Match((name,)),
        methods=tuple(methods),
        addresses=tuple(addresses),
        gateways=tuple(gateways),
        routes=(),
        servers=tuple(servers),
        search=tuple(search),
        at_boot=started,
        boot_origin=None if started else Origin(first[0], first[1].head.number),
        hardware=mac,
        gaps=tuple(gaps),
    )


def _option(options: tuple[tuple[str, Line], ...], *names: str) -> tuple[str, Line] | None:
    return next(((path, line) for path, line in options if line.keyword in names and len(line.words) > 1), None)


def _word(options: tuple[tuple[str, Line], ...], *names: str) -> str:
    found = _option(options, *names)
    return found[1].words[1].text if found is not None else ""


def _at(found: tuple[str, Line]) -> Origin:
    path, line = found
    word = line.words[1] if len(line.words) > 1 else line.words[0]
    return Origin(path, word.line, word.column)


def _static(
    options: tuple[tuple[str, Line], ...],
    version: int,
    at: Origin,
    addresses: list[PlacedValue[IPInterface]],
    gateways: list[Gateway],
    gaps: list[Gap],
) -> None:
    stated = _option(options, "address")
    if stated is None:
        gaps.append(Gap(AREA, "a static stanza without an address; expected address ADDRESS/LENGTH", at))
    else:
        text, mask = stated[1].words[1].text, _word(options, "netmask")
        try:
            made = parse_interface(_with_length(text, mask, version))
            addresses.append(PlacedValue(made, _at(stated)))
            if "/" not in text and not mask:
                because = f'"{text}" has no prefix length: ifup takes {made}; expected it written out'
                gaps.append(Gap(AREA, because, _at(stated)))
        except AddressError as error:
            gaps.append(misread(error, _at(stated)))
    found = _option(options, "gateway")
    if found is not None and found[1].words[1].text not in ("none", "auto"):
        metric = _word(options, "metric")
        try:
            address = parse_address(found[1].words[1].text, scope=True)
            # ifup adds the route with "onlink", so that it always works (measured: ifup --no-act, 0.8.41).
            gateways.append(Gateway(address, _at(found), whole(metric, 10)))
        except AddressError as error:
            gaps.append(misread(error, _at(found)))


def _with_length(text: str, mask: str, version: int) -> str:
    """The address with its length, from the address itself or the netmask beside it."""
    if "/" in text:
        head, _, tail = text.partition("/")
        return f"{head}/{parse_mask(tail)}" if "." in tail else text
    if mask:
        return f"{text}/{parse_mask(mask) if '.' in mask else mask.removeprefix('/')}"
    return f"{text}/{_by_class(text) if version == 4 else 128}"


def _by_class(text: str) -> int:
    """What ifup makes of an address without a length: the class it once had (measured: ifup --no-act, 0.8.41)."""
    first = int(parse_address(text)) >> 24
    return 8 if first < 128 else 16 if first < 192 else 24


def _servers(
    options: tuple[tuple[str, Line], ...], servers: list[PlacedValue[IPAddress]], search: list[str], gaps: list[Gap]
) -> None:
    """`dns-nameservers` and `dns-search`, which resolvconf or systemd's hook take from here."""
    for path, line in options:
        if line.keyword in ("dns-nameservers", "dns-nameserver"):
            for word in line.words[1:]:
                try:
                    servers.append(PlacedValue(parse_address(word.text, scope=True), Origin(path, word.line, word.column)))
                except AddressError as error:
                    gaps.append(misread(error, Origin(path, word.line, word.column)))
        elif line.keyword in ("dns-search", "dns-domain"):
            search.extend(word.text for word in line.words[1:])
