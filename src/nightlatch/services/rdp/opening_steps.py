"""Steps that let in those of a grant over RDP: TLS served, a key that the server can read, a place in the group that counts.

No password is made: one that has to be changed first is refused by the session manager.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import product

from nightlatch.evidence.screen_files import MAIN
from nightlatch.model.account_steps import GROUP, NAME, AccountStep, AddMember
from nightlatch.model.candidates import Candidate
from nightlatch.model.causes import UserList
from nightlatch.model.grants import Grant
from nightlatch.model.routes import Seal
from nightlatch.services.base import ServiceCase
from nightlatch.services.rdp import seal
from nightlatch.services.rdp.closing_steps import Editing
from nightlatch.services.rdp.entries import RdpAccess
from nightlatch.services.rdp.explanations import among, of


def open_up(grant: Grant, why: str, case: ServiceCase) -> Iterator[Candidate]:
    """The steps that may let in those of a grant, the fewest first."""
    access = of(case)
    if access.settings is None or access.seals is None:
        return
    sealing = list(_sealing(grant, why, case, access))
    joining = list(_joining(grant, why, access))
    for parts in product([(), *sealing], [(), *joining]):
        steps = tuple(step for part in parts for step in part)
        if steps:
            yield steps


def _joining(grant: Grant, why: str, access: RdpAccess) -> Iterator[Candidate]:
    """A place in the group whose members alone are let in; the session manager looks at each login."""
    cause = among(access.shut, grant.account)
    if isinstance(cause, UserList) and access.settings is not None and NAME.fullmatch(grant.account):
        group = access.settings.of_sesman("Security", cause.keyword).value
        yield (AddMember(GROUP, why, True, grant.account, group),)


def _sealing(grant: Grant, why: str, case: ServiceCase, access: RdpAccess) -> Iterator[Candidate]:
    """TLS, where the grant asks for it and it is not served: asked for in the settings, and a key that can be read."""
    assert access.settings is not None
    assert access.seals is not None
    if access.seals.tls or grant.seal is Seal.CLEAR:
        return
    readable = [()] if case.reading.service.is_live else [(), *((step,) for step in _readable(why, case, access))]
    wanted: list[Candidate] = [()]
    if seal.layer_of(access.settings)[0] == "rdp":
        editing = Editing(case.reading.snapshot, why, opens=True)
        wanted += editing.set(MAIN, access.settings.main, "Globals", "security_layer", "tls")
    for one, other in product(readable, wanted):
        if one or other:
            yield (*one, *other)


def _readable(why: str, case: ServiceCase, access: RdpAccess) -> Iterator[AccountStep]:
    """A place for the server's account in the group that may read the key; it counts from the server's next start."""
    assert access.settings is not None
    path, _ = seal.files(access.settings)["key_file"]
    entry = case.reading.snapshot.resolve(path).entry
    name = access.settings.account
    account = case.reading.accounts.by_name.get(name)
    group = next((each for each in case.reading.accounts.groups if entry is not None and each.gid == entry.gid), None)
    if account is None or entry is None or group is None or group.gid == 0 or not entry.mode & 0o040:
        return
    if group.gid not in account.gids and NAME.fullmatch(name):
        yield AddMember(GROUP, why, True, name, group.name)
