"""The listings of a running guest, changed in memory as they will be once its manager has loaded a new gate.

The guest's own script does the same with the kernel (latch/rules.sh); what it really comes to is read afresh then.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace

from nightlatch.draft import gates
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.formats import iptables_save, own_rules
from nightlatch.formats.iptables_save import LineKind
from nightlatch.formats.xml_tree import XmlFault, parse
from nightlatch.readings.filters import firewalld, places, ufw
from nightlatch.readings.filters import firewalld_words as words

TABLES = {"ip": "tables", "ip6": "tables6"}
OLDER = {"ip": "older", "ip6": "older6"}  # where iptables is the older one
SAVED = dict((*places.IPTABLES_DEBIAN, *places.IPTABLES_RPM))
USERS = {path: "ip6" if path.endswith("user6.rules") else "ip" for path in ufw.FILES if "/user" in path}
ZONES = f"{firewalld.OWN}/zones/"
EMPTY = b"*filter\n:INPUT ACCEPT [0:0]\n:FORWARD ACCEPT [0:0]\n:OUTPUT ACCEPT [0:0]\nCOMMIT\n"


def manager(path: str) -> str:
    """The manager that loads a file in which a gate may stand; empty for any other."""
    if path == own_rules.FILE:
        return "nftables"
    if path in SAVED:
        return "iptables"
    if path in USERS:
        return "ufw"
    return "firewalld" if re.fullmatch(re.escape(ZONES) + r"[\w.-]+\.xml", path) else ""


def reloaded(before: Snapshot, after: Snapshot, path: str) -> Snapshot:
    """`after` with the listings of a guest whose manager has loaded the file at `path`; `before` is what it held until then."""
    if "rules" not in after.listings:
        return after
    raw, was = after.content(path) or b"", before.content(path) or b""
    tables = OLDER if after.told.older else TABLES
    match manager(path):
        case "nftables":
            changed = _nftables(after.listings["rules"], raw)
            return _listing(after, {"rules": changed})
        case "iptables":
            name = tables[SAVED[path]]
            return _listing(after, {name: _iptables(after.listings.get(name, EMPTY), raw)})
        case "ufw":
            name = tables[USERS[path]]
            return _listing(after, {name: _ufw(after.listings.get(name, EMPTY), raw, USERS[path])})
        case "firewalld":
            zone = path.rpartition("/")[2][:-4]
            return _listing(after, {"rules": _firewalld(after.listings["rules"], was, raw, zone)})
        case _:
            return after


def _listing(snapshot: Snapshot, changed: Mapping[str, bytes]) -> Snapshot:
    return replace(snapshot, listings={**snapshot.listings, **changed})


def _nftables(listing: bytes, raw: bytes) -> bytes:
    return own_rules.without(listing) + b"\n" + raw


def _iptables(listing: bytes, raw: bytes) -> bytes:
    """The listing of a family with the gate's lines of the file, the jump first."""
    own = [line for line in iptables_save.parse(raw).lines if gates.is_own(line)]
    kept = [line.raw for line in iptables_save.parse(listing).lines if not gates.is_own(line)]
    if not own:
        return b"".join(kept)
    return _placed(kept, [line.raw.rstrip(b"\n") + b"\n" for line in own])


def _placed(lines: list[bytes], own: list[bytes]) -> bytes:
    """Lines before the first rule of the filter table, or before its end."""
    inside = False
    for at, raw in enumerate(lines):
        inside = raw.startswith(b"*filter") or (inside and not raw.startswith(b"*"))
        if inside and raw.startswith((b"-", b"[", b"COMMIT")):
            return b"".join([*lines[:at], *own, *lines[at:]])
    return b"".join([*lines, b"*filter\n", *own, b"COMMIT\n"])


def _ufw(listing: bytes, raw: bytes, family: str) -> bytes:
    """The listing with ufw's chain of the user's rules as its file has it."""
    chain = f"ufw{'6' if family == 'ip6' else ''}-user-input"

    def within(line: iptables_save.Line) -> bool:
        return line.kind is LineKind.RULE and [word.text for word in line.words[:2]] == ["-A", chain]

    rules = [line.raw for line in iptables_save.parse(raw).lines if within(line)]
    kept = [line.raw for line in iptables_save.parse(listing).lines if not within(line)]
    if not rules and not any(line.startswith(f":{chain} ".encode()) for line in kept):
        return b"".join(kept)
    return _placed(kept, rules)


def _firewalld(listing: bytes, was: bytes, raw: bytes, zone: str) -> bytes:
    """The listing with the gate's rules at the head of the zone's first chain."""
    chain = f"filter_IN_{zone}_pre"
    kept = _dropped(listing, chain, _made(was))
    lines = [f"insert rule {firewalld.TABLE} {chain} {text}\n" for text in reversed(_made(raw))]
    return kept + b"\n" + "".join(lines).encode()


def _made(raw: bytes) -> list[str]:
    """The rules that firewalld makes of the gate in a zone, those that let in first."""
    try:
        root = parse(raw)
    except XmlFault:
        return []
    made = words.ZoneRules()
    own = {str(gates.ACCEPTING), str(gates.REFUSING)}
    for rule in sorted(root.all("rule"), key=words.priority):
        if rule.get("priority") in own:
            words.rich_rule(rule, {}, lambda _: None, made)
    return [text for text, _ in made.filtering]


def _dropped(listing: bytes, chain: str, texts: list[str]) -> bytes:
    """The listing without these rules in one chain; it leaves out what a rule's addresses say already."""
    gone = {text.partition("saddr ")[2] or text for text in texts}
    out, inside = [], False
    for line in listing.split(b"\n"):
        text = line.decode("utf-8", "replace").strip()
        inside = text == f"chain {chain} {{" or (inside and text != "}")
        if not (inside and (text.partition("saddr ")[2] or text) in gone):
            out.append(line)
    return b"\n".join(out)
