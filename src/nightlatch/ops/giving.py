"""Passwords that a change gives: made here when it is enacted, handed over once, and kept nowhere."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from nightlatch.draft.plan import ProvedDraft
from nightlatch.faults import RefusedError
from nightlatch.model.account_steps import GivePassword
from nightlatch.passwords.made import made


@dataclass(frozen=True, slots=True)
class GivenPassword:
    """A password for an account of a guest; it counts once the change is kept, and has to be changed at the first login."""

    guest: str
    account: str
    password: str = field(repr=False)


HandOver = Callable[[GivenPassword], None]


def accounts_given(proved: ProvedDraft) -> tuple[str, ...]:
    """The accounts that a change gives a password."""
    return tuple(step.account for step in proved.accounts if isinstance(step, GivePassword))


def handed_over(proved: ProvedDraft, hand_over: HandOver | None) -> Mapping[str, str]:
    """A password for each account that a change gives one, handed over before any of them counts. Raises RefusedError where
    nobody takes them."""
    guest = proved.draft.guest
    accounts = accounts_given(proved)
    refuse_unheard(proved, hand_over)
    out = {account: made(secrets.randbelow) for account in accounts}
    for account, password in out.items():
        assert hand_over is not None
        hand_over(GivenPassword(guest, account, password))
    return out


def refuse_unheard(proved: ProvedDraft, hand_over: HandOver | None) -> None:
    """Raise RefusedError where passwords would be made, and nobody takes them."""
    accounts = accounts_given(proved)
    if accounts and hand_over is None:
        raise RefusedError(
            f"a password would be made for {', '.join(accounts)}, and nobody takes it: run it on a terminal, "
            "or say --passwords FILE",
            guest=proved.draft.guest,
        )
