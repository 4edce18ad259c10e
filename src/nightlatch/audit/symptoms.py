"""From what people see to what it comes from: each suspicion held against the links of the chains, the likeliest first.

A suspicion that a link bears out is confirmed by its place; one whose link holds is ruled out; the rest stays possible, with
the next look that tells. Measured: no listener, a listener on the loopback only and a filter that rejects look alike; a filter
that drops gives silence.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from enum import StrEnum

from nightlatch.access.chains import Chain
from nightlatch.access.holdings import holdings
from nightlatch.access.paths import GuestAccess
from nightlatch.estate.model import Estate
from nightlatch.model.causes import (
    AccountState,
    Cause,
    Chroot,
    Dialled,
    KeyLine,
    KeysPlace,
    ListenAddress,
    NoAccount,
    NoLogin,
    NoServer,
    NotListening,
    OtherHostKey,
    PamEnd,
    PasswordField,
    RefusedKey,
    RuleLine,
    SettingLine,
    UnusableFile,
    UserList,
)
from nightlatch.model.gaps import Gap
from nightlatch.model.links import Holds, LinkKind
from nightlatch.model.rules import Layer, RuleAction
from nightlatch.net.literal import address_or_none
from nightlatch.origin import Origin


class Symptom(StrEnum):
    """What somebody sees who tries to get in."""

    REFUSED = "refused"
    TIMES_OUT = "times out"
    CLOSES = "closes at once"
    SESSION_ENDS = "session ends"
    ASKS_PASSWORD = "asks for a password"
    DENIED = "permission denied"
    HOST_KEY = "host key changed"
    NO_NAME = "name not known"


class Borne(StrEnum):
    """How a suspicion stands against the evidence."""

    CONFIRMED = "confirmed"
    POSSIBLE = "possible"
    RULED_OUT = "ruled out"


@dataclass(frozen=True, slots=True)
class Suspicion:
    """One thing that the symptom may come from, how it stands, the causes that bear it out, and the next look."""

    text: str
    stands: Borne
    causes: tuple[Cause, ...]
    look: str


@dataclass(frozen=True)
class Scene:
    """What suspicions are held against: a guest with the chains that were asked about."""

    estate: Estate
    access: GuestAccess
    chains: tuple[Chain, ...]


Found = tuple[Borne, tuple[Cause, ...]]
Test = Callable[[Scene], Found]
CONSOLE = "at its console"
LISTENERS, FILTERS = f"{CONSOLE}: ss -Hltn", f"{CONSOLE}: nft list ruleset; then the filter outside"
PASSWORDS = ("passwordauthentication", "kbdinteractiveauthentication")
LOG = f"{CONSOLE}: journalctl -t sshd -n 50"
SCREEN_LOG = f"{CONSOLE}: tail /var/log/xrdp.log"
SESSION_LOG = f"{CONSOLE}: tail ~{{account}}/.xsession-errors"


def suspicions(scene: Scene, symptom: Symptom) -> tuple[Suspicion, ...]:
    """All suspicions of a symptom: those that are confirmed first, then what is possible, in the order of their likelihood."""
    account = scene.chains[0].login.account if scene.chains else "ACCOUNT"
    names = {"guest": scene.access.guest, "account": account}
    found = [Suspicion(text, *test(scene), look.format(**names)) for text, test, look in _SUSPECTS[symptom]]
    return tuple(sorted(found, key=lambda each: list(Borne).index(each.stands)))


def _at(*kinds: LinkKind, by: Callable[[Cause], bool] = lambda cause: True) -> Test:
    """Whether such a link breaks, by such a cause; possible where it can't be decided."""

    def test(scene: Scene) -> Found:
        links = [each for chain in scene.chains for each in chain.links if each.kind in kinds]
        causes = dict.fromkeys(one.cause for each in links for one in each.breaks if by(one.cause))
        if causes:
            return Borne.CONFIRMED, tuple(causes)
        unsure = [each for each in links if each.admits.surely != each.admits.perhaps]
        gaps = dict.fromkeys(gap for each in unsure for gap in each.admits.because)
        met = links and not any(each.holds in (Holds.UNDECIDED, Holds.PARTLY) and unsure for each in links)
        return (Borne.RULED_OUT, ()) if met else (Borne.POSSIBLE, tuple(gaps))

    return test


def _is(*types: type) -> Callable[[Cause], bool]:
    return lambda cause: isinstance(cause, types)


def _does(action: RuleAction) -> Callable[[Cause], bool]:
    whole = (Layer.FILTER, Layer.PERIMETER)
    return lambda cause: isinstance(cause, RuleLine) and cause.does is action and cause.layer in whole


