"""`through:` of a grant: the login by SSH whose tunnel leads to the service, and no other way."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from nightlatch.estate import reader
from nightlatch.formats.yaml_tree import Node, Source
from nightlatch.model.services import SSH, ServiceWords

Proofs = tuple[tuple[str, ...], ...]
LATER = {"only": "a login that gives nothing but a tunnel comes later; without it, a shell is granted on the way"}


@dataclass(frozen=True, slots=True)
class ThroughSpec:
    """The login on the way: as which `account` (empty: the person's own), and its proofs."""

    guest: str
    account: str
    proofs: Proofs


def through(
    source: Source, node: Node | None, what: str, by: ServiceWords, into: tuple[str, ...], proofs_of: Callable[[Node], Proofs]
) -> ThroughSpec | None:
    """What stands there; `proofs_of` reads what stands after `with`."""
    if node is None:
        return None
    if by == SSH:
        source.fault(node, f"{what} says through, and ssh through a guest comes later", "no through:")
        return None
    if node.pairs is None:
        source.fault(node, f"through is {node.kind}", "through: {ssh: GUEST, with: key}")
        return None
    found = reader.section(source, node, "through", ("ssh", "as", "with"), LATER, ("ssh", "with"))
    if not {"ssh", "with"} <= found.keys():
        return None
    guest = reader.text(source, found["ssh"], "ssh")
    if guest and into and set(into) != {guest}:
        source.fault(
            found["ssh"],
            f"{what} goes through {guest}, and into {', '.join(into)}",
            f"{into[0]}: ways through another guest come later",
        )
    account = reader.text(source, found["as"], "as") if "as" in found else ""
    return ThroughSpec(guest, account, proofs_of(found["with"]))
