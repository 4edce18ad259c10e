"""One form for the rules of every packet filter: base chains with hooks, chains, rules, what they match, what they do.

Made by a front end (readings/filters/nftables.py), evaluated by access/verdicts.py. A part of a match that a front end can't read
is kept as its text in `unread`: the rule then matches perhaps. What is matched is a connection of a caller to one port: its first
packet and those that follow, rates not used up. Chains that answers to the caller meet are read a second time for that, with
the caller where a packet goes to.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace

from nightlatch.model.gaps import Gap
from nightlatch.model.rules import Layer, RuleAction
from nightlatch.net.addresses import EVERY_ADDRESS, AddressSet
from nightlatch.net.ports import PortSet
from nightlatch.origin import Origin

STATES = frozenset(("new", "established", "invalid"))
INWARD, OUTWARD = ("ingress", "prerouting", "input"), ("output", "postrouting", "egress")


@dataclass(frozen=True, slots=True)
class Match:
    """What all must hold. None says nothing of that part.

    `rewritten` says whether the packet must have been sent here from another address or port. `states` are those of the
    connection that the packet may belong to (STATES), `opening` whether it must be the one that opens it. `astray` says that
    callers are answered by another interface than they came in by. `interfaces` are names by which the packet comes in (with
    `*` at an end), `but` says that it must be none of them; `unread` are texts that were not understood."""

    sources: AddressSet = EVERY_ADDRESS
    targets: AddressSet | None = None
    protocols: frozenset[str] | None = None
    ports: PortSet | None = None
    interfaces: tuple[str, ...] | None = None
    but: bool = False
    astray: bool = False
    rewritten: bool | None = None
    states: frozenset[str] | None = None
    opening: bool | None = None
    unread: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Redirect:
    """Where a packet is sent instead: an address and a port; None leaves that as it is."""

    target: AddressSet | None = None
    port: int | None = None


@dataclass(frozen=True, slots=True)
class Rule:
    """One rule: where one of `matches` holds (none: it never matches), `does` is done; `to` is the chain of a
    jump, `onto` the new end of what is rewritten (None: not known). `text` is for people."""

    matches: tuple[Match, ...]
    does: RuleAction
    origin: Origin
    text: str = ""
    to: str = ""
    onto: Redirect | None = None


@dataclass(frozen=True, slots=True)
class Chain:
    """A chain under its key (family, table and name). A base chain has a hook, a priority and a policy; one at ingress or egress
    the devices whose packets it sees."""

    key: str
    rules: tuple[Rule, ...]
    origin: Origin
    hook: str = ""
    priority: int = 0
    accepts: bool = True
    kind: str = "filter"
    only: AddressSet = EVERY_ADDRESS
    devices: tuple[str, ...] = ()


@dataclass(frozen=True, eq=False)
class Rules:
    """A whole rule set; equal to itself only, so that what is worked out of it can be kept. `chains` are by key; `gaps` what
    was not read at all, so that everything is undecided; `answers` the chains that a guest's answers meet, in which `sources`
    of a match are those that are answered, `ports` and `targets` the guest's own. Of any `layer` but the packet filter the one
    chain's key is what the layer is called."""

    chains: dict[str, Chain] = field(default_factory=dict)
    gaps: tuple[Gap, ...] = ()
    answers: dict[str, Chain] = field(default_factory=dict)
    layer: Layer = Layer.FILTER

    def reached(self, key: str, besides: str) -> Iterator[Rule]:
        """The rules of a chain and of those that it leads to; each chain once, and none that is called `besides`."""
        seen, waiting = {key}, [key]
        while waiting:
            chain = self.chains.get(waiting.pop())
            for rule in chain.rules if chain is not None else ():
                yield rule
                if rule.to and rule.to not in seen and not rule.to.endswith(f" {besides}"):
                    seen.add(rule.to)
                    waiting.append(rule.to)

    def at(self, *hooks: str) -> tuple[Chain, ...]:
        """The base chains of these hooks, in the order in which a packet meets them: of the same priority the one that came
        last goes first (measured: Linux 6.18, nf_hook_entries_grow)."""
        found = [chain for chain in reversed(self.chains.values()) if chain.hook in hooks]
        return tuple(sorted(found, key=lambda chain: (hooks.index(chain.hook), chain.priority)))


def answering(chains: dict[str, Chain], read: Callable[[str], Sequence[Rule]]) -> dict[str, Chain]:
    """The base chains that answers of the guest meet on their way out, and all that they lead to, by their rules as `read` has
    them for that. Those that let everything go on are left out."""
    out: dict[str, Chain] = {}
    bases = [key for key, chain in chains.items() if chain.hook in OUTWARD and chain.kind != "nat"]
    left = [key for key in bases if chains[key].rules or not chains[key].accepts]
    while left:
        key = left.pop(0)
        if key in chains and key not in out:
            out[key] = replace(chains[key], rules=tuple(read(key)))
            left += [rule.to for rule in out[key].rules if rule.to]
    return out
