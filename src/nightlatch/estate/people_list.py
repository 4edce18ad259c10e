"""`people_from`: a list of people and robots in a CSV file, one a row.

A row says what a person under `people` says: several files of keys, or principals, are parted by spaces, an account is
GUEST=ACCOUNT; a certificate takes two columns, `authority` and `principals`. In the column `robot` stands yes or nothing.
"""

from __future__ import annotations

from nightlatch.estate import csv_lists
from nightlatch.estate.csv_lists import Columns, Row, key
from nightlatch.formats.yaml_tree import Node

COLUMNS = ("name", "robot", "keys", "authority", "principals", "accounts", "until")


def _person(nodes: dict[str, Node], name: Node) -> Node:
    pairs: list[tuple[Node, Node]] = []
    certificate = [
        (key(nodes[each], each), _certified(each, nodes[each])) for each in ("authority", "principals") if each in nodes
    ]
    if certificate:
        first = certificate[0][0]
        pairs.append((key(first, "certificate"), Node(first.line, first.column, pairs=certificate)))
    if "keys" in nodes:
        pairs.append((key(nodes["keys"], "keys"), csv_lists.listed(nodes["keys"])))
    if "accounts" in nodes:
        node = nodes["accounts"]
        pairs.append((key(node, "accounts"), Node(node.line, node.column, pairs=list(csv_lists.pairs(node)))))
    for column in ("until", "robot"):
        if column in nodes:
            pairs.append((key(nodes[column], column), nodes[column]))
    return Node(name.line, name.column, pairs=pairs)


def _certified(column: str, node: Node) -> Node:
    return csv_lists.listed(node) if column == "principals" else node


def take_robot(row: Row) -> Node | None:
    """What stands in the column `robot`, which is no key of a person; it is taken out of the row."""
    found = next((value for name, value in row.value.pairs or [] if name.text == "robot"), None)
    row.value.pairs = [each for each in row.value.pairs or [] if each[0].text != "robot"]
    return found


PEOPLE = Columns("people_from", COLUMNS, ("name",), _person)
