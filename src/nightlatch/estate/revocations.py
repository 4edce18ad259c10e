"""`revoked`: the file of keys and certificates that open nothing any more, on any guest."""

from __future__ import annotations

from pathlib import Path

from nightlatch.estate import reader
from nightlatch.estate.model import Revocations
from nightlatch.formats import krl
from nightlatch.formats.krl import KrlFault
from nightlatch.formats.yaml_tree import Node, Source

LARGEST = 1 << 20
EXPECTED = "a list as nightlatch key revoke writes it, or public keys, one on a line"


def revocations(source: Source, node: Node, folder: Path) -> Revocations | None:
    """The list that a node names, relative to the estate file; None after a fault."""
    value = reader.text(source, node, "a list of revoked keys")
    if not value:
        return None
    try:
        with (folder / value).open("rb") as stream:
            raw = stream.read(LARGEST + 1)
        if len(raw) > LARGEST:
            source.fault(node, f"{value} is larger than a list of revoked keys may be (1 MiB)", EXPECTED)
            return None
        found = krl.read(raw)
    except OSError as error:
        source.fault(node, f"{value} can't be read: {error.strerror}", f"{EXPECTED}, counted from {folder}")
        return None
    except KrlFault as error:
        source.fault(node, f"{value}: {error}", EXPECTED)
        return None
    if not raw.startswith(krl.MAGIC) and not found.fingerprints:
        source.fault(node, f"{value} holds no key", EXPECTED)
        return None
    return Revocations(raw, found, source.origin(node))
