"""`guests_from`: a list of guests in a CSV file, one a row.

A row says what a guest under `guests` says; `via` takes two columns, the way and where it leads. Several labels, host keys
or addresses in one field are parted by spaces; an address is INTERFACE=ADDRESS/LENGTH.
"""

from __future__ import annotations

from nightlatch.estate import csv_lists
from nightlatch.estate.csv_lists import Columns, key
from nightlatch.formats.yaml_tree import Node

COLUMNS = tuple(
    """
    name system dial via at port as key from labels host_keys network addresses host_name time_zone
""".split()
)
LISTS = ("labels", "host_keys", "from")


def _guest(nodes: dict[str, Node], name: Node) -> Node:
    pairs: list[tuple[Node, Node]] = []
    way = nodes.pop("via", None)
    if way is not None:
        pairs.append((key(way, "via"), _via(way, nodes)))
    for column in ("at", "port", "as", "key", "from"):
        nodes.pop(column, None)
    for column, node in nodes.items():
        pairs.append((key(node, column), _addresses(node) if column == "addresses" else _value(column, node)))
    return Node(name.line, name.column, pairs=pairs)


def _value(column: str, node: Node) -> Node:
    return csv_lists.listed(node) if column in LISTS else node


def _via(way: Node, nodes: dict[str, Node]) -> Node:
    if way.text == "here":
        return way
    pairs = [(way, nodes.get("at", Node(way.line, way.column, "", plain=True)))]
    for column in ("port", "as", "key", "from"):
        if column in nodes:
            pairs.append((key(nodes[column], column), _value(column, nodes[column])))
    return Node(way.line, way.column, pairs=pairs)


def _addresses(node: Node) -> Node:
    """INTERFACE=ADDRESS/LENGTH words as a mapping of lists."""
    by_interface: dict[str, tuple[Node, list[Node]]] = {}
    for name, address in csv_lists.pairs(node):
        by_interface.setdefault(name.text or "", (name, []))[1].append(address)
    found = [(name, Node(name.line, name.column, items=items)) for name, items in by_interface.values()]
    return Node(node.line, node.column, pairs=found)


GUESTS = Columns("guests_from", COLUMNS, ("name", "via"), _guest)
