"""Edits of the estate file that leave every other byte as it is.

An edit goes by the offsets of the parsed nodes; the result is parsed again and must be the same file but for the part
that was meant (a writer that prints the whole file anew breaks long lines and moves comments).
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from nightlatch.estate import tree
from nightlatch.faults import EstateError, RefusedError
from nightlatch.formats.yaml_tree import Node, with_item, with_pair

Plain = object


def with_host_keys(text: str, guest: str, pins: Sequence[str], name: str = "the estate file") -> str:
    """The file's text with the fingerprints `pins` as the host keys of a guest, and nothing else changed.

    Raises RefusedError when the guest is not written in a way that can be edited safely.
    """
    root = tree.parse(tree.source(name, text))
    node = _guest(root, guest)
    if node is None or not node.pairs:
        raise RefusedError(f"{name}: guest {guest} is not written as a mapping; {_by_hand(pins)}")
    value = "[" + ", ".join(f'"{pin}"' for pin in pins) + "]"
    made = with_pair(text, node, "host_keys", value)
    _check(text, made, guest, pins, name)
    return made


def with_address(text: str, guest: str, old: str, new: str, name: str = "the estate file") -> tuple[str, int]:
    """The file's text with `new` wherever it names `old` as the guest's address or as a caller's: `via`, `dial`, places,
    `from` of grants and of emergency accounts; and how many places that were. Nothing else is changed.

    Raises RefusedError when the file would read otherwise than meant.
    """
    root = tree.parse(tree.source(name, text))
    places = [node for node in _addresses(root, guest) if node.text in (old, f"{old}:{_port(node)}")]
    made = text
    for node in sorted(places, key=lambda each: -each.start):
        inside = made[node.start : node.end]
        made = made[: node.start] + inside.replace(old, new, 1) + made[node.end :]
    before, after = _plain(root), _plain(tree.parse(tree.source(name, made)))
    for node in places:
        node.text = (node.text or "").replace(old, new, 1)
    if _plain(root) != after or (not places and before != after):
        raise RefusedError(f"{name} can't be edited without touching more; write {new} for {old} by hand")
    return made, len(places)


def with_port(text: str, guest: str, old: int, new: int, name: str = "the estate file") -> tuple[str, int]:
    """The file's text with `new` as the port of a guest's `via`, and of its `dial` where that names `old` or none; and how
    many places that were. Nothing else is changed.

    Raises RefusedError where the guest is not written in a way that can be edited safely.
    """
    root = tree.parse(tree.source(name, text))
    found = _guest(root, guest)
    by_name = {key.text: value for key, value in (found.pairs or [] if found else [])}
    hand = f"write port: {new} under via of {guest} by hand"
    if by_name.get("via") is None or by_name["via"].pairs is None:
        raise RefusedError(f"{name}: guest {guest} is not written as a mapping; {hand}")
    wanted = _plain(root)
    assert isinstance(wanted, dict)
    mine = wanted["guests"][guest]
    made, count = text, 1
    dial = by_name.get("dial")
    host = (dial.text or "") if dial is not None else ""
    bare = host.removesuffix(f":{old}")
    at_old = bare != host or not re.search(r"(^[^:\[\]]+|\]):[0-9]+$", host)
    if dial is not None and host and at_old:
        whole = f"{bare}:{new}" if ":" not in bare or bare.endswith("]") else f"[{bare}]:{new}"
        quoted = f'"{whole}"' if "[" in whole else whole
        made, count, mine["dial"] = made[: dial.start] + quoted + made[dial.end :], 2, whole
    again = _guest(tree.parse(tree.source(name, made)), guest)
    via = next(value for key, value in (again.pairs or [] if again else []) if key.text == "via")
    made = with_pair(made, via, "port", str(new))
    mine["via"]["port"] = str(new)
    if _plain(tree.parse(tree.source(name, made))) != wanted:
        raise RefusedError(f"{name} can't be edited without touching more; {hand}")
    return made, count


def with_entry(text: str, section: str, key: str, value: str, name: str = "the estate file") -> str:
    """The file's text with one more entry in a section of names (guests, people, authorities), and nothing else changed; `value`
    is YAML on one line. Raises RefusedError where the section can't be edited safely, or has such an entry."""
    root = tree.parse(tree.source(name, text))
    wanted = _plain(root)
    assert isinstance(wanted, dict)
    node = _below(root, section)
    try:
        made = with_pair(text, root, section, f"{{{key}: {value}}}") if node is None else with_pair(text, node, key, value)
        after = _plain(tree.parse(tree.source(name, made)))
        assert isinstance(after, dict)
        there = wanted[section] = wanted.get(section) or {}  # a section may be there with nothing in it
        good = key not in there
        there[key] = after[section][key]
    except (EstateError, ValueError, KeyError, TypeError, AttributeError, AssertionError):
        good, after = False, None
    if not good or after != wanted:
        raise RefusedError(f"{name} can't be edited without touching more; write under {section} by hand: {key}: {value}")
    return made


