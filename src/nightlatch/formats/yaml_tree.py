"""YAML as a tree of texts with positions (YAML 1.2).

Every scalar stays a text: what it means is said by the schema, so `007`, `no` and `2027-02-30` can't turn into something
else on the way. Aliases, anchors, tags, merge keys, directives and second documents are refused, repeated keys found.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from nightlatch.faults import Fault, NightlatchError
from nightlatch.origin import Kind, Origin

MOST_DEPTH = 40
CONTROL = re.compile(r"[\x00-\x08\x0a-\x1f]")


class YamlError(NightlatchError):
    """The text is no YAML that we read; every fault has its place."""


@dataclass(slots=True)
class Node:
    """A scalar, list or mapping. `line` and `column` count from 1; `plain` says that a scalar stands without quotes.

    `start` and `end` are offsets in the file's text; `flow` says that a list or mapping stands in brackets or braces.
    """

    line: int
    column: int
    text: str | None = None
    plain: bool = False
    items: list[Node] | None = None
    pairs: list[tuple[Node, Node]] | None = None
    start: int = 0
    end: int = 0
    flow: bool = False

    @property
    def kind(self) -> str:
        """The kind of the node, for messages."""
        if self.items is not None:
            return "a list"
        if self.pairs is not None:
            return "a mapping"
        return "nothing" if self.text == "" and self.plain else f'"{self.text}"'


@dataclass
class Source:
    """The file: its name for messages, whose it is, and its lines for excerpts. Faults are gathered here."""

    path: str
    text: str
    kind: Kind = Kind.FILE
    faults: list[Fault] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.lines = [line.rstrip() for line in self.text.split("\n")]  # once: every fault of a line holds the same text

    def origin(self, node: Node) -> Origin:
        """The node's place."""
        return Origin(self.path, node.line, node.column, self.kind)

    def fault(self, node: Node, what: str, expected: str = "", nearest: str = "", name: str = "") -> None:
        """Note something that is wrong at a node; `name` is what is missing there."""
        line = self.lines[node.line - 1] if node.line <= len(self.lines) else ""
        width = len(node.text) if node.text else 1
        self.faults.append(Fault(what, self.origin(node), expected, nearest, line, width, name))


def parse(source: Source) -> Node:
    """The root node. Raises YamlError with the first error of syntax; what is well formed but refused is noted."""
    from ruamel.yaml import YAML
    from ruamel.yaml.error import MarkedYAMLError, YAMLError

    _refuse_control(source)
    yaml = YAML(typ="safe", pure=True)
    try:
        events = yaml.parse(source.text)
        builder = _Builder(source, events)
        root = builder.document()
    except MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        node = Node(mark.line + 1, mark.column + 1) if mark else Node(1, 1)
        problem = str(error.problem or error.context)
        if "\\t" in problem or "tab" in problem:
            source.fault(node, "a tab, which YAML does not take for indentation", "spaces")
        else:
            source.fault(node, f"this is no YAML: {problem}", "a colon and a space behind each key")
        raise YamlError(source.faults) from None
    except YAMLError as error:
        raise YamlError(f"{source.path}: this is no YAML: {error}") from None
    if source.faults:
        raise YamlError(source.faults)
    return root


def _refuse_control(source: Source) -> None:
    for number, line in enumerate(source.text.split("\n"), 1):
        found = CONTROL.search(line.rstrip("\r"))
        if found is not None:
            source.fault(Node(number, found.start() + 1), f"a control character (U+{ord(found[0]):04X})", "text")
            raise YamlError(source.faults)