def _layer(layer: Layer) -> Callable[[Cause], bool]:
    return lambda cause: isinstance(cause, RuleLine) and cause.layer is layer


def _sets(*keywords: str) -> Callable[[Cause], bool]:
    return lambda cause: isinstance(cause, SettingLine) and cause.keyword in keywords


def _stopped(scene: Scene) -> Found:
    passing = dict.fromkeys(cause for chain in scene.chains for each in chain.links for cause in each.passing)
    if passing:
        return Borne.CONFIRMED, tuple(passing)
    return (Borne.RULED_OUT if scene.access.reading.service.is_live else Borne.POSSIBLE), ()


def _another_address(scene: Scene) -> Found:
    """Whether the address that is dialled is not an address of the guest."""
    spec = scene.estate.guests[scene.access.guest]
    text = spec.dial or spec.via.host
    dialled = address_or_none(text)
    own = {each.address for each in holdings(scene.access.reading.network, scene.access.guest)}
    forwards = {each.at for each in scene.estate.of(scene.access.guest).forwards}
    if dialled is None or not own:
        return Borne.POSSIBLE, ()
    if dialled in own or dialled in forwards:
        return Borne.RULED_OUT, ()
    return Borne.CONFIRMED, (Dialled(text, "", spec.origin if spec.dial else spec.via.origin),)


def _rebuilt(scene: Scene) -> Found:
    """Whether the guest has other host keys than the estate has of it."""
    spec, keys = scene.estate.guests[scene.access.guest], scene.access.reading.host_keys
    if not spec.host_keys or not keys:
        return Borne.POSSIBLE, ()
    if {each.fingerprint for each in keys} & set(spec.host_keys):
        return Borne.RULED_OUT, ()
    return Borne.CONFIRMED, tuple(OtherHostKey(each.kind, each.fingerprint, Origin(each.path)) for each in keys)


def _same_door(scene: Scene) -> Found:
    """Whether another guest is dialled at the same address and port."""
    mine = set(_dialled(scene.estate, scene.access.guest))
    others = {name for name in scene.estate.guests if name != scene.access.guest and mine & set(_dialled(scene.estate, name))}
    if not others:
        return Borne.RULED_OUT, ()
    found = (Dialled(scene.estate.guests[name].via.host, "", scene.estate.guests[name].origin) for name in sorted(others))
    return Borne.CONFIRMED, tuple(found)


def _dialled(estate: Estate, guest: str) -> Iterator[tuple[str, int]]:
    spec = estate.guests[guest]
    if spec.dial or spec.via.host:
        yield spec.dial or spec.via.host, spec.dial_port or spec.via.port or 22


def _name(scene: Scene) -> Found:
    spec = scene.estate.guests[scene.access.guest]
    text = spec.dial or spec.via.host
    return (Borne.RULED_OUT if text and address_or_none(text) is not None else Borne.POSSIBLE), ()


def _maybe(scene: Scene) -> Found:
    """Nothing that is read of a guest tells."""
    return Borne.POSSIBLE, ()


