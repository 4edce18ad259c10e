"""Checks of accounts."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.access.leavers import accounts_of_leavers, is_expired
from nightlatch.audit.checks.registry import CheckResult, Context, check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.model.powers import PowerKind
from nightlatch.model.secrets import Password
from nightlatch.passwords.stock import ACCOUNTS
from nightlatch.readings.accounts import Account

WEAK_METHODS = ("des", "md5", "nthash", "sha1")
FIRST_PERSON = 1000  # login.defs(5), UID_MIN
NOT_SHELLS = ("/nologin", "/false", "/sync", "/shutdown", "/halt")


@check("account.weak-hash", Severity.MEDIUM, source="crypt(5)")
def weak_hash(context: Context) -> Iterator[CheckResult]:
    """A password is kept by a method that is quickly guessed once the file leaks."""
    for account in context.access.reading.accounts.by_name.values():
        if account.hash_method in WEAK_METHODS:
            text = f"The password of {account.name} is kept as {account.hash_method}, which is quickly guessed."
            yield CheckResult(text, (Proof(f"method {account.hash_method}", account.password_origin),), (account.name,))


@check("account.second-root", Severity.HIGH, source="passwd(5)")
def second_root(context: Context) -> Iterator[CheckResult]:
    """Another account than root has root's user number."""
    for account in context.access.reading.accounts.by_name.values():
        if account.uid == 0 and account.name != "root":
            yield CheckResult(
                f"{account.name} is root under another name.",
                (Proof("user number 0", account.origin),),
                (account.name,),
            )


@check("account.left", Severity.MEDIUM, source="design: until of a person is their last day")
def left(context: Context) -> Iterator[CheckResult]:
    """The last day of a person is over, and their account is not expired: whatever opens it, it opens."""
    if context.estate is None:
        return
    for person, account in accounts_of_leavers(context.estate, context.access, context.grants, context.at):
        if not is_expired(account, context.at.date()):
            text = f"{person.name} left after {person.until}, and the account {account.name} is not expired."
            field = Proof("day of expiry: none" if account.expires is None else f"day {account.expires}", account.password_origin)
            yield CheckResult(text, (Proof(f"account {account.name}", account.origin), field), (account.name,))


@check("account.stock-name", Severity.MEDIUM, source="design: names that are tried first")
def stock_name(context: Context) -> Iterator[CheckResult]:
    """A password opens an account whose name is among those that are tried first: half of what there is to guess is known."""
    for account in context.access.reading.accounts.by_name.values():
        if account.name in ACCOUNTS - {"root"} and account.uid and _opens_by_password(context, account):
            text = f"A password opens {account.name}, a name that is tried first."
            yield CheckResult(text, (Proof(f"account {account.name}", account.origin),), (account.name,))


@check("account.service-password", Severity.MEDIUM, source="login.defs(5), SYS_UID_MAX; shadow(5)")
def service_password(context: Context) -> Iterator[CheckResult]:
    """An account of the system's own, which runs a service, has a password that opens and a shell: nobody should log in by it."""
    for account in context.access.reading.accounts.by_name.values():
        own = 0 < account.uid < FIRST_PERSON and not account.shell.endswith(NOT_SHELLS)
        if own and (account.hash_method or account.has_empty_password):
            text = f"{account.name} is one of the system's own accounts, and has a password and a shell."
            proofs = (Proof(f"shell {account.shell or '/bin/sh'}", account.origin), Proof("a password", account.password_origin))
            yield CheckResult(text, proofs, (account.name,))


def _opens_by_password(context: Context, account: Account) -> bool:
    """Whether a login takes its password; what sudo asks behind a login is another matter."""
    logins = (path for path in context.access.paths if path.power.gives is not PowerKind.ADMINISTER)
    mine = (path for path in logins if path.account == account.name and any(path.callers.perhaps.values()))
    return any(isinstance(secret, Password) for path in mine for secret in path.need)
