"""Why somebody who is granted can't get in over SSH, in the order in which sshd decides."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.model.causes import KeysPlace, NoServer, PasswordField, SettingLine
from nightlatch.model.gaps import Gap
from nightlatch.model.grants import Grant
from nightlatch.model.obstacles import Obstacle, ObstacleKind
from nightlatch.model.powers import Power
from nightlatch.model.secrets import Certificate, Key, Password
from nightlatch.model.services import SSH
from nightlatch.model.sockets import Listener
from nightlatch.net.addresses import AddressSet
from nightlatch.origin import Kind, Origin
from nightlatch.services.base import ServerState, ServiceCase
from nightlatch.services.ssh.entries import SshAccess
from nightlatch.services.ssh.hindrances import hindrances
from nightlatch.services.ssh.settings import Settings
from nightlatch.systems import posix


def unserved(case: ServiceCase) -> Obstacle | None:
    """Why the server lets nobody in at all."""
    access = _ssh(case)
    if access.state is ServerState.ABSENT:
        return Obstacle(ObstacleKind.NO_SERVICE, (NoServer(SSH.title, Origin(posix.SSHD, kind=Kind.ABSENT)),))
    refusal = access.effective.refusal
    if refusal is not None:
        return Obstacle(ObstacleKind.REFUSED, (Gap("SSH server", refusal.because, refusal.origin, refused=True),))
    return None


def refused(grant: Grant, where: AddressSet, case: ServiceCase, *, served: bool) -> Obstacle | None:
    """The obstacle in the account or the proof, for callers from `where` (their own addresses)."""
    access = _ssh(case)
    shut = _shut(grant, access) if not served else None
    return shut or _rejected(grant, access) or _password(grant, where, case)


def lacking(grant: Grant, where: AddressSet, case: ServiceCase) -> Obstacle | None:
    """Which of the things that the grant asks for is not there."""
    top = _ssh(case).settings(grant.account, where)[0]
    keys, certificates = _held_keys(grant), any(isinstance(s, Certificate) for need in grant.proofs for s in need)
    switch = top["pubkeyauthentication"]
    if (keys or certificates) and switch.word == "no":
        return Obstacle(ObstacleKind.KEYS_OFF, (SettingLine("pubkeyauthentication", switch.word, switch.origin),))
    if keys:
        origin = _keys_place(grant, top, case)
        return Obstacle(ObstacleKind.UNLISTED, (KeysPlace(origin),), at=origin.path)
    if certificates:
        trusted = top["trustedusercakeys"]
        return Obstacle(ObstacleKind.NO_AUTHORITY, (SettingLine("trustedusercakeys", trusted.word, trusted.origin),))
    return None


def lines(
    grant: Grant, power: Power, socket: Listener, seen: AddressSet, case: ServiceCase
) -> Iterator[tuple[Obstacle, AddressSet]]:
    """Lines that keep the account out from parts of `seen` (addresses as the guest sees them) at one socket."""
    account = case.reading.accounts.by_name[grant.account]
    needs = tuple(sorted(grant.asked(power), key=repr))
    for each in hindrances(_ssh(case), account, needs, socket, seen):
        yield Obstacle(ObstacleKind.LINE, (each.cause,), at=each.cause.origin, why=each.why), each.sources


def _ssh(case: ServiceCase) -> SshAccess:
    assert isinstance(case.access, SshAccess)
    return case.access


def _shut(grant: Grant, access: SshAccess) -> Obstacle | None:
    for account, cause in access.shut:
        if account == grant.account:
            return Obstacle(ObstacleKind.SHUT, (cause,), at=cause.origin)
    return None


def _rejected(grant: Grant, access: SshAccess) -> Obstacle | None:
    keys = _held_keys(grant)
    for rejected in access.rejected:
        if rejected.account == grant.account and (rejected.fingerprint in keys or (keys and not rejected.fingerprint)):
            return Obstacle(ObstacleKind.REJECTED, (rejected.cause,), at=rejected.origin)
    return None


def _password(grant: Grant, where: AddressSet, case: ServiceCase) -> Obstacle | None:
    if not all(any(isinstance(s, Password) for s in need) for need in grant.proofs):
        return None
    account = case.reading.accounts.by_name[grant.account]
    if not account.hash_method and not account.has_empty_password:
        field = PasswordField(account.password or "empty", account.password_origin)
        return Obstacle(ObstacleKind.NO_PASSWORD, (field,), at=grant.account)
    settings = _ssh(case).settings(grant.account, where)[0]
    switch = settings["passwordauthentication"]
    challenge = settings["kbdinteractiveauthentication"]
    if switch.word == "no" and (challenge.word == "no" or settings["usepam"].word == "no"):
        return Obstacle(ObstacleKind.PASSWORDS_OFF, (SettingLine("passwordauthentication", "no", switch.origin),))
    return None


def _held_keys(grant: Grant) -> set[str]:
    return {s.fingerprint for need in grant.proofs for s in need if isinstance(s, Key)}


def _keys_place(grant: Grant, settings: Settings, case: ServiceCase) -> Origin:
    account, listed = case.reading.accounts.by_name[grant.account], settings["authorizedkeysfile"]
    path = f"{account.home}/{listed.word}" if not listed.word.startswith(("/", "%")) else listed.word
    entry = case.reading.snapshot.resolve(path).entry
    absent = entry is None or entry.kind.value == "absent"
    return Origin(path, kind=Kind.ABSENT if absent else Kind.FILE)
