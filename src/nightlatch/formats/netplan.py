"""netplan's YAML: parse, merge, render (netplan(5)).

Lossless: `render(parse(b)) == b`. Files are merged as netplan merges them (netplan(5); judged by netplan get): of files
with one name the one in /run hides that in /etc, which hides that in /lib; the rest are read in the order of their names;
mappings are joined, later scalars win, lists are joined.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import lru_cache

from nightlatch.faults import Fault
from nightlatch.formats.yaml_tree import Node, Source, YamlError
from nightlatch.formats.yaml_tree import parse as parse_yaml
from nightlatch.origin import Origin

KINDS = tuple(
    """
    ethernets wifis bridges bonds vlans tunnels modems vrfs dummy-devices virtual-ethernets
""".split()
)
FOLDERS = ("/lib/netplan", "/usr/lib/netplan", "/etc/netplan", "/run/netplan")  # a later one hides a former one's files
TRUE = ("true", "yes", "on", "y")
LONGEST = 32 << 10  # bytes: reading YAML takes about 20 ms for 1,000, and a guest wrote it
ANEW = ("link-local",)  # a list that a later file says anew, where others grow (measured: netplan get, 0.106)
FALSE = ("false", "no", "off", "n")


@dataclass(frozen=True)
class Document:
    """One file. `root` is None when it can't be read; `faults` say why, with line and column, or it is `too_long`."""

    path: str
    raw: bytes
    root: Node | None = None
    faults: tuple[Fault, ...] = ()
    too_long: bool = False


@dataclass
class Tree:
    """A part of the merged configuration: a text, a list or a mapping, with the place that said it last."""

    origin: Origin
    text: str | None = None
    items: list[Tree] | None = None
    pairs: dict[str, Tree] | None = None
    places: list[Origin] = field(default_factory=list)

    def get(self, *keys: str) -> Tree | None:
        """The part below some keys, or None."""
        here: Tree | None = self
        for key in keys:
            here = here.pairs.get(key) if here is not None and here.pairs is not None else None
        return here

    def word(self, *keys: str) -> str:
        """The text below some keys, or an empty one."""
        found = self.get(*keys)
        return found.text or "" if found is not None else ""

    def flag(self, *keys: str) -> bool | None:
        """A truth value below some keys; None where nothing, or no truth value, is said."""
        word = self.word(*keys).lower()
        return True if word in TRUE else False if word in FALSE else None


def render(document: Document) -> bytes:
    """The bytes of the file."""
    return document.raw


@lru_cache(maxsize=1024)
def parse(raw: bytes, path: str) -> Document:
    """The document of any byte string."""
    if len(raw) > LONGEST:
        return Document(path, raw, too_long=True)
    try:
        text = raw.decode("utf-8")
    except UnicodeDecodeError as error:
        line = raw.count(b"\n", 0, error.start) + 1
        column = error.start - raw.rfind(b"\n", 0, error.start)
        return Document(path, raw, None, (Fault("a byte that is not UTF-8", Origin(path, line, column), "UTF-8 text"),))
    if not _says_something(text):
        return Document(path, raw)
    try:
        root = parse_yaml(Source(path, text))
    except YamlError as error:
        return Document(path, raw, None, error.faults)
    if root.pairs is None or [key.text for key, _ in root.pairs] != ["network"]:
        wrong = next((key for key, _ in root.pairs or [] if key.text != "network"), root)
        return Document(path, raw, None, (Fault(f"{wrong.kind} at the top", Origin(path, wrong.line, wrong.column), "network:"),))
    return Document(path, raw, root)


def _says_something(text: str) -> bool:
    return any(line.strip() and not line.lstrip().startswith("#") and line.strip() != "---" for line in text.split("\n"))


def in_order(paths: Iterable[str]) -> list[str]:
    """The files that count, in the order in which they are read: by name, whatever folder they stand in."""
    names: dict[str, str] = {}
    for folder in FOLDERS:
        for path in paths:
            above, _, name = path.rpartition("/")
            if above == folder and name.endswith(".yaml"):
                names[name] = path
    return [names[name] for name in sorted(names)]


def merged(documents: Iterable[Document]) -> Tree | None:
    """All files as one configuration, what stands under `network`; None when no file says anything."""
    out: Tree | None = None
    for document in documents:
        root = document.root
        if root is None or not root.pairs:
            continue
        made = _tree(root.pairs[0][1], document.path)
        out = made if out is None else _join(out, made)
    return out


def _tree(node: Node, path: str) -> Tree:
    origin = Origin(path, node.line, node.column)
    if node.items is not None:
        return Tree(origin, items=[_tree(item, path) for item in node.items])
    if node.pairs is not None:
        pairs = {}
        for key, value in node.pairs:
            made = _tree(value, path)
            made.places.append(Origin(path, key.line, key.column))
            pairs[key.text or ""] = made
        return Tree(origin, pairs=pairs)
    return Tree(origin, text=node.text)


def _join(a: Tree, b: Tree) -> Tree:
    if a.pairs is not None and b.pairs is not None:
        both = dict(a.pairs)
        for key, value in b.pairs.items():
            both[key] = _join(both[key], value) if key in both and key not in ANEW else value
        return Tree(a.origin, pairs=both, places=a.places + b.places)
    if a.items is not None and b.items is not None:
        told = {repr(_plain(item)) for item in a.items}
        more = [item for item in b.items if repr(_plain(item)) not in told]
        return Tree(a.origin, items=a.items + more, places=a.places + b.places)
    return b


def _plain(tree: Tree) -> object:
    if tree.items is not None:
        return [_plain(item) for item in tree.items]
    if tree.pairs is not None:
        return {key: _plain(value) for key, value in tree.pairs.items()}
    return tree.text


def plain(tree: Tree | None) -> object:
    """The merged configuration as plain lists, mappings and texts."""
    return None if tree is None else _plain(tree)


def definitions(tree: Tree | None) -> Mapping[str, tuple[str, Tree]]:
    """Every interface by its id, with its kind."""
    out: dict[str, tuple[str, Tree]] = {}
    for kind in KINDS:
        group = tree.get(kind) if tree is not None else None
        for name, value in (group.pairs or {}).items() if group is not None else ():
            out[name] = (kind, value)
    return out
