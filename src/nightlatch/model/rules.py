"""The actions of packet filter rules, and the layers where a filter may stand."""

from __future__ import annotations

from enum import Enum, StrEnum


class RuleAction(Enum):
    """The action of a rule on the packets that it matches."""

    NOTHING = "goes on"
    ACCEPT = "accept"
    DROP = "drop"
    REJECT = "reject"
    RETURN = "return"
    JUMP = "jump"
    GOTO = "goto"
    REWRITE = "rewrites addresses"
    UNKNOWN = "is not read"
    REFUSED = "is refused, with all that stands beside it"


class Layer(StrEnum):
    """What holds a rule set: a guest's packet filter, the filter around guests, or what a service's callers alone meet."""

    FILTER = "packet filter"
    PERIMETER = "perimeter"
    WRAPPER = "libwrap"
    UNIT = "unit"
