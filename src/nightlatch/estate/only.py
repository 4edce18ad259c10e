"""`only:` of a grant: what it gives in place of all that the service gives."""

from __future__ import annotations

from dataclasses import dataclass

from nightlatch.estate import reader
from nightlatch.formats.yaml_tree import Node, Source
from nightlatch.model.services import ServiceWords

HINTS = {
    "command": "only: {files: FOLDER} or only: {command: ...}",
    "view": "only: {view: yes}",
}


@dataclass(frozen=True, slots=True)
class Only:
    """A forced `command`, a folder of `files`, or a `view` of the screen; all empty where nothing is said."""

    command: str = ""
    files: str = ""
    view: bool = False


def only(source: Source, node: Node | None, by: ServiceWords) -> Only:
    """What stands there, for a grant by this service."""
    if node is None:
        return Only()
    if not by.only:
        source.fault(node, f"only can't be said of {by.name}", "no only:")
        return Only()
    if node.pairs is None:
        source.fault(node, f"only is {node.kind}: it says what is given in place of {_usual(by)}", _hint(node, by))
        return Only()
    inside = reader.section(source, node, "only", by.only, {"tunnel": "tunnels come later"} if "command" in by.only else None)
    if len(inside) > 1:
        source.fault(node, "only says more than one thing", " or ".join(by.only))
    command, files = (reader.text(source, inside[key], key) if key in inside else "" for key in ("command", "files"))
    if files and (not files.startswith("/") or "/../" in files + "/"):
        source.fault(inside["files"], f'"{files}" is no folder on the guest', "an absolute path, such as /srv/charts")
    if command.startswith("internal-sftp"):
        source.fault(inside["command"], "internal-sftp serves files", "files: and the folder")
    view = "view" in inside and reader.one_of(source, inside["view"], "view", ("yes",)) == "yes"
    return Only(command.rstrip("/") or command, files.rstrip("/") or files, view)


def _usual(by: ServiceWords) -> str:
    return str(by.power)


def _hint(node: Node, by: ServiceWords) -> str:
    word = node.text or ""
    if "files" in by.only and word.startswith("/"):
        return f"only: {{files: {word}}}, or only: {{command: {word}}}"
    return HINTS[by.only[0]]
