"""Small readers over nodes: each notes a fault with its position and goes on, so that all errors come at once."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from datetime import date
from pathlib import Path

from nightlatch.faults import nearest
from nightlatch.formats.keys import KeyFault, PublicKey, parse_public
from nightlatch.formats.yaml_tree import Node, Source

NAME = re.compile(r"[a-z][a-z0-9-]*")
LARGEST_KEY = 65536


def pairs(source: Source, node: Node, what: str) -> list[tuple[Node, Node]]:
    """The pairs of a mapping; a fault and nothing for anything else."""
    if node.pairs is None:
        source.fault(node, f"{what} is {node.kind}", "a mapping: names with a colon behind them")
        return []
    return node.pairs


def section(
    source: Source,
    node: Node,
    what: str,
    known: Sequence[str],
    later: Mapping[str, str] | None = None,
    required: Sequence[str] = (),
) -> dict[str, Node]:
    """The values of a mapping with fixed keys. Unknown keys, keys for later versions and missing ones are faults."""
    out: dict[str, Node] = {}
    for key, value in pairs(source, node, what):
        name = key.text or ""
        if name in known:
            out[name] = value
        elif later and name in later:
            source.fault(key, f'"{name}" can\'t be honoured by this version yet: {later[name]}', "it to be left out")
        elif value.text == "" and value.plain:
            source.fault(key, f'"{name}" is a key without a value; a comma inside {{}} ends a value', _bracket(node, key))
        else:
            hint = nearest(name, [*known, *(later or {})])
            source.fault(key, f'{what} has no "{name}"', "one of " + ", ".join(known), hint)
    for name in required:
        if name not in out and node.pairs is not None:
            source.fault(node, f"{what} lacks {name}", f"{name}: ...")
    return out


def _bracket(node: Node, key: Node) -> str:
    before: tuple[Node, Node] | None = None
    for pair in node.pairs or []:
        if pair[0] is key:
            break
        before = pair
    if before and before[1].text:
        return f"a list in brackets, such as {before[0].text}: [{before[1].text}, {key.text}]"
    return "a key with a value"


def text(source: Source, node: Node, what: str) -> str:
    """A scalar that says something."""
    if node.text is None or not node.text.strip():
        source.fault(node, f"{what} is {node.kind}", "a word or text")
        return ""
    return node.text.strip()


def name(source: Source, node: Node, what: str) -> str:
    """A name: lower case letters, digits and dashes, a letter first."""
    value = text(source, node, what)
    if value and not NAME.fullmatch(value):
        source.fault(node, f'"{value}" can\'t be the name of {what}', "small letters, digits and dashes, a letter first")
    return value


def one_of(source: Source, node: Node, what: str, words: Sequence[str]) -> str:
    """One of some words."""
    value = text(source, node, what)
    if value and value not in words:
        source.fault(node, f'{what} "{value}" is not known', "one of " + ", ".join(words), nearest(value, words))
        return ""
    return value


def items(source: Source, node: Node, what: str) -> list[Node]:
    """The nodes of a list; a single value may stand for a list of one."""
    if node.items is not None:
        if not node.items:
            source.fault(node, f"{what} is an empty list", "at least one value")
        return node.items
    if node.pairs is not None:
        source.fault(node, f"{what} is a mapping", "a value or a list")
        return []
    return [node]


def named(source: Source, node: Node, what: str, words: Mapping[str, object], group: str) -> str:
    """A name that must exist elsewhere in the estate."""
    value = text(source, node, what)
    if value and value not in words:
        known = ", ".join(sorted(words)) or "there are none"
        source.fault(
            node,
            f'{what} "{value}" is not among the {group}',
            f"a name under {group} ({known})",
            nearest(value, list(words)),
            f"{group.split()[0]}: {value}",
        )
        return ""
    return value


def day(source: Source, node: Node, what: str) -> date | None:
    """A day as 2027-03-31."""
    value = text(source, node, what)
    if not value:
        return None
    try:
        if not re.fullmatch(r"[0-9]{4}-[0-9]{2}-[0-9]{2}", value):
            raise ValueError
        return date.fromisoformat(value)
    except ValueError:
        source.fault(node, f'{what} "{value}" is no day', "a day that exists, as 2027-03-31")
        return None


def whole(source: Source, node: Node, what: str, least: int, most: int) -> int:
    """A whole number."""
    value = text(source, node, what)
    if not re.fullmatch(r"[1-9][0-9]{0,8}|0", value) or not least <= int(value) <= most:
        if value:
            wrong = "is too small or too large" if value.isdecimal() else "is no number"
            source.fault(node, f'{what} "{value}" {wrong}', f"a number from {least} to {most}")
        return least
    return int(value)


def key_file(source: Source, node: Node, folder: Path, what: str) -> PublicKey | None:
    """The public key in the file that a node names, relative to the estate file."""
    value = text(source, node, what)
    if not value:
        return None
    path = folder / value
    try:
        if not path.is_file():
            source.fault(node, f"there is no file {value}", f"a public key file, counted from {folder}")
            return None
        with path.open("rb") as stream:
            raw = stream.read(LARGEST_KEY + 1)
        if len(raw) > LARGEST_KEY:
            source.fault(node, f"{value} is too large for a key", "a public key file")
            return None
        return parse_public(raw)
    except OSError as error:
        source.fault(node, f"{value} can't be read: {error.strerror}", "a public key file")
    except KeyFault as error:
        source.fault(node, f"{value}: {error}", "the public half of a key, on one line")
    return None


def each(source: Source, node: Node | None, what: str, make: Callable[[str, Node, Node], object]) -> None:
    """Call `make(name, key node, value node)` for every named part of a section."""
    if node is None:
        return
    for key, value in pairs(source, node, what):
        if key.text is not None:
            make(name(source, key, what), key, value)
