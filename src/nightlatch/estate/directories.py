"""`directories`: dated lists of the accounts that a directory holds, a row each: account, id, groups (parted by ;), disabled."""

from __future__ import annotations

from pathlib import Path

from nightlatch.estate import csv_lists, reader
from nightlatch.estate.csv_lists import Columns
from nightlatch.estate.model import Directory, DirectoryAccount
from nightlatch.formats.yaml_tree import Node, Source
from nightlatch.net.numbers import whole

COLUMNS = ("account", "id", "groups", "disabled")


def _row(nodes: dict[str, Node], name: Node) -> Node:
    return Node(name.line, name.column, pairs=[(csv_lists.key(node, column), node) for column, node in nodes.items()])


LIST = Columns("accounts", COLUMNS, ("account",), _row)


def directory(source: Source, name: str, key: Node, node: Node, folder: Path) -> Directory | None:
    """One directory with the accounts of its list; None after a fault."""
    found = reader.section(source, node, f"directory {name}", ("accounts", "taken"), None, ("accounts", "taken"))
    taken = reader.day(source, found["taken"], "taken") if "taken" in found else None
    rows = csv_lists.read(source, found["accounts"], folder, LIST) if "accounts" in found else None
    if taken is None or rows is None:
        return None
    out: dict[str, DirectoryAccount] = {}
    for row in rows.rows:
        each = _account(rows.source, {k.text or "": v for k, v in row.value.pairs or []}, row.value)
        if each is not None and each.name in out:
            rows.source.fault(
                row.value, f'"{each.name}" stands in line {out[each.name].origin.line} already', "each account once"
            )
        elif each is not None:
            out[each.name] = each
    source.faults.extend(rows.source.faults)
    return Directory(name, out, taken, source.origin(key))


def _account(source: Source, fields: dict[str, Node], row: Node) -> DirectoryAccount | None:
    if "account" not in fields:
        source.fault(row, "a row without an account", "its name")
        return None
    number = whole(fields["id"].text or "", 10) if "id" in fields else None
    if "id" in fields and number is None:
        source.fault(fields["id"], f'"{fields["id"].text}" is no number', "the account's number on guests")
    disabled = fields["disabled"].text if "disabled" in fields else "no"
    if disabled not in ("yes", "no"):
        source.fault(fields["disabled"], f'"{disabled}" is neither yes nor no', "yes for an account that is disabled")
    groups = fields["groups"].text or "" if "groups" in fields else ""
    names = tuple(each.strip() for each in groups.split(";") if each.strip())
    return DirectoryAccount(fields["account"].text or "", number, names, disabled == "yes", source.origin(fields["account"]))
