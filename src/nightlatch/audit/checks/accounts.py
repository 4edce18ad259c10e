"""Checks of accounts."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.audit.checks.registry import CheckResult, Context, check
from nightlatch.audit.findings import Proof, Severity

WEAK_METHODS = ("des", "md5", "nthash", "sha1")


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
