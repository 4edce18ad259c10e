"""RDP's own links: what the seal, the account, its password and its session say of one login, each by itself."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.model.bounds import EVERYBODY, NOBODY, Bounds
from nightlatch.model.causes import AccountLine, Cause, NoAccount, PasswordField, SessionProgram, SettingLine
from nightlatch.model.links import Break, Link, LinkKind, link
from nightlatch.model.powers import DESKTOP
from nightlatch.model.routes import Seal
from nightlatch.net.addresses import EVERY_ADDRESS, NO_ADDRESS, AddressSet
from nightlatch.origin import Origin
from nightlatch.services.base import Login, ServiceCase
from nightlatch.services.rdp.entries import RdpAccess
from nightlatch.services.rdp.explanations import among, of
from nightlatch.services.rdp.manager import STACK


def links(asked: Login, seen: AddressSet, case: ServiceCase) -> Iterator[Link]:
    """The links of one login, for callers as the guest sees them."""
    access = of(case)
    if access.seals is not None:
        yield _seal(asked, seen, access)
    account = case.reading.accounts.by_name.get(asked.account)
    if account is None:
        yield _broken(LinkKind.ACCOUNT, seen, NoAccount(asked.account, Origin("/etc/passwd")))
        return
    shut, without = among(access.shut, asked.account), among(access.without, asked.account)
    line = AccountLine(account.name, account.shell, account.origin)
    if shut is None or isinstance(shut, PasswordField):
        yield link(LinkKind.ACCOUNT, seen, EVERYBODY, (line,))
    else:
        yield _broken(LinkKind.ACCOUNT, seen, shut)
    if access.seals is None:
        return
    mine = [path for path in case.paths if path.account == asked.account and path.power == DESKTOP]
    opens = [path for path in mine if path.need <= asked.need]
    if isinstance(shut, PasswordField) or (mine and not opens):
        field = shut or PasswordField(account.password or "empty", account.password_origin)
        yield _broken(LinkKind.PROOF, seen, field)
    else:
        yield link(LinkKind.PROOF, seen, EVERYBODY, (SettingLine("PAM service", STACK, Origin(f"/etc/pam.d/{STACK}")),))
    if without is not None:
        yield _broken(LinkKind.SESSION, seen, without)
        return
    gaps = tuple(gap for path in opens for gap in path.callers.because)
    admits = Bounds(NO_ADDRESS if gaps else EVERY_ADDRESS, EVERY_ADDRESS, gaps)
    made_by = [cause for path in opens[:1] for cause in path.causes if isinstance(cause, SessionProgram)]
    yield link(LinkKind.SESSION, seen, admits, made_by)


def _seal(asked: Login, seen: AddressSet, access: RdpAccess) -> Link:
    assert access.seals is not None
    if access.seals.tls:
        unsure = access.seals.unsure
        admits = Bounds(NO_ADDRESS if unsure else EVERY_ADDRESS, EVERY_ADDRESS, unsure)
        return link(LinkKind.SETTINGS, seen, admits, access.seals.causes)
    if asked.seal is Seal.CLEAR and access.seals.clear:
        return link(LinkKind.SETTINGS, seen, EVERYBODY, access.seals.causes)
    layer = access.seals.layer
    cause = next(iter(access.seals.lacking), SettingLine("security_layer", layer.value or "rdp", layer.origin))
    return _broken(LinkKind.SETTINGS, seen, cause)


def _broken(kind: LinkKind, seen: AddressSet, cause: Cause) -> Link:
    return link(kind, seen, NOBODY, (), [Break(cause, seen)])
