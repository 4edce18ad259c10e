"""Obstacles in words: what stands in somebody's way, and what a person can do about it."""

from __future__ import annotations

from nightlatch.access.differences import Missing
from nightlatch.audit import cause_words
from nightlatch.audit.names import listed
from nightlatch.model.causes import NoServer, PrivateNetwork, RuleLine
from nightlatch.model.obstacles import Blocked, Obstacle, Why
from nightlatch.model.rules import Does, Layer
from nightlatch.model.services import SSH, ServiceWords

FILTER = "let them in there on the guest; rules are drafted where nftables, iptables, ufw or firewalld alone loads them at boot"
ANSWERS = (
    "let out on the guest what it answers them, as by a line for established connections; no rules are drafted for that"
)
PERIMETER = "nightlatch perimeter tells the row that its table lacks; of one that is claimed, say what it lets in today"
BEHIND = "let them in there on the guest; these files are not drafted"
CHANGE = "change it on the guest"
HANDS = {
    Blocked.REFUSED: "put the line right; nothing is drafted for a tree that {program} refuses",
    Blocked.STOPPED: "start it on the guest",
    Blocked.NOT_COLLECTED: "survey the guest again",
    Blocked.NO_ACCOUNT: "make the account on the guest; drafting accounts comes later",
    Blocked.SHUT: "change the account on the guest; drafting accounts comes later",
    Blocked.NO_PASSWORD: "set a password on the guest with passwd",
    Blocked.NO_SUDO: "edit the sudo rules on the guest with visudo; drafting them comes later",
}
PLAIN = {
    Blocked.STOPPED: "{program} does not run",
    Blocked.NOT_COLLECTED: "the files of {title} were not collected",
    Blocked.NO_ACCOUNT: "there is no account {account}",
    Blocked.NO_SOCKET: "no socket of {program} takes callers of their family of addresses",
    Blocked.NO_PASSWORD: "{account} has no password that opens",
    Blocked.PASSWORDS_OFF: "passwords are switched off",
    Blocked.KEYS_OFF: "keys are switched off",
    Blocked.UNLISTED: "no key of theirs is authorised there",
    Blocked.NO_AUTHORITY: "no authority of theirs is trusted there",
    Blocked.MORE: "more is asked than the grant says",
    Blocked.NO_SUDO: "no rule lets {account} run everything as root with what the grant asks",
    Blocked.NARROW: "the way in is narrower than the grant",
    Blocked.PARTLY: "only {power} is open to some of these addresses",
    Blocked.UNEXPLAINED: "no way in gives what is granted",
}
LINES = {
    Why.ENDED: "{program} ends the connection there",
    Why.MAY_NOT: "{account} may not log in there: {cause}",
    Why.KEYS_OFF: "keys are switched off there",
    Why.FROM_ELSEWHERE: "the key line lets it in from elsewhere only",
    Why.TURNED_DOWN: "the key is there, but {cause}",
    Why.OTHER_KEYS: "other keys count there",
    Why.PASSWORDS_OFF: "passwords are switched off there",
    Why.MORE_ASKED: "more is asked there than the grant says",
}
KEPT_OUT = {Does.DROP: "drops it", Does.REJECT: "refuses it", Does.REWRITE: "sends it elsewhere"}


def text(found: Obstacle, missing: Missing, words: ServiceWords) -> str:
    """What stands in the way, in words that follow a colon."""
    cause = found.causes[0]
    match found.by:
        case Blocked.NO_SERVICE:
            return f"there is no {words.title} server"
        case Blocked.REFUSED:
            return f"{words.program} does not start: {cause_words.words(cause)}"
        case Blocked.FILTER:
            assert isinstance(cause, RuleLine)
            return _rule(cause, found.port)
        case Blocked.NO_WAY:
            assert isinstance(cause, PrivateNetwork)
            return f"it sits on {cause.network}, whose addresses mean nothing outside, and no forward leads to it"
        case Blocked.SHUT:
            return f"{missing.grant.account} may not log in: {cause_words.words(cause)}"
        case Blocked.TURNED_DOWN:
            return f"the key is there, but {cause_words.words(cause)}"
        case Blocked.LESS:
            return f"the login gives only {listed(str(power) for power in found.given)}"
    pattern = LINES[found.why] if found.why is not None else PLAIN[found.by]
    return pattern.format(
        account=missing.grant.account, power=missing.power, cause=cause_words.words(cause), program=words.program,
        title=words.title,
    )  # fmt: skip


def _rule(cause: RuleLine, port: int) -> str:
    if cause.layer is Layer.PERIMETER:
        return f"{cause.name} keeps it out"
    if cause.layer is Layer.WRAPPER:
        return "libwrap turns its callers away"
    if cause.layer is Layer.UNIT:
        return f"the service manager drops what comes for {cause.name}"
    if not cause.sure:
        return f"the packet filter keeps it from port {port}, by this rule or by one behind it"
    if cause.answers:
        return f"the packet filter drops what the guest answers from port {port}"
    return f"the packet filter {KEPT_OUT[cause.does]} on its way to port {port}"


def hand(found: Obstacle, guest: str, words: ServiceWords) -> str:
    """What a person can do about it."""
    cause = found.causes[0]
    if isinstance(cause, NoServer):
        own = f"run there what nightlatch draft --script --on {guest} prints"
        return own if words == SSH else f"install a server of {words.title} on the guest, and start it"
    if isinstance(cause, RuleLine):
        if cause.layer is Layer.FILTER:
            return ANSWERS if cause.answers else FILTER
        return PERIMETER if cause.layer is Layer.PERIMETER else BEHIND
    if isinstance(cause, PrivateNetwork):
        return f"add a forward under {cause.network} in the estate file, once there is one"
    return HANDS.get(found.by, CHANGE).format(program=words.program)