_PROOF = (
    ("its key stands there, and is refused", _at(LinkKind.PROOF, by=_is(RefusedKey)), LOG),
    ("its key is not listed", _at(LinkKind.PROOF, by=_is(KeysPlace)), "nightlatch access --on {guest} --key FILE"),
    (
        "its key line lets it in from elsewhere only",
        _at(LinkKind.PROOF, by=_is(KeyLine)),
        "nightlatch why {account} {guest} --from PLACE",
    ),
    ("keys are switched off for it", _at(LinkKind.SETTINGS, by=_sets("pubkeyauthentication")), LOG),
    ("more is asked than the key", _at(LinkKind.SETTINGS, by=_sets("authenticationmethods")), LOG),
)
_ACCOUNT = ("there is no such account", _at(LinkKind.ACCOUNT, by=_is(NoAccount)), f"{CONSOLE}: id {{account}}")
_BEFORE_SESSION = (LinkKind.SETTINGS, LinkKind.ACCOUNT, LinkKind.PROOF)
_CLOSED = f"{CONSOLE}: chage -l {{account}}"
_CLIENT = ("the client does not offer the key, or names another account", _maybe, "here: ssh -v; ssh-add -l")
_SUSPECTS: dict[Symptom, tuple[tuple[str, Test, str], ...]] = {
    Symptom.REFUSED: (
        ("no server listens there", _at(LinkKind.LISTENER, by=_is(NoServer, NotListening, Gap)), LISTENERS),
        ("it listens on another address only", _at(LinkKind.LISTENER, by=_is(ListenAddress)), LISTENERS),
        ("the server does not run", _stopped, f"{CONSOLE}: systemctl status ssh sshd"),
        ("a filter refuses it", _at(LinkKind.PERIMETER, LinkKind.FILTER, by=_does(RuleAction.REJECT)), FILTERS),
    ),
    Symptom.TIMES_OUT: (
        ("a filter drops it", _at(LinkKind.PERIMETER, LinkKind.FILTER, by=_does(RuleAction.DROP)), FILTERS),
        ("a rule sends it elsewhere", _at(LinkKind.PERIMETER, LinkKind.FILTER, by=_does(RuleAction.REWRITE)), FILTERS),
        (
            "the service manager drops it",
            _at(LinkKind.FILTER, by=_layer(Layer.UNIT)),
            f"{CONSOLE}: systemctl cat ssh",
        ),
        ("no way leads there from where they are", _at(LinkKind.ROUTE), "dial the forward, or go through a jump host"),
        ("the address that is dialled is not the guest's", _another_address, "nightlatch addresses"),
        ("the guest is off, or still starting", _maybe, "nightlatch reach --wait 2m"),
    ),
    Symptom.CLOSES: (
        (
            "libwrap turns them away",
            _at(LinkKind.FILTER, by=_layer(Layer.WRAPPER)),
            f"{CONSOLE}: /etc/hosts.deny",
        ),
        ("the server does not start with its settings", _at(LinkKind.LISTENER, by=_is(Gap)), f"{CONSOLE}: sshd -t"),
        ("its settings end the connection", _at(LinkKind.SETTINGS, by=_sets("authenticationmethods")), LOG),
        ("the session ends at once", _at(LinkKind.SESSION), f"{CONSOLE}: getent passwd {{account}}"),
        ("the seal that is asked for is not served", _at(LinkKind.SETTINGS, by=_is(UnusableFile)), SCREEN_LOG),
        ("the server is full, or rejects this address for a while (MaxStartups, PerSourcePenalties)", _maybe, LOG),
        ("a forward accepts, and the guest behind it is off", _maybe, "look at the host that forwards"),
    ),
    Symptom.SESSION_ENDS: (
        (
            "its shell ends every session",
            _at(LinkKind.SESSION, by=_is(AccountState)),
            f"{CONSOLE}: the account's line in /etc/passwd",
        ),
        ("no session starts, or it ends with its script", _at(LinkKind.SESSION, by=_is(UnusableFile)), SESSION_LOG),
        (
            "only who sits at the console may start a screen",
            _at(LinkKind.SESSION, by=_sets("allowed_users")),
            f"{CONSOLE}: /etc/X11/Xwrapper.config",
        ),
        (
            "its root folder is not taken",
            _at(LinkKind.SESSION, by=_is(Chroot)),
            f"{CONSOLE}: ls -ld of the folder and those above",
        ),
        (
            "only one command runs",
            _at(LinkKind.RIGHTS, by=_is(SettingLine, KeyLine)),
            "nightlatch access --on {guest} --who {account}",
        ),
        ("only a new password can be set", _at(LinkKind.RIGHTS, by=_is(AccountState)), f"{CONSOLE}: chage -l {{account}}"),
        ("its profile or its home fails", _maybe, "ssh -T {guest} /bin/true; echo $?"),
    ),
    Symptom.ASKS_PASSWORD: (*_PROOF, _ACCOUNT, _CLIENT),
    Symptom.DENIED: (
        ("a list leaves the account out", _at(LinkKind.SETTINGS, LinkKind.ACCOUNT, by=_is(UserList)), LOG),
        ("root may not log in that way", _at(*_BEFORE_SESSION, by=_sets("permitrootlogin", "AllowRootLogin")), LOG),
        (
            "the account is closed",
            _at(LinkKind.ACCOUNT, by=_is(AccountState, NoLogin, PamEnd)),
            f"{CONSOLE}: chage -l {{account}}",
        ),
        _ACCOUNT,
        *_PROOF,
        (
            "passwords are switched off",
            _at(LinkKind.SETTINGS, by=_sets("passwordauthentication", "kbdinteractiveauthentication")),
            LOG,
        ),
        ("no password opens it", _at(LinkKind.PROOF, by=_is(PasswordField)), f"{CONSOLE}: passwd -S {{account}}"),
        _CLIENT,
    ),
    Symptom.HOST_KEY: (
        ("the guest was rebuilt, or its host keys were made anew", _rebuilt, "nightlatch meet {guest}, with its console open"),
        ("another guest is dialled there", _same_door, "nightlatch addresses"),
        ("somebody answers in its place", _maybe, "compare with the console before anything is typed"),
    ),
    Symptom.NO_NAME: (
        ("the name that is dialled is not known here", _name, "here: getent hosts NAME; or write its address under dial"),
        ("the link here is down, or no name server is set", _maybe, "here: ip -br link; then /etc/resolv.conf"),
    ),
}
