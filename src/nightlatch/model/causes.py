"""Causes: why a way in is open, shut or undecided, each a value with its place. Sentences are made of them later.

Code that has to know what a cause is asks for its type and its fields, never for its words.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from nightlatch.model.gaps import Gap
from nightlatch.model.rules import Layer, RuleAction
from nightlatch.origin import Origin


@dataclass(frozen=True, slots=True)
class SettingLine:
    """The value of a service's setting. `keyword` is in small letters for sshd, as the manual spells it for others; `value` as it
    counts."""

    keyword: str
    value: str
    origin: Origin


class Effect(StrEnum):
    """The effect of a list of users or groups on an account."""

    NAMED = "named"
    LEFT_OUT = "left out"
    NAMED_ELSEWHERE = "named for other addresses"


@dataclass(frozen=True, slots=True)
class UserList:
    """A setting that lists users or groups (`keyword` in small letters), and what that does to an account."""

    keyword: str
    effect: Effect
    origin: Origin


@dataclass(frozen=True, slots=True)
class KeyLine:
    """A line that authorises a key, or an authority that signs certificates. `comment` is what the line calls it."""

    fingerprint: str
    kind: str
    comment: str
    authority: bool
    origin: Origin


@dataclass(frozen=True, slots=True)
class PrincipalLine:
    """A line that names a principal of certificates."""

    principal: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class RefusedKey:
    """A key that stands in a file and is not accepted. `because` is for people."""

    because: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class UnusableFile:
    """A file that a service or a session needs and can't use. `because` is for people."""

    path: str
    because: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class SessionProgram:
    """The program that a session lasts as long as, and where it is named."""

    program: str
    origin: Origin


class Condition(StrEnum):
    """The conditions that an account can be in."""

    LOCKED = "locked"
    EXPIRED = "expired"
    EXPIRED_OR_PASSWORD = "expired, or with an expired password"
    NO_PASSWORD = "without a password"
    PASSWORD_DUE = "its password has to be changed first"
    NO_GROUP = "in no group"
    NO_SHELL = "its shell does not exist"
    SHELL_NOT_RUN = "its shell can't be run"
    NO_LOGIN_SHELL = "its shell ends every session"


@dataclass(frozen=True, slots=True)
class AccountState:
    """The condition of an account; `shell` where that is its shell's."""

    state: Condition
    origin: Origin
    shell: str = ""


@dataclass(frozen=True, slots=True)
class AccountLine:
    """An account that is there, with its shell."""

    account: str
    shell: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class NoLogin:
    """The file that lets only root log in (nologin(5))."""

    origin: Origin


class PamSays(StrEnum):
    """How a stack of PAM ends."""

    REFUSED = "refused"
    ANY_PASSWORD = "whatever password is typed lets in"


@dataclass(frozen=True, slots=True)
class PamEnd:
    """The line of a stack of PAM that decides, and how."""

    says: PamSays
    origin: Origin


@dataclass(frozen=True, slots=True)
class Chroot:
    """A root folder of sessions that a service does not take. `because` is for people."""

    folder: str
    because: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class SudoRule:
    """A rule that gives root's rights: for any command, or for one (`command`) that can be led to run any."""

    account: str
    command: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class ForwardHop:
    """A forward on the way. `dialled` is what callers dial; `seen_as` the one address as which the guest sees them all."""

    dialled: str
    to_port: int
    seen_as: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class Dialled:
    """Where a guest is dialled: a name or an address, and the network on which it means something (empty for the common one)."""

    where: str
    network: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class NoFilter:
    """That no packet filter of the guest's own counts; `origin` is where one was looked for."""

    origin: Origin


@dataclass(frozen=True, slots=True)
class Translated:
    """A place behind an address translation of its own, and the addresses that it shows."""

    place: str
    seen_as: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class NotListening:
    """A port on which no server of a service (`program`) listens."""

    program: str
    port: int
    origin: Origin


@dataclass(frozen=True, slots=True)
class NotRunning:
    """A server that does not run just now."""

    program: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class LockedOut:
    """An account that takes no password for a while after wrong ones: `until` in seconds since 1970, 0 for until it is reset."""

    account: str
    failures: int
    until: int
    origin: Origin


@dataclass(frozen=True, slots=True)
class OtherHostKey:
    """A host key of a guest that the estate does not have of it."""

    kind: str
    fingerprint: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class NoServer:
    """A service (`title`) of which there is no server; `origin` is where its program would be."""

    title: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class NoAccount:
    """An account that is not there."""

    account: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class RuleLine:
    """A rule of a packet filter, or of what stands behind one, that keeps callers out. `name` is the chain or unit that it is
    looked up by; `answers` says that it drops what the guest answers, and not `sure` that a rule behind it may decide as well."""

    text: str
    layer: Layer
    name: str
    does: RuleAction
    sure: bool
    answers: bool
    origin: Origin


@dataclass(frozen=True, slots=True)
class ListenAddress:
    """Where a server listens: an address, or all of a family."""

    where: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class PrivateNetwork:
    """A network whose addresses mean nothing outside."""

    network: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class PasswordField:
    """The entry in place of an account's password, where it opens nothing."""

    value: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class KeysPlace:
    """The file in which an account's keys are looked for."""

    origin: Origin


@dataclass(frozen=True, slots=True)
class NoSudoRule:
    """The rules of sudo, none of which makes an account root."""

    account: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class GrantSentence:
    """The sentence of a grant."""

    origin: Origin


Cause = (
    NoServer
    | AccountLine
    | Dialled
    | NoFilter
    | Translated
    | NotListening
    | NotRunning
    | OtherHostKey
    | LockedOut
    | NoAccount
    | RuleLine
    | ListenAddress
    | PrivateNetwork
    | PasswordField
    | KeysPlace
    | NoSudoRule
    | GrantSentence
    | SettingLine
    | UserList
    | KeyLine
    | PrincipalLine
    | RefusedKey
    | UnusableFile
    | SessionProgram
    | AccountState
    | NoLogin
    | PamEnd
    | Chroot
    | SudoRule
    | ForwardHop
    | Gap
)
