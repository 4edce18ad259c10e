"""The estate file's text as a tree of nodes; what is wrong with it is the estate's error."""

from __future__ import annotations

from nightlatch.faults import EstateError
from nightlatch.formats import yaml_tree
from nightlatch.formats.yaml_tree import Node, Source
from nightlatch.origin import Kind


def source(path: str, text: str) -> Source:
    """The estate file, for messages."""
    return Source(path, text, Kind.ESTATE)


def parse(file: Source) -> Node:
    """The root node. Raises EstateError."""
    try:
        return yaml_tree.parse(file)
    except yaml_tree.YamlError as error:
        raise EstateError(error.faults) from None