class _Builder:
    def __init__(self, source: Source, events: Iterator[object]) -> None:
        self.source, self.events = source, events

    def document(self) -> Node:
        root: Node | None = None
        for event in self.events:
            name = type(event).__name__
            if name == "DocumentStartEvent":
                if getattr(event, "version", None) or getattr(event, "tags", None):
                    self._refuse(event, "a YAML directive", "no line that begins with %")
            elif name not in ("StreamStartEvent", "StreamEndEvent", "DocumentEndEvent", "CommentEvent"):
                node = self._node(event, 0)
                if root is not None:
                    self._refuse(event, "a second document in the same file", "one document")
                root = root or node
        if root is None:
            raise YamlError([Fault("the file is empty", Origin(self.source.path, 1, 1, self.source.kind), "a mapping")])
        return root

    def _refuse(self, event: object, what: str, expected: str) -> None:
        mark = event.start_mark  # type: ignore[attr-defined]
        self.source.fault(Node(mark.line + 1, mark.column + 1), what, expected)

    def _node(self, event: object, depth: int) -> Node:
        mark = event.start_mark  # type: ignore[attr-defined]
        node = Node(mark.line + 1, mark.column + 1, start=mark.index, end=event.end_mark.index)  # type: ignore[attr-defined]
        node.flow = bool(getattr(event, "flow_style", False))
        name = type(event).__name__
        if depth > MOST_DEPTH:
            raise YamlError([Fault("nested too deeply", self.source.origin(node), f"at most {MOST_DEPTH} levels")])
        if name == "AliasEvent":
            self._refuse(event, "an alias (*)", "the value itself: aliases are not read")
            node.text = ""
            return node
        if getattr(event, "anchor", None):
            self._refuse(event, "an anchor (&)", "the value alone: anchors are not read")
        if getattr(event, "tag", None) and not _implicit(event):
            self._refuse(event, "a tag (!)", "the value alone: tags are not read")
        if name == "ScalarEvent":
            node.text = event.value  # type: ignore[attr-defined]
            node.plain = event.style is None  # type: ignore[attr-defined]
        elif name == "SequenceStartEvent":
            node.items = [self._node(each, depth + 1) for each in self._until("SequenceEndEvent", node)]
        else:
            node.pairs = []
            keys: dict[str, Node] = {}
            for each in self._until("MappingEndEvent", node):
                key = self._node(each, depth + 1)
                value = self._node(next(self.events), depth + 1)
                self._key(key, keys)
                node.pairs.append((key, value))
        if not node.flow and (node.items or node.pairs):  # a block ends with its last part, not before the next token
            node.end = node.items[-1].end if node.items else node.pairs[-1][1].end  # type: ignore[index]
        return node

    def _until(self, end: str, node: Node) -> Iterator[object]:
        for event in self.events:
            if type(event).__name__ == end:
                node.end = event.end_mark.index  # type: ignore[attr-defined]
                return
            yield event

    def _key(self, key: Node, keys: dict[str, Node]) -> None:
        if key.text is None:
            self.source.fault(key, "a key that is no word", "a name and a colon")
            return
        if key.text == "<<":
            self.source.fault(key, "a merge key (<<)", "the keys themselves: merging is not read")
        elif key.text in keys:
            first = keys[key.text]
            self.source.fault(key, f'"{key.text}" stands here twice', f"it once (the first is at line {first.line})")
        keys.setdefault(key.text, key)


def _implicit(event: object) -> bool:
    implicit = getattr(event, "implicit", True)
    return implicit[0] or implicit[1] if isinstance(implicit, tuple) else bool(implicit)


def with_pair(text: str, mapping: Node, key: str, value: str) -> str:
    """The text with `key: value` in one mapping of it: replaced where the key is there, else added behind the others.

    `value` is YAML on one line. Nothing else is touched; a list or mapping that is replaced loses the comments inside it.
    Raises ValueError for a node that is no mapping and not empty.
    """
    known = next((found for each, found in mapping.pairs or [] if each.text == key), None)
    if known is not None:
        if known.text == "" and known.plain:
            return f"{text[: known.start]} {value}{text[known.end :]}"
        return text[: known.start] + value + text[known.end :]
    if not mapping.pairs:
        if mapping.pairs is None and not (mapping.text == "" and mapping.plain):
            raise ValueError(f"{mapping.kind} is no mapping")
        space = "" if mapping.pairs is not None else " "
        return f"{text[: mapping.start]}{space}{{{key}: {value}}}{text[mapping.end :]}"
    if mapping.flow:
        at = mapping.pairs[-1][1].end or mapping.pairs[-1][0].end
        return f"{text[:at]}, {key}: {value}{text[at:]}"
    return _below(text, mapping.pairs[0][0], mapping.end, f"{key}: {value}")


def with_item(text: str, items: Node, value: str) -> str:
    """The text with one more item at the end of a list. Raises ValueError for a node that is no list."""
    if items.items is None:
        raise ValueError(f"{items.kind} is no list")
    if not items.items:
        return f"{text[: items.start]}[{value}]{text[items.end :]}"
    if items.flow:
        at = items.items[-1].end
        return f"{text[:at]}, {value}{text[at:]}"
    first = text.rfind("-", 0, items.items[0].start)
    return _below(text, Node(0, 0, start=first), items.end, f"- {value}")


def _below(text: str, first: Node, last: int, line: str) -> str:
    """A line of its own at the end of a block, with the indent and the line end of its neighbours."""
    begin = text.rfind("\n", 0, first.start) + 1
    indent = text[begin : first.start]
    if indent.strip():  # the block begins behind a dash
        indent = " " * len(indent)
    end = text.find("\n", last)
    at = len(text) if end < 0 else end
    crlf = "\r" if end > 0 and text[end - 1] == "\r" else ""
    return f"{text[: at - len(crlf)]}{crlf}\n{indent}{line}{crlf}{text[at:]}"
