"""Causes in words: a few for each place, as the evidence beside a finding shows them."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime

from nightlatch.audit.findings import Proof
from nightlatch.formats.sshd_keywords import spelled
from nightlatch.model.causes import (
    AccountLine,
    AccountState,
    Cause,
    Chroot,
    Condition,
    Dialled,
    Effect,
    ForwardHop,
    GrantSentence,
    KeyLine,
    KeysPlace,
    ListenAddress,
    LockedOut,
    NoAccount,
    NoFilter,
    NoLogin,
    NoServer,
    NoSudoRule,
    NotListening,
    NotRunning,
    OtherHostKey,
    PamEnd,
    PamSays,
    PasswordField,
    PrincipalLine,
    PrivateNetwork,
    RefusedKey,
    RuleLine,
    SessionProgram,
    SettingLine,
    SudoRule,
    Translated,
    UnusableFile,
    UserList,
)
from nightlatch.model.gaps import Gap

STATES = {
    Condition.LOCKED: "the account is locked (! in shadow), and sshd runs without PAM",
    Condition.EXPIRED: "the account has expired",
    Condition.EXPIRED_OR_PASSWORD: "the account or its password has expired",
    Condition.NO_PASSWORD: "no password set",
    Condition.PASSWORD_DUE: "the password has to be changed before anything else",
    Condition.NO_GROUP: "the account is in no group",
    Condition.NO_SHELL: "the shell {shell} does not exist",
    Condition.SHELL_NOT_RUN: "the shell {shell} can't be run",
    Condition.NO_LOGIN_SHELL: "the shell {shell} ends every session at once",
}
PAM = {PamSays.REFUSED: "PAM refuses the account", PamSays.ANY_PASSWORD: "PAM lets in whatever password is typed"}


def proof(cause: Cause) -> Proof:
    """A cause as a line of evidence."""
    return Proof(words(cause), cause.origin)


def proofs(causes: Iterable[Cause]) -> tuple[Proof, ...]:
    """Causes as lines of evidence, each once, in their order."""
    return tuple(dict.fromkeys(map(proof, causes)))


def words(cause: Cause) -> str:
    """A cause in a few words; no sentence."""
    match cause:
        case SettingLine(keyword, value):
            return f"{spelled(keyword)} {value}"
        case UserList():
            return _listing(cause)
        case KeyLine(fingerprint, kind, comment, authority):
            name = f"{kind} key {comment or fingerprint}"
            return f"authority {name}" if authority else name
        case PrincipalLine(principal):
            return f"principal {principal}"
        case AccountState(state):
            return STATES[state].format(shell=cause.shell)
        case NoLogin(origin):
            return f"{origin.path} lets only root in"
        case PamEnd(says):
            return PAM[says]
        case Chroot(folder, because):
            return f"ChrootDirectory {folder}: {because}"
        case SudoRule():
            return _sudo(cause)
        case ForwardHop(dialled, port, seen_as):
            hidden = f", where all callers are seen as {seen_as}" if seen_as else ""
            return f"forward from {dialled} to port {port}{hidden}"
        case RefusedKey() | Gap():
            return cause.because
        case UnusableFile(path, because):
            return f"{path}: {because}"
        case SessionProgram(program):
            return f"the session is {program}"
    return _link(cause) or _obstacle(cause)


def _link(cause: Cause) -> str:
    """The words of what lets somebody on, or stands in the way for a while."""
    match cause:
        case AccountLine(account, shell):
            return f"{account}, shell {shell or '/bin/sh'}"
        case Dialled(where, network):
            return (f"dialled at {where}" if where else "reached directly") + (f", on {network} only" if network else "")
        case NoFilter():
            return "no packet filter"
        case Translated(place, seen_as):
            return f"{place} is seen as {seen_as}"
        case NotListening(program, port):
            return f"{program} does not listen on port {port}"
        case NotRunning(program):
            return f"{program} does not run"
        case LockedOut(_, failures, until):
            ends = f"until {datetime.fromtimestamp(until, UTC):%Y-%m-%d %H:%M} UTC" if until else "until somebody resets it"
            return f"{failures} wrong passwords: no password is taken {ends}"
        case OtherHostKey(kind, fingerprint):
            return f"it has {kind} {fingerprint}, which is not pinned"
    return ""


def _obstacle(cause: Cause) -> str:
    """The words of an obstacle's cause."""
    match cause:
        case NoServer():
            return "not installed"
        case NoAccount(account):
            return f"no line for {account}"
        case NoSudoRule(account):
            return f"no rule lets {account} run everything as root with what the grant asks"
        case RuleLine(text):
            return text
        case ListenAddress(where):
            return f"listens on {where}"
        case PrivateNetwork(network):
            return f"{network} is private"
        case PasswordField(value):
            return f"password field {value}"
        case KeysPlace():
            return "keys are looked for here"
        case GrantSentence():
            return "granted here"
    raise AssertionError(cause)


def _listing(cause: UserList) -> str:
    name = spelled(cause.keyword)
    if cause.effect is Effect.NAMED_ELSEWHERE:
        return f"{name} names it for other addresses"
    if cause.effect is Effect.LEFT_OUT:
        return f"{name} names none of its groups" if "group" in cause.keyword else f"{name} does not name it"
    return name


def _sudo(cause: SudoRule) -> str:
    if not cause.command:
        return "sudo lets it run any command as root"
    return f"sudo lets {cause.account} run {cause.command[:80]} as root, which can be led to run any command"
