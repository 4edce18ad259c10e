"""VNC's own links: which screen a server shows, how it seals a connection, and what it asks for, each by itself."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.model.bounds import EVERYBODY, NOBODY, Bounds
from nightlatch.model.causes import AccountLine, Cause, NoAccount, SettingLine
from nightlatch.model.links import Break, Link, LinkKind, link
from nightlatch.model.sockets import CONSOLE
from nightlatch.net.addresses import EVERY_ADDRESS, NO_ADDRESS, AddressSet
from nightlatch.origin import Origin
from nightlatch.services.base import Login, ServiceCase
from nightlatch.services.vnc.entries import VncAccess
from nightlatch.services.vnc.explanations import NOTHING_KNOWN, of


def links(asked: Login, seen: AddressSet, case: ServiceCase) -> Iterator[Link]:
    """The links of one login at one server, for callers as the guest sees them."""
    access = of(case)
    account = case.reading.accounts.by_name.get(asked.account)
    if account is None and asked.account != CONSOLE:
        yield _broken(LinkKind.ACCOUNT, seen, NoAccount(asked.account, Origin("/etc/passwd")))
        return
    at = access.start.origin if access.start is not None else Origin("ss -ltunp")
    if access.screen != asked.account:
        yield _broken(LinkKind.ACCOUNT, seen, SettingLine("screen of", access.screen or "nobody", at))
        return
    if account is not None:
        yield link(LinkKind.ACCOUNT, seen, EVERYBODY, (AccountLine(account.name, account.shell, account.origin),))
    if access.serving is not None:
        yield _seal(asked, seen, access)
        yield _proof(asked, seen, access, case)


def _seal(asked: Login, seen: AddressSet, access: VncAccess) -> Link:
    assert access.serving is not None
    doors = access.serving.doors
    good = [door for door in doors if door.lacking is None and door.type.seal >= asked.seal]
    if good or not access.is_known:
        unsure = tuple(door.gap for door in good[:1] if door.gap is not None)
        admits = Bounds(NO_ADDRESS if unsure else EVERY_ADDRESS, EVERY_ADDRESS, unsure)
        return link(LinkKind.SETTINGS, seen, admits, tuple(door.cause for door in good[:1]))
    lacking = next((door.lacking for door in doors if door.lacking is not None and door.type.seal >= asked.seal), None)
    cause = lacking or next((door.cause for door in doors), NOTHING_KNOWN)
    return _broken(LinkKind.SETTINGS, seen, cause)


def _proof(asked: Login, seen: AddressSet, access: VncAccess, case: ServiceCase) -> Link:
    ports = {each.port for each in access.listeners}
    mine = [path for path in case.paths if path.account == asked.account and path.route.port in ports]
    opens = [path for path in mine if path.need <= asked.need]
    if opens:
        unsure = tuple(gap for path in opens for gap in path.callers.because)
        admits = Bounds(NO_ADDRESS if unsure else EVERY_ADDRESS, EVERY_ADDRESS, unsure)
        return link(LinkKind.PROOF, seen, admits, opens[0].causes[:1])
    secret = access.serving.secret if access.serving is not None else None
    shut = next((cause for name, cause in access.shut), None)
    offered = next((door.cause for door in access.serving.doors), None) if access.serving is not None else None
    cause = (secret.lacking if secret is not None else None) or shut or offered
    return _broken(LinkKind.PROOF, seen, cause or NOTHING_KNOWN)


def _broken(kind: LinkKind, seen: AddressSet, cause: Cause) -> Link:
    return link(kind, seen, NOBODY, (), [Break(cause, seen)])