def with_sentence(text: str, section: str, value: str, name: str = "the estate file") -> str:
    """The file's text with one more sentence at the end of a list of them (grants), and nothing else changed. Raises RefusedError
    where the list can't be edited safely."""
    root = tree.parse(tree.source(name, text))
    wanted = _plain(root)
    assert isinstance(wanted, dict)
    node = _below(root, section)
    try:
        made = with_pair(text, root, section, f"[{value}]") if node is None else with_item(text, node, value)
        after = _plain(tree.parse(tree.source(name, made)))
        assert isinstance(after, dict)
        wanted[section] = [*wanted.get(section, []), after[section][-1]]
        good = after == wanted
    except (EstateError, ValueError, KeyError, TypeError, AssertionError):
        good = False
    if not good:
        raise RefusedError(f"{name} can't be edited without touching more; write under {section} by hand: - {value}")
    return made


def with_taken(text: str, network: str, number: int, day: str, name: str = "the estate file") -> str:
    """The file's text with another day on which the table of a network's perimeter was taken (`number` of several, from 0), and
    nothing else changed. Raises RefusedError where it is not written in a way that can be edited safely."""
    root = tree.parse(tree.source(name, text))
    node = _below(_below(_below(root, "networks"), network), "perimeter")
    node = node.items[number] if node is not None and node.items is not None else node
    taken = _below(node, "taken")
    if taken is None or taken.text is None:
        raise RefusedError(f"{name}: write taken: {day} under the perimeter of {network} by hand")
    made = text[: taken.start] + day + text[taken.end :]
    taken.text = day
    if _plain(root) != _plain(tree.parse(tree.source(name, made))):
        raise RefusedError(f"{name} can't be edited without touching more; write taken: {day} under {network} by hand")
    return made


def _below(node: Node | None, key: str) -> Node | None:
    return next((value for each, value in (node.pairs or [] if node is not None else []) if each.text == key), None)


def _port(node: Node) -> str:
    return (node.text or "").rpartition(":")[2]


def _addresses(root: Node, guest: str) -> list[Node]:
    """The scalars that may name an address of a guest or of a caller."""
    found = _guest(root, guest)
    out = [v for k, v in (found.pairs or [] if found else []) if k.text == "dial"]
    via = next((v for k, v in (found.pairs or [] if found else []) if k.text == "via"), None)
    out += [v for k, v in (via.pairs or [] if via else []) if k.text == "ssh"]
    sections = {key.text: value for key, value in root.pairs or []}
    for section, key in (("places", ""), ("grants", "from"), ("emergency", "from")):
        if section in sections:
            out += _below_key(sections[section], key, inside=not key)
    return [node for node in out if node.text is not None]


def _below_key(node: Node, key: str, *, inside: bool) -> list[Node]:
    """Every scalar below a key, or below the node itself with `inside`."""
    if node.text is not None:
        return [node] if inside else []
    parts = [(inside, item) for item in node.items or []]
    parts += [(inside or each.text == key, value) for each, value in node.pairs or []]
    return [found for within, part in parts for found in _below_key(part, key, inside=within)]


def _guest(root: Node, guest: str) -> Node | None:
    guests = next((value for key, value in root.pairs or [] if key.text == "guests"), None)
    return next((value for key, value in (guests.pairs or [] if guests else []) if key.text == guest), None)


def _by_hand(pins: Sequence[str]) -> str:
    return "write it by hand: host_keys: [" + ", ".join(f'"{pin}"' for pin in pins) + "]"


def _plain(node: Node) -> Plain:
    if node.items is not None:
        return [_plain(item) for item in node.items]
    if node.pairs is not None:
        return {key.text: _plain(value) for key, value in node.pairs}
    return node.text


def _check(before: str, after: str, guest: str, pins: Sequence[str], name: str) -> None:
    """Only what was meant has changed: both files are the same values but for these host keys."""
    try:
        old, new = _plain(tree.parse(tree.source(name, before))), _plain(tree.parse(tree.source(name, after)))
        assert isinstance(old, dict)
        assert isinstance(new, dict)
        found = new["guests"][guest].pop("host_keys")
        old["guests"][guest].pop("host_keys", None)
        good = found == list(pins) and old == new
    except (EstateError, KeyError, TypeError, AttributeError, AssertionError):
        good = False
    if not good:
        raise RefusedError(f"{name}: guest {guest} can't be edited without touching more; {_by_hand(pins)}")


FINGERPRINT = re.compile(r"(?:SHA256:)?([A-Za-z0-9+/]{43})=?(?![A-Za-z0-9+/=])|(?:MD5:)?((?:[0-9a-fA-F]{2}:){15}[0-9a-fA-F]{2})")


def fingerprints(text: str) -> list[str]:
    """Every fingerprint in what somebody typed or pasted, as SHA256:... or MD5:... in small letters."""
    out: dict[str, None] = {}
    for found in FINGERPRINT.finditer(text):
        out[f"SHA256:{found[1]}" if found[1] else f"MD5:{found[2].lower()}"] = None
    return list(out)
