"""Match blocks that drafts write: one account, from where a grant says, with what it says."""

from __future__ import annotations

from nightlatch.model.grants import Grant, seen_by_guest
from nightlatch.model.secrets import Certificate, Code, Key, Need, Password
from nightlatch.net.addresses import EVERY_ADDRESS

_METHODS = {Key: "publickey", Certificate: "publickey", Password: "password", Code: "keyboard-interactive"}


def criteria(grant: Grant) -> str:
    """The Match line for one grant."""
    sources = seen_by_guest([grant])
    address = "" if sources == EVERY_ADDRESS else f" Address {','.join(sources.prefixes())}"
    return f"Match User {grant.account}{address}"


def for_need(grant: Grant, need: Need) -> tuple[str, ...]:
    """The block that asks for just this need; empty where a key alone is asked, which needs none."""
    lines: list[str] = []
    if any(isinstance(secret, Code) for secret in need):
        lines += ["    KbdInteractiveAuthentication yes", "    PasswordAuthentication no"]
    elif any(isinstance(secret, Password) for secret in need):
        lines.append("    PasswordAuthentication yes")
    if len(need) > 1:
        found = {_METHODS[type(secret)] for secret in need if type(secret) in _METHODS}
        # A code is asked beside the password, in one dialogue (RFC 4256).
        methods = sorted(found - {"password"} if "keyboard-interactive" in found else found, reverse=True)
        lines.append(f"    AuthenticationMethods {','.join(methods)}")
    return (criteria(grant), *lines) if lines else ()


def for_files(account: str, root: str) -> tuple[str, ...]:
    """The block that gives an account nothing but the files under one folder."""
    return (
        f"Match User {account}",
        f"    ChrootDirectory {root}",
        "    ForceCommand internal-sftp",
        "    DisableForwarding yes",
    )
