"""Obstacles in words, and what a person can do about each."""

from __future__ import annotations

from nightlatch.access.differences import ShutOut
from nightlatch.audit import cause_words
from nightlatch.audit.names import listed
from nightlatch.model.causes import NoServer, PrivateNetwork, RuleLine
from nightlatch.model.obstacles import Obstacle, ObstacleKind, Why
from nightlatch.model.rules import Layer, RuleAction
from nightlatch.model.services import SSH, ServiceWords

FILTER = "let them in there on the guest; rules are drafted where nftables, iptables, ufw or firewalld alone loads them at boot"
ANSWERS = "let out on the guest what it answers them, as by a line for established connections; no rules are drafted for that"
PERIMETER = "nightlatch perimeter tells the row that its table lacks; of one that is claimed, say what it lets in today"
BEHIND = "let them in there on the guest; these files are not drafted"
CHANGE = "change it on the guest"
HANDS = {
    ObstacleKind.REFUSED: "put the line right; nothing is drafted for a tree that {program} refuses",
    ObstacleKind.STOPPED: "start it on the guest",
    ObstacleKind.NOT_COLLECTED: "survey the guest again",
    ObstacleKind.NO_PROOF: "give them another key in the estate file, or end the grant there",
    ObstacleKind.NO_ACCOUNT: "make it there: a draft does where its name, its group and its folder are free",
    ObstacleKind.SHUT: "change the account on the guest",
    ObstacleKind.NO_PASSWORD: "set a password on the guest with passwd",
    ObstacleKind.NO_SCREEN: "start a server that shows it, or grant the screen of another account with as:",
    ObstacleKind.NO_TUNNEL: "let it open tunnels there: AllowTcpForwarding local, and PermitOpen with localhost and the port",
    ObstacleKind.ON_THE_WAY: "see what keeps the login by ssh out; it is told by itself",
    ObstacleKind.NO_SESSION: "mend what it names; what the session said before it ended stands in its ~/.xsession-errors",
    ObstacleKind.UNSEALED: "give {program} a key and a certificate that its account can read, and ask for tls in its settings",
    ObstacleKind.NO_SUDO: "edit the sudo rules on the guest with visudo",
}
PLAIN = {
    ObstacleKind.STOPPED: "{program} does not run",
    ObstacleKind.NOT_COLLECTED: "the files of {title} were not collected",
    ObstacleKind.NO_PROOF: "no key of theirs in the estate file counts any more, each has ended or is revoked",
    ObstacleKind.NO_ACCOUNT: "there is no account {account}",
    ObstacleKind.NO_SOCKET: "no socket of {program} takes callers of their family of addresses",
    ObstacleKind.NO_SCREEN: "no server of {title} shows the screen of {account}",
    ObstacleKind.NO_TUNNEL: "the login by ssh on the way opens no tunnel to it: {cause}",
    ObstacleKind.ON_THE_WAY: "the login by ssh on the way does not come through",
    ObstacleKind.NO_PASSWORD: "{account} has no password that opens",
    ObstacleKind.PASSWORDS_OFF: "passwords are switched off",
    ObstacleKind.KEYS_OFF: "keys are switched off",
    ObstacleKind.UNLISTED: "no key of theirs is authorised there",
    ObstacleKind.NO_AUTHORITY: "no authority of theirs is trusted there",
    ObstacleKind.MORE: "more is asked than the grant says",
    ObstacleKind.NO_SUDO: "no rule lets {account} run everything as root with what the grant asks",
    ObstacleKind.NARROW: "the way in is narrower than the grant",
    ObstacleKind.PARTLY: "only {power} is open to some of these addresses",
    ObstacleKind.UNEXPLAINED: "no way in gives what is granted",
}
LINES = {
    Why.ENDED: "{program} ends the connection there",
    Why.MAY_NOT: "{account} may not log in there: {cause}",
    Why.KEYS_OFF: "keys are switched off there",
    Why.FROM_ELSEWHERE: "the key line lets it in from elsewhere only",
    Why.REJECTED: "the key is there, but {cause}",
    Why.OTHER_KEYS: "other keys count there",
    Why.PASSWORDS_OFF: "passwords are switched off there",
    Why.MORE_ASKED: "more is asked there than the grant says",
}
KEPT_OUT = {RuleAction.DROP: "drops it", RuleAction.REJECT: "refuses it", RuleAction.REWRITE: "sends it elsewhere"}


def text(found: Obstacle, missing: ShutOut, words: ServiceWords) -> str:
    """The obstacle in words that follow a colon."""
    cause = found.causes[0]
    match found.by:
        case ObstacleKind.NO_SERVICE:
            return f"there is no {words.title} server"
        case ObstacleKind.REFUSED:
            return f"{words.program} does not start: {cause_words.words(cause)}"
        case ObstacleKind.FILTER:
            assert isinstance(cause, RuleLine)
            return _rule(cause, found.port)
        case ObstacleKind.NO_WAY:
            assert isinstance(cause, PrivateNetwork)
            return f"it sits on {cause.network}, whose addresses mean nothing outside, and no forward leads to it"
        case ObstacleKind.SHUT:
            return f"{missing.grant.account} may not log in: {cause_words.words(cause)}"
        case ObstacleKind.NO_SESSION:
            return f"a login as {missing.grant.account} ends at once: {cause_words.words(cause)}"
        case ObstacleKind.UNSEALED:
            return f"{words.title} is not served over {missing.grant.seal.words}: {cause_words.words(cause)}"
        case ObstacleKind.REJECTED:
            return f"the key is there, but {cause_words.words(cause)}"
        case ObstacleKind.LESS:
            return f"the login gives only {listed(str(power) for power in found.given)}"
    pattern = LINES[found.why] if found.why is not None else PLAIN[found.by]
    return pattern.format(
        account=missing.grant.account,
        power=missing.power,
        cause=cause_words.words(cause),
        program=words.program,
        title=words.title,
    )


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
    """The advice for a person."""
    cause = found.causes[0]
    if isinstance(cause, NoServer) and found.by is not ObstacleKind.NO_SCREEN:
        own = f"run there what nightlatch draft --script --on {guest} prints"
        return own if words == SSH else f"install a server of {words.title} on the guest, and start it"
    if isinstance(cause, RuleLine):
        if cause.layer is Layer.FILTER:
            return ANSWERS if cause.answers else FILTER
        return PERIMETER if cause.layer is Layer.PERIMETER else BEHIND
    if isinstance(cause, PrivateNetwork):
        return f"add a forward under {cause.network} in the estate file, once there is one"
    return HANDS.get(found.by, CHANGE).format(program=words.program)
