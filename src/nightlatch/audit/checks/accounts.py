"""Checks of accounts."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date, timedelta

from nightlatch.access.leavers import accounts_of_leavers, is_expired
from nightlatch.audit.checks.registry import CheckResult, Context, check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.model.grants import GrantKind
from nightlatch.model.powers import PowerKind
from nightlatch.model.secrets import Password
from nightlatch.passwords.stock import ACCOUNTS
from nightlatch.readings import automatic_logins, last_logins
from nightlatch.readings.accounts import Account

WEAK_METHODS = ("des", "md5", "nthash", "sha1")
FIRST_PERSON = 1000  # login.defs(5), UID_MIN
NOBODY = 65534
NO_END = 99999  # shadow(5): as useradd(8) has it where nothing is asked
UNUSED = 180  # days
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


@check("account.password-age", Severity.MEDIUM, source="shadow(5); password_days of the estate file")
def password_age(context: Context) -> Iterator[CheckResult]:
    """The estate has passwords changed after so many days, and an account of the guest may keep its own longer."""
    most = context.estate.password_days if context.estate is not None else 0
    for account in context.access.reading.accounts.by_name.values() if most else ():
        longest = account.longest
        if not account.hash_method or account.elsewhere or (longest is not None and longest <= most):
            continue
        kept = "for ever" if longest is None or longest >= NO_END else f"for {longest} days"
        proof = Proof(f"longest: {'none' if longest is None else longest}", account.password_origin)
        yield CheckResult(
            f"{account.name} may keep a password {kept}, and the estate has it changed every {most} days.",
            (proof,),
            (account.name,),
        )


@check("account.automatic-login", Severity.HIGH, source="agetty(8), --autologin; the manuals of GDM, LightDM and SDDM")
def automatic_login(context: Context) -> Iterator[CheckResult]:
    """A console or a screen logs an account in without asking: all who reach it are in."""
    for each in automatic_logins.read(context.access.reading.snapshot):
        account = context.access.reading.accounts.by_name.get(each.account)
        if account is not None:
            where = "The screen" if each.at_screen else "A console"
            root = Severity.CRITICAL if account.uid == 0 else None
            text = f"{where} logs {account.name} in without asking for anything."
            yield CheckResult(text, (Proof(each.text, each.origin),), (account.name,), root)


@check("account.unused", Severity.LOW, source="lastlog(8)")
def unused(context: Context) -> Iterator[CheckResult]:
    """Somebody could come in by an account in which nobody has had a terminal for half a year."""
    seen = last_logins.read(context.access.reading.snapshot)
    kept = {"root", *_used_otherwise(context)}
    opened = {path.account for path in context.access.paths if any(path.callers.perhaps.values())} if seen else set()
    today = context.at.date()
    for name in sorted(opened - kept):
        account, last = context.access.reading.accounts.by_name[name], seen.get(name)
        day = last.date() if last is not None else date(1970, 1, 1) + timedelta(account.changed or 0)
        if account.elsewhere or (last is None and not account.changed) or (today - day).days <= UNUSED:
            continue
        since = f"since {day}" if last is not None else f"since it was made or given a password on {day}"
        proof = Proof(f"last login: {last:%Y-%m-%d}" if last is not None else "no login is known", last_logins.LISTED)
        text = f"Nobody has had a terminal as {name} {since}, and it can be logged in to."
        yield CheckResult(text, (proof, Proof(f"account {name}", account.origin)), (name,))


def _used_otherwise(context: Context) -> set[str]:
    """The accounts of emergency and management access, and of programs, which ask for no terminal."""
    kept = {each.account for each in context.said.emergency} if context.said is not None else set()
    robots = {p.name for p in context.estate.principals.values() if p.is_robot} if context.estate is not None else set()
    return kept | {grant.account for grant in context.grants if grant.kind is not GrantKind.GRANT or grant.who in robots}


@check("account.no-owner", Severity.LOW, source="design: people, robots and emergency accounts are all who have accounts")
def no_owner(context: Context) -> Iterator[CheckResult]:
    """An account of a person's number has a password, as a console asks for it, and the estate file names nobody whose it is."""
    estate, said = context.estate, context.said
    if estate is None or said is None:
        return
    owned = {grant.account for grant in context.grants} | {each.account for each in said.emergency}
    owned |= {person.accounts.get(context.guest, person.name) for person in estate.principals.values()}
    opened = {path.account for path in context.access.paths if any(path.callers.perhaps.values())}
    for account in context.access.reading.accounts.by_name.values():
        person = FIRST_PERSON <= account.uid < NOBODY and not account.shell.endswith(NOT_SHELLS)
        # What opens from outside is a hole, and told as such.
        if person and account.name not in owned and account.hash_method and account.name not in opened:
            text = f"{account.name} has a password, and the estate file names nobody whose account it is."
            yield CheckResult(text, (Proof(f"account {account.name}", account.origin),), (account.name,))


def _opens_by_password(context: Context, account: Account) -> bool:
    """Whether a login takes its password; what sudo asks behind a login is another matter."""
    logins = (path for path in context.access.paths if path.power.gives is not PowerKind.ADMINISTER)
    mine = (path for path in logins if path.account == account.name and any(path.callers.perhaps.values()))
    return any(isinstance(secret, Password) for path in mine for secret in path.need)
